//! Every damaged file, one after the other in one process that may not take much memory.
//!
//! This file has one test only: the limit holds for the whole process.
#![expect(clippy::unwrap_used, reason = "a test that panics has failed")]

use std::os::unix::net::UnixStream;
use std::path::{Path, PathBuf};

use deft_engine::{Model, facts, process};
use deft_formats::gguf::StoredModel;
use deft_protocol::engine::{
    CallOrder, FromEngine, LINK_VERSION, LoadOrder, Prompt, ToEngine, read_frame, write_frame,
};
use rustix::process::{Resource, Rlimit, setrlimit};
use serde_json::json;

/// Address space beyond what the process has when it begins.
const MORE: u64 = 192 << 20;
/// Resident memory beyond that for reading and opening; the largest file has 53 kB.
const TO_READ: u64 = 24 << 20;
/// The same for answering: a template may take 64 MB before it is stopped.
const TO_ANSWER: u64 = 80 << 20;

/// A figure of `/proc/self/status` in bytes.
fn figure(name: &str) -> u64 {
    let status = std::fs::read_to_string("/proc/self/status").unwrap();
    let line = status.lines().find_map(|line| line.strip_prefix(name)).unwrap();
    let kibibytes: u64 =
        line.trim_start_matches(':').trim().trim_end_matches(" kB").parse().unwrap();
    kibibytes << 10
}

fn files() -> Vec<(PathBuf, String)> {
    let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../golden/bad");
    let index = std::fs::read(folder.join("index.json")).unwrap();
    let index: serde_json::Value = serde_json::from_slice(&index).unwrap();
    let entry = |entry: &serde_json::Value| {
        let text = |key: &str| entry[key].as_str().unwrap().to_owned();
        (folder.join(text("file")), text("expect"))
    };
    index.as_array().unwrap().iter().map(entry).collect()
}

/// Loads a file as an engine process does and asks something; what came of it in a word.
fn serve(path: &Path) -> &'static str {
    let (ours, theirs) = UnixStream::pair().unwrap();
    let reader = theirs.try_clone().unwrap();
    let engine = std::thread::spawn(move || process::serve(reader, theirs));
    let order = LoadOrder {
        baton: None,
        version: LINK_VERSION,
        template: None,
        file: path.to_owned(),
        context: 64,
        lanes: 1,
        cache_tokens: None,
        chunk: 16,
        keys: "f16".to_owned(),
        values: "f16".to_owned(),
        places: Vec::new(),
        resident: false,
        threads: None,
        kernels: None,
        fastest: None,
        processors: Vec::new(),
        processor_nodes: Vec::new(),
        nodes: Vec::new(),
        copied: false,
        parts: Vec::new(),
        memory: None,
    };
    write_frame(&ours, &ToEngine::Load(Box::new(order))).unwrap();
    let message = json!({"role": "user", "content": "seed"});
    let messages = vec![message.as_object().unwrap().clone()];
    let prompt = Prompt::Chat { messages, tools: None, arguments: serde_json::Map::new() };
    let call = CallOrder { max_tokens: Some(3), ..CallOrder::greedy(1, prompt) };
    let outcome = loop {
        match read_frame(&ours).unwrap() {
            FromEngine::Loaded { .. } => {
                write_frame(&ours, &ToEngine::Call(Box::new(call.clone()))).unwrap()
            }
            FromEngine::LoadFailed { .. } => break "not loaded",
            FromEngine::Failed { .. } => break "not answered",
            FromEngine::Done { .. } => break "answered",
            _ => {}
        }
    };
    drop(ours);
    let _ = engine.join().unwrap();
    outcome
}

#[test]
fn no_damaged_file_crashes_hangs_or_takes_much_memory() {
    // Threads and what the libraries keep are there before the limit is set.
    let control =
        Path::new(env!("CARGO_MANIFEST_DIR")).join("../../golden/bad/00-valid-control.gguf");
    assert_eq!(serve(&control), "answered");
    let limit = Some(figure("VmSize") + MORE);
    setrlimit(Resource::As, Rlimit { current: limit, maximum: limit }).unwrap();
    let before = figure("VmRSS");
    let more = || figure("VmHWM").saturating_sub(before);
    for (path, _) in files() {
        let examined = StoredModel::read(&path).map(|file| facts::read(&file).is_ok());
        let opened = Model::open(&path, 64).is_ok();
        assert_eq!(matches!(examined, Ok(true)), opened, "{}", path.display());
    }
    assert!(more() <= TO_READ, "{} bytes more than at the beginning", more());
    let mut outcomes = std::collections::BTreeMap::new();
    for (path, expect) in files() {
        let name = path.file_stem().unwrap().to_string_lossy().into_owned();
        let outcome = serve(&path);
        let must_fail = expect.starts_with("load must fail");
        // Some may be refused at once, or loaded and refused when they are used.
        let may_fail = must_fail || expect.contains("fails") || expect.contains("must fail");
        let fails = outcome == "not loaded";
        assert!(if fails { may_fail } else { !must_fail }, "{name}: {outcome}; {expect}");
        *outcomes.entry(outcome).or_insert(0) += 1;
    }
    assert!(outcomes["not loaded"] > 40 && outcomes["answered"] > 0, "{outcomes:?}");
    assert!(more() <= TO_ANSWER, "{} bytes more than at the beginning", more());
}
