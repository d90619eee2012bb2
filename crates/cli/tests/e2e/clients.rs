//! The public clients of the protocol, unchanged, installed at the versions of their lock files.

use std::path::{Path, PathBuf};
use std::process::Command;

use crate::world::{Said, World, project, wait};

/// Runs a command that must succeed; returns what it prints.
fn run(command: &mut Command) -> String {
    let said = Said::from(command.output().unwrap());
    assert!(said.code == 0, "{command:?}: {said:?}");
    said.out
}

/// Installs Python packages of the lock file into an environment of their own.
fn python_packages(folder: &Path) {
    run(Command::new("python3").args(["-m", "venv"]).arg(folder.join("venv")));
    run(Command::new(folder.join("venv/bin/pip"))
        .args(["install", "--quiet", "--disable-pip-version-check", "-r"])
        .arg(folder.join("requirements.txt")));
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
    let folder = installed("python", "requirements.txt", python_packages);
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

/// Requests that are generated from the OpenAPI document, valid ones and others: each response has a documented status, content
/// type and form. `SCHEMA_PHASES` asks for more of them than the continuous test has time for.
#[test]
fn every_operation_answers_as_its_description_says() {
    let folder = installed("schema", "requirements.txt", python_packages);
    let world = world();
    let phases = std::env::var("SCHEMA_PHASES").unwrap_or_else(|_| "examples,coverage".to_owned());
    let checks = "status_code_conformance,content_type_conformance,response_schema_conformance,not_a_server_error";
    let out = run(Command::new(folder.join("venv/bin/schemathesis"))
        .arg("run")
        .arg(format!("{}/manage/v1/openapi.json", world.address()))
        .args(["--checks", checks, "--phases", &phases, "--max-examples", "20"])
        .args(["--generation-deterministic", "--request-timeout", "8"])
        .args(["--suppress-health-check", "all"])
        .env("SCHEMATHESIS_HOOKS", folder.join("hooks.py"))
        .current_dir(&folder));
    let tested = |line: &&str| line.trim_start().starts_with("Tested:");
    let counts: Vec<&str> = out.lines().filter(tested).collect();
    assert!(counts.len() == 1 && out.contains(" passed"), "{out}");
    println!("{out}");
    // The answers of models were among them.
    let answered = wait(world.client().calls(500)).unwrap();
    let good = answered.iter().filter(|call| call.outcome == "stop").count();
    assert!(good > 5, "only {good} of {} calls were answered", answered.len());
}
