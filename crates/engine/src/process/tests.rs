//! The whole life of an engine process over a real socket, in a thread.

use std::os::unix::net::UnixStream;
use std::path::{Path, PathBuf};
use std::thread::JoinHandle;

use deft_protocol::chat::EndedBy;
use deft_protocol::engine::{
    CALL_BYTES, CallOrder, EngineFigures, MAX_FRAME, Prompt, WhenContextFull,
};
use serde_json::json;

use super::*;

struct Link {
    stream: UnixStream,
    engine: JoinHandle<Result<(), ServeError>>,
}

fn desk() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../../demo/larkfen-desk/larkfen-desk-q8_0.gguf")
}

impl Link {
    fn open(file: PathBuf, context: u32, lanes: u32) -> Self {
        Self::forced(file, context, lanes, None)
    }

    fn forced(file: PathBuf, context: u32, lanes: u32, kernels: Option<&str>) -> Self {
        Self::ordered(file, context, lanes, |order| order.kernels = kernels.map(str::to_owned))
    }

    fn ordered(
        file: PathBuf,
        context: u32,
        lanes: u32,
        change: impl FnOnce(&mut LoadOrder),
    ) -> Self {
        let (stream, other) = UnixStream::pair().unwrap();
        let reader = other.try_clone().unwrap();
        let engine = std::thread::spawn(move || serve(reader, other));
        let link = Self { stream, engine };
        let mut order = LoadOrder {
            baton: None,
            version: LINK_VERSION,
            template: None,
            file,
            context,
            lanes,
            cache_tokens: None,
            chunk: 16,
            keys: "f16".to_owned(),
            values: "f16".to_owned(),
            places: Vec::new(),
            resident: false,
            threads: Some(2),
            kernels: None,
            fastest: None,
            processors: Vec::new(),
            processor_nodes: Vec::new(),
            nodes: Vec::new(),
            copied: false,
            parts: Vec::new(),
            memory: None,
        };
        change(&mut order);
        assert!(matches!(link.read(), FromEngine::Hello { version: LINK_VERSION }));
        link.say(&ToEngine::Load(Box::new(order)));
        link
    }

    fn loaded(lanes: u32) -> Self {
        let link = Self::open(desk(), 256, lanes);
        assert!(matches!(link.read(), FromEngine::Loaded { .. }));
        link
    }

    fn say(&self, message: &ToEngine) {
        write_frame(&self.stream, message).unwrap();
    }

    fn read(&self) -> FromEngine {
        read_frame(&self.stream).unwrap()
    }

    fn ask(&self, call: u64, question: &str, change: impl FnOnce(&mut CallOrder)) {
        let message = json!({"role": "user", "content": question});
        let messages = vec![message.as_object().unwrap().clone()];
        let mut order = CallOrder::greedy(
            call,
            Prompt::Chat { messages, tools: None, arguments: serde_json::Map::new() },
        );
        change(&mut order);
        self.say(&ToEngine::Call(Box::new(order)));
    }

    fn answer(&self, wanted: u64) -> (String, EngineFigures) {
        let mut answer = String::new();
        loop {
            match self.read() {
                FromEngine::Text { call, text, .. } if call == wanted => answer.push_str(&text),
                FromEngine::Done { call, figures, .. } if call == wanted => {
                    return (answer, figures);
                }
                FromEngine::Failed { call, detail, .. } if call == wanted => panic!("{detail}"),
                _ => {}
            }
        }
    }
}

const QUESTION: &str = "How deep do I sow Moonhook bean?";
const ANSWER: &str = "Sow Moonhook bean 3 cm deep.";

#[test]
fn a_question_gets_its_answer_and_honest_figures() {
    let link = Link::loaded(1);
    link.ask(1, QUESTION, |_| ());
    let (answer, figures) = link.answer(1);
    assert_eq!(answer, ANSWER);
    assert_eq!(figures.ended_by, EndedBy::EndToken);
    assert_eq!((figures.prompt_tokens, figures.answer_tokens), (12, 8));
    link.say(&ToEngine::Drain);
    link.engine.join().unwrap().unwrap();
}

#[test]
fn every_kind_of_instructions_gives_the_same_answer_and_says_what_it_is() {
    for path in Instructions::available() {
        let link = Link::forced(desk(), 256, 1, Some(path.name()));
        let FromEngine::Loaded { kernels, .. } = link.read() else { panic!("it is not loaded") };
        assert_eq!(kernels, path.to_string());
        link.ask(1, QUESTION, |_| ());
        assert_eq!(link.answer(1).0, ANSWER, "{path}");
    }
    let link = Link::forced(desk(), 256, 1, Some("abacus"));
    let FromEngine::LoadFailed { detail, .. } = link.read() else { panic!("it is loaded") };
    assert!(detail.contains("this processor has no `abacus`"), "{detail}");
}

#[test]
fn what_was_measured_to_be_the_fastest_is_used_where_it_runs_and_nothing_else_is_forced() {
    let (best, simulated) = (Instructions::best(), Instructions::AmxSimulated);
    // An unknown name is used in place of instructions that the system refuses to this process.
    for (forced, fastest, wanted) in [
        (None, "amx-simulated", simulated),
        (None, "abacus", best),
        (Some("scalar"), "amx-simulated", Instructions::Scalar),
    ] {
        let link = Link::ordered(desk(), 256, 1, |order| {
            order.kernels = forced.map(str::to_owned);
            order.fastest = Some(fastest.to_owned());
        });
        let FromEngine::Loaded { kernels, .. } = link.read() else { panic!("it is not loaded") };
        assert_eq!(kernels, wanted.to_string(), "{forced:?}, {fastest}");
    }
}

#[test]
fn limits_and_stop_texts_end_an_answer_and_are_distinguished() {
    let link = Link::loaded(1);
    link.ask(1, QUESTION, |order| order.max_tokens = Some(3));
    assert_eq!(link.answer(1).1.ended_by, EndedBy::TokenLimit);
    link.ask(2, QUESTION, |order| order.stop = vec!["bean 3".to_owned()]);
    let (answer, figures) = link.answer(2);
    assert_eq!((answer.as_str(), figures.ended_by), ("Sow Moonhook ", EndedBy::StopText));
    link.ask(3, QUESTION, |order| order.max_tokens = Some(0));
    assert_eq!(link.answer(3).0, "");
}

#[test]
fn answers_do_not_depend_on_company() {
    let link = Link::loaded(3);
    let questions =
        [QUESTION, "When do I sow Ember chard?", "Tell me all about Quillfen pea.", "Hello"];
    let alone: Vec<String> = (0..)
        .zip(questions)
        .map(|(call, question)| {
            link.ask(call, question, |_| ());
            link.answer(call).0
        })
        .collect();
    for (call, question) in (10..).zip(questions) {
        link.ask(call, question, |_| ());
    }
    let mut together = vec![String::new(); questions.len()];
    let mut done = 0;
    while done < questions.len() {
        match link.read() {
            FromEngine::Text { call, text, .. } => together[(call - 10) as usize].push_str(&text),
            FromEngine::Done { .. } => done += 1,
            _ => {}
        }
    }
    assert_eq!(together, alone);
}

#[test]
fn a_caller_who_left_frees_the_lane() {
    let link = Link::loaded(1);
    // Without its end token, the model answers endlessly; only the cancellation frees the lane.
    link.ask(1, "Tell me all about Quillfen pea.", |_| ());
    link.ask(2, QUESTION, |_| ());
    link.say(&ToEngine::Cancel { call: 1 });
    assert_eq!(link.answer(2).0, ANSWER);
}

#[test]
fn a_prompt_beyond_the_context_is_refused_with_both_figures() {
    let link = Link::loaded(1);
    link.ask(1, &"Moonhook bean ".repeat(300), |_| ());
    loop {
        if let FromEngine::Failed { code, detail, .. } = link.read() {
            assert_eq!(code, "context_exceeded");
            assert!(detail.contains("context of this instance has 256"), "{detail}");
            break;
        }
    }
}

#[test]
fn weights_that_are_not_numbers_end_the_call_with_an_error() {
    for name in ["53-nan-weights", "54-inf-weights"] {
        let file =
            Path::new(env!("CARGO_MANIFEST_DIR")).join(format!("../../golden/bad/{name}.gguf"));
        let link = Link::open(file, 64, 1);
        assert!(matches!(link.read(), FromEngine::Loaded { .. }));
        link.ask(1, "hi", |order| order.prompt = Prompt::Text("hi".to_owned()));
        loop {
            if let FromEngine::Failed { code, .. } = link.read() {
                assert_eq!(code, "model_not_finite");
                break;
            }
        }
    }
}

#[test]
fn a_file_that_cannot_be_loaded_is_reported_over_the_link() {
    let file =
        Path::new(env!("CARGO_MANIFEST_DIR")).join("../../golden/bad/47-missing-tensor.gguf");
    let link = Link::open(file, 64, 1);
    let FromEngine::LoadFailed { detail, .. } = link.read() else { panic!("it was loaded") };
    assert!(detail.contains("`blk.0.ffn_up.weight` is missing"), "{detail}");
    assert!(link.engine.join().unwrap().is_err());
}

#[test]
fn a_closed_link_ends_the_engine() {
    let link = Link::loaded(1);
    link.stream.shutdown(std::net::Shutdown::Both).unwrap();
    link.engine.join().unwrap().unwrap();
}

#[test]
fn whatever_a_message_contains_only_its_own_call_fails() {
    let link = Link::loaded(2);
    let raw = |call: u64, body: &[u8]| {
        let bytes = u32::try_from(body.len() + CALL_BYTES).unwrap();
        let mut stream = &link.stream;
        stream.write_all(&bytes.to_le_bytes()).unwrap();
        stream.write_all(&call.to_le_bytes()).unwrap();
        stream.write_all(body).unwrap();
    };
    let deep = format!(
        "{{\"say\": \"call\", \"call\": 2, \"prompt\": {{\"chat\": {{\"messages\": [], \"tools\": [{}1{}]}}}}}}",
        "[".repeat(125),
        "]".repeat(125)
    );
    let long = vec![b' '; MAX_FRAME + 1];
    let bodies: [&[u8]; 6] =
        [b"", b"\xff\xfe\x00", b"{\"say\": \"sow\"}", deep.as_bytes(), &long, b"[[["];
    for (call, body) in (2..).zip(bodies) {
        raw(call, body);
        loop {
            match link.read() {
                FromEngine::Failed { call: failed, kind, code, .. } => {
                    assert_eq!((failed, &code[..]), (call, "message_unusable"));
                    assert_eq!(kind, ProblemKind::Invalid);
                    break;
                }
                FromEngine::Standing(_) => {}
                other => panic!("{other:?}"),
            }
        }
    }
    link.ask(99, QUESTION, |_| ());
    assert_eq!(link.answer(99).0, ANSWER, "the process goes on");
}

#[test]
fn an_answer_that_is_too_long_for_one_message_comes_in_pieces() {
    let link = Link::open(desk(), 1024, 1);
    assert!(matches!(link.read(), FromEngine::Loaded { .. }));
    // Scores of a long prompt, each with its alternatives.
    let prompt = "Moonhook bean and Ember chard. ".repeat(60);
    let mut order = CallOrder::greedy(1, Prompt::Text(prompt.clone()));
    (order.echo, order.scores, order.max_tokens) = (true, Some(20), Some(1));
    link.say(&ToEngine::Call(Box::new(order)));
    let (mut pieces, mut echoed, mut scored, mut tokens) = (0, String::new(), 0, 0);
    loop {
        match link.read() {
            FromEngine::Text { text, scores, .. } => {
                assert!(scores.len() <= 256);
                (pieces, scored) = (pieces + 1, scored + scores.len());
                echoed.push_str(&text);
            }
            FromEngine::PromptTaken { prompt_tokens, .. } => tokens = prompt_tokens as usize,
            FromEngine::Done { .. } => break,
            FromEngine::Failed { detail, .. } => panic!("{detail}"),
            _ => {}
        }
    }
    assert!(pieces > 2 && tokens > 256, "{pieces} pieces for {tokens} tokens");
    assert!(echoed.starts_with(&prompt));
    assert!(scored >= tokens, "{scored} of {tokens}");
}

#[test]
fn answers_go_on_while_a_long_prompt_is_prepared() {
    let link = Link::loaded(2);
    let talk = |call: u64| {
        let mut order = CallOrder::greedy(call, Prompt::Text("Moonhook bean".to_owned()));
        (order.max_tokens, order.sampling.temperature) = (Some(200), 9.0);
        link.say(&ToEngine::Call(Box::new(order)));
    };
    // Many turns are left out, so the prompt is rendered and converted to tokens many times.
    let turn = |role: &str, text: String| {
        json!({"role": role, "content": text}).as_object().unwrap().clone()
    };
    let turns = (0..4_000).map(|at| {
        let role = if at % 2 == 0 { "user" } else { "assistant" };
        turn(role, format!("Row {at}: Moonhook bean and Ember chard. ").repeat(3))
    });
    let messages = turns.chain([turn("user", "Row 3?".to_owned())]).collect();
    let mut long = CallOrder::greedy(
        1,
        Prompt::Chat { messages, tools: None, arguments: serde_json::Map::new() },
    );
    (long.overflow, long.max_tokens) = (WhenContextFull::LeaveOutOldest, Some(1));
    talk(2);
    while !matches!(link.read(), FromEngine::Text { call: 2, .. }) {}
    link.say(&ToEngine::Call(Box::new(long)));
    let (mut meanwhile, mut talking) = (0, 2);
    loop {
        match link.read() {
            FromEngine::Text { .. } => meanwhile += 1,
            FromEngine::PromptTaken { call: 1, .. } => break,
            // Calls are prepared one after another, so the next one is ready after the long one.
            FromEngine::Done { call, .. } if call == talking => break,
            FromEngine::Failed { detail, .. } => panic!("{detail}"),
            _ => {}
        }
    }
    assert!(meanwhile > 10, "{meanwhile} pieces of the answer came meanwhile");
    talking += 1;
    talk(talking);
    while !matches!(link.read(), FromEngine::Done { call, .. } if call == talking) {}
}

#[test]
fn where_no_call_can_be_prepared_any_more_the_process_ends() {
    let (messages, received) = channel();
    preparing::or_report(&messages, || panic!("the template's fault"));
    let settings = LoadSettings::for_model(Model::open(&desk(), 64).unwrap().shape());
    let settings = LoadSettings { context: 64, lanes: 1, ..settings };
    let model = Model::open(&desk(), 64).unwrap();
    let mut lanes = Lanes::new(model, settings, &mut LayerMemory::host()).unwrap();
    // A call whose answer never arrives.
    lanes.expect(Ticket::new(1).0);
    let ended = run(&mut lanes, &received, &mut Vec::new());
    assert!(matches!(ended, Err(ServeError::Preparing)), "{ended:?}");
    drop(messages);
}
