//! Pools, placement over them, their limits, and several instances of one model.

use deft_protocol::manage::InstanceState;

use crate::processes;
use crate::world::{ANSWER, QUESTION, World, unending, until, wait};

const DESK: &str = "larkfen-desk/q8_0";
const MINI: &str = "larkfen-desk-mini/q8_0";

const ACCELERATORS: &str = r#"
[pools.host]
limit = "64 MiB"
[[pools.simulated]]
name = "fern"
size = "2 MiB"
speed = "1 GiB/s"
[[pools.simulated]]
name = "moss"
size = "8 MiB"
held = "7 MiB"
"#;

fn accelerated() -> World {
    World::configured(ACCELERATORS).start().stock()
}

fn reserved(world: &World, pool: &str) -> u64 {
    world.status().pools.into_iter().find(|found| found.name == pool).unwrap().reserved
}

#[test]
fn layers_in_an_accelerator_answer_the_same_and_are_measured_there() {
    let world = accelerated();
    let plan = world.ok(&["plan", "larkfen-desk", "--in", "fern,host"]);
    for part in ["in pool `fern`", "in pool `host`", "layers in fern=2 host=3", "is simulated"] {
        assert!(plan.contains(part), "{part} is missing: {plan}");
    }
    assert!(plan.contains("deft load larkfen-desk/q8_0 --in fern,host"), "{plan}");
    world.ok(&["load", "larkfen-desk", "--in", "fern,host"]);
    world.desk_answers();
    let desk = until("it is measured", || {
        world.instance(DESK).filter(|found| found.measured_bytes.is_some())
    });
    let fern = desk.held.iter().find(|held| held.pool == "fern").unwrap();
    let measured = fern.measured.unwrap();
    assert!(measured >= fern.reserved && measured < fern.reserved + (64 << 10), "{fern:?}");
    assert_eq!(fern.reserved, reserved(&world, "fern"));
    let status = world.ok(&["status"]);
    assert!(status.contains("pool fern (simulated, 1.00 GiB/s)"), "{status}");
    // By a share, and by a number that is too large.
    world.ok(&["load", "larkfen-desk", "--in", "fern=20%,host"]);
    let shares: Vec<String> =
        world.ready(DESK).settings.pools.iter().map(ToString::to_string).collect();
    assert_eq!(shares, ["fern=1", "host=4"]);
    world.ok(&["service", "restart"]);
    assert_eq!(world.ready(DESK).settings.pools.len(), 2, "the requested places stay");
    world.desk_answers();
    let said = world.deft(&["load", "larkfen-desk", "--in", "fern=9"]);
    assert!(said.code == 4 && said.err.contains("9 layers are placed"), "{said:?}");
}

#[test]
fn an_accelerator_out_of_memory_refuses_and_holds_nothing() {
    let world = accelerated();
    // The plan knows that it cannot fit, and how it could.
    let said = world.deft(&["load", "larkfen-desk", "--in", "fern"]);
    assert!(said.code == 4 && said.err.contains("in pool `fern`"), "{said:?}");
    assert!(said.err.contains("--in fern=2,host=3"), "{said:?}");
    // What other programs hold no plan knows: the accelerator itself refuses.
    let said = world.deft(&["load", "larkfen-desk", "--in", "moss"]);
    assert!(
        said.code == 4 && said.err.contains("simulated accelerator `moss` is out of memory"),
        "{said:?}"
    );
    assert_eq!((reserved(&world, "moss"), reserved(&world, "host")), (0, 0));
    assert!(world.status().instances.is_empty());
    let said = world.deft(&["load", "larkfen-desk", "--in", "reed"]);
    assert!(
        said.code == 4 && said.err.contains("no pool `reed`; the pools are `host`"),
        "{said:?}"
    );
}

#[test]
fn copies_share_weights_and_calls() {
    let world = World::stocked();
    world.ok(&["load", "larkfen-desk", "--instances", "3", "--lanes", "1"]);
    let copies = world.instances(DESK);
    let numbers: Vec<u32> = copies.iter().map(|found| found.number).collect();
    assert_eq!(numbers, [1, 2, 3]);
    let weights = copies[0].planned.iter().find(|part| part.part == "weights").unwrap().bytes;
    let private = copies[0].reserved_bytes - weights;
    assert_eq!(reserved(&world, "host"), weights + 3 * private);
    // Calls are sent to the instance with the fewest calls. Stopped engines keep their calls as long as the test needs.
    let client = world.client();
    let engines: Vec<u32> = copies.iter().filter_map(|found| found.pid).collect();
    engines.iter().for_each(|&engine| processes::halt(engine));
    wait(async {
        let mut streams = Vec::new();
        for _ in 0..3 {
            streams.push(client.chat_stream(&unending("larkfen-desk")).await.unwrap());
        }
        until("each copy has one", || {
            world.instances(DESK).iter().all(|found| found.calls == 1).then_some(())
        });
        engines.iter().for_each(|&engine| processes::go_on(engine));
        for stream in &mut streams {
            assert!(stream.next().await.unwrap().is_some(), "each copy answers");
        }
    });
    world.ok(&["unload", "larkfen-desk/q8_0#1"]);
    let left: Vec<u32> = world.instances(DESK).iter().map(|found| found.number).collect();
    assert_eq!(left, [2, 3]);
    world.desk_answers();
    world.ok(&["unload", "larkfen-desk/q8_0#2"]);
    assert_eq!(world.instances(DESK).len(), 1);
    world.ok(&["load", "larkfen-desk", "--instances", "3", "--lanes", "1"]);
    world.ok(&["service", "restart"]);
    until("all are back", || {
        let back = world.instances(DESK);
        (back.iter().filter(|found| found.state == InstanceState::Ready).count() == 3).then_some(())
    });
    // Other settings are for all of them; fewer copies end the last ones.
    world.ok(&["load", "larkfen-desk", "--lanes", "2"]);
    assert!(world.instances(DESK).iter().all(|found| found.settings.lanes == 2));
    world.ok(&["load", "larkfen-desk", "--lanes", "2", "--instances", "1"]);
    assert_eq!(world.instances(DESK).len(), 1);
    world.desk_answers();
}

#[test]
fn copies_that_do_not_all_fit_are_refused_together() {
    let world = World::new().with("DEFT_HOST_LIMIT", "16 MiB").start().stock();
    let said = world.deft(&["load", "larkfen-desk", "--instances", "3"]);
    assert!(said.code == 4 && said.err.contains("held by"), "{said:?}");
    assert!(world.status().instances.is_empty(), "none is left of those that fitted");
    // The command that is offered ends one instance, not all of the model's.
    world.ok(&["load", "larkfen-desk", "--instances", "2"]);
    let said = world.deft(&["load", "larkfen-desk-mini", "--lanes", "4"]);
    assert!(said.err.contains("deft unload larkfen-desk/q8_0#1  ("), "{said:?}");
    world.ok(&["unload", "--all"]);
    let plan = world.deft(&["plan", "larkfen-desk", "--instances", "3"]);
    assert!(plan.code == 4 && plan.err.contains("2 of 3 instances fit"), "{plan:?}");
    world.ok(&["load", "larkfen-desk", "--instances", "2"]);
}

#[test]
fn a_limit_lowered_below_what_is_loaded_stops_grants_and_unloads_nothing() {
    let world = World::new().with("DEFT_HOST_LIMIT", "32 MiB").start().stock();
    world.ok(&["load", "larkfen-desk"]);
    let said = world.deft(&["limit", "host", "3MiB"]);
    assert!(said.code == 0 && said.err.contains("no model is unloaded for that"), "{said:?}");
    let status = world.ok(&["status"]);
    assert!(status.contains("above the limit, which was lowered"), "{status}");
    let said = world.deft(&["load", "larkfen-desk-mini"]);
    assert!(said.code == 4 && said.err.contains("more than its limit are reserved"), "{said:?}");
    world.desk_answers();
    let said = world.deft(&["ask", "larkfen-desk-mini", "Hello"]);
    assert_eq!(said.code, 4, "it does not fit into 3 MiB, whatever is evicted: {said:?}");
    world.ok(&["limit", "host", "6MiB"]);
    world.ok(&["ask", "larkfen-desk-mini", "Hello"]);
    assert_eq!(world.instance(DESK).unwrap().state, InstanceState::Evicted);
    world.ok(&["unload", "larkfen-desk-mini"]);
    world.ok(&["limit", "host", "100%"]);
    world.ready(DESK);
    for (pool, limit, part) in [
        ("host", "900TiB", "of memory can be used"),
        ("host", "much", "write an amount"),
        ("reed", "1GiB", "no pool `reed`"),
    ] {
        let said = world.deft(&["limit", pool, limit]);
        assert!(said.code > 2 && said.err.contains(part), "{said:?}");
    }
    // At a start it is an error of the settings, before anything is done.
    let wrong = World::new().with("DEFT_HOST_LIMIT", "900 TiB");
    let said = wrong.deft(&["service", "start", "--listen", "127.0.0.1:0"]);
    assert!(said.code != 0 && said.err.contains("of memory can be used"), "{said:?}");
}

#[test]
fn a_limit_lowered_between_starts_brings_back_what_matters_most() {
    let world = World::new().with("DEFT_HOST_LIMIT", "32 MiB").start().stock();
    world.ok(&["load", "larkfen-desk", "--importance", "-1"]);
    world.ok(&["load", "larkfen-desk-mini", "--importance", "5"]);
    world.ok(&["service", "stop"]);
    let world = world.with("DEFT_HOST_LIMIT", "8 MiB").start();
    world.ready(MINI);
    let desk = world.instance(DESK).unwrap();
    let problem = desk.problem.unwrap();
    assert_eq!((desk.state, problem.code.as_str()), (InstanceState::Evicted, "does_not_fit"));
    // A higher limit is suggested only if nothing else helps: once the other model is ready, it can be unloaded.
    let ways: Vec<&str> = problem.ways.iter().map(|way| way.command.as_str()).collect();
    let possible = ["deft limit host 13MiB", "deft unload larkfen-desk-mini/q8_0"];
    assert!(ways.len() == 1 && possible.contains(&ways[0]), "{ways:?}");
    // What makes it fit does, and it comes by itself.
    world.ok(&["limit", "host", "13MiB"]);
    assert!(world.ready(DESK).problem.is_none());
}

#[test]
fn no_more_instances_than_the_operator_allows() {
    let world = World::new().with("DEFT_MAX_INSTANCES", "1").start().stock();
    world.ok(&["load", "larkfen-desk"]);
    let said = world.deft(&["load", "larkfen-desk-mini"]);
    assert!(
        said.code == 4 && said.err.contains("exceed the limit of 1 loaded instances"),
        "{said:?}"
    );
    assert!(said.err.contains("deft unload larkfen-desk/q8_0"), "{said:?}");
    // A call may make room for itself.
    world.ok(&["ask", "larkfen-desk-mini", "Hello"]);
    assert_eq!(world.instance(DESK).unwrap().state, InstanceState::Evicted);
    world.ok(&["ask", "larkfen-desk", "Hello"]);
    assert_eq!(world.instance(MINI).map(|found| found.state), None);
}

#[test]
fn weights_can_be_locked_and_threads_be_set() {
    let world = World::stocked();
    world.ok(&["load", "larkfen-desk", "--weights", "resident", "--threads", "3"]);
    let desk = world.ready(DESK);
    let status = std::fs::read_to_string(format!("/proc/{}/status", desk.pid.unwrap())).unwrap();
    let of = |key: &str| -> u64 {
        let line = status.lines().find(|line| line.starts_with(key)).unwrap();
        line.split_whitespace().nth(1).unwrap().parse().unwrap()
    };
    let file = std::fs::metadata(crate::world::desk()).unwrap().len();
    assert!(of("VmLck:") << 10 >= file, "the file is locked: {status}");
    let three = of("Threads:");
    world.ok(&["load", "larkfen-desk", "--threads", "1", "--weights", "mapped"]);
    let one = world.ready(DESK);
    let path = format!("/proc/{}/status", one.pid.unwrap());
    let status = std::fs::read_to_string(path).unwrap();
    let threads = status.lines().find(|line| line.starts_with("Threads:")).unwrap();
    let threads: u64 = threads.split_whitespace().nth(1).unwrap().parse().unwrap();
    assert_eq!(three - threads, 2);
    assert!(status.contains("VmLck:\t       0 kB"), "mapped weights are not locked");
    let answer = world.ok(&["ask", "larkfen-desk", QUESTION, "--temperature", "0"]);
    assert_eq!(answer.trim(), ANSWER);
}

#[test]
fn a_further_copy_that_cannot_be_loaded_leaves_those_that_were_there() {
    let moss = "[[pools.simulated]]\nname = \"moss\"\nsize = \"12 MiB\"\nheld = \"7 MiB\"\n";
    let world = World::configured(&format!("[pools.host]\nlimit = \"64 MiB\"\n{moss}"));
    let world = world.start().stock();
    world.ok(&["load", "larkfen-desk", "--in", "moss"]);
    let pid = world.ready(DESK).pid;
    // The plan has room for a second one; the accelerator, of which others hold a part, has not.
    let said = world.deft(&["load", "larkfen-desk", "--in", "moss", "--instances", "2"]);
    assert!(said.code == 4 && said.err.contains("is out of memory"), "{said:?}");
    assert_eq!(world.instances(DESK).len(), 1);
    assert_eq!(world.ready(DESK).pid, pid, "it goes on");
    world.desk_answers();
    world.ok(&["service", "restart"]);
    world.ready(DESK);
    assert_eq!(world.instances(DESK).len(), 1, "and is still wished for, alone");
}
