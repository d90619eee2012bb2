use serde_json::json;

use super::*;
use crate::engine::{TokenScore, TokenText};

fn score(id: u32, text: &str, logprob: Option<f32>) -> TokenScore {
    let token = TokenText { id, text: text.to_owned(), bytes: text.as_bytes().to_vec() };
    let other = TokenText { id: 9, text: "seed".to_owned(), bytes: b"seed".to_vec() };
    TokenScore { token, logprob, alternatives: vec![(other, -2.5)] }
}

#[test]
fn options_stand_beside_the_head_and_unknown_fields_are_tolerated() {
    let body = json!({
        "model": "larkfen-desk", "messages": [{"role": "user", "content": "Hello"}],
        "temperature": 0.5, "max_completion_tokens": 7, "stop": "row", "n": 2, "seed": 4,
        "logit_bias": {"12": -3.5}, "when_context_full": "leave_out_oldest",
        "repetition_guard": false, "logprobs": true, "top_logprobs": 3, "colour": "green",
    });
    let head: ChatHead = serde_json::from_value(body.clone()).unwrap();
    assert_eq!((head.logprobs, head.top_logprobs), (Some(true), Some(3)));
    let options: AnswerOptions = serde_json::from_value(body).unwrap();
    assert_eq!(options.temperature, Some(0.5));
    assert_eq!(options.max_completion_tokens, Some(7));
    assert_eq!(options.stop, Some(StopTexts::One("row".to_owned())));
    assert_eq!(options.logit_bias, Some([(12, -3.5)].into()));
    assert_eq!(options.when_context_full, Some(WhenContextFull::LeaveOutOldest));
    assert_eq!(options.repetition_guard, Some(false));
}

#[test]
fn a_request_is_written_as_one_flat_object() {
    let messages = vec![ChatMessage::text("user", "Hello")];
    let head = ChatHead::new("larkfen-desk", messages);
    let options = AnswerOptions { top_k: Some(5), ..AnswerOptions::default() };
    let written = serde_json::to_value(ChatRequest { head, options }).unwrap();
    assert_eq!(
        written,
        json!({"model": "larkfen-desk", "top_k": 5,
               "messages": [{"role": "user", "content": "Hello"}]})
    );
}

#[test]
fn messages_keep_what_a_template_may_want() {
    let body = json!({"role": "assistant", "content": null,
                      "tool_calls": [{"function": {"name": "seed_stock"}}]});
    let message: ChatMessage = serde_json::from_value(body.clone()).unwrap();
    assert_eq!(message.content, None);
    assert_eq!(message.rest["tool_calls"], body["tool_calls"]);
    let parts = json!({"role": "user", "content": [{"type": "text", "text": "Hello"}]});
    let message: ChatMessage = serde_json::from_value(parts).unwrap();
    assert!(matches!(message.content, Some(Content::Parts(parts)) if parts.len() == 1));
    let wrong = json!({"role": "user", "content": 5});
    let error = serde_json::from_value::<ChatMessage>(wrong).unwrap_err().to_string();
    assert!(error.contains("`content` must be a text or a list of parts"), "{error}");
}

#[test]
fn every_end_has_a_word_of_the_protocol() {
    for (ended_by, reason) in [
        (EndedBy::EndToken, FinishReason::Stop),
        (EndedBy::StopText, FinishReason::Stop),
        (EndedBy::TokenLimit, FinishReason::Length),
        (EndedBy::ContextFull, FinishReason::Length),
        (EndedBy::Repetition, FinishReason::Length),
    ] {
        assert_eq!(ended_by.finish_reason(), reason);
    }
    assert_eq!(json!(FinishReason::Length), "length");
    assert_eq!(json!(EndedBy::Repetition), "repetition");
}

#[test]
fn scores_become_the_protocols_shape_or_nothing() {
    assert_eq!(ChatLogprobs::of(Vec::new()), None);
    let written = json!(ChatLogprobs::of(vec![score(3, "bean", Some(-0.5))]).unwrap());
    assert_eq!(
        written,
        json!({"content": [{
            "token": "bean", "logprob": -0.5, "bytes": [98, 101, 97, 110],
            "top_logprobs": [{"token": "seed", "logprob": -2.5, "bytes": [115, 101, 101, 100]}],
        }]})
    );
}

#[test]
fn counts_without_details_are_understood() {
    let usage: Usage = serde_json::from_value(
        json!({"prompt_tokens": 3, "completion_tokens": 4, "total_tokens": 7}),
    )
    .unwrap();
    assert_eq!(usage.prompt_tokens_details.cached_tokens, 0);
}
