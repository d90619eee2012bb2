//! Answers as they come.

use deft_protocol::chat::{ChatChunk, ErrorBody, ErrorDetail, Figures, Usage};
use deft_protocol::text::TextResponse;
use deft_protocol::{Problem, ProblemKind};
use eventsource_stream::Eventsource;
use futures_util::{Stream, StreamExt};
use reqwest::Response;
use serde_json::Value;

use crate::ClientError;

/// One piece of a streamed answer.
#[derive(Debug, Clone, PartialEq)]
pub enum StreamedPiece {
    /// Text.
    Text(String),
    /// The answer is complete.
    Ended(Figures),
    /// Its token counts, where they were asked for.
    Counted(Usage),
}

type Events = dyn Stream<Item = Result<String, String>> + Send;

/// A streamed answer, the first where a call has several. Dropping it ends the call.
pub struct AnswerStream {
    events: std::pin::Pin<Box<Events>>,
    ready: std::collections::VecDeque<StreamedPiece>,
    complete: bool,
}

impl AnswerStream {
    pub(crate) fn new(response: Response) -> Self {
        let events = response.bytes_stream().eventsource().map(|event| match event {
            Ok(event) => Ok(event.data),
            Err(error) => Err(error.to_string()),
        });
        Self { events: Box::pin(events), ready: std::collections::VecDeque::new(), complete: false }
    }

    /// The next piece; none after the last.
    ///
    /// # Errors
    /// The service ended the answer with an error, or the connection broke.
    pub async fn next(&mut self) -> Result<Option<StreamedPiece>, ClientError> {
        loop {
            if let Some(piece) = self.ready.pop_front() {
                return Ok(Some(piece));
            }
            match self.events.next().await {
                None if self.complete => return Ok(None),
                None => {
                    let what = "the stream ended before the answer did";
                    return Err(ClientError::Broken(what.to_owned()));
                }
                Some(Err(what)) => return Err(ClientError::Broken(what)),
                Some(Ok(data)) if data == "[DONE]" => self.complete = true,
                Some(Ok(data)) => self.take(&data)?,
            }
        }
    }

    fn take(&mut self, data: &str) -> Result<(), ClientError> {
        let odd = |error: serde_json::Error| ClientError::Broken(format!("an odd event: {error}"));
        let value: Value = serde_json::from_str(data).map_err(odd)?;
        if value.get("error").is_some() {
            let body: ErrorBody = serde_json::from_value(value).map_err(odd)?;
            return Err(ClientError::Refused(problem_of(&body.error, 500)));
        }
        let (text, figures, usage) = if value["object"] == "text_completion" {
            let chunk: TextResponse = serde_json::from_value(value).map_err(odd)?;
            let choice = chunk.choices.into_iter().next();
            let (text, figures) = choice.map(|choice| (choice.text, choice.deft)).unzip();
            (text, figures.flatten(), chunk.usage)
        } else {
            let chunk: ChatChunk = serde_json::from_value(value).map_err(odd)?;
            let choice = chunk.choices.into_iter().next();
            let (text, figures) = choice.map(|choice| (choice.delta.content, choice.deft)).unzip();
            (text.flatten(), figures.flatten(), chunk.usage)
        };
        let text = text.filter(|text| !text.is_empty());
        self.ready.extend(text.map(StreamedPiece::Text));
        self.ready.extend(usage.map(StreamedPiece::Counted));
        self.ready.extend(figures.map(StreamedPiece::Ended));
        Ok(())
    }
}

/// A problem from an error in the chat-completions protocol's shape.
pub(crate) fn problem_of(error: &ErrorDetail, status: u16) -> Problem {
    let kind = match status {
        403 => ProblemKind::Forbidden,
        404 => ProblemKind::Missing,
        409 => ProblemKind::Refused,
        503 => ProblemKind::Busy,
        400..=499 => ProblemKind::Invalid,
        _ => ProblemKind::Fault,
    };
    Problem::new(kind, &error.code, &error.message)
}
