//! The command line as people and scripts use it: JSON everywhere, joined questions, ids by their beginnings, opposites,
//! completions, and names of the version before.

use std::process::Stdio;

use deft_protocol::manage::InstanceState;
use serde_json::{Value, json};

use crate::world::{ANSWER, QUESTION, Said, World, desk, project, until};

fn parsed(text: &str) -> Value {
    serde_json::from_str(text).unwrap_or_else(|error| panic!("{error}: {text}"))
}

#[test]
fn a_second_load_changes_only_what_it_names_and_says_so() {
    let world = World::stocked();
    world.ok(&["load", "larkfen-desk", "--lanes", "3", "--context", "256", "--pinned"]);
    let said = world.deft(&["load", "larkfen-desk", "--lanes", "2", "--no-pinned"]);
    assert_eq!(said.code, 0, "{said:?}");
    assert!(said.err.contains("changed: lanes 3 -> 2, pinned true -> false"), "{said:?}");
    let settings = world.ready("larkfen-desk/q8_0").settings;
    assert_eq!((settings.lanes, settings.context, settings.pinned), (2, 256, false));
    let same = world.deft(&["load", "larkfen-desk"]);
    assert!(same.err.contains("no setting changed"), "{same:?}");
    world.ok(&["load", "larkfen-desk", "--reset", "context"]);
    let settings = world.ready("larkfen-desk/q8_0").settings;
    assert_eq!((settings.lanes, settings.context), (2, 1024));
}

#[test]
fn settings_outlive_a_start_at_which_the_file_could_not_be_used() {
    let world = World::new().with("DEFT_LISTEN", "127.0.0.1:0").start();
    let file = world.spare_desk();
    world.ok(&["depot", "register", &file.to_string_lossy(), "--as", "spare"]);
    world.ok(&["load", "spare", "--lanes", "3", "--context", "256", "--pinned"]);
    world.ok(&["service", "stop"]);
    let away = file.with_extension("away");
    std::fs::rename(&file, &away).unwrap();
    world.ok(&["service", "start"]);
    let failed = until("it is shown", || world.instance("spare/q8_0"));
    assert_eq!(failed.state, InstanceState::Failed);
    std::fs::rename(&away, &file).unwrap();
    world.ok(&["load", "spare", "--idle", "1h"]);
    let settings = world.ready("spare/q8_0").settings;
    assert_eq!((settings.lanes, settings.context, settings.pinned), (3, 256, true));
}

#[test]
fn text_from_a_pipe_or_a_file_is_joined_to_the_question() {
    let world = World::stocked();
    let folder = tempfile::tempdir().unwrap();
    let rest = folder.path().join("rest.txt");
    std::fs::write(&rest, "Moonhook bean?\n").unwrap();
    let mut ask = world.command(&["ask", "larkfen-desk", "--json", "--raw", "How deep do I sow"]);
    let joined = Said::from(ask.stdin(std::fs::File::open(&rest).unwrap()).output().unwrap());
    let mut ask = world.command(&["ask", "larkfen-desk", "--json", "--raw", "How deep do I sow"]);
    let alone = Said::from(ask.stdin(Stdio::null()).output().unwrap());
    let tokens = |said: &Said| parsed(&said.out)["usage"]["prompt_tokens"].as_u64().unwrap();
    assert!(tokens(&joined) > tokens(&alone) + 2, "{joined:?} {alone:?}");
}

#[test]
fn results_and_errors_are_json_where_that_is_asked_for() {
    let world = World::new().with("DEFT_LISTEN", "127.0.0.1:0");
    let started = parsed(&world.ok(&["service", "start", "--json"]));
    assert_eq!(started["already_running"], json!(false));
    let again = parsed(&world.ok(&["service", "start", "--json"]));
    assert_eq!((&again["address"], &again["already_running"]), (&started["address"], &json!(true)));
    assert_eq!(parsed(&world.ok(&["service", "wait", "--json"]))["address"], started["address"]);
    let log = world.ok(&["service", "logs", "-n", "2", "--json"]);
    assert!(log.lines().count() == 2 && log.lines().all(|line| parsed(line)["line"].is_string()));
    let unit = parsed(&world.ok(&["service", "unit", "--json"]));
    assert!(unit["unit"].as_str().unwrap().contains("[Service]"));
    let demo = project("demo/larkfen-desk-mini").to_string_lossy().into_owned();
    let imported = parsed(&world.ok(&["depot", "import", &demo, "--yes", "--json"]));
    assert!(!imported.as_array().unwrap().is_empty(), "one document for all models: {imported}");
    let followed = world.ok(&["transfers", "--follow", "--json"]);
    assert!(followed.lines().all(|line| parsed(line)["id"].is_string()), "{followed}");
    let missing = world.deft(&["depot", "inspect", "nobody", "--json"]);
    let error = &parsed(&missing.err)["error"];
    assert_eq!((missing.code, &error["exit_code"]), (3, &json!(3)));
    assert!(error["detail"].as_str().unwrap().contains("no model `nobody`"), "{error}");
    let wrong = world.deft(&["load", "--json"]);
    assert!(wrong.code == 2 && parsed(&wrong.err)["error"]["exit_code"] == json!(2), "{wrong:?}");
    assert_eq!(parsed(&world.ok(&["service", "stop", "--json"])), json!({"stopped": true}));
    assert_eq!(parsed(&world.ok(&["service", "stop", "--json"])), json!({"stopped": false}));
}

#[test]
fn a_result_that_cannot_be_written_is_an_error() {
    let world = World::stocked();
    let full = std::fs::OpenOptions::new().write(true).open("/dev/full").unwrap();
    let said = Said::from(world.command(&["depot", "list"]).stdout(full).output().unwrap());
    assert!(said.code == 1 && said.err.contains("cannot write to standard output"), "{said:?}");
}

#[test]
fn shells_complete_commands_and_names_of_models() {
    let world = World::stocked();
    for shell in ["bash", "zsh", "fish"] {
        assert!(world.ok(&["completions", shell]).contains("DEFT_COMPLETE"), "{shell}");
    }
    let complete = |words: &[&str]| {
        let mut line = vec!["--", "deft"];
        line.extend(words);
        let mut deft = world.command(&line);
        deft.env("DEFT_COMPLETE", "bash").env("_CLAP_COMPLETE_INDEX", words.len().to_string());
        deft.env("_CLAP_COMPLETE_COMP_TYPE", "9").env("_CLAP_COMPLETE_SPACE", "true");
        deft.env("_CLAP_IFS", "\n").env("DEFT_SERVICE", world.address());
        Said::from(deft.output().unwrap()).out
    };
    assert!(complete(&["unl"]).contains("unload"));
    let names = complete(&["load", "larkfen-desk-m"]);
    assert!(names.contains("larkfen-desk-mini/q8_0"), "{names}");
}

#[test]
fn names_of_the_version_before_are_understood_with_a_warning() {
    let world = World::new().with("DEFT_LISTEN", "127.0.0.1:0");
    std::fs::write(world.data_dir().with_extension("toml"), "[loading]\nmost_instances = 1\n")
        .unwrap();
    let file = world.data_dir().with_extension("toml").to_string_lossy().into_owned();
    let said = world.deft(&["config", "--config", &file]);
    assert!(said.out.contains("loading.max_instances"), "{said:?}");
    assert!(said.err.contains("is now called `loading.max_instances`"), "{said:?}");
    world.ok(&["service", "start", "--config", &file]);
    assert!(world.log().contains("is now called `loading.max_instances`"));
    world.ok(&["depot", "register", &desk().to_string_lossy()]);
    let said = world.deft(&["load", "larkfen-desk", "--copies", "1"]);
    assert!(
        said.code == 0 && said.err.contains("`--copies` is now called `--instances`"),
        "{said:?}"
    );
    let messages = json!([{"role": "user", "content": QUESTION}]);
    let body = json!({"model": "larkfen-desk", "temperature": 0, "messages": messages, "context_overflow": "end"});
    let (status, answer) = world.post("/v1/chat/completions", body);
    assert_eq!((status, &answer["choices"][0]["message"]["content"]), (200, &json!(ANSWER)));
    assert!(
        world
            .log()
            .contains("the field `context_overflow`, which is now called `when_context_full`")
    );
    let (status, _) = world.post(
        "/v1/chat/completions",
        json!({"model": "larkfen-desk", "messages": messages, "when_context_full": "leave_out_oldest"}),
    );
    assert_eq!(status, 200);
}
