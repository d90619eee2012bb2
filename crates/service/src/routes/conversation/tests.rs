use serde_json::json;

use super::*;

fn refusal(request: Value) -> (String, String) {
    let head: ChatHead = serde_json::from_value(request).unwrap();
    let problem = question(&head).err().expect("the request is refused");
    (problem.code, problem.field.unwrap_or_default())
}

/// A request with a question, and these fields.
fn with(fields: Value) -> Value {
    let mut request = json!({"model": "desk", "messages": [{"role": "user", "content": "Hi"}]});
    for (key, value) in fields.as_object().unwrap() {
        request[key] = value.clone();
    }
    request
}

fn tool(name: &str) -> Value {
    json!({"type": "function", "function": {"name": name, "parameters": {"type": "object"}}})
}

#[test]
fn bad_tools_are_refused_by_name() {
    for (name, tools, code, field) in [
        (
            "without a name",
            json!([{"type": "function", "function": {}}]),
            "tool_name_invalid",
            "tools[0].function.name",
        ),
        ("the same twice", json!([tool("f"), tool("f")]), "tool_twice", "tools[1].function.name"),
        ("a name with spaces", json!([tool("f g")]), "tool_name_invalid", "tools[0].function.name"),
        ("another type", json!([{"type": "retrieval"}]), "tool_not_supported", "tools[0].type"),
        (
            "a schema that is no object",
            json!([{"type": "function", "function": {"name": "f", "parameters": [1]}}]),
            "schema_invalid",
            "tools[0].function.parameters",
        ),
        (
            "a schema of 10 MB",
            json!([{"type": "function", "function": {"name": "f", "parameters": {"description": "x".repeat(10 << 20)}}}]),
            "schema_too_large",
            "tools[0].function.parameters",
        ),
    ] {
        let found = refusal(with(json!({"tools": tools})));
        assert_eq!((&found.0[..], &found.1[..]), (code, field), "{name}");
    }
}

#[test]
fn choices_without_their_tool_are_refused() {
    let named = json!({"type": "function", "function": {"name": "g"}});
    for fields in [
        json!({"tool_choice": "required"}),
        json!({"tool_choice": named}),
        json!({"tool_choice": named, "tools": [tool("f")]}),
    ] {
        assert_eq!(refusal(with(fields)).0, "tool_choice_invalid");
    }
}

#[test]
fn results_need_their_call_and_arguments_must_be_json() {
    let call = |arguments: Value| {
        json!({"role": "assistant", "content": null, "tool_calls": [
            {"id": "a", "type": "function", "function": {"name": "f", "arguments": arguments}}]})
    };
    let result = |id: &str| json!({"role": "tool", "tool_call_id": id, "content": "12"});
    let user = json!({"role": "user", "content": "Hi"});
    let request = |messages: Value| json!({"model": "desk", "messages": messages});
    for (name, messages, code) in [
        ("no call", json!([user, result("a")]), "tool_result_without_call"),
        ("another id", json!([user, call(json!("{}")), result("b")]), "tool_result_without_call"),
        (
            "answered twice",
            json!([user, call(json!("{}")), result("a"), result("a")]),
            "tool_result_without_call",
        ),
        ("no JSON", json!([user, call(json!("{variety: 1"))]), "arguments_not_json"),
        ("JSON, but no object", json!([user, call(json!("[1]"))]), "arguments_not_json"),
        (
            "no name",
            json!([user, {"role": "assistant", "tool_calls": [{"function": {}}]}]),
            "tool_call_invalid",
        ),
        ("an unknown role", json!([{"role": "desk", "content": "Hi"}]), "role_unknown"),
    ] {
        assert_eq!(refusal(request(messages)).0, code, "{name}");
    }
    let fine = request(json!([user, call(json!("{\"variety\": 1}")), result("a"), user]));
    question(&serde_json::from_value(fine).unwrap()).map(drop).unwrap();
}

#[test]
fn forms_of_answers_become_constraints() {
    let of = |fields: Value| {
        let head: ChatHead = serde_json::from_value(with(fields)).unwrap();
        question(&head).map(|question| question.constraint)
    };
    let schema = json!({"type": "object"});
    let format = json!({"type": "json_schema", "json_schema": {"name": "x", "schema": schema, "strict": true}});
    assert_eq!(of(json!({"response_format": format})).unwrap(), Some(Constraint::Schema(schema)));
    assert_eq!(
        of(json!({"response_format": {"type": "json_object"}})).unwrap(),
        Some(Constraint::Object)
    );
    assert_eq!(of(json!({"response_format": {"type": "text"}})).unwrap(), None);
    let regex = of(json!({"must_match": {"regex": "a+"}})).unwrap();
    assert_eq!(regex, Some(Constraint::Regex("a+".to_owned())));
    let both =
        of(json!({"must_match": {"regex": "a+"}, "response_format": {"type": "json_object"}}));
    assert_eq!(both.unwrap_err().code, "constraints_conflict");
    let without = json!({"response_format": {"type": "json_schema", "json_schema": {"name": "x"}}});
    assert_eq!(refusal(with(without)).1, "response_format.json_schema.schema");
    let unknown: Result<ChatHead, _> =
        serde_json::from_value(with(json!({"response_format": {"type": "yaml"}})));
    assert!(unknown.unwrap_err().to_string().contains("yaml"));
}

#[test]
fn reasoning_effort_is_an_argument_of_the_template() {
    let head: ChatHead = serde_json::from_value(with(json!({
        "reasoning_effort": "low", "chat_template_kwargs": {"enable_thinking": false}, "max_reasoning_tokens": 9,
    })))
    .unwrap();
    let question = question(&head).unwrap();
    let Prompt::Chat { arguments, .. } = question.prompt else { panic!("a conversation") };
    assert_eq!(
        Value::from(arguments),
        json!({"enable_thinking": false, "reasoning_effort": "low"})
    );
    assert_eq!(question.reasoning_budget, Some(9));
}
