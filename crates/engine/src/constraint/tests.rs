mod schemas;

use std::collections::BTreeMap;
use std::path::Path;

use deft_protocol::engine::Constraint;
use serde_json::{Value, json};

use super::*;
use crate::output::{CallForm, CallKind, CallShape, of_kind};
use crate::template::tests::tokenizer_of;

fn desk() -> Tokenizer {
    let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../demo/larkfen-desk");
    tokenizer_of(&folder.join("larkfen-desk-q8_0.gguf")).0
}

/// A text that the constraint allows: at each step the first allowed token after a moving position.
fn written(tokenizer: &Tokenizer, constrained: &mut Constrained, most: usize) -> (String, bool) {
    let vocabulary = tokenizer.vocabulary();
    let size = u32::try_from(vocabulary.len()).unwrap();
    let mut bytes = Vec::new();
    for step in 0..most {
        let mask = constrained.mask().unwrap();
        let start = u32::try_from(step * 977).unwrap() % size;
        let token = (0..size).map(|at| (start + at) % size).find(|&token| mask.allows(token));
        let token = token.expect("some token is allowed");
        if vocabulary.ends_answer(token) {
            return (String::from_utf8(bytes).unwrap(), true);
        }
        let text = match vocabulary.get(token) {
            Some((text, crate::tokenizer::TokenKind::Control)) => text.as_bytes().to_vec(),
            _ => tokenizer.bytes_of(token),
        };
        bytes.extend(text);
        constrained.advance(&[token]);
    }
    (String::from_utf8_lossy(&bytes).into_owned(), false)
}

/// Whether the constraint allows exactly this text.
fn allows(tokenizer: &Tokenizer, grammar: &Grammar, text: &str) -> bool {
    let constraints = Constraints::default();
    let mut constrained = constraints.begin(tokenizer, grammar).unwrap();
    for token in tokenizer.encode(text, crate::tokenizer::Specials::Recognised) {
        if !constrained.mask().is_ok_and(|mask| mask.allows(token)) {
            return false;
        }
        constrained.advance(&[token]);
    }
    let end = tokenizer.vocabulary().end().unwrap();
    constrained.mask().is_ok_and(|mask| mask.allows(end))
}

fn schema(schema: Value) -> Grammar {
    Grammar::of(&Constraint::Schema(schema))
}

#[test]
fn only_matching_json_is_allowed() {
    let tokenizer = desk();
    let packets = schema(json!({
        "type": "object", "properties": {"variety": {"enum": ["Moonhook bean", "Ember chard"]},
        "packets": {"type": "integer", "minimum": 1, "maximum": 40}},
        "required": ["variety", "packets"], "additionalProperties": false,
    }));
    for text in [
        "{\"variety\": \"Moonhook bean\", \"packets\": 12}",
        "{\"variety\":\"Ember chard\",\"packets\":40}",
        "{\n  \"variety\": \"Ember chard\",\n  \"packets\": 7\n}",
    ] {
        assert!(allows(&tokenizer, &packets, text), "{text}");
    }
    for text in [
        "{\"variety\": \"Rosemary\", \"packets\": 12}",
        "{\"variety\": \"Ember chard\", \"packets\": 41}",
        "{\"variety\": \"Ember chard\"}",
        "{\"variety\": \"Ember chard\", \"packets\": 7, \"x\": 1}",
        "There are 12.",
        "",
    ] {
        assert!(!allows(&tokenizer, &packets, text), "{text}");
    }
    let object = Grammar::of(&Constraint::Object);
    assert!(allows(&tokenizer, &object, "{\"a\": [1, {\"b\": null}]}"));
    assert!(!allows(&tokenizer, &object, "[1]"));
}

#[test]
fn regular_expressions_and_grammars_are_followed() {
    let tokenizer = desk();
    let month = Grammar::of(&Constraint::Regex("(April|May|June)( to (July|August))?".to_owned()));
    assert!(allows(&tokenizer, &month, "May") && allows(&tokenizer, &month, "April to August"));
    assert!(!allows(&tokenizer, &month, "March") && !allows(&tokenizer, &month, "May to"));
    let lark = "start: \"sow \" (\"deep\" | \"shallow\") /[0-9]+ cm/";
    let lark = Grammar::of(&Constraint::Lark(lark.to_owned()));
    assert!(allows(&tokenizer, &lark, "sow deep12 cm") && !allows(&tokenizer, &lark, "sow cm"));
}

/// Control tokens of the demo model's markers.
fn markers(tokenizer: &Tokenizer) -> BTreeMap<u32, String> {
    let id = |text: &str| (tokenizer.vocabulary().id(text).unwrap(), text.to_owned());
    ["<|call|>", "<|/call|>"].map(id).into()
}

fn stock_level() -> Tool {
    let arguments = json!({
        "type": "object", "properties": {"variety": {"type": "string"}, "packets": {"type": "integer"}},
        "required": ["variety"], "additionalProperties": false,
    });
    Tool { name: "stock_level".to_owned(), arguments }
}

fn calls<'a>(
    form: &'a CallForm,
    tools: &'a [Tool],
    several: bool,
    markers: &'a BTreeMap<u32, String>,
) -> Calls<'a> {
    Calls { form, tools, several, begins_after: "", otherwise: None, markers }
}

/// Each form of calls, with the control tokens of the model.
#[test]
fn calls_follow_the_form_and_the_schema_of_the_tool() {
    let tokenizer = desk();
    let (tools, markers) = ([stock_level()], markers(&tokenizer));
    for kind in CallKind::ALL {
        let mut form = of_kind(kind);
        if kind == CallKind::JsonBetweenMarkers {
            (form.opening, form.closing) = ("<|call|>".to_owned(), "<|/call|>".to_owned());
        }
        let call = |name: &str, packets: &str| match form.call {
            CallShape::Object { .. } => format!(
                "{{\"name\": \"{name}\", \"arguments\": {{\"variety\": \"Moonhook\", \"packets\": {packets}}}}}"
            ),
            CallShape::Named { .. } => {
                format!("{name}>{{\"variety\": \"Moonhook\", \"packets\": {packets}}}")
            }
            CallShape::Syntax => {
                format!("{name}(variety=\"Moonhook\", packets={packets})")
            }
        };
        let grammar = |several: bool| calls(&form, &tools, several, &markers).grammar().unwrap();
        let whole = |call: &str| format!("{}{call}{}", form.opening, form.closing);
        let right = whole(&call("stock_level", "3"));
        assert!(allows(&tokenizer, &grammar(true), &right), "{kind:?}: {right}");
        for wrong in [call("stock_levels", "3"), call("stock_level", "\"three\""), String::new()] {
            assert!(!allows(&tokenizer, &grammar(true), &whole(&wrong)), "{kind:?}: {wrong}");
        }
        if let Some(separator) = &form.separator {
            let two = format!("{0}{separator}{0}", call("stock_level", "3"));
            let two = whole(&two);
            assert!(allows(&tokenizer, &grammar(true), &two), "{kind:?}: {two}");
            assert!(!allows(&tokenizer, &grammar(false), &two), "{kind:?}: {two}");
        }
        let constraints = Constraints::default();
        let mut constrained = constraints.begin(&tokenizer, &grammar(true)).unwrap();
        let (text, ended) = written(&tokenizer, &mut constrained, 400);
        assert!(text.starts_with(form.opening.trim_end()), "{kind:?} {ended}: {text}");
    }
}

/// Tools whose schemas have definitions, as libraries write them.
#[test]
fn references_of_a_tools_schema_lead_to_its_definitions_in_every_form() {
    let tokenizer = desk();
    let markers = markers(&tokenizer);
    let tool = |arguments: Value| [Tool { name: "reserve".to_owned(), arguments }];
    let with_definitions = json!({
        "type": "object", "properties": {"bed": {"$ref": "#/$defs/bed"}}, "required": ["bed"],
        "additionalProperties": false, "$defs": {"bed": {"enum": ["north", "south"]}},
    });
    let to_the_root = json!({"type": "object", "properties": {"next": {"$ref": "#"}}});
    for kind in CallKind::ALL {
        let form = of_kind(kind);
        let call = |bed: &str| match form.call {
            CallShape::Object { .. } => {
                format!("{{\"name\": \"reserve\", \"arguments\": {{\"bed\": \"{bed}\"}}}}")
            }
            CallShape::Named { .. } => format!("reserve>{{\"bed\": \"{bed}\"}}"),
            CallShape::Syntax => format!("reserve(bed=\"{bed}\")"),
        };
        let whole = |bed: &str| format!("{}{}{}", form.opening, call(bed), form.closing);
        let tools = tool(with_definitions.clone());
        let grammar = calls(&form, &tools, true, &markers).grammar().unwrap();
        assert!(allows(&tokenizer, &grammar, &whole("south")), "{kind:?}");
        assert!(!allows(&tokenizer, &grammar, &whole("west")), "{kind:?}");
        let tools = tool(to_the_root.clone());
        let grammar = calls(&form, &tools, true, &markers).grammar();
        match form.call {
            CallShape::Named { .. } => assert!(grammar.is_ok(), "its schema stands alone"),
            _ => assert!(grammar.unwrap_err().to_string().contains("`$ref` of `#`"), "{kind:?}"),
        }
    }
}

#[test]
fn the_schemas_of_all_tools_are_limited_before_they_are_written_out() {
    let tokenizer = desk();
    let markers = markers(&tokenizer);
    let arguments: Value =
        (0..900).map(|at| (format!("a{at}"), json!({"$ref": "#/$defs/d"}))).collect();
    let tool = |at: usize| Tool {
        name: format!("t{at}"),
        arguments: json!({
            "type": "object", "properties": arguments,
            "$defs": {"d": {"enum": ["x".repeat(10_000), "y".repeat(10_000)]}},
        }),
    };
    for (count, kind, refused) in [
        (2, CallKind::JsonBetweenMarkers, false),
        (9, CallKind::JsonBetweenMarkers, true),
        // 900 copies of 20 kB of definitions.
        (1, CallKind::FunctionSyntax, true),
    ] {
        let (form, tools) = (of_kind(kind), (0..count).map(tool).collect::<Vec<_>>());
        let found = calls(&form, &tools, true, &markers).grammar();
        assert_eq!(found.is_err(), refused, "{count} {kind:?}");
        if let Err(error) = found {
            assert!(error.to_string().contains("at most 262144"), "{error}");
        }
    }
}

/// The model's marker may end with white space that its template writes otherwise.
#[test]
fn a_call_that_the_model_began_may_have_other_white_space_after_its_marker() {
    let tokenizer = desk();
    let (tools, markers) = ([stock_level()], markers(&tokenizer));
    let form = of_kind(CallKind::JsonBetweenMarkers);
    let begun = Calls { begins_after: "<call>", ..calls(&form, &tools, true, &markers) };
    let grammar = begun.grammar().unwrap();
    let call = "{\"name\": \"stock_level\", \"arguments\": {\"variety\": \"Moonhook\"}}\n</call>";
    for space in ["", "\n", " ", "\n  "] {
        assert!(allows(&tokenizer, &grammar, &format!("{space}{call}")), "{space:?}");
    }
    assert!(!allows(&tokenizer, &grammar, &format!("It is {call}")));
    let whole = calls(&form, &tools, true, &markers).grammar().unwrap();
    assert!(allows(&tokenizer, &whole, &format!("<call>\n{call}")));
    assert!(!allows(&tokenizer, &whole, call), "the marker is part of it");
}

#[test]
fn an_answer_may_be_a_call_or_match_another_form() {
    let tokenizer = desk();
    let (tools, markers) = ([stock_level()], markers(&tokenizer));
    let packets = schema(json!({"type": "object", "properties": {"packets": {"type": "integer"}},
        "required": ["packets"], "additionalProperties": false}));
    let month = Grammar::Regex("(April|May)/20[0-9]{2}".to_owned());
    for kind in CallKind::ALL {
        let mut form = of_kind(kind);
        if kind == CallKind::JsonBetweenMarkers {
            (form.opening, form.closing) = ("<|call|>".to_owned(), "<|/call|>".to_owned());
        }
        let call = form.example().replace("find", "stock_level").replace("text", "variety");
        for (other, answer) in [(&packets, "{\"packets\": 12}"), (&month, "May/2026")] {
            let either = Calls { otherwise: Some(other), ..calls(&form, &tools, true, &markers) };
            let either = either.grammar().unwrap();
            assert!(allows(&tokenizer, &either, &call), "{kind:?}: {call}");
            assert!(allows(&tokenizer, &either, answer), "{kind:?}: {answer}");
            assert!(!allows(&tokenizer, &either, "There are 12."), "{kind:?}");
        }
        let lark = Grammar::Lark("start: \"May\"".to_owned());
        let refused = Calls { otherwise: Some(&lark), ..calls(&form, &tools, true, &markers) };
        assert!(refused.grammar().unwrap_err().to_string().contains("remove `tools`"));
    }
}

/// A schema whose definitions refer to each other in a chain.
fn chain(length: usize) -> Grammar {
    let link = |at| (format!("d{at}"), json!({"$ref": format!("#/$defs/d{}", at + 1)}));
    let mut definitions: serde_json::Map<String, Value> = (0..length).map(link).collect();
    definitions.insert(format!("d{length}"), json!({"type": "string"}));
    schema(json!({"$ref": "#/$defs/d0", "$defs": definitions}))
}

#[test]
fn bad_constraints_are_refused_with_the_reason_within_a_second() {
    let tokenizer = desk();
    let constraints = Constraints::default();
    let deep = (0..400).fold(
        json!({"type": "string"}),
        |inner, _| json!({"type": "object", "properties": {"a": inner}, "required": ["a"]}),
    );
    let wide: Vec<Value> = (0..3000).map(|at| json!({"const": format!("variety {at}")})).collect();
    let products: Vec<Value> = (0..20)
        .map(|at| {
            json!({"anyOf": [{"properties": {format!("a{at}"): {"type": "string"}}},
            {"properties": {format!("b{at}"): {"type": "integer"}}}]})
        })
        .collect();
    let patterns: Vec<Value> = (0..30)
        .map(|at| json!({"type": "string", "pattern": format!("^.*a.{{{at}}}b.*$")}))
        .collect();
    let properties: serde_json::Map<String, Value> =
        (0..1001).map(|at| (format!("bed {at}"), json!({"type": "integer"}))).collect();
    let names: serde_json::Map<String, Value> =
        (0..65).map(|at| (format!("^{at}x$"), json!({"type": "integer"}))).collect();
    let cases = [
        ("not a schema", Grammar::of(&Constraint::Schema(json!({"type": "variety"})))),
        ("cannot be fulfilled", schema(json!({"type": "integer", "minimum": 5, "maximum": 1}))),
        ("never", schema(json!(false))),
        (
            "a key that is not known",
            schema(json!({"type": "object", "propertiez": {}, "dependentSchemas": {"a": {}}})),
        ),
        (
            "a reference without end",
            schema(json!({"$ref": "#/$defs/a", "$defs": {"a": {"$ref": "#/$defs/a"}}})),
        ),
        ("a reference to nowhere", schema(json!({"$ref": "#/$defs/x"}))),
        ("too large", schema(json!({"enum": ["x".repeat(300 << 10)]}))),
        (
            "an expression that explodes",
            Grammar::Regex("(a|b|ab)*(((a{1,90}){1,90}){1,90}b)c".to_owned()),
        ),
        ("an invalid expression", Grammar::Regex("(a".to_owned())),
        ("an invalid grammar", Grammar::Lark("start: nothing".to_owned())),
        ("a grammar without end", Grammar::Lark("start: start \"a\"".to_owned())),
        (
            "intersections of many expressions",
            Grammar::Lark(format!("start: X\nX: {}", ["/.*a.{9}b.*/"; 30].join(" & "))),
        ),
        ("many patterns for one text", schema(json!({"allOf": patterns}))),
        ("more than 1,000 properties", schema(json!({"properties": properties}))),
        ("many patterns of names", schema(json!({"patternProperties": names}))),
        ("a long expression", Grammar::Regex("(ab)?".repeat(4000))),
        ("a long pattern", schema(json!({"pattern": "(ab)?".repeat(4000)}))),
        ("references in a long chain", chain(1500)),
        ("deep", schema(deep)),
        ("wide", schema(json!({"anyOf": wide}))),
        ("products of alternatives", schema(json!({"allOf": products}))),
    ];
    for (name, grammar) in cases {
        let begun = std::time::Instant::now();
        let result = constraints.begin(&tokenizer, &grammar);
        let seconds = begun.elapsed().as_secs_f64();
        println!(
            "{name}: {seconds:.3} s, {}",
            result.as_ref().map_or_else(ToString::to_string, |_| "accepted".to_owned())
        );
        // The compilation of a debug build is slower; releases are held to a second by the bench.
        assert!(seconds < 10.0, "{name}: {seconds} s");
        // What is only large may be accepted, if it is compiled in time.
        let is_only_large = [
            "references in a long chain",
            "wide",
            "products of alternatives",
            "an expression that explodes",
        ];
        if !is_only_large.contains(&name) {
            let error = result.err().unwrap_or_else(|| panic!("{name} is accepted")).to_string();
            assert!(!error.is_empty() && !error.contains('\n'), "{name}: {error}");
        }
    }
}

#[test]
fn compiled_grammars_are_cached_and_limited() {
    let tokenizer = desk();
    let constraints = Constraints::default();
    for at in 0..MOST_CACHED + 3 {
        constraints.begin(&tokenizer, &schema(json!({"const": at}))).unwrap();
    }
    assert_eq!(constraints.cached.lock().len(), MOST_CACHED);
    let again = schema(json!({"const": MOST_CACHED}));
    constraints.begin(&tokenizer, &again).unwrap();
    assert_eq!(*constraints.cached.lock().back().unwrap().0, again, "the latest one is last");
    assert_eq!(constraints.cached.lock().len(), MOST_CACHED);
}

/// A thread that has replied does not count any more, however slowly it ends.
#[test]
fn grammars_that_are_compiled_one_after_the_other_are_never_refused() {
    let tokenizer = desk();
    let constraints = Constraints::default();
    for at in 0..300 {
        constraints.begin(&tokenizer, &schema(json!({"const": at}))).unwrap();
        assert_eq!(Arc::strong_count(&constraints.compiling), 1, "after {at}");
    }
}

#[test]
fn few_grammars_are_compiled_at_once_and_cached_ones_need_no_turn() {
    let tokenizer = desk();
    let constraints = Constraints::default();
    let known = schema(json!({"const": 1}));
    constraints.begin(&tokenizer, &known).unwrap();
    let running: Vec<Arc<()>> =
        (0..MOST_COMPILING).map(|_| Arc::clone(&constraints.compiling)).collect();
    let refused = constraints.begin(&tokenizer, &schema(json!({"const": 2})));
    assert_eq!(refused.err(), Some(ConstraintError::Busy));
    assert!(constraints.begin(&tokenizer, &known).is_ok());
    drop(running);
    assert!(constraints.begin(&tokenizer, &schema(json!({"const": 2}))).is_ok());
}
