//! Loading and unloading.

use std::process::Stdio;

use deft_protocol::manage::{InstanceState, Origin};

use crate::processes;
use crate::world::{ANSWER, QUESTION, Said, World, question, unending, until, wait};

#[test]
fn the_plan_comes_before_the_load_and_the_measure_after() {
    let world = World::stocked();
    let said = world.deft(&["load", "larkfen-desk"]);
    assert_eq!(said.code, 0, "{said:?}");
    for part in
        ["weights", "KV cache", "step buffers", "tokenizer and template", "process", "total"]
    {
        assert!(said.err.contains(part), "{part} is missing in the plan: {said:?}");
    }
    assert!(said.out.contains("`larkfen-desk/q8_0` is ready"), "{said:?}");
    let instance = until("it is measured", || {
        world.instance("larkfen-desk/q8_0").filter(|found| found.measured_bytes.is_some())
    });
    assert_eq!((instance.state, instance.origin), (InstanceState::Ready, Origin::Requested));
    let (planned, measured) = (instance.reserved_bytes, instance.measured_bytes.unwrap());
    let allowed = planned * 3 / 100 + (4 << 20);
    assert!(planned.abs_diff(measured) <= allowed, "planned {planned}, measured {measured}");
    let text = world.ok(&["status"]);
    assert!(text.contains("pool host") && text.contains("larkfen-desk/q8_0"), "{text}");
    // Loading once more is no second instance.
    world.ok(&["load", "larkfen-desk"]);
    assert_eq!(world.status().instances.len(), 1);
    let pid = instance.pid.unwrap();
    assert!(processes::is_alive(pid));
    world.ok(&["unload", "larkfen-desk"]);
    assert!(!processes::is_alive(pid));
    let status = world.status();
    assert!(status.instances.is_empty() && status.pools[0].reserved == 0, "{status:?}");
    let said = world.deft(&["unload", "larkfen-desk"]);
    assert!(said.code == 3 && said.err.contains("is not loaded"), "{said:?}");
}

#[test]
fn instructions_can_be_forced_and_are_reported() {
    let world = World::new().with("DEFT_KERNELS", "scalar").start().stock();
    world.ok(&["load", "larkfen-desk-mini"]);
    assert_eq!(world.ready("larkfen-desk-mini/q8_0").kernels.as_deref(), Some("scalar"));
    let text = world.ok(&["depot", "inspect", "larkfen-desk-mini"]);
    assert!(text.contains("loaded, computes with scalar"), "{text}");
    let settings = world.ok(&["config"]);
    assert!(settings.contains("loading.kernels"), "{settings}");
    assert!(world.ok(&["status"]).contains("with scalar"), "the status shows it too");
    let question = "When do I sow Moonhook bean?";
    let asked = ["ask", "larkfen-desk-mini", question, "--temperature", "0"];
    let answer = world.ok(&asked);
    world.ok(&["service", "stop"]);
    let world = world.with("DEFT_KERNELS", "amx-simulated").start();
    let mini = world.ready("larkfen-desk-mini/q8_0");
    assert_eq!(mini.kernels.as_deref(), Some("AMX, simulated"));
    assert_eq!(world.ok(&asked), answer, "where no two tokens are near a tie");
    let said = World::new().with("DEFT_KERNELS", "abacus").deft(&["service", "start"]);
    assert!(said.code != 0 && said.err.contains("write one of them"), "{said:?}");
}

#[test]
fn what_does_not_fit_is_refused_with_the_figures() {
    let limited = World::new().with("DEFT_HOST_LIMIT", "10 MiB");
    let world = limited.with("DEFT_EVICT", "never").start().stock();
    world.ok(&["load", "larkfen-desk"]);
    let said = world.deft(&["load", "larkfen-desk-mini"]);
    assert_eq!(said.code, 4, "{said:?}");
    for part in
        ["of pool `host`", "of 10.0 MiB free", "held by `larkfen-desk/q8_0`", "makes it fit"]
    {
        assert!(said.err.contains(part), "{part} is missing: {said:?}");
    }
    let plan = world.deft(&["plan", "larkfen-desk-mini"]);
    assert!(plan.code == 4 && plan.out.contains("KV cache"), "{plan:?}");
    // A call for it is refused in the same way, and the loaded model still answers.
    let said = world.deft(&["ask", "larkfen-desk-mini", QUESTION]);
    assert!(said.code == 5 && said.err.contains("held by"), "it may come again: {said:?}");
    world.desk_answers();
    world.ok(&["unload", "--all"]);
    world.ok(&["load", "larkfen-desk-mini"]);
}

#[test]
fn several_models_are_planned_together() {
    let world = World::new().with("DEFT_HOST_LIMIT", "10 MiB").start().stock();
    // Each fits alone; what the first takes is missing for the second.
    for model in ["larkfen-desk", "larkfen-desk-mini"] {
        world.ok(&["plan", model]);
    }
    let said = world.deft(&["plan", "larkfen-desk", "larkfen-desk-mini"]);
    assert_eq!(said.code, 4, "{said:?}");
    assert!(said.out.contains("fits; load it: deft load larkfen-desk/q8_0"), "{said:?}");
    assert!(said.out.contains("pool `host`: 0 B reserved now, 7."), "{said:?}");
    assert!(said.err.contains("`larkfen-desk-mini/q8_0` needs"), "{said:?}");
    // Both fit with a narrower cache and one lane, and nothing was reserved by planning.
    world.ok(&["plan", "larkfen-desk", "larkfen-desk-mini", "--cache", "q8_0", "--lanes", "1"]);
    assert_eq!(world.status().pools[0].reserved, 0);
}

#[test]
fn a_refusals_ready_commands_do_what_they_promise() {
    let world = World::new().with("DEFT_HOST_LIMIT", "7 MiB").start().stock();
    let said = world.deft(&["load", "larkfen-desk"]);
    assert_eq!(said.code, 4, "{said:?}");
    let commands: Vec<Vec<&str>> = said
        .err
        .lines()
        .filter_map(|line| line.trim().strip_prefix("deft load "))
        .map(|line| line.split("  (").next().unwrap().split(' ').collect())
        .collect();
    assert!(commands.len() >= 3, "{said:?}");
    for command in commands {
        let arguments: Vec<&str> = ["load"].into_iter().chain(command).collect();
        world.ok(&arguments);
        world.ok(&["unload", "--all"]);
    }
}

#[test]
fn settings_out_of_range_are_refused_by_name() {
    let world = World::stocked();
    for (flag, value) in
        [("--context", "0"), ("--context", "2048"), ("--lanes", "10000"), ("--chunk", "0")]
    {
        let said = world.deft(&["load", "larkfen-desk", flag, value]);
        assert_eq!(said.code, 4, "{said:?}");
        assert!(said.err.contains(&format!("{} cannot be {value}", &flag[2..])), "{said:?}");
    }
    for (flag, value) in
        [("--lanes", "0"), ("--threads", "0"), ("--instances", "0"), ("--instances", "65")]
    {
        let said = world.deft(&["load", "larkfen-desk", flag, value]);
        assert!(said.code == 4 && said.err.contains("cannot be"), "{said:?}");
    }
    let unknown = world.deft(&["load", "larkfen-desk", "--cache", "q3"]);
    assert!(unknown.code == 2 && unknown.err.contains("q8_0"), "{unknown:?}");
    let (status, problem) = world.post(
        "/manage/v1/instances",
        serde_json::json!({"model": "larkfen-desk", "settings": {"cache": "q3"}}),
    );
    let detail = problem["detail"].as_str().unwrap();
    assert!(
        status == 400 && detail.contains("settings.cache") && detail.contains("q8_0"),
        "{detail}"
    );
    assert!(world.status().instances.is_empty(), "nothing was loaded by halves");
    world.ok(&["load", "larkfen-desk", "--context", "256", "--lanes", "1", "--cache", "f32"]);
}

#[test]
fn two_loads_of_the_same_at_once_are_one() {
    let world = World::stocked();
    let loads: Vec<_> =
        (0..4).map(|_| world.command(&["load", "larkfen-desk"]).spawn().unwrap()).collect();
    for mut load in loads {
        assert!(load.wait().unwrap().success());
    }
    assert_eq!(world.instances("larkfen-desk/q8_0").len(), 1);
    // So are calls that wait for one load.
    world.ok(&["unload", "larkfen-desk"]);
    let ask = ["ask", "larkfen-desk", QUESTION, "--temperature", "0"];
    let calls: Vec<_> = (0..4)
        .map(|_| world.command(&ask).stdout(std::process::Stdio::piped()).spawn().unwrap())
        .collect();
    for call in calls {
        let said = call.wait_with_output().unwrap();
        assert_eq!(String::from_utf8_lossy(&said.stdout).trim(), ANSWER);
    }
    assert_eq!(world.instances("larkfen-desk/q8_0").len(), 1);
}

#[test]
fn an_unload_during_a_load_leaves_nothing_behind() {
    let world = World::stocked();
    for _ in 0..4 {
        let load = world.command(&["load", "larkfen-desk"]);
        let load = { load }.stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap();
        until("it is loading", || world.instance("larkfen-desk/q8_0"));
        world.ok(&["unload", "larkfen-desk"]);
        // It was ready before, or says that it was unloaded.
        let said: Said = load.wait_with_output().unwrap().into();
        let (was_ready, was_unloaded) =
            (said.out.contains("is ready"), said.err.contains("unloaded"));
        assert!(was_ready != was_unloaded && was_ready == (said.code == 0), "{said:?}");
        let status = world.status();
        assert!(status.instances.is_empty() && status.pools[0].reserved == 0, "{status:?}");
    }
    world.ok(&["service", "restart"]);
    assert!(world.status().instances.is_empty(), "no requested instance is left either");
}

#[test]
fn a_call_during_a_drain_is_refused_and_one_during_a_replacement_waits() {
    let world = World::stocked();
    world.ok(&["load", "larkfen-desk", "--lanes", "1"]);
    let client = world.client();
    wait(async {
        let engine = world.instance("larkfen-desk/q8_0").unwrap().pid.unwrap();
        let mut stream = client.chat_stream(&unending("larkfen-desk")).await.unwrap();
        stream.next().await.unwrap();
        // A stopped engine keeps its call as long as the test needs, on a busy machine too.
        processes::halt(engine);
        let mut replacing =
            world.command(&["load", "larkfen-desk", "--lanes", "2"]).spawn().unwrap();
        let draining = || {
            world
                .instance("larkfen-desk/q8_0")
                .filter(|found| found.state == InstanceState::Draining)
        };
        until("it is drained", draining);
        let request = question("larkfen-desk", QUESTION);
        let asked = tokio::spawn(async move { client.chat(&request).await });
        drop(stream);
        processes::go_on(engine);
        let answer = asked.await.unwrap().unwrap();
        assert_eq!(answer.choices[0].message.content.as_deref(), Some(ANSWER));
        assert!(replacing.wait().unwrap().success());
        let replaced = world.ready("larkfen-desk/q8_0");
        assert_eq!(replaced.settings.lanes, 2);
        let (client, engine) = (world.client(), replaced.pid.unwrap());
        let mut stream = client.chat_stream(&unending("larkfen-desk")).await.unwrap();
        stream.next().await.unwrap();
        processes::halt(engine);
        let mut unloading = world.command(&["unload", "larkfen-desk"]).spawn().unwrap();
        until("it is drained", draining);
        let said = world.deft(&["ask", "larkfen-desk", QUESTION]);
        assert!(said.code == 5 && said.err.contains("is being unloaded"), "{said:?}");
        drop(stream);
        processes::go_on(engine);
        assert!(unloading.wait().unwrap().success());
    });
}

#[test]
fn a_call_loads_what_is_only_registered() {
    let world = World::stocked();
    let said = world.deft(&["ask", "larkfen-desk", QUESTION, "--temperature", "0", "--stats"]);
    assert_eq!(said.out.trim(), ANSWER);
    assert!(said.err.contains("load "), "{said:?}");
    let instance = world.instance("larkfen-desk/q8_0").unwrap();
    assert_eq!(instance.origin, Origin::OnDemand);
    // A load by the operator makes it permanent.
    world.ok(&["load", "larkfen-desk"]);
    assert_eq!(world.instance("larkfen-desk/q8_0").unwrap().origin, Origin::Requested);
}

#[test]
fn without_on_demand_a_call_says_how_to_load() {
    let world = World::new().with("DEFT_ON_DEMAND", "false").start().stock();
    let said = world.deft(&["ask", "larkfen-desk", QUESTION]);
    assert!(said.code == 4 && said.err.contains("deft load larkfen-desk/q8_0"), "{said:?}");
}
