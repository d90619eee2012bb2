//! Calls: under way, and in the records.

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;
use uuid::Uuid;

use crate::chat::CallPriority;

/// What a call is doing.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum CallStage {
    /// It waits for room, or for a lane.
    Waiting,
    /// Its model is being loaded.
    Loading,
    /// Its prompt is being taken in.
    Prompt,
    /// It is being answered.
    Answering,
    /// It left its memory to older calls, and goes on when there is room.
    Paused,
}

/// A call under way.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct RunningCall {
    /// Its id.
    pub id: Uuid,
    /// What was asked: the variant once it is known.
    pub name: String,
    /// Who asks: as the call says, or its program and where that is.
    pub caller: String,
    /// How it stands to others that wait.
    pub priority: CallPriority,
    /// When it arrived.
    pub arrived_at: DateTime<Utc>,
    /// What it is doing.
    pub stage: CallStage,
    /// How much of the stage is done, from 0 to 1; of loading and of taking in the prompt.
    pub share: Option<f64>,
    /// Its place among those that wait for a lane; 1 is next.
    pub position: Option<u32>,
    /// Seconds until it has a lane, by how long others held theirs; or until the prompt is taken in, by
    /// how long it took so far.
    pub seconds_left: Option<f64>,
    /// Tokens of the prompt, once they are known.
    pub prompt_tokens: Option<u32>,
    /// Pieces of the answer so far: tokens, but for those that only make a character together.
    pub answer_tokens: u32,
    /// Seconds from its arrival to the first piece of text.
    pub first_token_seconds: Option<f64>,
    /// Seconds since it arrived.
    pub total_seconds: f64,
}

impl RunningCall {
    /// Where it stands, in words.
    #[must_use]
    pub fn standing(&self) -> String {
        let mut words = match self.stage {
            CallStage::Waiting => "waiting".to_owned(),
            CallStage::Loading => "loading the model".to_owned(),
            CallStage::Prompt => "taking in the prompt".to_owned(),
            CallStage::Answering => "answering".to_owned(),
            CallStage::Paused => "paused for older calls".to_owned(),
        };
        if let Some(position) = self.position {
            words += &format!(", place {position} in the queue");
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
    /// `stop`, `length`, `cancelled` or `failed`.
    pub outcome: String,
    /// More about how it ended, where there is more to say.
    #[serde(default)]
    pub detail: Option<String>,
    /// Tokens of the prompt.
    pub prompt_tokens: u32,
    /// Of these, known already from a call before.
    #[serde(default)]
    pub reused_tokens: u32,
    /// Tokens of the answer.
    pub answer_tokens: u32,
    /// Seconds it waited for a lane.
    #[serde(default)]
    pub queue_seconds: f64,
    /// Seconds to the first piece of text.
    pub first_token_seconds: Option<f64>,
    /// Prompt tokens computed in a second.
    #[serde(default)]
    pub prompt_rate: Option<f64>,
    /// Answer tokens in a second after the first.
    #[serde(default)]
    pub answer_rate: Option<f64>,
    /// Seconds from arrival to end.
    pub total_seconds: f64,
}
