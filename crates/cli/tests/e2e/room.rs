//! Eviction, reloading, and unloading of idle models. The pool has room for one of the two
//! demo models at a time.

use std::sync::atomic::{AtomicBool, AtomicU32, Ordering};

use deft_client::ClientError;
use deft_protocol::ProblemKind;
use deft_protocol::chat::ChatRequest;
use deft_protocol::manage::{InstanceState, Origin};
use serde_json::json;

use crate::processes;
use crate::world::{ANSWER, QUESTION, World, project, question, unending, until, wait};

const DESK: &str = "larkfen-desk/q8_0";
const MINI: &str = "larkfen-desk-mini/q8_0";

fn narrow() -> World {
    World::new().with("DEFT_HOST_LIMIT", "10 MiB").start().stock()
}

fn state(world: &World, name: &str) -> Option<InstanceState> {
    world.instance(name).map(|instance| instance.state)
}

fn evicted(world: &World, name: &str) -> String {
    let found = until(&format!("{name} is evicted"), || {
        world.instance(name).filter(|found| found.state == InstanceState::Evicted)
    });
    assert!(found.pid.is_none() && found.measured_bytes.is_none());
    found.note.unwrap()
}

#[test]
fn a_call_makes_room_and_what_is_kept_comes_back_by_itself() {
    let world = narrow();
    world.ok(&["load", "larkfen-desk"]);
    assert!(!world.ok(&["ask", "larkfen-desk-mini", "Hello"]).is_empty());
    let why = evicted(&world, DESK);
    assert!(why.contains(&format!("evicted for a call of `{MINI}`")), "{why}");
    assert_eq!(world.ready(MINI).origin, Origin::OnDemand);
    let pool = world.status().pools.remove(0);
    assert!(pool.reserved <= pool.limit, "{pool:?}");
    assert!(world.log().contains(&format!("evict `{DESK}`: evicted for a call")), "so has the log");
    let why = world.ok(&["status", "--why"]);
    assert!(why.contains(&format!("evict `{DESK}`: evicted for a call")), "{why}");
    assert!(why.contains("loaded for a call; needs"), "{why}");
    world.ok(&["unload", "larkfen-desk-mini"]);
    assert_eq!(world.ready(DESK).origin, Origin::Requested);
    world.desk_answers();
}

#[test]
fn a_call_for_what_was_evicted_brings_it_back_as_it_was_kept() {
    let world = narrow();
    world.ok(&["load", "larkfen-desk", "--lanes", "3", "--importance", "2"]);
    world.ok(&["ask", "larkfen-desk-mini", "Hello"]);
    evicted(&world, DESK);
    world.desk_answers();
    let back = world.ready(DESK);
    assert_eq!((back.origin, back.settings.lanes), (Origin::Requested, 3));
    assert_eq!(back.settings.importance, 2);
    assert_eq!(state(&world, MINI), None, "what a call had brought is gone");
}

#[test]
fn pinned_and_busy_instances_are_never_evicted() {
    let world = narrow();
    world.ok(&["load", "larkfen-desk", "--pinned"]);
    let said = world.deft(&["ask", "larkfen-desk-mini", "Hello"]);
    assert!(said.code == 5 && said.err.contains(&format!("held by `{DESK}`")), "{said:?}");
    assert_eq!(state(&world, DESK), Some(InstanceState::Ready));
    // Without the pin, but with a call under way.
    world.ok(&["load", "larkfen-desk", "--no-pinned"]);
    let client = world.client();
    let engine = world.instance(DESK).unwrap().pid.unwrap();
    wait(async {
        let mut stream = client.chat_stream(&unending("larkfen-desk")).await.unwrap();
        stream.next().await.unwrap();
        // So that it is not done before its time, on a busy machine as well.
        processes::halt(engine);
        // It waits for the call to end, as long as its deadline says.
        let mut hasty = question("larkfen-desk-mini", "Hello");
        hasty.options.wait_seconds = Some(0.4);
        let Err(ClientError::Refused(problem)) = client.chat(&hasty).await else {
            panic!("there was room");
        };
        assert_eq!((problem.kind, problem.code.as_str()), (ProblemKind::Busy, "no_room"));
        assert!(problem.detail.contains("no memory became free within 0.4 s"), "{problem}");
        assert!(problem.detail.contains(&format!("held by `{DESK}`")), "{problem}");
        let patient = world.client();
        let asked = question("larkfen-desk-mini", "Hello");
        let waiting = tokio::spawn(async move { patient.chat(&asked).await });
        until("the log reports that it waits", || world.log().contains("wait `").then_some(()));
        processes::go_on(engine);
        assert!(stream.next().await.unwrap().is_some(), "the running answer goes on");
        drop(stream);
        waiting.await.unwrap().expect("there was room as soon as the call had ended");
    });
    assert_eq!(state(&world, DESK), Some(InstanceState::Evicted));
}

#[test]
fn a_refused_call_has_a_retry_time() {
    let world = narrow();
    world.ok(&["load", "larkfen-desk", "--pinned"]);
    let url = format!("{}/v1/chat/completions", world.address());
    let body =
        json!({"model": "larkfen-desk-mini", "messages": [{"role": "user", "content": "Hi"}]});
    let (status, retry) = wait(async move {
        let response = reqwest::Client::new().post(url).json(&body).send().await.unwrap();
        let retry = response.headers().get("retry-after").unwrap().to_str().unwrap().to_owned();
        (response.status().as_u16(), retry)
    });
    assert_eq!((status, retry.as_str()), (503, "10"));
}

#[test]
fn the_operator_says_who_may_make_room() {
    let world = World::new()
        .with("DEFT_HOST_LIMIT", "10 MiB")
        .with("DEFT_EVICT", "on-demand")
        .start()
        .stock();
    world.ok(&["load", "larkfen-desk"]);
    assert_eq!(world.deft(&["ask", "larkfen-desk-mini", "Hello"]).code, 5);
    world.ok(&["unload", "larkfen-desk"]);
    // What a call brought may go for another call.
    world.ok(&["ask", "larkfen-desk-mini", "Hello"]);
    world.desk_answers();
    assert_eq!(state(&world, MINI), None);
}

#[test]
fn an_idle_limit_unloads_and_a_call_brings_back() {
    let world = World::stocked();
    world.ok(&["load", "larkfen-desk-mini", "--idle", "answered"]);
    world.ok(&["load", "larkfen-desk", "--idle", "1s"]);
    assert_eq!(state(&world, MINI), Some(InstanceState::Ready), "it was not asked yet");
    world.ok(&["ask", "larkfen-desk-mini", "Hello"]);
    assert!(evicted(&world, MINI).contains("it has no more calls"));
    assert!(evicted(&world, DESK).contains("idle for 1s"));
    // Room there is, yet nobody called: they rest until somebody does. A limit that changes has the fleet look for
    // what it could load again, and nothing is loaded once that is done.
    world.ok(&["limit", "host", "75%"]);
    let before = world.status().decisions.len();
    let other = project("demo/larkfen-desk/larkfen-desk-f16.gguf");
    world.ok(&["depot", "register", &other.to_string_lossy()]);
    world.ok(&["load", "larkfen-desk/f16"]);
    until("the load was decided", || (world.status().decisions.len() > before).then_some(()));
    assert_eq!(state(&world, DESK), Some(InstanceState::Evicted));
    world.desk_answers();
    let wrong = world.deft(&["load", "larkfen-desk", "--idle", "soon"]);
    assert!(wrong.code == 2 && wrong.err.contains("`never`, `answered`"), "{wrong:?}");
}

#[test]
fn a_call_may_ask_for_release_as_soon_as_it_is_answered() {
    let world = World::stocked();
    let ask = |release: bool| {
        let answer = world.posted(
            "/v1/chat/completions",
            json!({"model": "larkfen-desk", "temperature": 0, "release": release,
                   "messages": [{"role": "user", "content": QUESTION}]}),
        );
        assert_eq!(answer["choices"][0]["message"]["content"], ANSWER);
    };
    ask(false);
    assert_eq!(state(&world, DESK), Some(InstanceState::Ready));
    ask(true);
    until("it does not exist", || state(&world, DESK).is_none().then_some(()));
    world.ok(&["load", "larkfen-desk", "--pinned"]);
    ask(true);
    assert_eq!(state(&world, DESK), Some(InstanceState::Ready), "pinned ones stay");
}

#[test]
fn other_settings_replace_an_instance_once_they_are_sure_to_fit() {
    let world = narrow();
    world.ok(&["load", "larkfen-desk"]);
    let before = world.ready(DESK);
    world.ok(&["load", "larkfen-desk", "--context", "512", "--cache", "q8_0"]);
    let after = world.ready(DESK);
    assert_ne!(after.pid, before.pid);
    assert_eq!((after.settings.context, after.settings.cache.name()), (512, "q8_0"));
    let said = world.deft(&["load", "larkfen-desk", "--lanes", "40"]);
    assert!(said.code == 4 && said.err.contains("makes it fit"), "{said:?}");
    assert_eq!(world.ready(DESK).pid, after.pid, "what was there goes on");
    // Settings of the idle time need no new process.
    world.ok(&["load", "larkfen-desk", "--context", "512", "--cache", "q8_0", "--pinned"]);
    let pinned = world.ready(DESK);
    assert!(pinned.settings.pinned && pinned.pid == after.pid);
    world.ok(&["service", "restart"]);
    let restored = world.ready(DESK).settings;
    assert!(restored.pinned && restored.context == 512, "{restored:?}");
}

/// Says that it is over when it goes, also where something failed.
struct Over<'a>(&'a AtomicBool);

impl Drop for Over<'_> {
    fn drop(&mut self) {
        self.0.store(true, Ordering::Relaxed);
    }
}

#[test]
fn a_model_that_always_has_calls_gives_way_to_one_that_waits_and_loses_none_of_them() {
    let world = World::new()
        .with("DEFT_HOST_LIMIT", "10 MiB")
        .with("DEFT_EVICT_BUSY_SECONDS", "1")
        .with("DEFT_HANG_SECONDS", "600")
        .start()
        .stock();
    world.ok(&["load", "larkfen-desk"]);
    let over = AtomicBool::new(false);
    let ask = |request: &ChatRequest| wait(world.client().chat(request)).map(|_| ());
    let mut long = unending("larkfen-desk");
    (long.options.stream, long.options.max_tokens) = (None, Some(200));
    let answered: [AtomicU32; 5] = Default::default();
    let counts = || answered.each_ref().map(|count| count.load(Ordering::Relaxed));
    std::thread::scope(|scope| {
        let _ends = Over(&over);
        // More of them than there are lanes: it is never idle.
        for answered in &answered {
            let (over, long) = (&over, &long);
            scope.spawn(move || {
                while !over.load(Ordering::Relaxed) {
                    ask(long).expect("no call is lost");
                    answered.fetch_add(1, Ordering::Relaxed);
                }
            });
        }
        // Again and again each has its turn.
        for turn in 1..=3 {
            until("the other one is here", || {
                (state(&world, DESK) == Some(InstanceState::Ready)).then_some(())
            });
            // The engine is stopped until it must be evicted, so that it is never idle.
            let engine = world.ready(DESK).pid.unwrap();
            processes::halt(engine);
            until("calls wait for lanes", || {
                world.instance(DESK).filter(|found| found.queued > 0 && found.calls == 2)
            });
            let waits = scope.spawn(|| ask(&question("larkfen-desk-mini", QUESTION)));
            until("it is to give way", || {
                let drains = world.log().matches(&format!("drain `{DESK}`")).count();
                (drains >= turn).then_some(())
            });
            processes::go_on(engine);
            waits.join().unwrap().expect("it has its turn");
            let before = counts();
            until("the other one is back and answers all who call it", || {
                let now = counts();
                now.iter().zip(before).all(|(now, before)| *now > before).then_some(())
            });
        }
    });
    let why = world.ok(&["status", "--why"]);
    assert!(why.contains(&format!("drain `{DESK}`: it takes no more calls")), "{why}");
    assert_eq!(world.ready(DESK).origin, Origin::Requested, "it came back as it was");
}
