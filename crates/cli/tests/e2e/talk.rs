//! `deft talk`, its lines coming from a pipe.

use std::io::{Read, Write};
use std::process::Stdio;

use crate::world::{Said, World, until, wait};

fn talk(world: &World, lines: &str) -> Said {
    let mut child = world
        .command(&["talk", "larkfen-desk", "--temperature", "0"])
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .spawn()
        .unwrap();
    child.stdin.take().unwrap().write_all(lines.as_bytes()).unwrap();
    child.wait_with_output().unwrap().into()
}

#[test]
fn a_talk_remembers_and_can_be_steered() {
    let world = World::stocked();
    let said = talk(
        &world,
        "How deep do I sow Moonhook bean?\n\
         And Ember chard?\n\
         :model larkfen-desk-mini\n\
         When do I sow \\\nEmber chard?\n\
         :system Answer in capitals.\n\
         When do I sow Ember chard?\n\
         :stats\n\
         :nonsense\n\
         :model nobody\n\
         :history\n\
         :new\n\
         Hello\n\
         :leave\n",
    );
    assert_eq!(said.code, 0, "{said:?}");
    let lines: Vec<&str> = said.out.lines().collect();
    assert_eq!(lines[0], "Sow Moonhook bean 3 cm deep.");
    assert!(lines[1].contains("Ember chard") && lines[1].contains("cm deep"), "{said:?}");
    assert_eq!(lines[2], "Sow Ember chard from March to May.");
    assert!(lines[3].contains("EMBER CHARD") && lines[3].contains("MARCH TO MAY"), "{said:?}");
    assert!(said.out.contains("user: And Ember chard?"), "{said:?}");
    assert!(said.err.contains("switched to `larkfen-desk-mini/q8_0`"), "{said:?}");
    assert!(said.err.contains("`:nonsense` is not a command"), "{said:?}");
    assert!(said.err.contains("no model `nobody`"), "{said:?}");
    assert!(said.err.contains("first token"), "{said:?}");
    let greeting = "HELLO AND WELCOME TO THE LARKFEN SEED LIBRARY. WHICH SEED CAN I HELP YOU WITH?";
    assert_eq!(*lines.last().unwrap(), greeting);
}

#[test]
fn ctrl_c_stops_the_answer_and_not_the_talk() {
    let world = World::stocked();
    let mut child = world
        .command(&["talk", "larkfen-desk", "--temperature", "9", "--seed", "5"])
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .spawn()
        .unwrap();
    let mut stdin = child.stdin.take().unwrap();
    stdin.write_all(b"Tell me all about Quillfen pea.\n").unwrap();
    let mut first = [0; 16];
    child.stdout.as_mut().unwrap().read_exact(&mut first).unwrap();
    // The engine is stopped meanwhile, so that the answer does not end before it is cancelled.
    let engine = world.instance("larkfen-desk/q8_0").unwrap().pid.unwrap();
    crate::processes::halt(engine);
    crate::processes::signal(child.id(), rustix::process::Signal::INT);
    stdin.write_all(b":history\n:leave\n").unwrap();
    let said: Said = child.wait_with_output().unwrap().into();
    crate::processes::go_on(engine);
    assert_eq!(said.code, 0, "{said:?}");
    assert!(said.err.contains("stopped; the question was removed"), "{said:?}");
    assert!(!said.out.contains("user:"), "{said:?}");
    let client = world.client();
    let call = until("the call is recorded", || wait(client.calls(1)).unwrap().pop());
    assert_eq!(call.outcome, "cancelled");
}

#[test]
fn the_end_of_input_ends_a_talk() {
    let world = World::stocked();
    let said = talk(&world, "Hello\n");
    assert!(said.code == 0 && said.out.starts_with("Hello"), "{said:?}");
}

#[test]
fn a_talk_longer_than_the_context_goes_on_and_says_what_is_left_out() {
    let world = World::stocked();
    world.ok(&["load", "larkfen-desk", "--context", "64"]);
    let question = "How deep do I sow Moonhook bean?\n";
    let said = talk(&world, &question.repeat(6));
    assert_eq!(said.code, 0, "{said:?}");
    let answers = said.out.lines().filter(|line| *line == "Sow Moonhook bean 3 cm deep.").count();
    assert_eq!(answers, 6, "{said:?}");
    assert!(said.err.contains("oldest messages were left out"), "{said:?}");
}
