//! Snippets: each of them runs as it is printed.

use std::process::Command;

use deft_protocol::manage::{SnippetLanguage, SnippetTask};

use crate::world::{Said, World, project, wait};

/// Runs a snippet; returns what it prints.
fn run(language: SnippetLanguage, code: &str, key: &str) -> String {
    let (program, flags) = match language {
        SnippetLanguage::Curl => ("bash", &["-c"][..]),
        SnippetLanguage::Python => ("python3", &["-c"][..]),
        SnippetLanguage::Javascript => ("node", &["--input-type=module", "-e"][..]),
    };
    let said = Command::new(program).args(flags).arg(code).env("DEFT_KEY", key).output();
    let said = Said::from(said.unwrap());
    assert!(said.code == 0, "{code}\n{said:?}");
    said.out
}

#[test]
fn every_snippet_of_every_task_runs() {
    for settings in ["", "[permission]\nanswers = \"operators\"\n"] {
        let world = World::configured(settings).start().stock();
        let find = project("demo/larkfen-find/larkfen-find-q8_0.gguf");
        world.ok(&["depot", "register", &find.to_string_lossy()]);
        let key = std::fs::read_to_string(world.data_dir().join("operator.key")).unwrap();
        let mut tasks = Vec::new();
        for model in ["larkfen-desk", "larkfen-find"] {
            for snippet in wait(world.client().snippets(model)).unwrap() {
                let out = run(snippet.language, &snippet.code, key.trim());
                assert!(!out.trim().is_empty() && !out.contains("error"), "{snippet:?}: {out}");
                tasks.push(snippet.task);
            }
        }
        assert_eq!(tasks.len(), 12);
        assert!(tasks.contains(&SnippetTask::Rerank) && tasks.contains(&SnippetTask::Completion));
    }
}

#[test]
fn the_command_prints_the_snippet_of_a_task() {
    let world = World::stocked();
    let code = world.ok(&["snippet", "larkfen-desk", "--for", "python", "--task", "completion"]);
    assert!(code.starts_with("import json") && code.contains("/v1/completions"), "{code}");
    assert!(world.ok(&["snippet", "larkfen-desk"]).starts_with("curl http://127.0.0.1:"));
    let said = world.deft(&["snippet", "larkfen-desk", "--task", "embeddings"]);
    assert!(said.code == 4 && said.err.contains("does not serve this task"), "{said:?}");
    let said = world.deft(&["snippet", "nettle"]);
    assert_eq!(said.code, 3, "{said:?}");
}
