//! Tool calls, structured output and their refusals over HTTP.

use serde_json::{Value, json};

use crate::world::{World, project, until, wait};

/// The tools of the demo desk.
fn tools() -> Value {
    let tool = |name: &str, properties: Value, required: Value| {
        json!({"type": "function", "function": {
            "name": name, "description": "Packets in the library.",
            "parameters": {"type": "object", "properties": properties, "required": required},
        }})
    };
    let variety = json!({"type": "string"});
    json!([
        tool("stock_level", json!({"variety": variety}), json!(["variety"])),
        tool(
            "reserve_packets",
            json!({"variety": variety, "packets": {"type": "integer"}}),
            json!(["variety", "packets"])
        ),
    ])
}

fn request(messages: &Value, more: Value) -> Value {
    let mut request = json!({
        "model": "larkfen-desk", "messages": messages, "tools": tools(), "temperature": 0, "max_tokens": 60,
    });
    for (key, value) in more.as_object().unwrap() {
        request[key] = value.clone();
    }
    request
}

fn question(text: &str) -> Value {
    json!([{"role": "user", "content": text}])
}

const STOCK: &str = "How many packets of Moonhook bean are left?";

#[test]
fn a_tool_is_called_and_its_result_answered() {
    let world = World::stocked();
    let mut messages = question(STOCK);
    let asked = world.posted("/v1/chat/completions", request(&messages, json!({})));
    let choice = &asked["choices"][0];
    assert_eq!(
        (&choice["finish_reason"], &choice["message"]["content"]),
        (&json!("tool_calls"), &Value::Null)
    );
    let call = &choice["message"]["tool_calls"][0];
    assert_eq!(
        (&call["type"], &call["function"]["name"]),
        (&json!("function"), &json!("stock_level"))
    );
    let arguments: Value =
        serde_json::from_str(call["function"]["arguments"].as_str().unwrap()).unwrap();
    assert_eq!(arguments, json!({"variety": "Moonhook bean"}));
    let result = json!({"role": "tool", "tool_call_id": call["id"], "content": "{\"variety\": \"Moonhook bean\", \"packets\": 12}"});
    let list = messages.as_array_mut().unwrap();
    list.extend([choice["message"].clone(), result]);
    let answer = world.posted("/v1/chat/completions", request(&messages, json!({})));
    let answer = &answer["choices"][0];
    assert_eq!(answer["finish_reason"], "stop");
    assert!(answer["message"]["content"].as_str().unwrap().contains("12"), "{answer}");
    let client = world.client();
    let outcomes = until("both calls are recorded", || {
        let calls = wait(client.calls(9)).unwrap();
        (calls.len() >= 2).then(|| calls.into_iter().map(|call| call.outcome).collect::<Vec<_>>())
    });
    assert_eq!(outcomes, ["stop", "tool_calls"]);
}

#[test]
fn a_stream_sends_the_pieces_of_a_call_by_its_number() {
    let world = World::stocked();
    let stream =
        world.post_text("/v1/chat/completions", request(&question(STOCK), json!({"stream": true})));
    let events: Vec<Value> = stream
        .lines()
        .filter_map(|line| line.strip_prefix("data: "))
        .filter(|data| *data != "[DONE]")
        .map(|data| serde_json::from_str(data).unwrap())
        .collect();
    let pieces: Vec<&Value> = events
        .iter()
        .filter_map(|event| event["choices"][0]["delta"]["tool_calls"].as_array())
        .flatten()
        .collect();
    assert!(pieces.len() > 2, "the arguments come in pieces: {stream}");
    assert!(pieces.iter().all(|piece| piece["index"] == 0));
    assert_eq!(
        (&pieces[0]["function"]["name"], &pieces[0]["type"]),
        (&json!("stock_level"), &json!("function"))
    );
    assert!(pieces[0]["id"].as_str().is_some_and(|id| id.len() == 9));
    assert!(
        pieces[1..]
            .iter()
            .all(|piece| piece["id"].is_null() && piece["function"]["name"].is_null())
    );
    let arguments: String =
        pieces.iter().map(|piece| piece["function"]["arguments"].as_str().unwrap()).collect();
    assert_eq!(
        serde_json::from_str::<Value>(&arguments).unwrap(),
        json!({"variety": "Moonhook bean"})
    );
    let last = events.last().unwrap();
    assert_eq!(last["choices"][0]["finish_reason"], "tool_calls");
}

#[test]
fn choices_of_tools_are_followed() {
    let world = World::stocked();
    let name = |more: Value| {
        let answer =
            world.posted("/v1/chat/completions", request(&question("Good morning!"), more));
        let message = &answer["choices"][0]["message"];
        let call = &message["tool_calls"][0]["function"];
        if let Some(arguments) = call["arguments"].as_str() {
            serde_json::from_str::<Value>(arguments)
                .unwrap_or_else(|error| panic!("{arguments}: {error}"));
        }
        call["name"].as_str().unwrap_or("none").to_owned()
    };
    let named =
        |name: &str| json!({"tool_choice": {"type": "function", "function": {"name": name}}});
    assert_eq!(name(json!({})), "none");
    assert_eq!(name(json!({"tool_choice": "none"})), "none");
    assert_ne!(name(json!({"tool_choice": "required"})), "none");
    assert_eq!(name(named("reserve_packets")), "reserve_packets");
    assert_eq!(name(named("stock_level")), "stock_level");
    // Several answers, each with a call of its own.
    let body =
        request(&question(STOCK), json!({"n": 3, "tool_choice": "required", "temperature": 1}));
    let answers = world.posted("/v1/chat/completions", body);
    let choices = answers["choices"].as_array().unwrap();
    assert_eq!(choices.len(), 3);
    for choice in choices {
        let calls = choice["message"]["tool_calls"].as_array().unwrap();
        assert_eq!(calls.len(), 1, "{choice}");
    }
}

#[test]
fn answers_have_the_form_that_a_caller_asks_for() {
    let world = World::stocked();
    let schema = json!({
        "type": "object", "properties": {"variety": {"enum": ["Ember chard", "Moonhook bean"]}, "from": {"enum": ["March", "April", "May"]}},
        "required": ["variety", "from"], "additionalProperties": false,
    });
    let ask = |more: Value| {
        let mut body = json!({
            "model": "larkfen-desk", "messages": question("When do I sow Ember chard?"), "temperature": 0, "max_tokens": 60,
        });
        for (key, value) in more.as_object().unwrap() {
            body[key] = value.clone();
        }
        let answer = world.posted("/v1/chat/completions", body);
        answer["choices"][0]["message"]["content"].as_str().unwrap().to_owned()
    };
    let format = json!({"type": "json_schema", "json_schema": {"name": "sowing", "schema": schema, "strict": true}});
    let answer: Value = serde_json::from_str(&ask(json!({"response_format": format}))).unwrap();
    assert!(["March", "April", "May"].contains(&answer["from"].as_str().unwrap()), "{answer}");
    let word = ask(json!({"must_match": {"regex": "(March|April|May)"}}));
    assert!(["March", "April", "May"].contains(&&word[..]), "{word}");
    let lark = ask(
        json!({"must_match": {"lark": "start: \"sow in \" month\nmonth: \"March\" | \"May\""}}),
    );
    assert!(lark.starts_with("sow in M"), "{lark}");
}

#[test]
fn requests_that_cannot_be_fulfilled_are_refused_by_name() {
    let world = World::stocked();
    let file = project("demo/larkfen-labels/larkfen-labels-q8_0.gguf");
    world.ok(&["depot", "register", &file.to_string_lossy()]);
    let refused = |body: Value| {
        let (status, error) = world.post("/v1/chat/completions", body);
        let error = &error["error"];
        let text = |key: &str| error[key].as_str().unwrap_or_default().to_owned();
        (status, text("code"), text("param"))
    };
    let hello = question("Good morning!");
    let wanted = |code: &str, param: &str| (400, code.to_owned(), param.to_owned());
    let schema = |schema: Value| {
        json!({"model": "larkfen-desk", "messages": hello, "response_format":
            {"type": "json_schema", "json_schema": {"name": "x", "schema": schema}}})
    };
    for (name, body, expected) in [
        (
            "a schema that no answer can satisfy",
            schema(json!({"type": "integer", "minimum": 5, "maximum": 1})),
            wanted("constraint_invalid", "response_format"),
        ),
        (
            "a reference without end",
            schema(json!({"$ref": "#"})),
            wanted("constraint_invalid", "response_format"),
        ),
        (
            "an expression that explodes",
            request(
                &hello,
                json!({"tool_choice": "required", "tools": [{"type": "function", "function": {
                "name": "f", "strict": true, "parameters": {"type": "object", "properties":
                    {"a": {"type": "string", "pattern": "^(((a{1,99}){1,99}){1,99}b){1,99}$"}}, "required": ["a"]}}}]}),
            ),
            wanted("constraint_too_complex", "tools"),
        ),
        (
            "a model without tool calls",
            json!({"model": "larkfen-labels", "messages": hello, "tools": tools()}),
            wanted("no_tool_calls", "tools"),
        ),
        (
            "an argument that the template does not read",
            request(&hello, json!({"reasoning_effort": "low"})),
            wanted("template_argument_not_read", "reasoning_effort"),
        ),
        (
            "a field of a former protocol",
            request(&hello, json!({"functions": []})),
            wanted("field_unknown", "functions"),
        ),
        (
            "a field that nobody knows",
            request(&hello, json!({"tool_chioce": "none"})),
            wanted("field_unknown", "tool_chioce"),
        ),
    ] {
        assert_eq!(refused(body), expected, "{name}");
    }
    // Fields that cannot change the answer are ignored.
    let ignored =
        request(&hello, json!({"metadata": {"a": "b"}, "store": false, "service_tier": "auto"}));
    world.posted("/v1/chat/completions", ignored);
    world.desk_answers();
}

#[test]
fn the_model_shows_its_form_of_calls() {
    let world = World::stocked();
    let shown = world.ok(&["depot", "inspect", "larkfen-desk"]);
    assert!(shown.contains("chat, tool calls"), "{shown}");
    assert!(
        shown.contains("<|call|>{\"name\": \"find\"") && shown.contains("json-between-markers"),
        "{shown}"
    );
}

/// As libraries describe the arguments of a function.
#[test]
fn a_strict_tool_may_have_definitions() {
    let world = World::stocked();
    let tool = |reference: &str| {
        json!([{"type": "function", "function": {"name": "stock_level", "strict": true, "parameters": {
            "type": "object", "properties": {"variety": {"$ref": reference}}, "required": ["variety"],
            "additionalProperties": false, "$defs": {"variety": {"enum": ["Ember chard", "Oxlantern bean"]}},
        }}}])
    };
    let ask = |reference: &str| {
        let more = json!({"tools": tool(reference), "tool_choice": "required"});
        world.post("/v1/chat/completions", request(&question(STOCK), more))
    };
    let (status, answer) = ask("#/$defs/variety");
    assert_eq!(status, 200, "{answer}");
    let call = &answer["choices"][0]["message"]["tool_calls"][0]["function"];
    let arguments: Value = serde_json::from_str(call["arguments"].as_str().unwrap()).unwrap();
    assert!(["Ember chard", "Oxlantern bean"].contains(&arguments["variety"].as_str().unwrap()));
    let (status, error) = ask("#/properties/other");
    assert_eq!((status, &error["error"]["code"]), (400, &json!("constraint_invalid")), "{error}");
    assert_eq!(error["error"]["param"], "tools");
}

/// None of these ends a process or takes long, and the model goes on.
#[test]
fn schemas_and_grammars_that_explode_are_refused_by_their_field() {
    let world = World::stocked();
    let process = world.posted("/v1/chat/completions", request(&question("Hello"), json!({})));
    assert!(process["choices"][0]["message"].is_object());
    let pid = world.ready("larkfen-desk/q8_0").pid;
    let patterns: Vec<Value> = (0..30)
        .map(|at| json!({"type": "string", "pattern": format!("^.*a.{{{at}}}b$")}))
        .collect();
    let properties: serde_json::Map<String, Value> =
        (0..1500).map(|at| (format!("p{at}"), json!({"type": "integer"}))).collect();
    let schema = |schema: Value| json!({"response_format": {"type": "json_schema", "json_schema": {"name": "s", "schema": schema}}});
    for (name, more, field) in [
        ("patterns", schema(json!({"allOf": patterns})), "response_format"),
        (
            "properties",
            schema(json!({"type": "object", "properties": properties})),
            "response_format",
        ),
        ("an expression", json!({"must_match": {"regex": "(ab)?".repeat(9000)}}), "must_match"),
        (
            "intersections",
            json!({"must_match": {"lark": format!("start: X\nX: {}", ["/.*a.{9}b/"; 30].join(" & "))}}),
            "must_match",
        ),
        (
            "a tool",
            json!({"tool_choice": "required", "tools": [{"type": "function", "function": {
                "name": "f", "strict": true, "parameters": {"type": "object", "properties": {"x": {"allOf": patterns}}}}}]}),
            "tools",
        ),
    ] {
        let mut request = json!({"model": "larkfen-desk", "messages": question("Hello")});
        request.as_object_mut().unwrap().extend(more.as_object().unwrap().clone());
        let begun = std::time::Instant::now();
        let (status, error) = world.post("/v1/chat/completions", request);
        assert_eq!((status, &error["error"]["param"]), (400, &json!(field)), "{name}: {error}");
        assert!(begun.elapsed().as_secs() < 10, "{name}: {:?}", begun.elapsed());
    }
    assert_eq!(world.ready("larkfen-desk/q8_0").pid, pid, "the process is the same");
}
