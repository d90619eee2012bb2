//! An opened model: mapped and checked file, tokenizer and template.

use std::collections::BTreeMap;
use std::panic::resume_unwind;
use std::path::Path;
use std::sync::Arc;

use deft_formats::gguf::{GgufError, Metadata, StoredModel};
use deft_kernels::Instructions;
use deft_planning::{ModelShape, Weights};

use crate::compute::ComputeSettings;
use crate::constraint::Constraints;
use crate::families::{self, Network, Pooling};
use crate::layer_memory::LayerMemory;
use crate::load_error::LoadError;
use crate::mapped::Mapped;
use crate::output::OutputForm;
use crate::template::Template;
use crate::tokenizer::{Specials, TokenKind, Tokenizer, Vocabulary};

/// Converts calls to tokens, and tokens to text. It needs no weights, so calls can be prepared while the model computes.
pub(crate) struct Words {
    pub(crate) tokenizer: Tokenizer,
    pub(crate) template: Template,
    /// The form of the model's output.
    pub(crate) form: OutputForm,
    /// Control tokens that are parts of its markers, with their texts.
    pub(crate) markers: BTreeMap<u32, String>,
    pub(crate) constraints: Constraints,
    pub(crate) pooling: Option<Pooling>,
    /// Whether the model computes embeddings only.
    pub(crate) encoder: bool,
    /// Length of a token's hidden state.
    pub(crate) width: u32,
}

impl Words {
    fn new(read: Read, (pooling, encoder, width): (Option<Pooling>, bool, u32)) -> Self {
        let Read { tokenizer, template, output: (form, markers) } = read;
        let constraints = Constraints::default();
        Self { tokenizer, template, form, markers, constraints, pooling, encoder, width }
    }

    /// The token that opens the reasoning, if it is one token.
    pub(crate) fn opening_token(&self) -> Option<u32> {
        let markers = self.form.reasoning.as_ref()?;
        self.tokenizer.vocabulary().id(&markers.opening)
    }

    /// The tokens that close the reasoning.
    pub(crate) fn closing_tokens(&self) -> Vec<u32> {
        let markers = self.form.reasoning.as_ref();
        markers.map_or_else(Vec::new, |markers| {
            self.tokenizer.encode(&markers.closing_text, Specials::Recognised)
        })
    }
}

/// The form of a model's output, and the control tokens that are parts of its markers, with their texts.
type Output = (OutputForm, BTreeMap<u32, String>);

/// Finds the form of the output with a template.
fn output(template: &Template, vocabulary: &Vocabulary) -> Output {
    let form = OutputForm::find(template, vocabulary);
    let texts = form.marker_texts();
    let is_part = |(_, text, kind): &(u32, &str, TokenKind)| {
        *kind == TokenKind::Control && texts.iter().any(|marker| marker.contains(text))
    };
    let parts = vocabulary.iter().filter(|(_, text, _)| !text.is_empty()).filter(is_part);
    let markers = parts.map(|(id, text, _)| (id, text.to_owned())).collect();
    (form, markers)
}

/// What is read from a file's metadata.
struct Read {
    tokenizer: Tokenizer,
    template: Template,
    output: Output,
}

fn read(metadata: &Metadata) -> Result<Read, LoadError> {
    let tokenizer = Tokenizer::new(metadata)?;
    let source = metadata.optional_text("tokenizer.chat_template")?;
    let template = Template::new(source, tokenizer.vocabulary());
    let output = output(&template, tokenizer.vocabulary());
    Ok(Read { tokenizer, template, output })
}

/// An opened model.
pub struct Model {
    pub(crate) network: Box<dyn Network>,
    pub(crate) words: Arc<Words>,
    path: Instructions,
}

impl Model {
    /// Maps and checks the file of a model, or the first of its parts. `context` is the largest number of tokens of a
    /// sequence.
    ///
    /// # Errors
    /// The reason why it cannot be loaded. Nothing of the size of the weights is allocated.
    pub fn open(path: &Path, context: u32) -> Result<Self, LoadError> {
        let compute = ComputeSettings::default();
        Self::open_in(
            path,
            context,
            &mut LayerMemory::host(),
            Weights::Mapped,
            compute,
            &mut |_, _| {},
        )
    }

    /// As [`Model::open`], with the layers in the given memory. `report` is called several times, with the number of loaded bytes
    /// and of all bytes.
    ///
    /// # Errors
    /// As [`Model::open`]; an accelerator may have too little memory.
    pub fn open_in(
        path: &Path,
        context: u32,
        layer_memory: &mut LayerMemory,
        weights: Weights,
        compute: ComputeSettings,
        report: &mut dyn FnMut(u64, u64),
    ) -> Result<Self, LoadError> {
        let cannot_open = |source| LoadError::Open { path: path.to_owned(), source };
        let StoredModel { header, parts } =
            StoredModel::read(path).map_err(|error| match error {
                GgufError::Io(source) => cannot_open(source),
                other => other.into(),
            })?;
        // Both take long and are independent.
        let (words, mapped) = std::thread::scope(|scope| {
            let words = scope.spawn(|| read(&header.metadata));
            let mapped = Mapped::open(&parts, &header, layer_memory, weights, report);
            (words.join(), mapped)
        });
        let read = words.unwrap_or_else(|panic| resume_unwind(panic))?;
        let mapped = mapped?;
        let network = families::open(&header, mapped, layer_memory, context, compute)?;
        let pooling = Pooling::of(&header)?;
        let ModelShape { encoder, width, .. } = *network.shape();
        let words = Arc::new(Words::new(read, (pooling, encoder, width)));
        Ok(Self { network, words, path: compute.path })
    }

    /// Replaces the chat template of the file.
    #[must_use]
    pub fn with_template(mut self, source: &str) -> Self {
        // There is no other reference before the model is used.
        if let Some(words) = Arc::get_mut(&mut self.words) {
            let vocabulary = words.tokenizer.vocabulary();
            words.template = Template::new(Some(source), vocabulary);
            (words.form, words.markers) = output(&words.template, vocabulary);
        }
        self
    }

    /// Binds the calling thread, which will run the steps, to a processor of its own.
    pub(crate) fn settle(&self) {
        self.network.host().team().settle();
    }

    /// The instructions that compute the model.
    #[must_use]
    pub fn path(&self) -> Instructions {
        self.path
    }

    /// The sizes that determine its memory.
    #[must_use]
    pub fn shape(&self) -> &ModelShape {
        self.network.shape()
    }

    /// Warnings for the operator.
    #[must_use]
    pub fn warnings(&self) -> Vec<String> {
        let defect = self.words.template.defect().map(|defect| format!("chat template: {defect}"));
        self.words.tokenizer.warnings().iter().cloned().chain(defect).collect()
    }
}
