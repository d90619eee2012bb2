//! Lanes in company: whatever runs beside a call, its tokens and their scores stay the same.

mod company;
mod constrained;
mod inputs;
mod pages;
mod places;

use std::collections::BTreeMap;
use std::num::NonZero;
use std::path::Path;

use deft_kernels::Instructions;
use deft_planning::{CacheType, Weights};
use deft_protocol::chat::EndedBy;
use deft_protocol::engine::{EngineFigures, Prompt, Sampling, TokenScore, WhenContextFull};
use serde_json::json;

use super::*;
use crate::compute::ComputeSettings;
use crate::load_error::LoadError;
use crate::process::preparing::Order;
use deft_protocol::engine::{AcceleratorOrder, CallOrder, EmbedOrder, PlaceOrder};

impl Lanes {
    /// Prepares a call here and now; returns the messages about it.
    fn call(&mut self, order: CallOrder) -> Vec<FromEngine> {
        self.put(Order::Call(Box::new(order)))
    }

    fn embed(&mut self, order: EmbedOrder) -> Vec<FromEngine> {
        self.put(Order::Embed(order))
    }

    fn put(&mut self, order: Order) -> Vec<FromEngine> {
        let (call, mut out) = (order.call(), Vec::new());
        let prepared = order.prepare(&self.model.words, self.context());
        self.expect(Ticket::new(call).0);
        self.take(call, prepared, &mut out);
        out
    }
}

fn open(name: &str, settings: LoadSettings) -> Lanes {
    open_on(Instructions::best(), name, settings)
}

/// Computed on a path.
fn open_on(path: Instructions, name: &str, settings: LoadSettings) -> Lanes {
    let file = Path::new(env!("CARGO_MANIFEST_DIR")).join("../..").join(name);
    let threads = settings.threads.and_then(|threads| NonZero::new(threads as usize));
    let compute = ComputeSettings { path, threads };
    let (mut layer_memory, weights) = (LayerMemory::host(), settings.weights);
    let context = settings.context;
    let model = Model::open_in(&file, context, &mut layer_memory, weights, compute, &mut |_, _| {});
    Lanes::new(model.unwrap(), settings, &mut layer_memory).unwrap()
}

fn settings(context: u32, lanes: u32, chunk: u32, cache: CacheType) -> LoadSettings {
    LoadSettings {
        context,
        lanes,
        cache_tokens: None,
        chunk,
        keys: cache,
        values: cache,
        weights: Weights::Mapped,
        replicas: 0,
        threads: None,
    }
}

const DESK: &str = "demo/larkfen-desk/larkfen-desk-q8_0.gguf";

fn order(call: u64, prompt: Prompt) -> CallOrder {
    CallOrder { max_tokens: Some(12), scores: Some(2), ..CallOrder::greedy(call, prompt) }
}

fn chat(texts: &[(&str, &str)]) -> Prompt {
    let message = |(role, content): &(&str, &str)| {
        json!({"role": role, "content": content}).as_object().unwrap().clone()
    };
    Prompt::Chat {
        messages: texts.iter().map(message).collect(),
        tools: None,
        arguments: serde_json::Map::new(),
    }
}

#[derive(Debug, Default, Clone, PartialEq)]
struct Answer {
    text: String,
    scores: Vec<TokenScore>,
    figures: Option<EngineFigures>,
}

/// Runs until nothing is left; answers by call and number.
fn run(lanes: &mut Lanes) -> BTreeMap<(u64, u32), Answer> {
    let mut answers: BTreeMap<(u64, u32), Answer> = BTreeMap::new();
    let mut out = Vec::new();
    while lanes.has_work() {
        lanes.admit(&mut out);
        lanes.step(&mut out);
    }
    for message in out {
        match message {
            FromEngine::Text { call, answer, text, scores, .. } => {
                let found = answers.entry((call, answer)).or_default();
                found.text.push_str(&text);
                found.scores.extend(scores);
            }
            FromEngine::Done { call, answer, figures } => {
                answers.entry((call, answer)).or_default().figures = Some(figures);
            }
            FromEngine::Failed { detail, .. } => panic!("{detail}"),
            _ => {}
        }
    }
    answers
}

fn one(lanes: &mut Lanes, order: CallOrder) -> Answer {
    let call = order.call;
    lanes.call(order);
    run(lanes).remove(&(call, 0)).unwrap()
}

#[test]
fn the_same_beginning_is_computed_once() {
    let mut lanes = open(DESK, settings(256, 1, 16, CacheType::F16));
    let question = "How deep do I sow Moonhook bean?";
    let first = one(&mut lanes, order(1, chat(&[("user", question)])));
    let figures = first.figures.unwrap();
    assert_eq!((figures.prompt_tokens, figures.cached_tokens), (12, 0));
    let again = one(&mut lanes, order(2, chat(&[("user", question)])));
    assert_eq!((again.text, again.scores), (first.text.clone(), first.scores.clone()));
    assert_eq!(again.figures.unwrap().cached_tokens, 11, "all but the last token");
    let turns =
        [("user", question), ("assistant", first.text.as_str()), ("user", "And Ember chard?")];
    let next = one(&mut lanes, order(3, chat(&turns))).figures.unwrap();
    assert!(next.cached_tokens >= figures.prompt_tokens, "{next:?}");
}

#[test]
fn several_answers_share_the_prompt_and_differ_by_their_seeds() {
    let mut lanes = open(DESK, settings(256, 2, 16, CacheType::F16));
    let sampling = Sampling { temperature: 4.0, seed: 5, ..Sampling::GREEDY };
    let question = chat(&[("user", "How deep do I sow Moonhook bean?")]);
    lanes.call(CallOrder { answers: 3, sampling, ..order(1, question.clone()) });
    let answers = run(&mut lanes);
    assert_eq!(answers.len(), 3);
    for number in [1, 2] {
        assert_eq!(answers[&(1, number)].figures.as_ref().unwrap().cached_tokens, 11);
        assert_ne!(answers[&(1, number)].text, answers[&(1, 0)].text);
        let sampling =
            Sampling { temperature: 4.0, seed: 5 + u64::from(number), ..Sampling::GREEDY };
        let alone = one(&mut lanes, CallOrder { sampling, ..order(9, question.clone()) });
        assert_eq!(alone.text, answers[&(1, number)].text);
    }
}

#[test]
fn scores_are_logarithms_of_probabilities_and_spell_the_answer() {
    let mut lanes = open(DESK, settings(256, 1, 16, CacheType::F16));
    let question = chat(&[("user", "How deep do I sow Moonhook bean?")]);
    let answer = one(&mut lanes, CallOrder { scores: Some(5), ..order(1, question) });
    let spelt: String = answer.scores.iter().map(|score| score.token.text.as_str()).collect();
    assert_eq!(spelt.trim_start(), answer.text);
    for score in &answer.scores {
        assert_eq!(score.alternatives.len(), 5);
        assert_eq!(score.alternatives[0].0, score.token, "greedy takes the likeliest");
        let sum: f32 = score.alternatives.iter().map(|(_, logprob)| logprob.exp()).sum();
        assert!(sum <= 1.0 + 1e-5 && score.alternatives.is_sorted_by(|a, b| a.1 >= b.1));
    }
}

#[test]
fn a_prompt_is_scored_token_by_token_without_an_answer() {
    let mut lanes = open(DESK, settings(256, 1, 7, CacheType::F16));
    let text = "Sow Moonhook bean";
    let scored = |tokens| CallOrder {
        echo: true,
        max_tokens: Some(tokens),
        ..order(1, Prompt::Text(text.to_owned()))
    };
    let only_prompt = one(&mut lanes, scored(0));
    assert_eq!(only_prompt.text, text);
    assert_eq!(only_prompt.scores[0].logprob, None);
    assert!(only_prompt.scores[1..].iter().all(|score| score.logprob.unwrap() < 0.0));
    let figures = only_prompt.figures.unwrap();
    assert_eq!(figures.prompt_tokens as usize, only_prompt.scores.len());
    let with_answer = one(&mut lanes, scored(4));
    assert_eq!(with_answer.scores[..only_prompt.scores.len()], only_prompt.scores);
    assert!(with_answer.text.starts_with(text) && with_answer.text.len() > text.len());
    let quick = one(&mut lanes, CallOrder { scores: None, ..scored(0) });
    assert_eq!((quick.text.as_str(), quick.scores.len()), (text, 0));
}

#[test]
fn the_oldest_turns_make_room_when_that_is_asked() {
    let mut lanes = open(DESK, settings(64, 1, 16, CacheType::F16));
    let question = "How deep do I sow Moonhook bean?";
    let mut turns = vec![("system", "Answer briefly.")];
    for _ in 0..6 {
        turns.extend([("user", question), ("assistant", "Sow Moonhook bean 3 cm deep.")]);
    }
    turns.push(("user", question));
    let out = lanes.call(order(1, chat(&turns)));
    assert!(matches!(&out[..], [FromEngine::Failed { code, .. }] if code == "context_exceeded"));
    let asked = CallOrder { overflow: WhenContextFull::LeaveOutOldest, ..order(2, chat(&turns)) };
    let answer = one(&mut lanes, asked);
    let figures = answer.figures.unwrap();
    assert_eq!(figures.ended_by, EndedBy::EndToken);
    assert!(figures.left_out_messages >= 4 && figures.left_out_messages.is_multiple_of(2));
    assert!(figures.prompt_tokens <= 64);
    let short = [turns[0], turns[turns.len() - 1]];
    assert_eq!(answer.text, one(&mut lanes, order(3, chat(&short))).text);
}

#[test]
fn as_few_turns_are_left_out_as_are_enough() {
    let lanes = open(DESK, settings(512, 1, 16, CacheType::F16));
    let mut turns = vec![("system", "Answer briefly.")];
    for _ in 0..40 {
        turns.extend([("user", "Row 3?"), ("assistant", "Moonhook bean.")]);
    }
    turns.push(("user", "And row 4?"));
    let prompt = |order: CallOrder, context: usize| match Order::Call(Box::new(order))
        .prepare(&lanes.model.words, context)
    {
        Ok(Ready::Call(prepared)) => prepared.prompt,
        _ => panic!("it cannot be prepared"),
    };
    // Of the context a quarter is left for the answer.
    for context in [60_usize, 100, 200, 400] {
        let asked =
            CallOrder { overflow: WhenContextFull::LeaveOutOldest, ..order(1, chat(&turns)) };
        let asked = CallOrder { max_tokens: None, ..asked };
        let found = prompt(asked, context);
        let most = context - context / 4;
        // The first that fits, looked for one by one.
        let left = |count: usize| [&turns[..1], &turns[1 + 2 * count..]].concat();
        let mut tried = (0..=40).map(|count| prompt(order(2, chat(&left(count))), 5000));
        assert_eq!(Some(found), tried.find(|prompt| prompt.len() <= most), "{context}");
    }
}

#[test]
fn a_call_that_is_cancelled_before_it_is_prepared_is_gone() {
    let mut lanes = open(DESK, settings(64, 1, 16, CacheType::F16));
    let (ticket, wanted) = Ticket::new(1);
    lanes.expect(ticket);
    assert!(!lanes.has_work() && !lanes.is_idle(), "it waits for what is prepared");
    lanes.cancel(1);
    assert_eq!(wanted.strong_count(), 0, "nobody need prepare it");
    let late = Order::Call(Box::new(order(1, chat(&[("user", "Row 3?")]))));
    let mut out = Vec::new();
    lanes.take(1, late.prepare(&lanes.model.words, 64), &mut out);
    assert!(lanes.is_idle() && out.is_empty(), "{out:?}");
    // Others do not wait for one that is slow, and it keeps its place.
    lanes.expect(Ticket::new(2).0);
    let answer = one(&mut lanes, order(3, chat(&[("user", "Row 3?")])));
    assert!(answer.figures.is_some());
}

#[test]
fn an_answer_goes_on_past_the_context_when_turns_can_be_left_out() {
    let mut lanes = open(DESK, settings(64, 1, 16, CacheType::F16));
    let question = "How deep do I sow Moonhook bean?";
    let turns =
        [("user", question), ("assistant", "Sow Moonhook bean 3 cm deep."), ("user", question)];
    // Its end tokens made impossible, it talks on.
    let ends: Vec<u32> = (0..lanes.model.shape().vocabulary)
        .filter(|&id| lanes.model.words.tokenizer.vocabulary().ends_answer(id))
        .collect();
    let sampling = Sampling {
        logit_bias: ends.into_iter().map(|id| (id, -100.0)).collect(),
        ..Sampling::GREEDY
    };
    let long = |call, overflow| CallOrder {
        sampling: sampling.clone(),
        max_tokens: Some(45),
        overflow,
        guard: false,
        ..order(call, chat(&turns))
    };
    let cut = one(&mut lanes, long(1, WhenContextFull::Refuse)).figures.unwrap();
    assert_eq!(cut.ended_by, EndedBy::ContextFull);
    let whole = one(&mut lanes, long(2, WhenContextFull::LeaveOutOldest)).figures.unwrap();
    assert_eq!((whole.ended_by, whole.answer_tokens), (EndedBy::TokenLimit, 45));
    assert_eq!(whole.left_out_messages, 2);
}

#[test]
fn endless_repetition_is_ended_and_reported() {
    let mut lanes = open("golden/models/llama.gguf", settings(512, 1, 64, CacheType::F16));
    let sampling = Sampling { logit_bias: vec![(77, 100.0)], ..Sampling::GREEDY };
    let order = CallOrder {
        sampling,
        max_tokens: Some(400),
        scores: None,
        ..order(1, Prompt::Tokens(vec![5, 6, 7]))
    };
    let ended = one(&mut lanes, order.clone()).figures.unwrap();
    assert_eq!((ended.ended_by, ended.answer_tokens), (EndedBy::Repetition, 240));
    assert!(ended.detail.unwrap().contains("repeated one token 240 times"));
    let free = one(&mut lanes, CallOrder { guard: false, ..order }).figures.unwrap();
    assert_eq!((free.ended_by, free.answer_tokens), (EndedBy::TokenLimit, 400));
}

#[test]
fn a_cancelled_intake_keeps_what_it_computed() {
    let mut lanes = open(DESK, settings(512, 1, 16, CacheType::F16));
    let long = "Moonhook bean and Ember chard stand in row 3. ".repeat(12);
    let call = |number| order(number, Prompt::Text(long.clone()));
    lanes.call(call(1));
    let mut out = Vec::new();
    for _ in 0..4 {
        lanes.admit(&mut out);
        lanes.step(&mut out);
    }
    lanes.cancel(1);
    assert!(lanes.is_idle());
    let again = one(&mut lanes, call(2)).figures.unwrap();
    assert_eq!(again.cached_tokens, 64, "four chunks of sixteen");
    assert!(again.prompt_tokens > 100);
}

#[test]
fn an_answer_goes_on_while_a_long_prompt_is_taken_in() {
    let mut lanes = open(DESK, settings(512, 2, 8, CacheType::F16));
    let talking = Sampling { temperature: 9.0, seed: 3, ..Sampling::GREEDY };
    let first = order(1, chat(&[("user", "Tell me all about Quillfen pea.")]));
    lanes.call(CallOrder { sampling: talking, max_tokens: Some(60), scores: None, ..first });
    let mut out = Vec::new();
    for _ in 0..3 {
        lanes.admit(&mut out);
        lanes.step(&mut out);
    }
    let long = "Moonhook bean and Ember chard stand in row 3. ".repeat(10);
    lanes.call(order(2, Prompt::Text(long)));
    out.clear();
    // The long prompt needs more than ten steps; the answer gets a token in each of them.
    let before = lanes.lanes[0].waiting().len();
    for _ in 0..10 {
        lanes.admit(&mut out);
        lanes.step(&mut out);
    }
    assert_eq!((lanes.lanes.len(), before), (2, 1));
    let Job::Answer(answering) = &lanes.lanes[0].job else { panic!("it was no answer") };
    assert!(answering.is_answering());
    assert!(!lanes.lanes[1].is_at_its_end(), "the prompt is not taken in yet");
    let texts = out.iter().filter(|message| matches!(message, FromEngine::Text { call: 1, .. }));
    assert!(texts.count() >= 5, "{out:?}");
}

#[test]
fn a_call_that_fails_takes_all_its_answers_with_it_and_nobody_else() {
    let mut lanes = open("golden/bad/53-nan-weights.gguf", settings(64, 3, 16, CacheType::F16));
    lanes.call(CallOrder { answers: 3, ..order(1, Prompt::Tokens(vec![5, 6, 7])) });
    let mut out = Vec::new();
    while !lanes.is_idle() {
        lanes.admit(&mut out);
        lanes.step(&mut out);
    }
    let failures = out.iter().filter(
        |message| matches!(message, FromEngine::Failed { code, .. } if code == "model_not_finite"),
    );
    assert_eq!(failures.count(), 1, "{out:?}");
    // Nothing of what it computed is taken up by another.
    lanes.call(order(2, Prompt::Tokens(vec![5, 6, 7, 8])));
    lanes.admit(&mut out);
    assert_eq!(lanes.lanes[0].waiting().len(), 4);
}

#[test]
fn a_step_takes_no_memory() {
    let taken = allocation_counter::measure(|| drop(std::hint::black_box(vec![0_u8; 9])));
    assert_eq!(taken.count_total, 1, "what is taken is counted");
    let halves = "demo/larkfen-desk/larkfen-desk-f16.gguf";
    let (best, simulated) = (Instructions::best(), Instructions::AmxSimulated);
    for (path, file, cache) in [
        (best, DESK, CacheType::F16),
        (best, DESK, CacheType::Q8_0),
        (best, halves, CacheType::F16),
        (simulated, DESK, CacheType::F16),
        (simulated, halves, CacheType::F16),
    ] {
        let threads = Some(1);
        let settings = LoadSettings { threads, ..settings(96, 4, 8, cache) };
        let mut lanes = open_on(path, file, settings);
        let tokens: Vec<u32> = (3..40).collect();
        let mut sequences = [lanes.cache.begin(&[], 0), lanes.cache.begin(&[], 0)];
        // What a thread needs for itself it takes at its first step, as much as the largest needs.
        let mut step = |lanes: &mut Lanes, counts: [usize; 2]| {
            for (sequence, count) in sequences.iter_mut().zip(counts) {
                assert!(lanes.cache.reserve(sequence, count));
            }
            let measured = allocation_counter::measure(|| {
                let run = |at: usize| Run {
                    sequence: &sequences[at],
                    tokens: &tokens[..counts[at]],
                    wanted: crate::families::Wanted::Last,
                };
                lanes.model.network.step(&[run(0), run(1)], &mut lanes.work);
                lanes.model.network.logits(0..2, &mut lanes.work);
            });
            for (sequence, count) in sequences.iter_mut().zip(counts) {
                lanes.cache.advance(sequence, &tokens[..count]);
            }
            measured.count_total
        };
        step(&mut lanes, [8, 4]);
        step(&mut lanes, [1, 1]);
        for counts in [[1, 1], [6, 1], [8, 2], [1, 1]] {
            assert_eq!(step(&mut lanes, counts), 0, "{file}, {cache:?}, tokens {counts:?}");
        }
    }
}
