//! `deft ask` and `deft talk`, as clap parses them.

use std::path::PathBuf;

use clap::{Args, ValueEnum, ValueHint};
use deft_protocol::chat::CallPriority;
use deft_protocol::manage::{SnippetLanguage, SnippetTask};

use super::completing;

/// Options of answers.
#[derive(Debug, Clone, Args)]
pub(crate) struct Answering {
    /// Set the system text, which tells the model how to behave.
    #[arg(long, short = 's', value_name = "TEXT")]
    pub(crate) system: Option<String>,
    /// End the answer after this many tokens.
    #[arg(long, value_name = "TOKENS")]
    pub(crate) max_tokens: Option<u32>,
    /// End the answer before this text; repeat for several texts.
    #[arg(long, value_name = "TEXT")]
    pub(crate) stop: Vec<String>,
    /// Show token counts, speed and times of each answer.
    #[arg(long)]
    pub(crate) stats: bool,
    /// Show the model's reasoning before the answer, on standard error.
    #[arg(long)]
    pub(crate) reasoning: bool,
    /// Set the queue priority.
    #[arg(long, value_enum)]
    pub(crate) priority: Option<Priority>,
    /// Set the temperature; 0 always takes the most likely token.
    #[arg(long, short = 't', value_name = "NUMBER", help_heading = SAMPLING)]
    pub(crate) temperature: Option<f32>,
    /// Sample from this many of the most likely tokens.
    #[arg(long, value_name = "COUNT", help_heading = SAMPLING)]
    pub(crate) top_k: Option<u32>,
    /// Sample from the most likely tokens that together reach this probability.
    #[arg(long, value_name = "SHARE", help_heading = SAMPLING)]
    pub(crate) top_p: Option<f32>,
    /// Sample from tokens with at least this share of the highest probability.
    #[arg(long, value_name = "SHARE", help_heading = SAMPLING)]
    pub(crate) min_p: Option<f32>,
    /// Make repeated tokens less likely by this factor; 1 changes nothing.
    #[arg(long, value_name = "FACTOR", help_heading = SAMPLING)]
    pub(crate) repetition_penalty: Option<f32>,
    /// Set the seed, to sample the same tokens each time.
    #[arg(long, value_name = "NUMBER", help_heading = SAMPLING)]
    pub(crate) seed: Option<u64>,
}

/// Heading of sampling options.
const SAMPLING: &str = "Sampling";
/// Heading of options for several models.
const SIDE_BY_SIDE: &str = "Several models side by side";

/// Queue priorities of a call.
#[derive(Debug, Clone, Copy, ValueEnum)]
pub(crate) enum Priority {
    /// Before all other calls.
    Urgent,
    /// The default.
    Usual,
    /// When no other call waits, or after a long wait.
    Background,
}

impl From<Priority> for CallPriority {
    fn from(priority: Priority) -> Self {
        match priority {
            Priority::Urgent => Self::Urgent,
            Priority::Usual => Self::Usual,
            Priority::Background => Self::Background,
        }
    }
}

#[derive(Debug, Args)]
pub(crate) struct Ask {
    /// Model, variant, path of a model file, or reference to an offer of a source; left out with `--with`.
    #[arg(required_unless_present = "with", add = completing::models())]
    pub(crate) model: Option<String>,
    /// Question; text from standard input is appended to it.
    pub(crate) question: Vec<String>,
    /// Continue the text as it is, without a chat template.
    #[arg(long, conflicts_with = "system")]
    pub(crate) raw: bool,
    /// Pull a model that is not in the depot without asking.
    #[arg(long, short = 'y', alias = "fetch")]
    pub(crate) yes: bool,
    #[command(flatten)]
    pub(crate) answering: Answering,
    /// Ask several models, or one model several times.
    #[arg(long, short = 'w', value_name = "MODEL,MODEL", value_delimiter = ',', help_heading = SIDE_BY_SIDE, add = completing::models())]
    pub(crate) with: Vec<String>,
    /// Ask one model after the other instead of all at once.
    #[arg(long, requires = "with", help_heading = SIDE_BY_SIDE, alias = "in-turn")]
    pub(crate) sequential: bool,
    /// Ask one model after the other, and unload each after its answer.
    #[arg(long, requires = "with", help_heading = SIDE_BY_SIDE, alias = "release")]
    pub(crate) unload_after: bool,
    /// Write the answers and their figures to this file: JSON if it ends in `.json`, otherwise Markdown.
    #[arg(long, short = 'o', requires = "with", value_name = "FILE", help_heading = SIDE_BY_SIDE, alias = "export")]
    pub(crate) output: Option<PathBuf>,
}

#[derive(Debug, Args)]
pub(crate) struct Talk {
    /// Model, variant, path of a model file, or reference to an offer of a source.
    #[arg(add = completing::models())]
    pub(crate) model: String,
    /// Pull a model that is not in the depot without asking.
    #[arg(long, short = 'y', alias = "fetch")]
    pub(crate) yes: bool,
    #[command(flatten)]
    pub(crate) answering: Answering,
}

#[derive(Debug, Args)]
pub(crate) struct Snippet {
    /// Model or variant.
    #[arg(add = completing::models())]
    pub(crate) model: String,
    /// Language of the program.
    #[arg(long = "for", value_name = "LANGUAGE", default_value = "curl")]
    pub(crate) language: LanguageName,
    /// What it asks of the model; by default the first that the model serves.
    #[arg(long)]
    pub(crate) task: Option<TaskName>,
}

/// Arguments of `deft batch`.
#[derive(Debug, Args)]
pub(crate) struct Batch {
    /// File with a call in each line: JSON with `custom_id`, `method`, `url` and `body`.
    #[arg(value_hint = ValueHint::FilePath)]
    pub(crate) file: PathBuf,
    /// Write the answers to this file; by default the name of FILE with `.answers.jsonl`.
    #[arg(long, value_name = "FILE", value_hint = ValueHint::FilePath)]
    pub(crate) output: Option<PathBuf>,
    /// Answer the file anew, even if it was answered before.
    #[arg(long, conflicts_with = "cancel")]
    pub(crate) again: bool,
    /// End the running batch of this file, and write the answers so far.
    #[arg(long)]
    pub(crate) cancel: bool,
}

#[derive(Debug, Clone, Copy, ValueEnum)]
pub(crate) enum LanguageName {
    /// A command for a shell.
    Curl,
    /// Python, with its standard library.
    Python,
    /// JavaScript.
    Javascript,
}

#[derive(Debug, Clone, Copy, ValueEnum)]
pub(crate) enum TaskName {
    /// An answer to a question.
    Chat,
    /// The continuation of a text.
    Completion,
    /// The embeddings of texts.
    Embeddings,
    /// Documents in the order of their relevance to a query.
    Rerank,
}

impl From<LanguageName> for SnippetLanguage {
    fn from(name: LanguageName) -> Self {
        match name {
            LanguageName::Curl => Self::Curl,
            LanguageName::Python => Self::Python,
            LanguageName::Javascript => Self::Javascript,
        }
    }
}

impl From<TaskName> for SnippetTask {
    fn from(name: TaskName) -> Self {
        match name {
            TaskName::Chat => Self::Chat,
            TaskName::Completion => Self::Completion,
            TaskName::Embeddings => Self::Embeddings,
            TaskName::Rerank => Self::Rerank,
        }
    }
}
