//! Answers in the responses protocol and in the messages protocol.

use serde_json::{Value, json};

use crate::world::{QUESTION, World};

/// A request with these fields changed; null removes one.
fn changed(request: &Value, fields: Value) -> Value {
    let mut request = request.clone();
    for (name, value) in fields.as_object().unwrap() {
        request[name] = value.clone();
    }
    request.as_object_mut().unwrap().retain(|_, value| !value.is_null());
    request
}

/// Names and data of the events of a stream.
fn events(stream: &str) -> Vec<(String, Value)> {
    let event = |event: &str| {
        let (name, data) = event.split_once('\n')?;
        let data = serde_json::from_str(data.strip_prefix("data: ")?).unwrap();
        Some((name.strip_prefix("event: ")?.to_owned(), data))
    };
    stream.split("\n\n").filter_map(event).collect()
}

#[test]
fn a_stream_of_items_has_what_the_whole_answer_has() {
    let world = World::stocked();
    let request = json!({"model": "larkfen-desk", "input": QUESTION, "temperature": 0, "instructions": "Answer in capitals."});
    let whole = world.posted("/v1/responses", request.clone());
    let text = whole["output"][0]["content"][0]["text"].as_str().unwrap();
    assert_eq!(text, text.to_uppercase(), "the instructions reach the model: {text}");
    assert!(whole["deft"]["answer_rate"].as_f64().is_some(), "{whole}");
    let stream = world.post_text("/v1/responses", changed(&request, json!({"stream": true})));
    let events = events(&stream);
    let (last, done) = events.last().unwrap();
    assert_eq!(last, "response.completed");
    assert!(!stream.contains("[DONE]"), "that ends streams of another protocol");
    assert_eq!(done["response"]["output"][0]["content"], whole["output"][0]["content"]);
    assert_eq!(done["response"]["usage"]["output_tokens"], whole["usage"]["output_tokens"]);
    let pieces = events.iter().filter(|(name, _)| name == "response.output_text.delta");
    let pieces: String = pieces.map(|(_, data)| data["delta"].as_str().unwrap()).collect();
    assert_eq!(pieces, text);
}

#[test]
fn an_answer_that_the_limit_cuts_within_a_call_is_incomplete() {
    let world = World::stocked();
    let parameters = json!({"type": "object", "properties": {"variety": {"type": "string"}}, "required": ["variety"]});
    let tool = json!({"type": "function", "name": "stock_level", "parameters": parameters});
    let request = json!({
        "model": "larkfen-desk", "input": "How many packets of Moonhook bean are left?", "tools": [tool],
        "tool_choice": "required", "temperature": 0, "max_output_tokens": 12, "stream": true,
    });
    let stream = world.post_text("/v1/responses", request);
    let events = events(&stream);
    let (last, data) = events.last().unwrap();
    assert_eq!(last, "response.incomplete");
    assert_eq!(data["response"]["incomplete_details"]["reason"], "max_output_tokens");
    let item = &data["response"]["output"][0];
    assert_eq!((&item["type"], &item["status"]), (&json!("function_call"), &json!("incomplete")));

    let tool = json!({"name": "stock_level", "input_schema": parameters});
    let request = json!({
        "model": "larkfen-desk", "messages": [{"role": "user", "content": QUESTION}], "tools": [tool],
        "tool_choice": {"type": "any"}, "temperature": 0, "max_tokens": 12,
    });
    let answer = world.posted("/v1/messages", request);
    assert_eq!((&answer["stop_reason"], &answer["content"]), (&json!("max_tokens"), &json!([])));
}

#[test]
fn what_the_responses_protocol_does_not_support_here_is_refused_by_field() {
    let world = World::stocked();
    let request = json!({"model": "larkfen-desk", "input": QUESTION});
    let call = json!({"type": "function_call", "call_id": "a", "name": "f", "arguments": "{}"});
    for (fields, code, field) in [
        (json!({"n": 2}), "field_out_of_range", "n"),
        (json!({"background": true}), "field_out_of_range", "background"),
        (json!({"text": {"verbosity": "low"}}), "body_invalid", "text.verbosity"),
        (
            json!({"tools": [{"type": "function", "name": "a b"}]}),
            "tool_name_invalid",
            "tools[0].name",
        ),
        (
            json!({"input": [call, {"role": "user", "content": [{"type": "input_image"}]}]}),
            "part_not_supported",
            "input[1].content[0]",
        ),
        (
            json!({"input": [call, {"type": "function_call_output", "call_id": "b", "output": ""}]}),
            "tool_result_without_call",
            "input[1].tool_call_id",
        ),
        (
            json!({"reasoning": {"effort": "high"}}),
            "template_argument_not_read",
            "reasoning.effort",
        ),
    ] {
        let (status, error) = world.post("/v1/responses", changed(&request, fields));
        let error = &error["error"];
        assert_eq!(
            (status, &error["code"], &error["param"]),
            (400, &json!(code), &json!(field)),
            "{error}"
        );
    }
    let (status, error) =
        world.post("/v1/responses", changed(&request, json!({"previous_response_id": "resp_0"})));
    assert_eq!((status, &error["error"]["code"]), (404, &json!("response_not_found")));
}

#[test]
fn errors_of_the_messages_protocol_have_its_shape() {
    let world = World::stocked();
    let messages = json!([{"role": "user", "content": QUESTION}]);
    let request = json!({"model": "larkfen-desk", "messages": messages, "max_tokens": 9});
    for (fields, status, kind, code) in [
        (json!({"max_tokens": null}), 400, "invalid_request_error", "body_invalid"),
        (json!({"model": "nettle"}), 404, "not_found_error", "model_not_found"),
        (json!({"functions": []}), 400, "invalid_request_error", "field_unknown"),
        (
            json!({"tools": [{"type": "bash", "name": "bash"}]}),
            400,
            "invalid_request_error",
            "tool_not_supported",
        ),
        (json!({"messages": []}), 400, "invalid_request_error", "messages_empty"),
        (
            json!({"messages": [messages[0], {"role": "assistant", "content": "Sow"}]}),
            400,
            "invalid_request_error",
            "prefill_not_supported",
        ),
    ] {
        let (found, error) = world.post("/v1/messages", changed(&request, fields));
        assert_eq!((found, &error["type"]), (status, &json!("error")), "{error}");
        assert_eq!(
            (&error["error"]["type"], &error["error"]["code"]),
            (&json!(kind), &json!(code))
        );
    }
    let (status, error) = world.post("/v1/messages/nothing", json!({}));
    assert_eq!((status, &error["type"]), (404, &json!("error")), "{error}");
}
