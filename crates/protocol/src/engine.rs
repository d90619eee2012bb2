//! The messages between the service and an engine process: [frames](frames) over one Unix socket. Both sides
//! begin by telling their [`LINK_VERSION`].

mod frames;

use std::path::PathBuf;

use serde::{Deserialize, Serialize};
use serde_json::{Map, Value};
use utoipa::ToSchema;

use crate::ProblemKind;
use crate::chat::EndedBy;
pub use frames::{
    CALL_BYTES, FrameError, MAX_DEPTH, MAX_FRAME, MAX_VALUES, Message, TooMuch, check_values,
    encode_frame, read_frame, write_frame,
};

/// Version of these messages; both sides must have the same.
pub const LINK_VERSION: u32 = 8;
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
    /// Where the permission to compute is passed on; none where nobody else computes.
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
    /// Where its layers are, the first ones in the first place; host memory where nothing is said.
    pub places: Vec<PlaceOrder>,
    /// Whether weights in host memory are locked there.
    pub resident: bool,
    /// Threads that compute; none means one for each processor.
    pub threads: Option<u32>,
    /// Instructions to compute with; none means the best of the processor.
    #[serde(default)]
    pub kernels: Option<String>,
    /// Instructions that were measured to be the fastest, where none are named: used if they run.
    #[serde(default)]
    pub fastest: Option<String>,
    /// Processors that its threads stay on, the first thread on the first of them; empty leaves that to the system.
    #[serde(default)]
    pub processors: Vec<usize>,
    /// Of each of these processors the place of its memory node among `nodes`.
    #[serde(default)]
    pub processor_nodes: Vec<usize>,
    /// Memory nodes that memory is taken from in turn, where there are several.
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

/// Layers in a pool.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct PlaceOrder {
    /// The pool's name.
    pub pool: String,
    /// How many layers.
    pub layers: u32,
    /// What is to be simulated; none for host memory.
    pub accelerator: Option<AcceleratorOrder>,
}

/// A simulated accelerator as an engine process finds it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct AcceleratorOrder {
    /// Bytes that are free there.
    pub free: u64,
    /// Bytes it reads in a second; none means as fast as the processor.
    pub speed: Option<u64>,
}

/// The kernel lists memory of a simulated accelerator under this, followed by the pool's name.
pub const POOL_MEMORY: &str = "deft-pool-";

/// One call for an answer.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct CallOrder {
    /// Number of the call, given by the service.
    pub call: u64,
    /// What to answer.
    pub prompt: Prompt,
    /// How to choose tokens.
    pub sampling: Sampling,
    /// Most tokens of the answer; none means as many as the context holds.
    pub max_tokens: Option<u32>,
    /// Texts that end the answer.
    pub stop: Vec<String>,
    /// Answers to the one prompt; the seed of each is one more than that of the one before.
    pub answers: u32,
    /// Whether the answer begins with the prompt's text.
    pub echo: bool,
    /// Tell how likely each token was, with so many alternatives; of the prompt's too, with `echo`.
    pub scores: Option<u32>,
    /// What to do with a conversation that is longer than the context.
    pub overflow: WhenContextFull,
    /// Whether an answer that repeats itself without end is ended.
    pub guard: bool,
}

impl CallOrder {
    /// One answer, always the likeliest token, with nothing special about it.
    #[must_use]
    pub fn greedy(call: u64, prompt: Prompt) -> Self {
        Self {
            call,
            prompt,
            sampling: Sampling::GREEDY,
            max_tokens: None,
            stop: Vec::new(),
            answers: 1,
            echo: false,
            scores: None,
            overflow: WhenContextFull::Refuse,
            guard: true,
        }
    }
}

/// What to do with a conversation that is longer than the context.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum WhenContextFull {
    /// Refuse a prompt that is longer than the context; end an answer that reaches its end.
    #[default]
    #[serde(alias = "end")]
    Refuse,
    /// Leave out the oldest turns; system texts and the last question stay.
    #[serde(alias = "drop_oldest")]
    LeaveOutOldest,
}

/// Inputs that are to become embeddings.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct EmbedOrder {
    /// Number of the call, given by the service.
    pub call: u64,
    /// The inputs: texts or token ids.
    pub inputs: Vec<Prompt>,
}

/// How likely a token was, by the model's own logits.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct TokenScore {
    /// The token.
    pub token: TokenText,
    /// Natural logarithm of its probability; none for the first token of a prompt.
    pub logprob: Option<f32>,
    /// The likeliest tokens in its place, the likeliest first.
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
    },
    /// A text to continue; control tokens written in it stay words.
    Text(String),
    /// A whole prompt, written by somebody who also writes its control tokens.
    Raw(String),
    /// Tokens to continue.
    Tokens(Vec<u32>),
}

/// How to choose tokens.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Sampling {
    /// 0 takes the likeliest always.
    pub temperature: f32,
    /// 0 keeps all.
    pub top_k: u32,
    /// 1 keeps all.
    pub top_p: f32,
    /// 0 keeps all.
    pub min_p: f32,
    /// 1 changes nothing.
    pub repetition_penalty: f32,
    /// 0 changes nothing.
    pub presence_penalty: f32,
    /// 0 changes nothing.
    pub frequency_penalty: f32,
    /// Token ids with what is added to their logits.
    pub logit_bias: Vec<(u32, f32)>,
    /// Seed of the draws.
    pub seed: u64,
}

impl Sampling {
    /// Always the likeliest token.
    pub const GREEDY: Self = Self {
        temperature: 0.0,
        top_k: 0,
        top_p: 1.0,
        min_p: 0.0,
        repetition_penalty: 1.0,
        presence_penalty: 0.0,
        frequency_penalty: 0.0,
        logit_bias: Vec::new(),
        seed: 0,
    };
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
    /// Weights are being brought into memory; told now and then.
    Loading {
        /// Bytes that are there.
        done: u64,
        /// Of so many.
        bytes: u64,
    },
    /// The model is loaded and warm.
    Loaded {
        /// What was used to compute.
        kernels: String,
        /// From start to ready.
        seconds: f64,
        /// What an operator should know.
        warnings: Vec<String>,
        /// What keeps the process from doing harm, in words; empty where nothing was asked for.
        #[serde(default)]
        confined: String,
    },
    /// The model cannot be loaded; the process ends.
    LoadFailed {
        /// What an operator can do.
        kind: ProblemKind,
        /// Why.
        detail: String,
    },
    /// More of a prompt was taken in, and some of it is still to come.
    Intake {
        /// Number of the call.
        call: u64,
        /// Tokens that are there, those known from before among them.
        done: u32,
    },
    /// A lane left its pages to others; it goes on with the same tokens when there is room.
    Paused {
        /// Number of the call.
        call: u64,
    },
    /// How it stands; told now and then while it computes, and when it has nothing more to do.
    Standing(EngineStanding),
    /// The prompt was turned into tokens.
    PromptTaken {
        /// Number of the call.
        call: u64,
        /// Its tokens.
        prompt_tokens: u32,
    },
    /// A piece of the answer.
    Text {
        /// Number of the call.
        call: u64,
        /// Which of its answers.
        answer: u32,
        /// New text, never broken UTF-8.
        text: String,
        /// The tokens it is made of, where they were asked for.
        scores: Vec<TokenScore>,
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
    /// Embeddings of some inputs, in their order.
    Embedded {
        /// Number of the call.
        call: u64,
        /// Whether these are the last.
        is_last: bool,
        /// One for each input, of length 1.
        vectors: Vec<Vec<f32>>,
        /// Tokens of all inputs.
        tokens: u32,
    },
    /// The call could not be answered.
    Failed {
        /// Number of the call.
        call: u64,
        /// What a caller can do.
        kind: ProblemKind,
        /// Stable code.
        code: String,
        /// Why.
        detail: String,
    },
}

/// How the lanes and pages of an engine process stand.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct EngineStanding {
    /// Lanes at work.
    pub lanes: u32,
    /// Lanes that are paused.
    pub paused: u32,
    /// Pages of the cache.
    pub pages: u32,
    /// Pages that lanes have.
    pub pages_used: u32,
    /// Pages that are known for their tokens, and free otherwise.
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
    /// More about it, where there is more to say.
    pub detail: Option<String>,
    /// Tokens of the prompt that were known already from a call before.
    pub cached_tokens: u32,
    /// Messages that were left out to make room.
    pub left_out_messages: u32,
    /// Tokens of the prompt.
    pub prompt_tokens: u32,
    /// Tokens of the answer, its end token included.
    pub answer_tokens: u32,
    /// Computing the prompt, its waiting for other lanes included.
    pub prompt_seconds: f64,
    /// From the first token of the answer to its end.
    pub answer_seconds: f64,
}

impl Message for ToEngine {
    fn about(&self) -> u64 {
        match self {
            Self::Call(order) => order.call,
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
            | Self::Done { call, .. }
            | Self::Embedded { call, .. }
            | Self::Failed { call, .. } => *call,
            Self::Hello { .. }
            | Self::Loading { .. }
            | Self::Loaded { .. }
            | Self::LoadFailed { .. }
            | Self::Standing(_) => 0,
        }
    }
}
