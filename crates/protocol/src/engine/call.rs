//! An order to answer a call.

use serde::{Deserialize, Serialize};
use serde_json::Value;
use utoipa::ToSchema;

use super::Prompt;

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
    /// Number of answers to the prompt; each has the next seed.
    pub answers: u32,
    /// Whether the answer begins with the prompt's text.
    pub echo: bool,
    /// Report the probability of each token, with this number of alternatives; with `echo`, also for the prompt.
    pub scores: Option<u32>,
    /// What to do with a conversation that is longer than the context.
    pub overflow: WhenContextFull,
    /// Whether an answer that repeats itself without end is ended.
    pub guard: bool,
    /// What the answer must match, after its reasoning.
    #[serde(default)]
    pub constraint: Option<Constraint>,
    /// Whether and how tools are called.
    #[serde(default)]
    pub tools: ToolOrder,
    /// Most tokens of the reasoning; then its closing marker is inserted.
    #[serde(default)]
    pub reasoning_budget: Option<u32>,
    /// Whether the engine reports how it works on the call.
    #[serde(default)]
    pub traced: bool,
}

/// What an answer must match.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Constraint {
    /// Any JSON object.
    Object,
    /// JSON that matches a schema.
    Schema(Value),
    /// Text that matches a regular expression.
    Regex(String),
    /// Text of a grammar in the Lark language.
    Lark(String),
}

/// Whether and how tools are called.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct ToolOrder {
    /// Which calls the answer has.
    pub choice: ToolChoice,
    /// Whether an answer may have several calls.
    pub several: bool,
    /// A call of a tool `find` with the argument `text`, whose value is `Moonhook`, as the model shall write it. It is used
    /// where the model's template writes no calls.
    #[serde(default)]
    pub example: Option<String>,
}

/// Which calls an answer has.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum ToolChoice {
    /// The model decides.
    #[default]
    Auto,
    /// None.
    None,
    /// At least one.
    Required,
    /// A call of this tool.
    Named(String),
}

impl CallOrder {
    /// An order for one answer, greedy, with default options.
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
            constraint: None,
            tools: ToolOrder::default(),
            reasoning_budget: None,
            traced: false,
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

/// How to choose tokens.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Sampling {
    /// 0 always takes the most likely token.
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
    /// Token ids with the bias of their logits.
    pub logit_bias: Vec<(u32, f32)>,
    /// Seed of the draws.
    pub seed: u64,
}

impl Sampling {
    /// Always takes the most likely token.
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
