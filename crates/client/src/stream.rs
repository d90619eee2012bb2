//! Answers as they come.

use deft_protocol::chat::{ChatChunk, ErrorBody, ErrorDetail, Figures, Usage};
use deft_protocol::manage::ServiceStatus;
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
    /// Text of the reasoning before the answer.
    Reasoning(String),
    /// The answer is complete.
    Ended(Figures),
    /// Its token counts, if they were requested.
    Counted(Usage),
}

type Events = dyn Stream<Item = Result<String, String>> + Send;

/// The service's status, now and whenever it changes.
pub struct StatusStream {
    events: std::pin::Pin<Box<Events>>,
}

impl StatusStream {
    pub(crate) fn new(response: Response) -> Self {
        Self { events: events(response) }
    }

    /// The next status. Cancel safe.
    ///
    /// # Errors
    /// The connection broke, or the service ended.
    pub async fn next(&mut self) -> Result<ServiceStatus, ClientError> {
        match self.events.next().await {
            None => Err(ClientError::Broken("the service ended".to_owned())),
            Some(Err(what)) => Err(ClientError::Broken(what)),
            Some(Ok(data)) => {
                serde_json::from_str(&data).map_err(|error| ClientError::Broken(error.to_string()))
            }
        }
    }
}

fn events(response: Response) -> std::pin::Pin<Box<Events>> {
    Box::pin(response.bytes_stream().eventsource().map(|event| match event {
        Ok(event) => Ok(event.data),
        Err(error) => Err(error.to_string()),
    }))
}

/// A streamed answer, the first where a call has several. Dropping it ends the call.
pub struct AnswerStream {
    events: std::pin::Pin<Box<Events>>,
    ready: std::collections::VecDeque<StreamedPiece>,
    complete: bool,
}

impl AnswerStream {
    pub(crate) fn new(response: Response) -> Self {
        Self { events: events(response), ready: std::collections::VecDeque::new(), complete: false }
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
            let (delta, figures) = choice.map(|choice| (choice.delta, choice.deft)).unzip();
            let delta = delta.unwrap_or_default();
            self.ready.extend(delta.reasoning_content.map(StreamedPiece::Reasoning));
            (delta.content, figures.flatten(), chunk.usage)
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
        409 | 422 => ProblemKind::Refused,
        429 => ProblemKind::Overloaded,
        503 => ProblemKind::Busy,
        400..=499 => ProblemKind::Invalid,
        _ => ProblemKind::Fault,
    };
    Problem::new(kind, &error.code, &error.message)
}

#[cfg(test)]
mod tests {
    use futures_util::stream;
    use serde_json::json;

    use super::*;

    /// A stream of these events, as they come over the wire.
    fn answer(events: &[Result<String, String>]) -> AnswerStream {
        AnswerStream {
            events: Box::pin(stream::iter(events.to_vec())),
            ready: std::collections::VecDeque::new(),
            complete: false,
        }
    }

    fn chunk(index: u32, content: &str) -> String {
        json!({"id": "chat-1", "object": "chat.completion.chunk", "created": 1, "model": "m/q8_0",
               "choices": [{"index": index, "delta": {"content": content}, "finish_reason": null}]})
        .to_string()
    }

    async fn all(mut answer: AnswerStream) -> Result<Vec<StreamedPiece>, String> {
        let mut pieces = Vec::new();
        while let Some(piece) = answer.next().await.map_err(|error| error.to_string())? {
            pieces.push(piece);
        }
        Ok(pieces)
    }

    #[tokio::test]
    async fn pieces_come_in_order_and_empty_ones_are_left_out() {
        let done = "[DONE]".to_owned();
        let events = [Ok(chunk(0, "")), Ok(chunk(0, "Sow ")), Ok(chunk(0, "it")), Ok(done)];
        let pieces = all(answer(&events)).await.unwrap();
        let texts = ["Sow ", "it"].map(|text| StreamedPiece::Text(text.to_owned()));
        assert_eq!(pieces, texts);
    }

    #[tokio::test]
    async fn raw_continuations_are_read_too() {
        let piece = json!({"id": "text-1", "object": "text_completion", "created": 1, "model": "m",
                           "choices": [{"index": 0, "text": "3 cm", "finish_reason": null}]});
        let counts = json!({"id": "text-1", "object": "text_completion", "created": 1, "model": "m",
                            "choices": [], "usage": {"prompt_tokens": 2, "completion_tokens": 1,
                                                     "total_tokens": 3}});
        let events = [Ok(piece.to_string()), Ok(counts.to_string()), Ok("[DONE]".to_owned())];
        let pieces = all(answer(&events)).await.unwrap();
        assert_eq!(pieces[0], StreamedPiece::Text("3 cm".to_owned()));
        assert!(matches!(pieces[1], StreamedPiece::Counted(usage) if usage.total_tokens == 3));
    }

    #[tokio::test]
    async fn a_stream_that_ends_too_soon_or_oddly_is_an_error() {
        let short = all(answer(&[Ok(chunk(0, "Sow"))])).await.unwrap_err();
        assert!(short.contains("ended before the answer did"), "{short}");
        let odd = all(answer(&[Ok("{".to_owned())])).await.unwrap_err();
        assert!(odd.contains("an odd event"), "{odd}");
        let broken = all(answer(&[Err("reset".to_owned())])).await.unwrap_err();
        assert!(broken.contains("reset"), "{broken}");
        let error = json!({"error": {"message": "the engine ended", "type": "server_error",
                                     "code": "engine_ended"}});
        let failed = all(answer(&[Ok(error.to_string())])).await.unwrap_err();
        assert!(failed.contains("the engine ended"), "{failed}");
    }

    #[test]
    fn statuses_tell_what_a_caller_can_do() {
        let error = ErrorDetail {
            message: "it does not fit".to_owned(),
            error_type: "server_error".to_owned(),
            code: "does_not_fit".to_owned(),
            param: None,
        };
        for (status, kind) in [
            (400, ProblemKind::Invalid),
            (403, ProblemKind::Forbidden),
            (404, ProblemKind::Missing),
            (409, ProblemKind::Refused),
            (500, ProblemKind::Fault),
            (422, ProblemKind::Refused),
            (429, ProblemKind::Overloaded),
            (503, ProblemKind::Busy),
        ] {
            assert_eq!(problem_of(&error, status).kind, kind);
        }
        assert_eq!(problem_of(&error, 409).code, "does_not_fit");
    }
}
