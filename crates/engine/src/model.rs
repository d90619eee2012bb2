//! A model, opened: its file mapped and checked, its tokenizer and template ready.

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

/// What turns a call into tokens, and tokens into text. It needs no weights, so that calls can be prepared
/// beside the computing.
pub(crate) struct Words {
    pub(crate) tokenizer: Tokenizer,
    pub(crate) template: Template,
    pub(crate) pooling: Option<Pooling>,
    /// Whether the model makes embeddings only.
    pub(crate) encoder: bool,
    /// Values in one token's hidden state.
    pub(crate) width: u32,
}

/// A file's tokenizer and template.
fn words(metadata: &Metadata) -> Result<(Tokenizer, Template), LoadError> {
    let tokenizer = Tokenizer::new(metadata)?;
    let source = metadata.optional_text("tokenizer.chat_template")?;
    let template = Template::new(source, tokenizer.vocabulary());
    Ok((tokenizer, template))
}

/// A model ready to compute.
pub struct Model {
    pub(crate) network: Box<dyn Network>,
    pub(crate) words: Arc<Words>,
    path: Instructions,
}

impl Model {
    /// Maps and checks a model's file, or the first of its parts. `context` is how many tokens a
    /// sequence may hold.
    ///
    /// # Errors
    /// Why it cannot be loaded; nothing of the size of the weights is allocated.
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

    /// As [`Model::open`], with its layers in this memory, of which they take what they need. `tell` is
    /// called now and then with how many bytes of how many are in memory.
    ///
    /// # Errors
    /// As [`Model::open`]; a place may have too little memory.
    pub fn open_in(
        path: &Path,
        context: u32,
        layer_memory: &mut LayerMemory,
        weights: Weights,
        compute: ComputeSettings,
        tell: &mut dyn FnMut(u64, u64),
    ) -> Result<Self, LoadError> {
        let cannot_open = |source| LoadError::Open { path: path.to_owned(), source };
        let StoredModel { header, parts } =
            StoredModel::read(path).map_err(|error| match error {
                GgufError::Io(source) => cannot_open(source),
                other => other.into(),
            })?;
        // Both take their time, and neither needs the other.
        let (words, mapped) = std::thread::scope(|scope| {
            let words = scope.spawn(|| words(&header.metadata));
            let mapped = Mapped::open(&parts, &header, layer_memory, weights, tell);
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

    /// With another chat template than the file's own.
    #[must_use]
    pub fn with_template(mut self, source: &str) -> Self {
        // Nobody else has them before the model is used.
        if let Some(words) = Arc::get_mut(&mut self.words) {
            words.template = Template::new(Some(source), words.tokenizer.vocabulary());
        }
        self
    }

    /// Keeps the calling thread, which is to give the steps, on a processor of its own.
    pub(crate) fn settle(&self) {
        self.network.host().team().settle();
    }

    /// The instructions it is computed with.
    #[must_use]
    pub fn path(&self) -> Instructions {
        self.path
    }

    /// The sizes that decide what it needs.
    #[must_use]
    pub fn shape(&self) -> &ModelShape {
        self.network.shape()
    }

    /// What an operator should know.
    #[must_use]
    pub fn warnings(&self) -> Vec<String> {
        let defect = self.words.template.defect().map(|defect| format!("chat template: {defect}"));
        self.words.tokenizer.warnings().iter().cloned().chain(defect).collect()
    }
}
