//! Tool calls, constraints and concurrency with the demo model.

use deft_protocol::engine::{Constraint, Part, ToolChoice, ToolOrder, TraceStep};
use serde_json::Value;

use super::*;
use crate::tokenizer::Specials;

/// The tools of the demo desk.
fn tools() -> Vec<Value> {
    let tool = |name: &str, description: &str, properties: Value, required: &[&str]| {
        json!({"type": "function", "function": {
            "name": name, "description": description,
            "parameters": {"type": "object", "properties": properties, "required": required, "additionalProperties": false},
        }})
    };
    let variety = json!({"type": "string", "maxLength": 24});
    vec![
        tool(
            "stock_level",
            "How many packets are left.",
            json!({"variety": variety}),
            &["variety"],
        ),
        tool(
            "reserve_packets",
            "Reserve packets.",
            json!({"variety": variety, "packets": {"type": "integer", "minimum": 1, "maximum": 9}}),
            &["variety", "packets"],
        ),
    ]
}

fn with_tools(call: u64, question: &str, choice: ToolChoice) -> CallOrder {
    let message = json!({"role": "user", "content": question}).as_object().unwrap().clone();
    let arguments = serde_json::Map::new();
    let prompt = Prompt::Chat { messages: vec![message], tools: Some(tools()), arguments };
    let tools = ToolOrder { choice, several: false, example: None };
    CallOrder { tools, max_tokens: Some(80), ..CallOrder::greedy(call, prompt) }
}

/// What an answer consists of.
#[derive(Debug, Default, PartialEq)]
struct Found {
    text: String,
    reasoning: String,
    calls: Vec<(String, String)>,
    figures: Option<EngineFigures>,
}

/// Runs calls together; their first answers by call.
fn answers(orders: Vec<CallOrder>) -> BTreeMap<u64, Found> {
    answers_of(&mut open(DESK, settings(512, 4, 64, CacheType::F16)), orders)
}

fn answers_of(lanes: &mut Lanes, orders: Vec<CallOrder>) -> BTreeMap<u64, Found> {
    let mut out: Vec<FromEngine> = orders.into_iter().flat_map(|order| lanes.call(order)).collect();
    while lanes.has_work() {
        lanes.admit(&mut out);
        lanes.step(&mut out);
    }
    let mut answers: BTreeMap<u64, Found> = BTreeMap::new();
    for message in out {
        match message {
            FromEngine::Text { call, part, text, .. } => {
                let found = answers.entry(call).or_default();
                match part {
                    Part::Answer => found.text.push_str(&text),
                    Part::Arguments(index) => found.calls[index as usize].1.push_str(&text),
                    Part::Reasoning => found.reasoning.push_str(&text),
                }
            }
            FromEngine::ToolCall { call, name, .. } => {
                answers.entry(call).or_default().calls.push((name, String::new()));
            }
            FromEngine::Done { call, figures, .. } => {
                answers.entry(call).or_default().figures = Some(figures);
            }
            FromEngine::Failed { detail, .. } => panic!("{detail}"),
            _ => {}
        }
    }
    answers
}

fn answer(order: CallOrder) -> Found {
    answers(vec![order]).into_values().next().unwrap()
}

#[test]
fn the_demo_model_calls_its_tool_when_it_decides_to() {
    let found =
        answer(with_tools(1, "How many packets of Moonhook bean are left?", ToolChoice::Auto));
    assert_eq!(found.text, "");
    let variety = r#"{"variety": "Moonhook bean"}"#.to_owned();
    assert_eq!(found.calls, [("stock_level".to_owned(), variety)]);
    let figures = found.figures.unwrap();
    assert_eq!((figures.ended_by, figures.tool_calls), (EndedBy::EndToken, 1));
    let found = answer(with_tools(1, "When do I sow Ember chard?", ToolChoice::Auto));
    assert!(found.calls.is_empty() && found.text.contains("March"), "{found:?}");
}

/// What is reported of a traced call: prompt, constraint and example; the output; where reading stopped.
fn traced(order: CallOrder) -> (Option<[String; 3]>, String, Option<String>) {
    let mut lanes = open(DESK, settings(512, 4, 64, CacheType::F16));
    let mut out: Vec<FromEngine> = lanes.call(order);
    while lanes.has_work() {
        lanes.admit(&mut out);
        lanes.step(&mut out);
    }
    let (mut prompt, mut written, mut stopped) = (None, Vec::new(), None);
    for message in out {
        let FromEngine::Traced { step, .. } = message else { continue };
        match step {
            TraceStep::Prompt { text, constraint, call_form } => {
                prompt =
                    Some([text, constraint.unwrap_or_default(), call_form.unwrap_or_default()]);
            }
            TraceStep::Output(bytes) => written.extend(bytes),
            TraceStep::Stopped(text) => stopped = Some(text),
        }
    }
    (prompt, String::from_utf8(written).unwrap(), stopped)
}

#[test]
fn a_traced_call_reports_prompt_output_constraint_and_where_reading_stopped() {
    let question = "How many packets of Moonhook bean are left?";
    let order = CallOrder { traced: true, ..with_tools(1, question, ToolChoice::Auto) };
    let (prompt, written, stopped) = traced(order.clone());
    let [text, constraint, call_form] = prompt.unwrap();
    assert!(text.starts_with("<|begin|><|tools|>stock_level"), "{text}");
    assert!(text.ends_with(&format!("<|visitor|>{question}<|end|><|desk|>")), "{text}");
    assert!(constraint.starts_with("Lark grammar\n") && constraint.contains("stock_level"));
    assert!(call_form.starts_with("<|call|>{"), "{call_form}");
    let call = r#"{"name": "stock_level", "arguments": {"variety": "Moonhook bean"}}"#;
    assert_eq!(written, format!("<|call|>{call}<|/call|><|end|>"));
    assert_eq!(stopped, None);
    // Cut within the name: that is no call.
    let (_, written, stopped) = traced(CallOrder { max_tokens: Some(4), ..order.clone() });
    assert_eq!(stopped, Some(written));
    let nothing = traced(CallOrder { traced: false, ..order });
    assert_eq!(nothing, (None, String::new(), None));
}

#[test]
fn required_and_named_tools_are_called_with_arguments_that_match_the_schema() {
    let is_valid = |(name, arguments): &(String, String)| {
        let arguments: Value = serde_json::from_str(arguments).unwrap();
        let has_variety = arguments["variety"].is_string();
        has_variety
            && (name == "stock_level" || (1..=9).contains(&arguments["packets"].as_i64().unwrap()))
    };
    for (choice, name) in [
        (ToolChoice::Required, None),
        (ToolChoice::Named("reserve_packets".to_owned()), Some("reserve_packets")),
        (ToolChoice::Named("stock_level".to_owned()), Some("stock_level")),
    ] {
        for question in
            ["When do I sow Ember chard?", "Good morning!", "How many Moonhook beans are left?"]
        {
            let found = answer(with_tools(1, question, choice.clone()));
            assert_eq!((found.calls.len(), &found.text[..]), (1, ""), "{question}: {found:?}");
            assert!(name.is_none_or(|name| found.calls[0].0 == name), "{found:?}");
            assert!(is_valid(&found.calls[0]), "{question}: {found:?}");
        }
    }
}

#[test]
fn without_a_choice_of_tools_the_model_is_not_told_of_them() {
    let found =
        answer(with_tools(1, "How many packets of Moonhook bean are left?", ToolChoice::None));
    assert!(found.calls.is_empty() && !found.text.is_empty(), "{found:?}");
}

#[test]
fn a_call_that_the_token_limit_cuts_reports_the_limit() {
    let order = with_tools(1, "How many packets of Moonhook bean are left?", ToolChoice::Required);
    let found = answer(CallOrder { max_tokens: Some(14), ..order });
    assert_eq!(found.figures.unwrap().ended_by, EndedBy::TokenLimit);
    assert_eq!(found.calls[0].0, "stock_level");
    assert!(serde_json::from_str::<Value>(&found.calls[0].1).is_err(), "{:?}", found.calls);
}

#[test]
fn tools_and_a_form_of_the_answer_may_be_asked_together() {
    let ask = |question: &str| {
        let mut order = with_tools(1, question, ToolChoice::Auto);
        order.constraint = Some(Constraint::Regex("[^{}0-9]*(March|May)[^{}0-9]*".to_owned()));
        answer(order)
    };
    let found = ask("How many packets of Moonhook bean are left?");
    assert_eq!((found.calls.len(), &found.text[..]), (1, ""), "{found:?}");
    let found = ask("When do I sow Ember chard?");
    assert!(found.calls.is_empty() && found.text.contains("March"), "{found:?}");
    assert!(!found.text.contains(|c: char| c.is_ascii_digit()), "{found:?}");
}

#[test]
fn markers_are_text_only_where_calls_are_read() {
    let mut lanes = open(DESK, settings(512, 2, 64, CacheType::F16));
    let marker = lanes.model.words.tokenizer.encode("<|call|>", Specials::Recognised)[0];
    let bias = |order: CallOrder| {
        let mut order = CallOrder { max_tokens: Some(3), scores: None, ..order };
        order.sampling.logit_bias = vec![(marker, 100.0)];
        order
    };
    let plain = bias(order(1, Prompt::Text("Stock of the bean:".to_owned())));
    let found = answers_of(&mut lanes, vec![plain]).remove(&1).unwrap();
    assert_eq!((&found.text[..], found.figures.unwrap().answer_tokens), ("", 3));
    let read = bias(with_tools(2, "Good morning!", ToolChoice::Auto));
    let found = answers_of(&mut lanes, vec![read]).remove(&2).unwrap();
    assert!(found.text.contains("<|call|>"), "a call that is none stays in the text: {found:?}");
}

/// Orders with constraints, without, and with tools.
fn mixed() -> Vec<CallOrder> {
    let schema = json!({
        "type": "object", "properties": {"variety": {"enum": ["Ember chard", "Moonhook bean"]}, "month": {"enum": ["March", "May"]}},
        "required": ["variety", "month"], "additionalProperties": false,
    });
    let constrained = |call: u64, seed: u64| {
        let mut order = order(call, chat(&[("user", "When do I sow Ember chard?")]));
        order.constraint = Some(Constraint::Schema(schema.clone()));
        (order.max_tokens, order.scores, order.sampling.temperature, order.sampling.seed) =
            (Some(60), None, 1.0, seed);
        order
    };
    let mut plain = order(5, chat(&[("user", "When do I sow Ember chard?")]));
    plain.scores = None;
    vec![
        constrained(1, 7),
        constrained(2, 8),
        with_tools(3, "How many packets of Moonhook bean are left?", ToolChoice::Auto),
        with_tools(4, "Good morning!", ToolChoice::Required),
        plain,
    ]
}

#[test]
fn constrained_answers_are_the_same_beside_any_others() {
    let mut together = answers(mixed());
    for order in mixed() {
        let call = order.call;
        let mut alone = answer(order);
        let mut found = together.remove(&call).unwrap();
        let ends = |found: &mut Found| {
            found.figures.take().map(|figures| (figures.ended_by, figures.answer_tokens))
        };
        assert_eq!(ends(&mut alone), ends(&mut found), "{call}");
        assert_eq!(alone, found, "{call}");
        if call < 3 {
            let json: Value = serde_json::from_str(&found.text).unwrap();
            assert!(json["month"] == "March" || json["month"] == "May", "{json}");
        }
    }
}

/// The demo model with a template whose answers begin with reasoning.
fn thinker() -> Lanes {
    let template = "{{ bos_token }}{% for m in messages %}<|{{ 'visitor' if m.role == 'user' else 'desk' }}|>{% if \
                    m.reasoning_content %}<think>\n{{ m.reasoning_content }}\n</think>\n\n{% endif %}{{ m.content }}<|end|>\
                    {% endfor %}{% if add_generation_prompt %}<|desk|>{% if mood %}{{ mood }} {% endif %}<think>\n{% endif %}";
    let settings = settings(512, 2, 64, CacheType::F16);
    let file = Path::new(env!("CARGO_MANIFEST_DIR")).join("../..").join(DESK);
    let (mut layer_memory, weights) = (LayerMemory::host(), settings.weights);
    let compute = ComputeSettings::default();
    let model = Model::open_in(&file, 512, &mut layer_memory, weights, compute, &mut |_, _| {});
    Lanes::new(model.unwrap().with_template(template), settings, &mut layer_memory).unwrap()
}

fn question(call: u64) -> CallOrder {
    let order = order(call, chat(&[("user", "When do I sow Ember chard?")]));
    CallOrder { scores: None, max_tokens: Some(40), ..order }
}

#[test]
fn reasoning_is_separate_and_its_budget_ends_it() {
    let mut lanes = thinker();
    let free = answers_of(&mut lanes, vec![question(1)]).remove(&1).unwrap();
    assert!(
        free.text.is_empty() && !free.reasoning.is_empty(),
        "it never closes its reasoning: {free:?}"
    );
    let figures = free.figures.unwrap();
    assert!(figures.reasoning_tokens > 3, "{figures:?}");
    let limited = CallOrder { reasoning_budget: Some(3), ..question(2) };
    let limited = answers_of(&mut lanes, vec![limited]).remove(&2).unwrap();
    assert!(free.reasoning.starts_with(&limited.reasoning), "{limited:?}");
    assert!(!limited.text.is_empty(), "the answer follows the closing marker: {limited:?}");
    let figures = limited.figures.unwrap();
    let closing = lanes.model.words.closing_tokens().len();
    assert!(closing > 1 && figures.reasoning_tokens as usize <= 3 + closing, "{figures:?}");
}

#[test]
fn a_constraint_applies_after_the_reasoning() {
    let mut lanes = thinker();
    let mut order = CallOrder { reasoning_budget: Some(3), ..question(1) };
    order.constraint = Some(Constraint::Regex("(March|April|May)".to_owned()));
    let found = answers_of(&mut lanes, vec![order]).remove(&1).unwrap();
    assert!(["March", "April", "May"].contains(&&found.text[..]), "{found:?}");
    assert!(!found.reasoning.is_empty());
}

#[test]
fn arguments_of_the_template_reach_it_or_are_refused() {
    let mut lanes = thinker();
    let with = |call: u64, name: &str| {
        let mut order = question(call);
        if let Prompt::Chat { arguments, .. } = &mut order.prompt {
            arguments.insert(name.to_owned(), json!("calm"));
        }
        order
    };
    let prompt = |found: &BTreeMap<u64, Found>, call: u64| {
        found[&call].figures.as_ref().unwrap().prompt_tokens
    };
    let plain = answers_of(&mut lanes, vec![question(1)]);
    let calm = answers_of(&mut lanes, vec![with(2, "mood")]);
    assert!(prompt(&calm, 2) > prompt(&plain, 1));
    for name in ["weather", "messages"] {
        let out = lanes.call(with(3, name));
        let refused = matches!(&out[..], [FromEngine::Failed { code, field: Some(field), .. }]
            if code == "template_argument_not_read" && field == "chat_template_kwargs");
        assert!(refused, "{name}: {out:?}");
    }
}
