//! Calls: running ones, and the records of finished ones.

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;
use uuid::Uuid;

use crate::chat::CallPriority;

/// Stage of a call.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum CallStage {
    /// It waits for memory or for a lane.
    Waiting,
    /// Its model is being loaded.
    Loading,
    /// Its prompt is being processed.
    Prompt,
    /// Its answer is being generated.
    Answering,
    /// It is paused because older calls need its pages.
    Paused,
}

/// A running call.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct RunningCall {
    /// Its id.
    pub id: Uuid,
    /// The model as requested; the variant once it is known.
    pub name: String,
    /// The caller: the `user` of the request, or its program and address.
    pub caller: String,
    /// Queue priority.
    pub priority: CallPriority,
    /// When it arrived.
    pub arrived_at: DateTime<Utc>,
    /// Its stage.
    pub stage: CallStage,
    /// Progress of loading or of prompt processing, from 0 to 1.
    pub share: Option<f64>,
    /// Its position in the queue for a lane; 1 is next.
    pub position: Option<u32>,
    /// Estimated seconds until it has a lane, or until its prompt is processed.
    pub seconds_left: Option<f64>,
    /// Prompt tokens, once known.
    pub prompt_tokens: Option<u32>,
    /// Answer tokens so far; tokens that form one character together count as one.
    pub answer_tokens: u32,
    /// Seconds from its arrival to the first piece of text.
    pub first_token_seconds: Option<f64>,
    /// Seconds since it arrived.
    pub total_seconds: f64,
}

impl RunningCall {
    /// Its stage and progress in words.
    #[must_use]
    pub fn standing(&self) -> String {
        let mut words = match self.stage {
            CallStage::Waiting => "waiting".to_owned(),
            CallStage::Loading => "loading the model".to_owned(),
            CallStage::Prompt => "processing the prompt".to_owned(),
            CallStage::Answering => "answering".to_owned(),
            CallStage::Paused => "paused, older calls need its pages".to_owned(),
        };
        if let Some(position) = self.position {
            words += &format!(", position {position} in the queue");
        }
        if let Some(share) = self.share {
            words += &format!(", {:.0} %", share * 100.0);
        }
        if let Some(seconds) = self.seconds_left {
            words += &format!(", about {:.0} s left", seconds.ceil());
        }
        words
    }
}

/// One call in the records.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct CallRecord {
    /// Its id.
    pub id: Uuid,
    /// The variant asked.
    pub name: String,
    /// When it arrived.
    pub arrived_at: DateTime<Utc>,
    /// Who asked.
    #[serde(default)]
    pub caller: String,
    /// `stop`, `length`, `tool_calls`, `cancelled` or `failed`.
    pub outcome: String,
    /// Details of how it ended.
    #[serde(default)]
    pub detail: Option<String>,
    /// Prompt tokens.
    pub prompt_tokens: u32,
    /// Of these, tokens that were in the prefix cache.
    #[serde(default, alias = "reused_tokens")]
    pub cached_tokens: u32,
    /// Answer tokens.
    pub answer_tokens: u32,
    /// Seconds it waited for a lane.
    #[serde(default)]
    pub queue_seconds: f64,
    /// Seconds to the first piece of text.
    pub first_token_seconds: Option<f64>,
    /// Prompt tokens computed per second.
    #[serde(default)]
    pub prompt_rate: Option<f64>,
    /// Answer tokens per second after the first.
    #[serde(default)]
    pub answer_rate: Option<f64>,
    /// Seconds from arrival to end.
    pub total_seconds: f64,
}
