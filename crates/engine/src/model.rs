//! An opened model: mapped and checked file, tokenizer and template.

use std::panic::resume_unwind;
use std::path::Path;
use std::sync::Arc;

use deft_formats::gguf::{GgufError, Metadata, StoredModel};
use deft_kernels::Instructions;
use deft_planning::{ModelShape, Weights};

use crate::compute::ComputeSettings;
use crate::families::{self, Network, Pooling};
use crate::layer_memory::LayerMemory;
use crate::load_error::LoadError;
use crate::mapped::Mapped;
use crate::template::Template;
use crate::tokenizer::Tokenizer;

/// Converts calls to tokens, and tokens to text. It needs no weights, so calls can be prepared while the model computes.
pub(crate) struct Words {
    pub(crate) tokenizer: Tokenizer,
    pub(crate) template: Template,
    pub(crate) pooling: Option<Pooling>,
    /// Whether the model computes embeddings only.
    pub(crate) encoder: bool,
    /// Length of a token's hidden state.
    pub(crate) width: u32,
}

/// The tokenizer and template of a file.
fn words(metadata: &Metadata) -> Result<(Tokenizer, Template), LoadError> {
    let tokenizer = Tokenizer::new(metadata)?;
    let source = metadata.optional_text("tokenizer.chat_template")?;
    let template = Template::new(source, tokenizer.vocabulary());
    Ok((tokenizer, template))
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
            let words = scope.spawn(|| words(&header.metadata));
            let mapped = Mapped::open(&parts, &header, layer_memory, weights, report);
            (words.join(), mapped)
        });
        let (tokenizer, template) = words.unwrap_or_else(|panic| resume_unwind(panic))?;
        let mapped = mapped?;
        let network = families::open(&header, mapped, layer_memory, context, compute)?;
        let pooling = Pooling::of(&header)?;
        let ModelShape { encoder, width, .. } = *network.shape();
        let words = Arc::new(Words { tokenizer, template, pooling, encoder, width });
        Ok(Self { network, words, path: compute.path })
    }

    /// Replaces the chat template of the file.
    #[must_use]
    pub fn with_template(mut self, source: &str) -> Self {
        // There is no other reference before the model is used.
        if let Some(words) = Arc::get_mut(&mut self.words) {
            words.template = Template::new(Some(source), words.tokenizer.vocabulary());
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
