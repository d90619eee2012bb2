use std::io::BufReader;
use std::os::unix::net::UnixStream;
use std::path::PathBuf;
use std::time::{Duration, Instant};

use super::local::{LocalFiles, possible_parts};
use super::*;

fn project(name: &str) -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../..").join(name)
}

fn model_task(path: &Path) -> (HeaderTask, LocalFiles) {
    let paths = possible_parts(path);
    let names = paths.iter().map(|path| path.to_string_lossy().into_owned()).collect();
    let task = HeaderTask::Model { names, template: None, facts: true, shape: true };
    (task, LocalFiles::at(paths, false))
}

/// Reads headers with another at the other end of a link.
fn over_a_link(
    task: &HeaderTask,
    files: &mut dyn NumberedFiles,
    other: impl FnOnce(UnixStream) + Send + 'static,
) -> Result<HeaderAnswer, Refusal> {
    let (ours, theirs) = UnixStream::pair().unwrap();
    let other = std::thread::spawn(move || other(theirs));
    let deadline = Instant::now() + Duration::from_secs(60);
    let answer = link::converse(task, files, BufReader::new(&ours), &ours, deadline);
    drop(ours);
    other.join().unwrap();
    answer
}

fn honest(link: UnixStream) {
    link::serve(BufReader::new(&link), &link).unwrap();
}

#[test]
fn what_is_read_over_a_link_is_what_is_read_here() {
    for name in [
        "demo/larkfen-desk/larkfen-desk-q8_0.gguf",
        "golden/split/llama-00001-of-00003.gguf",
        "golden/bad/04-truncated-data.gguf",
        "golden/bad/41-unknown-architecture.gguf",
        "golden/split/llama-00002-of-00003.gguf",
        "demo/nothing.gguf",
    ] {
        let (task, mut files) = model_task(&project(name));
        let here = InThisProcess.read(&task, &mut files);
        let (task, mut files) = model_task(&project(name));
        assert_eq!(over_a_link(&task, &mut files, honest), here, "{name}");
    }
}

#[test]
fn a_reader_that_talks_nonsense_is_believed_nothing() {
    let says = |text: &'static str| {
        let (task, mut files) = model_task(&project("demo/larkfen-desk/larkfen-desk-q8_0.gguf"));
        over_a_link(&task, &mut files, move |mut link| {
            use std::io::Write;
            // The other side may hang up in the middle of it.
            let _ = link.write_all(text.as_bytes());
            let _ = link.shutdown(std::net::Shutdown::Write);
            let _ = std::io::copy(&mut link, &mut std::io::sink());
        })
    };
    for (case, text) in [
        ("ends without a word", ""),
        ("no JSON", "sow\n"),
        ("cut short", "{\"open\":"),
        ("an unknown question", "{\"write\":0}\n"),
        ("another answer", "{\"done\":{\"Ok\":7}}\n"),
        ("nested", &*"[".repeat(100_000).leak()),
        ("bytes of a file that it did not open", "{\"read\":{\"file\":0,\"at\":0,\"length\":9}}\n"),
        ("a file that is none", "{\"open\":4000000000}\n"),
    ] {
        let refusal = says(text).unwrap_err();
        assert_eq!(refusal.kind, RefusalKind::Process, "{case}: {refusal}");
    }
    let (task, mut files) = model_task(&project("demo/larkfen-desk/larkfen-desk-q8_0.gguf"));
    let HeaderAnswer::Model { facts, shape: Some(shape), parts } =
        InThisProcess.read(&task, &mut files).unwrap()
    else {
        panic!("it is a model");
    };
    let shape = Some(ModelShape { layers: u32::MAX, ..shape });
    let answer: Result<_, Refusal> = Ok(HeaderAnswer::Model { facts, shape, parts });
    let line = format!("{}\n", serde_json::json!({"done": answer}));
    let refusal = says(line.leak()).unwrap_err();
    assert!(refusal.to_string().contains("sizes that no model has"), "{refusal}");
    let much = "{\"read\":{\"file\":0,\"at\":0,\"length\":4294967295}}\n".repeat(3000);
    let opened = format!("{{\"open\":0}}\n{much}").leak();
    let refusal = says(opened).unwrap_err();
    assert!(refusal.to_string().contains("read too much"), "{refusal}");
}
