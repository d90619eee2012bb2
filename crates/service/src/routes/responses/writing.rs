//! An answer in the responses protocol, whole and as events.

use std::sync::Arc;

use bytes::Bytes;
use deft_protocol::Problem;
use deft_protocol::chat::{ChatLogprobs, Figures, FinishReason, Usage};
use deft_protocol::engine::{Part, TokenScore};
use deft_protocol::responses::{
    IncompleteDetails, OutputContent, OutputItem, ResponseError, ResponseObject, ResponseStatus,
    ResponseUsage,
};
use serde_json::{Value, json};

use super::{ID_PREFIX, Keeping};
use crate::answering::gateway::Answers;
use crate::answering::kept_answers::{Kept, KeptAnswers};
use crate::routes::respond::error_body;
use crate::routes::segments::{Change, Segment, Segments};
use crate::routes::streaming::{Written, named_event};

/// An answer that is being written.
pub(super) struct Writing {
    /// The answer so far, as it is reported.
    pub(super) response: ResponseObject,
    pub(super) segments: Segments,
    /// Whether the tokens of the text were requested.
    pub(super) scores: bool,
    /// What is kept at the end, if requested.
    pub(super) keeping: Option<Keeping>,
    pub(super) kept: Arc<KeptAnswers>,
    /// Number of the next event.
    pub(super) events: u64,
}

impl Writing {
    pub(super) fn begin(&mut self, answer: &Answers) {
        answer.model().clone_into(&mut self.response.model);
        self.response.created_at = answer.created();
    }

    /// The answer has ended: with its items and counts, and kept if requested.
    pub(super) fn end(&mut self, usage: Usage) {
        self.segments.end();
        let is_complete = self
            .response
            .deft
            .as_ref()
            .is_some_and(|figures| figures.ended_by.finish_reason() == FinishReason::Stop);
        let status =
            if is_complete { ResponseStatus::Completed } else { ResponseStatus::Incomplete };
        self.response.status = status;
        let reason = "max_output_tokens".to_owned();
        self.response.incomplete_details = (!is_complete).then_some(IncompleteDetails { reason });
        let last = self.segments.all().len().saturating_sub(1);
        self.response.output = (0..self.segments.all().len())
            .map(|at| self.item(at, if at == last { status } else { ResponseStatus::Completed }))
            .collect();
        self.response.usage = Some(ResponseUsage {
            input_tokens: usage.prompt_tokens,
            input_tokens_details: usage.prompt_tokens_details,
            output_tokens: usage.completion_tokens,
            output_tokens_details: usage.completion_tokens_details,
            total_tokens: usage.total_tokens,
        });
        if let Some(Keeping { conversation, input }) = self.keeping.take() {
            let answered = self.response.output.iter().filter_map(as_input).collect();
            let items = [conversation, input.clone(), answered].concat();
            self.kept.keep(Kept { response: self.response.clone(), input, items });
        }
    }

    fn item(&self, at: usize, status: ResponseStatus) -> OutputItem {
        let id = |prefix: &str| self.item_id(prefix, at);
        match &self.segments.all()[at] {
            Segment::Reasoning(text) => OutputItem::Reasoning {
                id: id("rs"),
                status,
                summary: Vec::new(),
                content: vec![OutputContent::ReasoningText { text: text.clone() }],
            },
            Segment::Text(text, scores) => OutputItem::Message {
                id: id("msg"),
                status,
                role: "assistant".to_owned(),
                content: vec![self.text_content(text.clone(), scores.clone())],
            },
            Segment::Call { id: call_id, name, arguments } => OutputItem::FunctionCall {
                id: id("fc"),
                status,
                call_id: call_id.clone(),
                name: name.clone(),
                arguments: arguments.clone(),
            },
        }
    }

    fn item_id(&self, prefix: &str, at: usize) -> String {
        let id = self.response.id.trim_start_matches(ID_PREFIX);
        format!("{prefix}_{id}_{at}")
    }

    fn text_content(&self, text: String, scores: Vec<TokenScore>) -> OutputContent {
        let scores = if self.scores { scores } else { Vec::new() };
        let logprobs = ChatLogprobs::of(scores).map_or_else(Vec::new, |scores| scores.content);
        OutputContent::OutputText { text, annotations: Vec::new(), logprobs }
    }

    /// An event with its number.
    fn event(&mut self, name: &str, mut data: Value) -> Bytes {
        data["type"] = Value::from(name);
        data["sequence_number"] = Value::from(self.events);
        self.events += 1;
        named_event(name, &data)
    }

    fn whole(&mut self, name: &str) -> Bytes {
        let data = json!({"response": self.response});
        self.event(name, data)
    }

    fn changes(&mut self, changes: Vec<Change>) -> Bytes {
        let mut bytes = Vec::new();
        for change in changes {
            match change {
                Change::Began(at) => self.began(at, &mut bytes),
                Change::More(at, text, scores) => {
                    let (name, data) = self.more(at, text, scores);
                    bytes.extend(self.event(name, data));
                }
                Change::Ended(at) => self.ended_segment(at, ResponseStatus::Completed, &mut bytes),
            }
        }
        bytes.into()
    }

    /// Where a segment is in the answer.
    fn place(&self, at: usize) -> Value {
        let prefix = match self.segments.all()[at] {
            Segment::Reasoning(_) => "rs",
            Segment::Text(..) => "msg",
            Segment::Call { .. } => {
                return json!({"item_id": self.item_id("fc", at), "output_index": at});
            }
        };
        json!({"item_id": self.item_id(prefix, at), "output_index": at, "content_index": 0})
    }

    fn began(&mut self, at: usize, bytes: &mut Vec<u8>) {
        // The changes of one piece are written after all of them were made.
        let (item, part) = match self.item(at, ResponseStatus::InProgress) {
            OutputItem::Reasoning { id, status, summary, .. } => (
                OutputItem::Reasoning { id, status, summary, content: Vec::new() },
                Some(OutputContent::ReasoningText { text: String::new() }),
            ),
            OutputItem::Message { id, status, role, .. } => (
                OutputItem::Message { id, status, role, content: Vec::new() },
                Some(self.text_content(String::new(), Vec::new())),
            ),
            OutputItem::FunctionCall { id, status, call_id, name, .. } => {
                let arguments = String::new();
                (OutputItem::FunctionCall { id, status, call_id, name, arguments }, None)
            }
        };
        bytes.extend(
            self.event("response.output_item.added", json!({"output_index": at, "item": item})),
        );
        if let Some(part) = part {
            let data = with(self.place(at), json!({"part": part}));
            bytes.extend(self.event("response.content_part.added", data));
        }
    }

    fn more(&self, at: usize, text: String, scores: Vec<TokenScore>) -> (&'static str, Value) {
        let (name, data) = match &self.segments.all()[at] {
            Segment::Reasoning(_) => ("response.reasoning_text.delta", json!({"delta": text})),
            Segment::Call { .. } => {
                ("response.function_call_arguments.delta", json!({"delta": text}))
            }
            Segment::Text(..) => {
                let scores = if self.scores { scores } else { Vec::new() };
                let scores =
                    ChatLogprobs::of(scores).map_or_else(Vec::new, |scores| scores.content);
                ("response.output_text.delta", json!({"delta": text, "logprobs": scores}))
            }
        };
        (name, with(self.place(at), data))
    }

    fn ended_segment(&mut self, at: usize, status: ResponseStatus, bytes: &mut Vec<u8>) {
        let place = self.place(at);
        let item = self.item(at, status);
        let part = match &item {
            OutputItem::Reasoning { content, .. } | OutputItem::Message { content, .. } => {
                content.first()
            }
            OutputItem::FunctionCall { name, arguments, .. } => {
                let data = json!({"name": name, "arguments": arguments});
                let name = "response.function_call_arguments.done";
                bytes.extend(self.event(name, with(place.clone(), data)));
                None
            }
        };
        match part {
            Some(OutputContent::ReasoningText { text }) => {
                let data = with(place.clone(), json!({"text": text}));
                bytes.extend(self.event("response.reasoning_text.done", data));
            }
            Some(OutputContent::OutputText { text, logprobs, .. }) => {
                let data = with(place.clone(), json!({"text": text, "logprobs": logprobs}));
                bytes.extend(self.event("response.output_text.done", data));
            }
            None => {}
        }
        if let Some(part) = part {
            let data = with(place, json!({"part": part}));
            bytes.extend(self.event("response.content_part.done", data));
        }
        let data = json!({"output_index": at, "item": item});
        bytes.extend(self.event("response.output_item.done", data));
    }
}

/// Both objects in one.
fn with(mut one: Value, other: Value) -> Value {
    if let (Value::Object(one), Value::Object(other)) = (&mut one, other) {
        one.extend(other);
    }
    one
}

fn as_input(item: &OutputItem) -> Option<serde_json::Map<String, Value>> {
    serde_json::to_value(item).ok()?.as_object().cloned()
}

impl Written for Writing {
    fn first(&mut self, answer: &Answers) -> Bytes {
        self.begin(answer);
        [self.whole("response.created"), self.whole("response.in_progress")].concat().into()
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
        let is_complete = figures.ended_by.finish_reason() == FinishReason::Stop;
        self.response.deft = Some(figures);
        let mut bytes = Vec::new();
        if let Some(Change::Ended(at)) = self.segments.end() {
            let status =
                if is_complete { ResponseStatus::Completed } else { ResponseStatus::Incomplete };
            self.ended_segment(at, status, &mut bytes);
        }
        bytes.into()
    }

    fn done(&mut self, _: &Answers, usage: Usage) -> Bytes {
        self.end(usage);
        match self.response.status {
            ResponseStatus::Completed => self.whole("response.completed"),
            _ => self.whole("response.incomplete"),
        }
    }

    fn failed(&mut self, problem: &Problem) -> Bytes {
        let error = error_body(problem).error;
        self.response.status = ResponseStatus::Failed;
        self.response.error = Some(ResponseError { code: error.code, message: error.message });
        self.whole("response.failed")
    }
}
