//! The service is killed at random moments of each kind of change: everything is as it was before or as it is
//! after, and as it is after where the change had been answered.

use std::process::{Child, Stdio};
use std::time::{Duration, Instant};

use crate::processes;
use crate::world::{World, mini, until, wait};

pub(crate) const FIRST: &str = "larkfen-row/q8_0";
pub(crate) const SECOND: &str = "larkfen-bed/q8_0";
/// Time after which a start has reported all of its loads.
const SETTLED: Duration = Duration::from_secs(1);

/// What the depot has, and whether it is to be loaded.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Kept {
    pub(crate) name: Option<&'static str>,
    pub(crate) is_loaded: bool,
}

/// A change: the command, and how long it takes about, in milliseconds.
pub(crate) struct Change {
    pub(crate) command: Vec<String>,
    pub(crate) takes: u64,
    pub(crate) after: Kept,
}

/// What comes next in a round: import, rename, load, a restart in two halves, unload, remove.
fn next(now: &Kept, round: &mut u64) -> Change {
    *round += 1;
    let change = |command: &[&str], takes: u64, name: Option<&'static str>, is_loaded: bool| {
        let command = command.iter().map(|part| (*part).to_owned()).collect();
        Change { command, takes, after: Kept { name, is_loaded } }
    };
    let same = now.clone();
    match (now.name, now.is_loaded, *round % 4) {
        (.., 3) => Change { after: same, ..change(&["service", "stop"], 400, None, false) },
        (None, ..) => {
            let file = mini();
            change(
                &["depot", "import", &file.to_string_lossy(), "--as", FIRST],
                300,
                Some(FIRST),
                false,
            )
        }
        (Some(FIRST), ..) => change(&["depot", "rename", FIRST, SECOND], 120, Some(SECOND), false),
        (Some(name), false, 0 | 1) => change(&["load", name], 300, Some(name), true),
        (Some(_), false, _) => change(&["depot", "remove", SECOND], 120, None, false),
        (Some(name), true, _) => change(&["unload", name], 120, Some(name), false),
    }
}

/// The state after all changes have ended.
pub(crate) fn found(world: &World) -> Kept {
    let variants = wait(world.client().depot()).unwrap();
    let names: Vec<String> = variants.into_iter().map(|variant| variant.name).collect();
    let name = match names.iter().map(String::as_str).collect::<Vec<_>>()[..] {
        [] => None,
        [FIRST] => Some(FIRST),
        [SECOND] => Some(SECOND),
        _ => panic!("half of a change: {names:?}"),
    };
    let began = Instant::now();
    let is_loaded = || name.is_some_and(|name| world.instance(name).is_some());
    while !is_loaded() && began.elapsed() < SETTLED {
        std::thread::sleep(Duration::from_millis(50));
    }
    if is_loaded() {
        world.ready(name.unwrap());
    }
    Kept { name, is_loaded: is_loaded() }
}

/// Ends all that runs of the service, the hard way.
fn kill(world: &World) {
    let is_service = |command: &str| command.contains("service start");
    until("all is gone", || {
        // One that is just beginning has no command line yet.
        let found = processes::of_folder(&world.data_dir());
        for (pid, _) in found.iter().filter(|(_, command)| is_service(command)) {
            processes::end(*pid);
        }
        found.is_empty().then_some(())
    });
}

fn begin(world: &World, command: &[String]) -> Child {
    let parts: Vec<&str> = command.iter().map(String::as_str).collect();
    let mut command = world.command(&parts);
    command.stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap()
}

/// Nothing is lost, and nothing half there.
pub(crate) fn is_whole(world: &World, kept: &Kept, case: &str) {
    let verified = world.ok(&["depot", "verify"]);
    let files = usize::from(kept.name.is_some());
    assert!(files == 0 || verified.contains("1 file verified"), "{verified}\n{case}");
    let folder = world.data_dir().join("depot");
    let count = |name: &str| std::fs::read_dir(folder.join(name)).map_or(0, Iterator::count);
    assert_eq!((count("incoming"), count("models")), (0, files), "{case}");
    assert!(wait(world.client().not_understood()).unwrap().is_empty(), "{case}");
}

#[test]
fn killed_in_the_middle_of_a_change_it_is_made_or_not_and_what_was_answered_is_made() {
    let points = std::env::var("KILL_POINTS").ok().and_then(|text| text.parse().ok()).unwrap_or(2);
    let mut world = World::new().start();
    let mut now = Kept { name: None, is_loaded: false };
    // A linear congruential generator: the same moments each time.
    let (mut state, mut round, mut made) = (11_u64, 0, 0);
    for point in 0..points {
        state =
            state.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        let change = next(&now, &mut round);
        let moment = Duration::from_millis((state >> 33) % change.takes);
        let mut asked = begin(&world, &change.command);
        std::thread::sleep(moment);
        let answered = asked.try_wait().unwrap().is_some_and(|status| status.success());
        kill(&world);
        let _ = asked.wait();
        if point % 5 == 4 {
            // And once more, in the middle of its start.
            let mut starting = begin(&world, &["service".into(), "start".into()]);
            std::thread::sleep(Duration::from_millis((state >> 40) % 1_500));
            kill(&world);
            let _ = starting.wait();
        }
        world = world.start();
        let case = format!("point {point}: {:?}, {moment:?}, answered: {answered}", change.command);
        let then = found(&world);
        let allowed = then == change.after || (!answered && then == now);
        assert!(allowed, "{case}: {now:?}, then {then:?}\n{}", world.log());
        is_whole(&world, &then, &case);
        made += u32::from(then == change.after);
        now = then;
    }
    println!("{points} points, of which {made} found the change made");
}
