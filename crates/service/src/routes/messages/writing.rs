//! An answer in the messages protocol, whole and as events.

use bytes::Bytes;
use deft_protocol::Problem;
use deft_protocol::chat::{EndedBy, Figures, FinishReason, Usage};
use deft_protocol::engine::{Part, TokenScore};
use deft_protocol::messages::{MessagesResponse, MessagesUsage, OutputBlock, StopReason};
use serde_json::{Map, Value, json};

use crate::answering::gateway::Answers;
use crate::routes::respond::messages_error;
use crate::routes::segments::{Change, Segment, Segments};
use crate::routes::streaming::{Written, named_event};

/// An answer that is being written.
pub(super) struct Writing {
    pub(super) response: MessagesResponse,
    pub(super) segments: Segments,
}

impl Writing {
    pub(super) fn new(id: String, model: String) -> Self {
        let response = MessagesResponse {
            id,
            kind: "message".to_owned(),
            role: "assistant".to_owned(),
            model,
            content: Vec::new(),
            stop_reason: None,
            stop_sequence: None,
            usage: MessagesUsage::default(),
            deft: None,
        };
        Self { response, segments: Segments::default() }
    }

    pub(super) fn begin(&mut self, answer: &Answers) {
        answer.model().clone_into(&mut self.response.model);
        self.response.usage.input_tokens = answer.prompt_tokens();
    }

    /// The answer has ended.
    pub(super) fn end(&mut self, figures: Option<Figures>, usage: Usage) {
        let cached = usage.prompt_tokens_details.cached_tokens;
        self.response.usage = MessagesUsage {
            input_tokens: usage.prompt_tokens.saturating_sub(cached),
            cache_read_input_tokens: cached,
            cache_creation_input_tokens: 0,
            output_tokens: usage.completion_tokens,
        };
        let calls =
            self.segments.all().iter().any(|segment| matches!(segment, Segment::Call { .. }));
        if let Some(figures) = figures {
            let reason = match (figures.ended_by.finish_reason(), figures.ended_by) {
                (FinishReason::Length, _) => StopReason::MaxTokens,
                (_, EndedBy::StopText) => StopReason::StopSequence,
                _ if calls => StopReason::ToolUse,
                _ => StopReason::EndTurn,
            };
            if reason == StopReason::StopSequence {
                self.response.stop_sequence.clone_from(&figures.detail);
            }
            self.response.stop_reason = Some(reason);
            self.response.deft = Some(figures);
        }
        self.response.content = self.segments.all().iter().filter_map(block).collect();
    }
}

/// A whole block. A call whose arguments are incomplete, because a limit ended the answer, is left out: a program must not
/// run it.
fn block(segment: &Segment) -> Option<OutputBlock> {
    Some(match segment {
        Segment::Reasoning(text) => {
            OutputBlock::Thinking { thinking: text.clone(), signature: String::new() }
        }
        Segment::Text(text, _) => OutputBlock::Text { text: text.clone() },
        Segment::Call { id, name, arguments } => OutputBlock::ToolUse {
            id: id.clone(),
            name: name.clone(),
            input: serde_json::from_str(arguments).ok()?,
        },
    })
}

fn event(name: &str, mut data: Value) -> Bytes {
    data["type"] = Value::from(name);
    named_event(name, &data)
}

impl Writing {
    fn change(&self, change: Change) -> Bytes {
        match change {
            Change::Began(at) => {
                let block = match &self.segments.all()[at] {
                    Segment::Reasoning(_) => {
                        OutputBlock::Thinking { thinking: String::new(), signature: String::new() }
                    }
                    Segment::Text(..) => OutputBlock::Text { text: String::new() },
                    Segment::Call { id, name, .. } => OutputBlock::ToolUse {
                        id: id.clone(),
                        name: name.clone(),
                        input: Map::new(),
                    },
                };
                event("content_block_start", json!({"index": at, "content_block": block}))
            }
            Change::More(at, text, _) => {
                let delta = match &self.segments.all()[at] {
                    Segment::Reasoning(_) => json!({"type": "thinking_delta", "thinking": text}),
                    Segment::Text(..) => json!({"type": "text_delta", "text": text}),
                    Segment::Call { .. } => {
                        json!({"type": "input_json_delta", "partial_json": text})
                    }
                };
                event("content_block_delta", json!({"index": at, "delta": delta}))
            }
            Change::Ended(at) => event("content_block_stop", json!({"index": at})),
        }
    }

    fn changes(&self, changes: Vec<Change>) -> Bytes {
        let changes: Vec<Bytes> = changes.into_iter().map(|change| self.change(change)).collect();
        changes.concat().into()
    }
}

impl Written for Writing {
    fn first(&mut self, answer: &Answers) -> Bytes {
        self.begin(answer);
        event("message_start", json!({"message": self.response}))
    }

    fn text(
        &mut self,
        _: &Answers,
        _: u32,
        (part, text): (Part, String),
        scores: Vec<TokenScore>,
    ) -> Bytes {
        let changes = self.segments.text(part, text, scores);
        self.changes(changes)
    }

    fn tool_call(&mut self, _: &Answers, _: u32, _: u32, name: String) -> Bytes {
        let changes = self.segments.call(name);
        self.changes(changes)
    }

    fn ended(&mut self, _: &Answers, _: u32, figures: Figures) -> Bytes {
        self.response.deft = Some(figures);
        let last = self.segments.end();
        self.changes(last.into_iter().collect())
    }

    fn done(&mut self, _: &Answers, usage: Usage) -> Bytes {
        let figures = self.response.deft.take();
        self.end(figures, usage);
        let MessagesResponse { stop_reason, stop_sequence, usage, deft, .. } = &self.response;
        let delta = json!({"stop_reason": stop_reason, "stop_sequence": stop_sequence});
        let last = event("message_delta", json!({"delta": delta, "usage": usage, "deft": deft}));
        [last, event("message_stop", json!({}))].concat().into()
    }

    fn failed(&mut self, problem: &Problem) -> Bytes {
        named_event("error", &messages_error(problem))
    }
}
