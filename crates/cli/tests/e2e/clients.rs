//! The public clients of the protocol, unchanged, installed at the versions of their lock files.

use std::path::{Path, PathBuf};
use std::process::Command;

use crate::world::{Said, World, project};

/// Runs a command that must succeed; returns what it prints.
fn run(command: &mut Command) -> String {
    let said = Said::from(command.output().unwrap());
    assert!(said.code == 0, "{command:?}: {said:?}");
    said.out
}

/// The folder of a client's programs, with the client installed there by `install`, again when the lock file changes.
fn installed(language: &str, lock: &str, install: impl Fn(&Path)) -> PathBuf {
    let folder = Path::new(env!("CARGO_TARGET_TMPDIR")).join("clients").join(language);
    let sources = project("crates/cli/tests/clients").join(language);
    std::fs::create_dir_all(&folder).unwrap();
    for source in std::fs::read_dir(&sources).unwrap() {
        let source = source.unwrap();
        std::fs::copy(source.path(), folder.join(source.file_name())).unwrap();
    }
    let (wanted, done) = (std::fs::read(sources.join(lock)).unwrap(), folder.join("installed"));
    if std::fs::read(&done).ok().as_ref() != Some(&wanted) {
        install(&folder);
        std::fs::write(done, wanted).unwrap();
    }
    folder
}

fn world() -> World {
    let world = World::stocked();
    let find = project("demo/larkfen-find/larkfen-find-q8_0.gguf");
    world.ok(&["depot", "register", &find.to_string_lossy()]);
    world
}

/// Runs the programs of a folder, each of which prints a line for each of its parts.
fn all_work(world: &World, programs: &[(&str, usize)], program: impl Fn(&str) -> Command) {
    for &(name, parts) in programs {
        let out = run(program(name).arg(world.address()));
        assert_eq!(out.lines().count(), parts, "{name}: {out}");
    }
}

#[test]
fn the_python_clients_and_an_agent_work_unchanged() {
    let folder = installed("python", "requirements.txt", |folder| {
        run(Command::new("python3").args(["-m", "venv"]).arg(folder.join("venv")));
        run(Command::new(folder.join("venv/bin/pip"))
            .args(["install", "--quiet", "--disable-pip-version-check", "-r"])
            .arg(folder.join("requirements.txt")));
    });
    let programs = [
        ("chat.py", 5),
        ("responses.py", 5),
        ("messages.py", 4),
        ("batches.py", 1),
        ("agent.py", 2),
    ];
    all_work(&world(), &programs, |name| {
        let mut python = Command::new(folder.join("venv/bin/python"));
        python.arg(folder.join(name));
        python
    });
}

#[test]
fn the_javascript_clients_and_an_agent_work_unchanged() {
    let folder = installed("javascript", "package-lock.json", |folder| {
        run(Command::new("npm").args(["ci", "--silent", "--no-audit"]).current_dir(folder));
    });
    let programs = [
        ("chat.mjs", 5),
        ("responses.mjs", 4),
        ("messages.mjs", 3),
        ("batches.mjs", 1),
        ("agent.mjs", 2),
    ];
    all_work(&world(), &programs, |name| {
        let mut node = Command::new("node");
        node.arg(folder.join(name));
        node
    });
}
