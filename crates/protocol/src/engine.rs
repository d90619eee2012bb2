//! The messages between the service and an engine process: frames over one Unix socket. A frame is its
//! length in four little-endian bytes, the number of the call it is about in eight (0 where it is about
//! none), and JSON. The number stands apart so that also a message which is not understood, or is too long,
//! is answered with an error of that call. Both sides begin by telling their [`LINK_VERSION`].

use std::io::{self, Read, Write};
use std::path::PathBuf;

use serde::de::DeserializeOwned;
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value};
use utoipa::ToSchema;

use crate::ProblemKind;
use crate::chat::EndedBy;

/// Version of these messages; both sides must have the same.
pub const LINK_VERSION: u32 = 7;
/// Longest frame in bytes that is accepted, without its length. The service refuses a call that would need a
/// longer one.
pub const MAX_FRAME: usize = 8 << 20;
/// Deepest nesting of arrays and objects in what a call brings along (messages, tools). Far below what the
/// readers of both sides can take.
pub const MAX_DEPTH: usize = 64;
/// Most values (numbers, texts, arrays, objects) in what a call brings along: each takes far more memory than
/// it has letters.
pub const MAX_VALUES: usize = 100_000;
/// Bytes of a frame before its JSON and after its length.
pub const CALL_BYTES: usize = 8;

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
    /// What becomes of a conversation that the context cannot hold.
    pub overflow: Overflow,
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
            overflow: Overflow::End,
            guard: true,
        }
    }
}

/// What becomes of a conversation that the context cannot hold.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum Overflow {
    /// A prompt is refused, an answer ends.
    #[default]
    End,
    /// The oldest turns are left out; system texts and the last question stay.
    DropOldest,
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
    pub pages_known: u32,
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
    pub reused_tokens: u32,
    /// Messages that were left out to make room.
    pub dropped_messages: u32,
    /// Tokens of the prompt.
    pub prompt_tokens: u32,
    /// Tokens of the answer, its end token included.
    pub answer_tokens: u32,
    /// Computing the prompt, its waiting for other lanes included.
    pub prompt_seconds: f64,
    /// From the first token of the answer to its end.
    pub answer_seconds: f64,
}

/// Something that is sent over the link.
pub trait Message: Serialize {
    /// Number of the call it is about; 0 where it is about none.
    fn about(&self) -> u64;
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

/// Why a frame could not be read or written.
#[derive(Debug, thiserror::Error)]
pub enum FrameError {
    /// The other side closed the link.
    #[error("the link is closed")]
    Closed,
    /// The frame is longer than [`MAX_FRAME`]. The next one can be read.
    #[error("a message of {bytes} bytes is too long; at most {MAX_FRAME} are possible")]
    TooLong {
        /// The call it is about.
        call: u64,
        /// Its length.
        bytes: usize,
    },
    /// Not a message of this version. The next one can be read.
    #[error("a message is not understood: {source}")]
    Malformed {
        /// The call it is about.
        call: u64,
        /// Why.
        source: serde_json::Error,
    },
    /// The operating system says no.
    #[error("the link failed: {0}")]
    Io(#[from] io::Error),
}

/// The bytes of a frame.
///
/// # Errors
/// The message is too long, or cannot be written as JSON.
pub fn encode_frame<T: Message>(message: &T) -> Result<Vec<u8>, FrameError> {
    let call = message.about();
    let mut frame = vec![0; 4];
    frame.extend(call.to_le_bytes());
    serde_json::to_writer(&mut frame, message)
        .map_err(|source| FrameError::Malformed { call, source })?;
    let bytes = frame.len() - 4;
    let short = u32::try_from(bytes).ok().filter(|_| bytes <= MAX_FRAME);
    let prefix = short.ok_or(FrameError::TooLong { call, bytes })?;
    frame[..4].copy_from_slice(&prefix.to_le_bytes());
    Ok(frame)
}

/// Writes one frame.
///
/// # Errors
/// As [`encode_frame`], or the link failed.
pub fn write_frame<T: Message>(mut link: impl Write, message: &T) -> Result<(), FrameError> {
    link.write_all(&encode_frame(message)?)?;
    Ok(link.flush()?)
}

/// Reads one frame, waiting for it. One that is too long is passed over.
///
/// # Errors
/// The link is closed or failed, or the frame is too long or not understood.
pub fn read_frame<T: DeserializeOwned>(mut link: impl Read) -> Result<T, FrameError> {
    let mut prefix = [0; 4];
    match link.read_exact(&mut prefix) {
        Err(error) if error.kind() == io::ErrorKind::UnexpectedEof => {
            return Err(FrameError::Closed);
        }
        other => other?,
    }
    let bytes = u32::from_le_bytes(prefix) as usize;
    let mut call = [0; CALL_BYTES];
    let Some(rest) = bytes.checked_sub(CALL_BYTES) else {
        let what = io::Error::new(io::ErrorKind::InvalidData, "a frame without a call's number");
        return Err(FrameError::Io(what));
    };
    link.read_exact(&mut call)?;
    let call = u64::from_le_bytes(call);
    if bytes > MAX_FRAME {
        io::copy(&mut link.take(rest as u64), &mut io::sink())?;
        return Err(FrameError::TooLong { call, bytes });
    }
    let mut body = vec![0; rest];
    link.read_exact(&mut body)?;
    serde_json::from_slice(&body).map_err(|source| FrameError::Malformed { call, source })
}

/// Why values that a call brings along are not taken.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum TooMuch {
    /// They are nested too deep.
    #[error("is nested deeper than {MAX_DEPTH} levels")]
    Deep,
    /// They are too many.
    #[error("has more than {MAX_VALUES} values")]
    Many,
}

/// Checks values that a call brings along. Takes no more stack than [`MAX_DEPTH`] levels need.
///
/// # Errors
/// They are nested too deep, or too many.
pub fn check_values<'v>(values: impl IntoIterator<Item = &'v Value>) -> Result<(), TooMuch> {
    fn check(value: &Value, depth: usize, left: &mut usize) -> Result<(), TooMuch> {
        *left = left.checked_sub(1).ok_or(TooMuch::Many)?;
        let within = || depth.checked_sub(1).ok_or(TooMuch::Deep);
        match value {
            Value::Array(items) => {
                let within = within()?;
                items.iter().try_for_each(|item| check(item, within, left))
            }
            Value::Object(map) => {
                let within = within()?;
                map.values().try_for_each(|item| check(item, within, left))
            }
            _ => Ok(()),
        }
    }
    let mut left = MAX_VALUES;
    values.into_iter().try_for_each(|value| check(value, MAX_DEPTH, &mut left))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn frames_return_what_was_written() {
        let text = "Moonhook bean 🌱".to_owned();
        let message = FromEngine::Text { call: 7, answer: 0, text, scores: Vec::new() };
        let mut link = Vec::new();
        write_frame(&mut link, &message).unwrap();
        write_frame(&mut link, &message).unwrap();
        let mut reader = link.as_slice();
        assert_eq!(read_frame::<FromEngine>(&mut reader).unwrap(), message);
        assert_eq!(read_frame::<FromEngine>(&mut reader).unwrap(), message);
        assert!(matches!(read_frame::<FromEngine>(&mut reader), Err(FrameError::Closed)));
    }

    #[test]
    fn an_absurd_length_is_refused_before_anything_is_allocated() {
        let mut link = u32::MAX.to_le_bytes().to_vec();
        link.extend(7_u64.to_le_bytes());
        let told = read_frame::<FromEngine>(link.as_slice());
        assert!(matches!(told, Err(FrameError::TooLong { call: 7, .. })), "{told:?}");
        let short = [3_u8, 0, 0, 0, 1, 2, 3];
        assert!(matches!(read_frame::<FromEngine>(short.as_slice()), Err(FrameError::Io(_))));
    }

    #[test]
    fn what_is_not_understood_or_too_long_names_its_call_and_the_next_one_is_read() {
        let mut link = Vec::new();
        for body in [&b"{\"say\": \"sow\"}"[..], b"\xff\xfe", b"", &b"[".repeat(100_000)] {
            let bytes = u32::try_from(body.len() + CALL_BYTES).unwrap();
            link.extend(bytes.to_le_bytes());
            link.extend(9_u64.to_le_bytes());
            link.extend(body);
        }
        let bytes = MAX_FRAME + 1;
        link.extend(u32::try_from(bytes).unwrap().to_le_bytes());
        link.extend(11_u64.to_le_bytes());
        link.extend(vec![b' '; bytes - CALL_BYTES]);
        write_frame(&mut link, &ToEngine::Cancel { call: 12 }).unwrap();
        let mut reader = link.as_slice();
        for _ in 0..4 {
            let told = read_frame::<ToEngine>(&mut reader);
            assert!(matches!(told, Err(FrameError::Malformed { call: 9, .. })), "{told:?}");
        }
        let told = read_frame::<ToEngine>(&mut reader);
        assert!(matches!(told, Err(FrameError::TooLong { call: 11, .. })), "{told:?}");
        assert_eq!(read_frame::<ToEngine>(&mut reader).unwrap(), ToEngine::Cancel { call: 12 });
        let text = "a".repeat(MAX_FRAME);
        let long = FromEngine::Text { call: 5, answer: 0, text, scores: Vec::new() };
        assert!(matches!(encode_frame(&long), Err(FrameError::TooLong { call: 5, .. })));
    }

    #[test]
    fn depth_and_number_of_values_are_bounded() {
        let nested =
            |levels: usize| (0..levels).fold(Value::Null, |inner, _| Value::from(vec![inner]));
        assert_eq!(check_values([&nested(MAX_DEPTH)]), Ok(()));
        assert_eq!(check_values([&nested(MAX_DEPTH + 1)]), Err(TooMuch::Deep));
        let many = Value::from(vec![7; MAX_VALUES - 1]);
        assert_eq!(check_values([&many]), Ok(()));
        assert_eq!(check_values([&many, &Value::Null]), Err(TooMuch::Many));
    }
}
