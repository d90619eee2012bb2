//! What a crash costs.

use deft_client::{ClientError, StreamedPiece};
use deft_protocol::manage::InstanceState;

use crate::processes;
use crate::world::{ANSWER, PATIENCE, QUESTION, World, endless, send, unending, until, wait};

#[test]
fn a_killed_engine_ends_its_stream_with_an_error_and_is_loaded_again() {
    let world = World::stocked();
    world.ok(&["load", "larkfen-desk"]);
    world.ok(&["load", "larkfen-desk-mini"]);
    let before = world.instance("larkfen-desk/q8_0").unwrap().pid.unwrap();
    let other = world.instance("larkfen-desk-mini/q8_0").unwrap().pid;
    let client = world.client();
    let error = wait(async {
        let mut stream = client.chat_stream(&endless("larkfen-desk")).await.unwrap();
        let first = stream.next().await.unwrap();
        assert!(matches!(first, Some(StreamedPiece::Text(_))));
        processes::kill(before);
        loop {
            match stream.next().await {
                Ok(Some(StreamedPiece::Text(_))) => {}
                Ok(other) => panic!("the answer ended as if nothing had happened: {other:?}"),
                Err(error) => return error,
            }
        }
    });
    assert!(
        matches!(&error, ClientError::Refused(problem) if problem.code == "engine_ended"),
        "{error}"
    );
    let again = until("another process is ready", || {
        let found = world.instance("larkfen-desk/q8_0")?;
        found.pid.filter(|&pid| pid != before).map(|_| found)
    });
    assert_eq!(again.crashes, 1);
    world.desk_answers();
    assert_eq!(world.instance("larkfen-desk-mini/q8_0").unwrap().pid, other, "no other notices");
    until("the failure is recorded", || {
        let calls = wait(client.calls(5)).unwrap();
        calls.into_iter().find(|call| call.outcome == "failed")
    });
}

#[test]
fn an_engine_that_is_killed_while_it_computes_does_not_stop_the_others() {
    let world = World::stocked();
    world.ok(&["load", "larkfen-desk", "--share", "300"]);
    world.ok(&["load", "larkfen-desk-mini"]);
    let client = world.client();
    wait(async {
        let mut stream = client.chat_stream(&unending("larkfen-desk-mini")).await.unwrap();
        // The answer of the other engine continues, whenever this one is killed.
        for crash in 1..=4 {
            let mut other = client.chat_stream(&unending("larkfen-desk")).await.unwrap();
            for _ in 0..20 * crash {
                other.next().await.unwrap();
            }
            processes::kill(world.instance("larkfen-desk/q8_0").unwrap().pid.unwrap());
            for _ in 0..100 {
                let piece = tokio::time::timeout(PATIENCE, stream.next()).await;
                let piece = piece.expect("the other engine computes").unwrap();
                assert!(matches!(piece, Some(StreamedPiece::Text(_))), "{piece:?}");
            }
            world.ready("larkfen-desk/q8_0");
        }
    });
    let settings = world.ready("larkfen-desk/q8_0").settings;
    assert_eq!(settings.share, 300, "it came back with its share");
    let refused = world.deft(&["load", "larkfen-desk", "--share", "0"]);
    assert!(refused.code > 2 && refused.err.contains("share cannot be 0"), "{refused:?}");
    world.ok(&["load", "larkfen-desk", "--share", "50"]);
    assert_eq!(world.ready("larkfen-desk/q8_0").settings.share, 50, "without loading it anew");
}

#[test]
fn an_engine_that_hangs_is_replaced_and_its_call_is_answered_all_the_same() {
    let world = World::new().with("DEFT_HANG_SECONDS", "4").start().stock();
    world.ok(&["load", "larkfen-desk"]);
    world.ok(&["load", "larkfen-desk-mini"]);
    let client = world.client();
    wait(async {
        let mut stream = client.chat_stream(&unending("larkfen-desk-mini")).await.unwrap();
        stream.next().await.unwrap();
        let hung = world.instance("larkfen-desk/q8_0").unwrap().pid.unwrap();
        processes::halt(hung);
        world.desk_answers();
        let instance = world.ready("larkfen-desk/q8_0");
        assert!(instance.crashes == 1 && instance.pid != Some(hung));
        for _ in 0..50 {
            assert!(matches!(stream.next().await.unwrap(), Some(StreamedPiece::Text(_))));
        }
    });
    assert_eq!(world.ready("larkfen-desk-mini/q8_0").crashes, 0, "who waited for it is not blamed");
    assert!(world.log().contains("it had calls but computed nothing for 4 s"), "{}", world.log());
}

#[test]
fn an_engine_that_dies_again_and_again_is_set_aside_and_can_be_tried_again() {
    let world = World::stocked();
    world.ok(&["load", "larkfen-desk", "--context", "512", "--pinned"]);
    let mut last = 0;
    let failed = until("it is set aside", || {
        let found = world.instance("larkfen-desk/q8_0")?;
        match found.pid {
            Some(pid) if pid != last => {
                last = pid;
                processes::kill(pid);
                None
            }
            _ => (found.state == InstanceState::Failed).then_some(found),
        }
    });
    let problem = failed.problem.unwrap();
    assert!(problem.detail.contains("ended repeatedly"), "{problem}");
    let way_out = problem.way_out.unwrap();
    assert!(way_out.contains("deft load larkfen-desk/q8_0 --context 512 --pinned"), "{way_out}");
    assert_eq!(world.status().pools[0].reserved, 0, "what is set aside holds no memory");
    let again = wait(world.client().retry(failed.id)).unwrap();
    assert_eq!((again.settings.context, again.settings.pinned), (512, true), "as it was wished");
    world.desk_answers();
    world.ok(&["unload", "larkfen-desk"]);
    assert_eq!(world.status().pools[0].reserved, 0);
}

#[test]
fn a_killed_service_leaves_no_process_behind_and_the_next_start_recovers() {
    let world = World::stocked();
    world.ok(&["load", "larkfen-desk"]);
    let status = world.status();
    let engine = status.instances[0].pid.unwrap();
    // In the middle of its work, with more that wait.
    let address = world.listens();
    let _callers: Vec<_> = (0..6).map(|_| send(&address, &unending("larkfen-desk"))).collect();
    until("lanes answer and calls wait", || {
        let calls = wait(world.client().running_calls()).unwrap();
        calls.iter().any(|call| call.position.is_some()).then_some(())
    });
    processes::kill(status.pid);
    until("the engine process is gone", || (!processes::is_alive(engine)).then_some(()));
    until("the database is gone", || {
        processes::of_folder(&world.data_dir()).is_empty().then_some(())
    });
    let said = world.deft(&["status"]);
    assert_eq!(said.code, 6, "{said:?}");
    let world = world.start();
    world.ready("larkfen-desk/q8_0");
    world.desk_answers();
}

#[test]
fn killing_everything_at_once_loses_nothing_that_was_recorded() {
    let world = World::stocked();
    world.ok(&["load", "larkfen-desk"]);
    // The kernel would end the children with the service; here they are killed first, the hard way.
    let status = world.status();
    for (pid, command) in processes::of_folder(&world.data_dir()) {
        if command.contains("postgres") {
            let killed = std::panic::catch_unwind(|| processes::kill(pid));
            drop(killed); // a worker may have ended with its postmaster
        }
    }
    processes::kill(status.pid);
    until("all is gone", || processes::of_folder(&world.data_dir()).is_empty().then_some(()));
    let world = world.start();
    let list = world.ok(&["depot", "list"]);
    assert!(
        list.contains("larkfen-desk/q8_0") && list.contains("larkfen-desk-mini/q8_0"),
        "{list}"
    );
    world.ready("larkfen-desk/q8_0");
}

#[test]
fn a_file_cut_short_while_it_is_mapped_ends_only_its_own_engine_process() {
    let world = World::stocked();
    let spare = world.spare_desk();
    world.ok(&["depot", "register", &spare.to_string_lossy(), "--as", "larkfen-spare/q8_0"]);
    world.ok(&["load", "larkfen-spare"]);
    world.ok(&["load", "larkfen-desk"]);
    let desk = world.ready("larkfen-desk/q8_0").pid;
    std::fs::File::options().write(true).open(&spare).unwrap().set_len(700_000).unwrap();
    let said = world.deft(&["ask", "larkfen-spare", "Hello", "--temperature", "0"]);
    assert_ne!(said.code, 0, "{said:?}");
    let failed = until("it is set aside", || {
        let found = world.instance("larkfen-spare/q8_0")?;
        (found.state == InstanceState::Failed).then_some(found)
    });
    assert!(failed.problem.unwrap().detail.contains("truncated"), "the reason is reported");
    assert_eq!(world.ready("larkfen-desk/q8_0").pid, desk, "no other notices");
    world.desk_answers();
    // Nor does it come back by itself, or silently as something else.
    world.ok(&["service", "restart"]);
    let said = world.deft(&["load", "larkfen-spare"]);
    assert!(said.code == 4 && said.err.contains("changed after it was registered"), "{said:?}");
}

#[test]
fn a_file_that_vanishes_while_it_is_loaded_is_missed_at_the_next_start() {
    let world = World::stocked();
    let spare = world.spare_desk();
    world.ok(&["depot", "register", &spare.to_string_lossy(), "--as", "larkfen-spare/q8_0"]);
    world.ok(&["load", "larkfen-spare", "--importance", "3"]);
    world.ok(&["load", "larkfen-desk"]);
    std::fs::rename(&spare, spare.with_extension("away")).unwrap();
    let ask = ["ask", "larkfen-spare", QUESTION, "--temperature", "0"];
    assert_eq!(world.ok(&ask).trim(), ANSWER, "what is mapped stays");
    world.ok(&["service", "restart"]);
    world.ready("larkfen-desk/q8_0");
    let failed = world.instance("larkfen-spare/q8_0").unwrap();
    assert_eq!(failed.state, InstanceState::Failed);
    let problem = failed.problem.unwrap();
    assert_eq!(problem.code, "file_missing", "{problem}");
    assert!(world.ok(&["status"]).contains(&problem.detail), "people see it too");
    // Found again, it is tried again by one call.
    std::fs::rename(spare.with_extension("away"), &spare).unwrap();
    let again = wait(world.client().retry(failed.id)).unwrap();
    assert_eq!((again.state, again.settings.importance), (InstanceState::Ready, 3));
    assert_eq!(world.ok(&ask).trim(), ANSWER);
}

#[test]
fn an_engine_process_has_nothing_that_it_does_not_need() {
    let world = World::new().with("DEFT_TOKEN_LARKFEN", "secret-of-the-library").start().stock();
    world.ok(&["load", "larkfen-desk"]);
    let pid = world.ready("larkfen-desk/q8_0").pid.unwrap();
    let read = |name: &str| std::fs::read_to_string(format!("/proc/{pid}/{name}")).unwrap();
    let environment = read("environ");
    assert!(!environment.contains("DEFT_") && !environment.contains("secret"), "{environment:?}");
    let status = read("status");
    let holds = |line: &str| status.lines().any(|found| found.replace('\t', " ") == line);
    assert!(holds("NoNewPrivs: 1") && holds("Seccomp: 2"), "{status}");
    let limits = read("limits");
    let space = limits.lines().find(|line| line.starts_with("Max address space")).unwrap();
    assert!(!space.contains("unlimited"), "{space}");
    // Its link, its log, and what it shares with others: no database, no connection, no lock.
    let mut leads = Vec::new();
    for entry in std::fs::read_dir(format!("/proc/{pid}/fd")).unwrap() {
        let to = std::fs::read_link(entry.unwrap().path()).unwrap().display().to_string();
        leads.push(to);
    }
    assert!(leads.iter().filter(|to| to.starts_with("socket:")).count() <= 3, "{leads:?}");
    let own = |to: &&String| {
        let known = ["socket:", "/dev/null", "/memfd:", "pipe:", "anon_inode:"];
        known.iter().any(|known| to.starts_with(known))
            || to.ends_with("service.log")
            || to.ends_with(".gguf")
    };
    assert!(leads.iter().all(|to| own(&to)), "{leads:?}");
    let log = world.log();
    assert!(log.contains("confined to: ") && log.contains("MiB of address space"), "{log}");
    world.desk_answers();
}
