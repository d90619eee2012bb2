//! The processes that read headers of untrusted files.

use std::io::BufReader;
use std::os::fd::OwnedFd;
use std::os::unix::net::UnixStream;
use std::process::{Command, Stdio};
use std::time::Instant;

use deft_depot::headers::{HeaderAnswer, HeaderTask, NumberedFiles, link};
use deft_protocol::manage::PullRequest;
use deft_standins::Behaviour;

use crate::processes;
use crate::sources::Shelf;
use crate::world::{PATIENCE, desk, until, wait};

/// The demo model, and the kernel's status of the process that reads it.
struct Looked {
    pid: u32,
    bytes: Vec<u8>,
    seen: Vec<(String, String)>,
}

impl NumberedFiles for Looked {
    fn open(&mut self, _: u32) -> std::io::Result<u64> {
        for name in ["status", "limits", "environ"] {
            let text = std::fs::read_to_string(format!("/proc/{}/{name}", self.pid))?;
            self.seen.push((name.to_owned(), text));
        }
        for entry in std::fs::read_dir(format!("/proc/{}/fd", self.pid))? {
            let leads_to = std::fs::read_link(entry?.path())?;
            self.seen.push(("fd".to_owned(), leads_to.display().to_string()));
        }
        Ok(self.bytes.len() as u64)
    }

    fn read_at(&mut self, _: u32, at: u64, target: &mut [u8]) -> std::io::Result<usize> {
        std::io::Read::read(&mut &self.bytes[usize::try_from(at).unwrap()..], target)
    }
}

#[test]
fn a_process_that_reads_headers_may_nothing_but_ask_for_their_bytes() {
    let (ours, theirs) = UnixStream::pair().unwrap();
    // It inherits a file that it should not have.
    let script = format!(
        "exec 7</etc/passwd; exec {} read-headers --parent {}",
        env!("CARGO_BIN_EXE_deft"),
        std::process::id()
    );
    let mut child = Command::new("sh")
        .args(["-c", &script])
        .env_clear()
        .stdin(Stdio::from(OwnedFd::from(theirs)))
        .stdout(Stdio::null())
        .stderr(Stdio::null())
        .spawn()
        .unwrap();
    let bytes = std::fs::read(desk()).unwrap();
    let mut files = Looked { pid: child.id(), bytes, seen: Vec::new() };
    let names = vec!["larkfen-desk-q8_0.gguf".to_owned()];
    let task = HeaderTask::Model { names, template: None, facts: true, shape: true };
    let deadline = Instant::now() + PATIENCE;
    let answer = link::converse(&task, &mut files, BufReader::new(&ours), &ours, deadline).unwrap();
    let HeaderAnswer::Model { facts: Some(facts), shape: Some(shape), parts: 1 } = answer else {
        panic!("{answer:?}");
    };
    assert!(facts.family == "llama" && facts.sample.is_some() && shape.layers > 0, "{facts:?}");
    drop(ours);
    child.wait().unwrap();
    let seen = |name: &str| {
        let all = files.seen.iter().filter(|(of, _)| of == name);
        all.map(|(_, text)| text.split_whitespace().collect::<Vec<_>>().join(" "))
            .collect::<Vec<_>>()
            .join("\n")
    };
    assert!(seen("status").contains("NoNewPrivs: 1"), "{}", seen("status"));
    assert!(seen("status").contains("Seccomp: 2"), "{}", seen("status"));
    let limits = seen("limits");
    assert!(limits.contains("Max address space 1073741824 1073741824"), "{limits}");
    assert!(
        limits.contains("Max cpu time 30 30") && limits.contains("core file size 0 0"),
        "{limits}"
    );
    assert!(!seen("fd").contains("passwd"), "{}", seen("fd"));
    let own = |place: &str| place.starts_with("socket:") || place == "/dev/null";
    assert!(seen("fd").lines().all(own), "{}", seen("fd"));
}

#[test]
fn the_service_leaves_headers_to_such_processes() {
    let shelf = Shelf::new();
    let world = shelf.world();
    // Its header comes so slowly that the process is seen.
    shelf.hub.behave(Behaviour { rate: Some(2000), ..Behaviour::default() });
    let reference = "larkfen:larkfen-desk/q8_0".to_owned();
    let begun = wait(world.client().pull(&PullRequest { reference, name: None, limit: None }));
    let service = world.status().pid;
    until("a process reads the header", || {
        processes::children(service)
            .iter()
            .any(|(_, command)| command.contains("read-headers"))
            .then_some(())
    });
    // It is ended amid its work: the file is refused, and nothing else notices.
    for (pid, _) in processes::children(service).iter().filter(|(_, c)| c.contains("read-headers"))
    {
        processes::kill(*pid);
    }
    shelf.hub.behave(Behaviour::default());
    let id = begun.unwrap().id;
    let ended = until("the fetch has ended", || {
        Some(wait(world.client().transfer(id)).unwrap()).filter(|found| found.ended_at.is_some())
    });
    let problem = ended.problem.clone().unwrap();
    assert!(
        problem.detail.contains("the process that read its header ended unexpectedly"),
        "{problem:?}"
    );
    assert_eq!(world.status().pid, service);
    world.ok(&["depot", "pull", "larkfen:larkfen-desk/q8_0"]);
    world.desk_answers();
    until("no such process is left", || {
        let children = processes::children(service);
        (!children.iter().any(|(_, command)| command.contains("read-headers"))).then_some(())
    });
}
