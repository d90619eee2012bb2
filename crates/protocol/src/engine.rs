//! The messages between the service and an engine process: [frames](frames) over one Unix socket. Both sides
//! begin with their [`LINK_VERSION`].

mod call;
mod frames;
mod trace;

use std::path::PathBuf;

use serde::{Deserialize, Serialize};
use serde_json::{Map, Value};

use crate::ProblemKind;
use crate::chat::EndedBy;
pub use call::{CallOrder, Constraint, Sampling, ToolChoice, ToolOrder, WhenContextFull};
pub use frames::{
    CALL_BYTES, FrameError, MAX_DEPTH, MAX_FRAME, MAX_VALUES, Message, TooMuch, check_values,
    encode_frame, read_frame, write_frame,
};
pub use trace::TraceStep;

/// Longest schema of a tool or answer in bytes, as JSON text: longer ones take too long to compile.
pub const MAX_SCHEMA: usize = 64 << 10;

/// Version of these messages; both sides must have the same.
pub const LINK_VERSION: u32 = 13;
/// From the service.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(tag = "say", rename_all = "snake_case")]
pub enum ToEngine {
    /// First frame: load this.
    Load(Box<LoadOrder>),
    /// Answer this call.
    Call(Box<CallOrder>),
    /// Make embeddings.
    Embed(EmbedOrder),
    /// Convert a prompt to tokens.
    Tokenize(Box<TokenizeOrder>),
    /// The caller of this call left.
    Cancel {
        /// Number of the call.
        call: u64,
    },
    /// End when all calls are answered.
    Drain,
}

/// How an engine process shares the processor with others.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct BatonOrder {
    /// The memory they share.
    pub path: PathBuf,
    /// Its share, in proportion to theirs.
    pub share: u32,
}

/// What to load and how.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct LoadOrder {
    /// The baton, if other processes compute too.
    #[serde(default)]
    pub baton: Option<BatonOrder>,
    /// [`LINK_VERSION`] of the service.
    pub version: u32,
    /// The model file.
    pub file: PathBuf,
    /// A chat template in place of the file's own.
    #[serde(default)]
    pub template: Option<String>,
    /// Tokens of context per lane.
    pub context: u32,
    /// Lanes.
    pub lanes: u32,
    /// Tokens that all lanes together can hold; none means that every lane can fill its context.
    #[serde(default)]
    pub cache_tokens: Option<u32>,
    /// Most prompt tokens per step.
    pub chunk: u32,
    /// Precision of cached keys: `f32`, `f16` or `q8_0`.
    pub keys: String,
    /// Precision of cached values.
    pub values: String,
    /// The places of its layers, the first layers in the first place; host memory by default.
    pub places: Vec<PlaceOrder>,
    /// Whether weights in host memory are locked there.
    pub resident: bool,
    /// Threads that compute; none means one for each processor.
    pub threads: Option<u32>,
    /// Instructions to compute with; none means the best of the processor.
    #[serde(default)]
    pub kernels: Option<String>,
    /// The fastest measured instructions; used if none are requested and they run here.
    #[serde(default)]
    pub fastest: Option<String>,
    /// Processors that its threads stay on, the first thread on the first of them; empty leaves that to the system.
    #[serde(default)]
    pub processors: Vec<usize>,
    /// Of each of these processors the place of its memory node among `nodes`.
    #[serde(default)]
    pub processor_nodes: Vec<usize>,
    /// Memory nodes from which memory comes in turn, if there are several.
    #[serde(default)]
    pub nodes: Vec<usize>,
    /// Whether each of them gets a copy of the weights in host memory.
    #[serde(default)]
    pub copied: bool,
    /// Other files of the model, which it may read as well.
    #[serde(default)]
    pub parts: Vec<PathBuf>,
    /// Most address space it may take, in bytes.
    #[serde(default)]
    pub memory: Option<u64>,
}

/// Layers that are placed in a pool.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct PlaceOrder {
    /// The pool's name.
    pub pool: String,
    /// How many layers.
    pub layers: u32,
    /// The simulated accelerator; none for host memory.
    pub accelerator: Option<AcceleratorOrder>,
}

/// A simulated accelerator as an engine process finds it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct AcceleratorOrder {
    /// Free bytes.
    pub free: u64,
    /// Bytes per second that it reads; none means as fast as the processor.
    pub speed: Option<u64>,
}

/// The kernel lists memory of a simulated accelerator under this, followed by the pool's name.
pub const POOL_MEMORY: &str = "deft-pool-";

/// Inputs to compute embeddings of, or to compare with a query.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct EmbedOrder {
    /// Number of the call, given by the service.
    pub call: u64,
    /// The inputs: texts or token ids.
    pub inputs: Vec<Prompt>,
    /// What is computed of them.
    pub task: EmbedTask,
}

/// What is computed of inputs.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub enum EmbedTask {
    /// The embedding of each.
    Embed {
        /// Number of the values that are kept of each; all by default.
        dimensions: Option<u32>,
    },
    /// The relevance of each to a query: one value.
    Rank {
        /// What is searched.
        query: String,
    },
}

/// A prompt to convert to tokens, and nothing more.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct TokenizeOrder {
    /// The call with the prompt.
    pub of: CallOrder,
    /// What is returned besides the ids.
    pub texts: TokenTexts,
}

/// The texts of tokens that are returned.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum TokenTexts {
    /// None.
    None,
    /// That of each token.
    Each,
    /// That of all tokens together.
    Joined,
}

/// Probability of a token, by the model's own logits.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct TokenScore {
    /// The token.
    pub token: TokenText,
    /// Natural logarithm of its probability; none for the first token of a prompt.
    pub logprob: Option<f32>,
    /// The most likely tokens at this position, most likely first.
    pub alternatives: Vec<(TokenText, f32)>,
}

/// A token in readable form.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct TokenText {
    /// Its id.
    pub id: u32,
    /// Its text, with broken characters replaced.
    pub text: String,
    /// Its bytes.
    pub bytes: Vec<u8>,
}

/// What to answer.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Prompt {
    /// A conversation, to be rendered by the model's template.
    Chat {
        /// Messages as they came.
        messages: Vec<Map<String, Value>>,
        /// Tools as they came.
        tools: Option<Vec<Value>>,
        /// Further arguments of the template.
        #[serde(default)]
        arguments: Map<String, Value>,
    },
    /// A text to continue; control tokens in it stay ordinary text.
    Text(String),
    /// A complete prompt; control tokens in it act as control tokens.
    Raw(String),
    /// Tokens to continue.
    Tokens(Vec<u32>),
    /// The middle between two texts.
    Middle {
        /// The text before it.
        before: String,
        /// The text after it.
        after: String,
        /// Whether control tokens written in the texts act as such.
        control_tokens: bool,
    },
}

/// From the engine process.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(tag = "say", rename_all = "snake_case")]
pub enum FromEngine {
    /// First frame.
    Hello {
        /// [`LINK_VERSION`] of the engine.
        version: u32,
    },
    /// Progress of reading the weights into memory, sent now and then.
    Loading {
        /// Bytes that have been read.
        done: u64,
        /// Bytes in total.
        bytes: u64,
    },
    /// The model is loaded and warm.
    Loaded {
        /// Instructions and threads that compute.
        kernels: String,
        /// From start to ready.
        seconds: f64,
        /// Warnings for the operator.
        warnings: Vec<String>,
        /// Restrictions of the process, as text; empty if none was requested.
        #[serde(default)]
        confined: String,
    },
    /// The model cannot be loaded; the process ends.
    LoadFailed {
        /// The kind of the problem.
        kind: ProblemKind,
        /// Why.
        detail: String,
    },
    /// Progress of a prompt that is not processed completely.
    Intake {
        /// Number of the call.
        call: u64,
        /// Processed tokens, including cached ones.
        done: u32,
    },
    /// A lane is paused, because others need its pages; it continues with the same tokens later.
    Paused {
        /// Number of the call.
        call: u64,
    },
    /// State of lanes and pages, sent now and then while it computes, and when it becomes idle.
    Standing(EngineStanding),
    /// The prompt has been tokenised.
    PromptTaken {
        /// Number of the call.
        call: u64,
        /// Number of its tokens.
        prompt_tokens: u32,
    },
    /// A piece of the answer.
    Text {
        /// Number of the call.
        call: u64,
        /// Which of its answers.
        answer: u32,
        /// The part of the answer that the text belongs to.
        #[serde(default)]
        part: Part,
        /// New text, never broken UTF-8.
        text: String,
        /// Its tokens with their probabilities, if requested.
        scores: Vec<TokenScore>,
    },
    /// A tool call begins; its arguments follow as text.
    ToolCall {
        /// Number of the call.
        call: u64,
        /// Which of its answers.
        answer: u32,
        /// Number of the tool call in the answer.
        index: u32,
        /// The tool.
        name: String,
    },
    /// An answer is complete.
    Done {
        /// Number of the call.
        call: u64,
        /// Which of its answers.
        answer: u32,
        /// Its figures.
        figures: EngineFigures,
    },
    /// How the engine works on a call, if that is to be traced.
    Traced {
        /// Number of the call.
        call: u64,
        /// Which of its answers; 0 for the prompt.
        answer: u32,
        /// What it does.
        step: TraceStep,
    },
    /// Embeddings of some inputs in their order, or the relevance of each.
    Embedded {
        /// Number of the call.
        call: u64,
        /// Whether these are the last ones.
        is_last: bool,
        /// One for each input: an embedding of length 1, or one value.
        vectors: Vec<Vec<f32>>,
        /// Tokens of all inputs.
        tokens: u32,
    },
    /// Tokens of a prompt, in order.
    Tokenized {
        /// Number of the call.
        call: u64,
        /// Whether these are the last ones.
        is_last: bool,
        /// Ids of some tokens.
        tokens: Vec<u32>,
        /// Their texts, or the text of all tokens, if that is requested.
        texts: Vec<String>,
    },
    /// The call could not be answered.
    Failed {
        /// Number of the call.
        call: u64,
        /// The kind of the problem.
        kind: ProblemKind,
        /// Stable code.
        code: String,
        /// The field of the request at fault.
        #[serde(default)]
        field: Option<String>,
        /// Why.
        detail: String,
    },
}

/// State of the lanes and pages of an engine process.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct EngineStanding {
    /// Busy lanes.
    pub lanes: u32,
    /// Lanes that are paused.
    pub paused: u32,
    /// Pages of the cache.
    pub pages: u32,
    /// Pages that lanes use.
    pub pages_used: u32,
    /// Free pages whose tokens are still cached.
    pub pages_cached: u32,
    /// Steps computed since it is loaded.
    pub steps: u64,
    /// Prompt tokens computed since it is loaded.
    pub prompt_tokens: u64,
    /// Answer tokens chosen since it is loaded.
    pub answer_tokens: u64,
}

/// What the engine measured of a call.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct EngineFigures {
    /// What ended the answer.
    pub ended_by: EndedBy,
    /// More about it, if there is more.
    pub detail: Option<String>,
    /// Cached tokens of the prompt.
    pub cached_tokens: u32,
    /// Messages that were left out because the context was full.
    pub left_out_messages: u32,
    /// Tokens of the prompt.
    pub prompt_tokens: u32,
    /// Tokens of the answer, its end token included.
    pub answer_tokens: u32,
    /// Time in which the prompt was rendered and converted to tokens.
    pub prepare_seconds: f64,
    /// Time of prompt processing, including waits for other lanes.
    pub prompt_seconds: f64,
    /// Time from the first token of the answer to its end.
    pub answer_seconds: f64,
    /// Tokens of the reasoning, with its closing marker.
    #[serde(default)]
    pub reasoning_tokens: u32,
    /// Time of the reasoning.
    #[serde(default)]
    pub reasoning_seconds: f64,
    /// Number of tool calls.
    #[serde(default)]
    pub tool_calls: u32,
}

/// The part of an answer that a text belongs to.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Part {
    /// The text of the answer.
    #[default]
    Answer,
    /// The reasoning before it.
    Reasoning,
    /// The arguments of the tool call with this number, as JSON text.
    Arguments(u32),
}

impl Message for ToEngine {
    fn about(&self) -> u64 {
        match self {
            Self::Call(order) => order.call,
            Self::Tokenize(order) => order.of.call,
            Self::Embed(order) => order.call,
            Self::Cancel { call } => *call,
            Self::Load(_) | Self::Drain => 0,
        }
    }
}

impl Message for FromEngine {
    fn about(&self) -> u64 {
        match self {
            Self::Intake { call, .. }
            | Self::Paused { call }
            | Self::PromptTaken { call, .. }
            | Self::Text { call, .. }
            | Self::ToolCall { call, .. }
            | Self::Traced { call, .. }
            | Self::Done { call, .. }
            | Self::Embedded { call, .. }
            | Self::Tokenized { call, .. }
            | Self::Failed { call, .. } => *call,
            Self::Hello { .. }
            | Self::Loading { .. }
            | Self::Loaded { .. }
            | Self::LoadFailed { .. }
            | Self::Standing(_) => 0,
        }
    }
}
