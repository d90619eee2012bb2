//! Fetching whatever happens: breaks, restarts, kills, two at once, bad content.

use std::os::unix::fs::PermissionsExt;
use std::path::Path;
use std::time::Duration;

use deft_protocol::manage::{PullRequest, Transfer, TransferState};
use deft_standins::Behaviour;

use crate::processes;
use crate::sources::Shelf;
use crate::world::{World, desk, project, until, wait};

const REFERENCE: &str = "larkfen:larkfen-desk/q8_0";
const NAME: &str = "larkfen-desk/q8_0";

fn request() -> PullRequest {
    PullRequest { reference: REFERENCE.to_owned(), name: None, limit: None }
}

fn begin(world: &World) -> Transfer {
    wait(world.client().pull(&request())).unwrap()
}

fn transfer(world: &World, begun: &Transfer) -> Transfer {
    wait(world.client().transfer(begun.id)).unwrap()
}

/// Limits the speed, so that the desk's file takes about this many seconds.
fn slowly(seconds: u64) -> Behaviour {
    let rate = Some(desk().metadata().unwrap().len() / seconds);
    Behaviour { rate, ..Behaviour::default() }
}

/// Sends the beginning at once and the rest within minutes: however busy the machine is, the fetch is
/// still running when the test checks it. A change of the stand-in's behaviour makes it fast.
fn until_seen() -> Behaviour {
    Behaviour { slow_from: 512 << 10, ..slowly(600) }
}

fn is_listed(world: &World, name: &str) -> bool {
    wait(world.client().depot()).unwrap().iter().any(|found| found.name == name)
}

fn count(folder: &Path) -> usize {
    std::fs::read_dir(folder).map_or(0, Iterator::count)
}

#[test]
fn a_fetch_goes_on_when_its_terminal_is_closed_and_everybody_sees_it() {
    let shelf = Shelf::new();
    let world = shelf.world();
    shelf.hub.behave(until_seen());
    let mut terminal = world.command(&["depot", "pull", REFERENCE]).spawn().unwrap();
    let running = until("it runs", || {
        let all = wait(world.client().transfers()).unwrap();
        all.into_iter().find(|found| found.done_bytes > 0 && found.rate.is_some())
    });
    assert!(running.seconds_left.is_some() && running.files.len() == 1, "{running:?}");
    terminal.kill().unwrap();
    terminal.wait().unwrap();
    assert!(world.ok(&["transfers"]).contains("running"));
    // The same once more is the same transfer.
    assert_eq!(begin(&world).id, running.id);
    assert!(!is_listed(&world, NAME), "nothing half fetched is listed");
    shelf.hub.behave(Behaviour::default());
    let table = world.ok(&["transfers", "--follow"]);
    assert!(table.contains("stored as `larkfen-desk/q8_0`"), "{table}");
    world.desk_answers();
}

#[test]
fn a_fetch_can_be_slowed_and_cancelled_and_leaves_nothing() {
    let shelf = Shelf::new();
    let world = shelf.world();
    let wrong = world.deft(&["depot", "pull", REFERENCE, "--limit", "fast"]);
    assert!(wrong.code == 4 && wrong.err.contains("is not a rate"), "{wrong:?}");
    world.ok(&["depot", "pull", REFERENCE, "--limit", "200KiB/s", "--detach"]);
    let running = until("it runs", || {
        let all = wait(world.client().transfers()).unwrap();
        all.into_iter().find(|found| found.done_bytes > 0 && found.state == TransferState::Running)
    });
    std::thread::sleep(Duration::from_secs(2));
    let rate = transfer(&world, &running).rate.unwrap();
    assert!(rate < 300.0 * 1024.0, "{rate} bytes a second");
    world.ok(&["transfers", "--cancel", &running.id.to_string()]);
    until("it is cancelled", || {
        (transfer(&world, &running).state == TransferState::Cancelled).then_some(())
    });
    until("nothing is left", || {
        (count(&world.data_dir().join("depot/incoming")) == 0).then_some(())
    });
    world.ok(&["depot", "pull", REFERENCE]);
    // A model may be removed while it is pulled: one of the two is last.
    world.ok(&["depot", "pull", "larkfen:larkfen-find/q8_0"]);
    world.ok(&["depot", "remove", NAME]);
    shelf.hub.behave(until_seen());
    let begun = begin(&world);
    until("it runs", || (transfer(&world, &begun).done_bytes > 0).then_some(()));
    assert_eq!(world.deft(&["depot", "remove", NAME]).code, 3, "it is not there yet");
    world.ok(&["depot", "remove", "larkfen-find"]);
    shelf.hub.behave(Behaviour::default());
    until("it is done", || (transfer(&world, &begun).state == TransferState::Done).then_some(()));
    world.desk_answers();
}

#[test]
fn a_fetch_goes_on_after_a_restart_with_what_is_here() {
    let shelf = Shelf::new();
    // Larger than a segment: complete segments are not fetched again.
    let big = shelf.file("index/larkfen-big.gguf");
    pad(&desk(), &big, 24 << 20);
    shelf.describe();
    let world = shelf.world();
    let (reference, total) = ("larkfen:larkfen-big/q8_0", big.metadata().unwrap().len());
    shelf.hub.behave(Behaviour { slow_from: 18 << 20, ..slowly(600) });
    let request = PullRequest { reference: reference.to_owned(), name: None, limit: None };
    let begun = wait(world.client().pull(&request)).unwrap();
    until("two segments are here", || {
        (transfer(&world, &begun).done_bytes > 17 << 20).then_some(())
    });
    let status = wait(world.client().status()).unwrap().0;
    processes::kill(status.pid);
    until("it does not exist", || (!processes::is_alive(status.pid)).then_some(()));
    shelf.hub.behave(Behaviour::default());
    let world = world.start();
    let done = until("it went on and is done", || {
        let found = transfer(&world, &begun);
        found.state.has_ended().then_some(found)
    });
    assert_eq!(done.state, TransferState::Done, "{done:?}");
    // Its header is read again.
    let most = total - (16 << 20) + (1 << 20);
    assert!(shelf.hub.sent() < most, "{} sent, of {total}", shelf.hub.sent());
    assert!(world.ok(&["depot", "verify"]).contains("1 file verified"));
}

#[test]
fn a_token_that_expires_meanwhile_ends_it_and_a_new_one_lets_it_go_on() {
    let shelf = Shelf::new();
    let world = shelf.world();
    let half = desk().metadata().unwrap().len() / 2;
    shelf.hub.behave(Behaviour { break_after: Some(half), breaks: Some(1), ..until_seen() });
    let begun = begin(&world);
    until("it runs", || (transfer(&world, &begun).done_bytes > 0).then_some(()));
    let token = Some("larkfen-new".to_owned());
    shelf.hub.behave(Behaviour { token, break_after: Some(half), ..Behaviour::default() });
    let ended = until("it ends", || {
        let found = transfer(&world, &begun);
        found.state.has_ended().then_some(found)
    });
    let problem = ended.problem.unwrap();
    assert_eq!(problem.code, "token_refused", "{problem:?}");
    assert!(problem.way_out.unwrap().contains("--ask-token"));
    assert!(!is_listed(&world, NAME));
    let token = Some("larkfen-new".to_owned());
    shelf.hub.behave(Behaviour { token, ..Behaviour::default() });
    let file = shelf.file("token");
    std::fs::write(&file, "larkfen-new").unwrap();
    std::fs::set_permissions(&file, std::fs::Permissions::from_mode(0o600)).unwrap();
    let (address, path) = (shelf.url("index"), file.to_string_lossy().into_owned());
    world.ok(&["source", "add", "larkfen", &address, "--token-file", &path]);
    world.ok(&["depot", "pull", REFERENCE]);
    world.desk_answers();
}

/// How many objects there are.
fn objects_in(folder: &Path) -> usize {
    let buckets = std::fs::read_dir(folder).unwrap();
    buckets.map(|bucket| count(&bucket.unwrap().path())).sum()
}

/// A model followed by a number of zero bytes, which readers of headers ignore.
fn pad(source: &Path, target: &Path, bytes: u64) {
    std::fs::copy(source, target).unwrap();
    let file = std::fs::File::options().write(true).open(target).unwrap();
    file.set_len(source.metadata().unwrap().len() + bytes).unwrap();
}

#[test]
fn what_was_spoilt_is_fetched_again_from_where_it_came() {
    let shelf = Shelf::new();
    let world = shelf.world();
    world.ok(&["depot", "pull", REFERENCE]);
    world.ok(&["depot", "pull", "larkfen:larkfen-find/q8_0"]);
    let spoil = |model: &str| {
        let path = world.ok(&["depot", "path", model]);
        let path = Path::new(path.trim()).to_owned();
        std::fs::set_permissions(&path, std::fs::Permissions::from_mode(0o644)).unwrap();
        let file = std::fs::File::options().write(true).open(&path).unwrap();
        std::os::unix::fs::FileExt::write_all_at(&file, b"spoilt", 500_000).unwrap();
        path
    };
    let path = spoil("larkfen-desk");
    let said = world.ok(&["depot", "verify"]);
    assert_eq!(said.trim(), "1 file verified, 1 pulled again");
    assert_eq!(std::fs::read(&path).unwrap(), std::fs::read(desk()).unwrap());
    assert!(world.ok(&["depot", "verify"]).contains("2 files verified"));
    world.desk_answers();
    // Two variants share the content; one of them was replaced by a file of another origin.
    world.ok(&["depot", "pull", REFERENCE, "--as", "counter/q8_0"]);
    let theirs = world.ok(&["depot", "path", "counter"]);
    std::fs::remove_file(theirs.trim()).unwrap();
    std::fs::write(theirs.trim(), "theirs").unwrap();
    spoil("larkfen-desk");
    let said = world.deft(&["depot", "verify"]);
    assert!(said.code == 1 && said.err.contains("other content than `counter/q8_0`"), "{said:?}");
    assert_eq!(std::fs::read_to_string(theirs.trim()).unwrap(), "theirs");
    let load = world.deft(&["load", "counter"]);
    assert!(load.code != 0, "it is not used: {load:?}");
    world.desk_answers();
    std::fs::remove_file(theirs.trim()).unwrap();
    world.ok(&["depot", "verify", "counter"]);
    world.ok(&["depot", "remove", "counter"]);
    // Its source has another state now.
    let spoilt = spoil("larkfen-find");
    let said = world.deft(&["load", "larkfen-find"]);
    assert!(said.err.contains("deft depot verify larkfen-find/q8_0"), "{said:?}");
    // Its source cannot be reached, so the damaged file stays: it may be better than nothing.
    let status = Some(403);
    shelf.hub.behave(Behaviour { status, ..Behaviour::default() });
    let said = world.deft(&["depot", "verify", "larkfen-find"]);
    assert!(said.code == 1 && said.err.contains("denies access"), "{said:?}");
    let digest = deft_depot::digest_of_file(&spoilt).unwrap().0;
    let objects = world.data_dir().join("depot/objects/sha256");
    assert_eq!(objects_in(&objects), 2, "nothing was lost, {digest}");
    shelf.hub.behave(Behaviour::default());
    let other = project("demo/larkfen-find/larkfen-find-f16.gguf");
    std::fs::copy(other, shelf.file("index/larkfen-find-q8_0.gguf")).unwrap();
    shelf.describe();
    let said = world.deft(&["depot", "verify", "larkfen-find"]);
    assert!(said.code == 1 && said.err.contains("has changed since it was imported"), "{said:?}");
}

#[test]
fn content_that_cannot_be_relied_on_is_refused_and_nothing_is_kept_of_it() {
    let shelf = Shelf::new();
    let world = shelf.world();
    let refused = |reference: &str, part: &str| {
        let said = world.deft(&["depot", "pull", reference]);
        assert!(said.code > 2 && said.err.contains(part), "{part}: {said:?}");
        assert!(!is_listed(&world, NAME));
    };
    shelf.hub.behave(Behaviour { lies: true, ..Behaviour::default() });
    refused(REFERENCE, "was announced. It is not used");
    let waiting = std::fs::read_dir(world.data_dir().join("depot/incoming")).unwrap();
    let names = waiting.map(|entry| entry.unwrap().file_name().to_string_lossy().into_owned());
    let aside = names.filter(|name| name.starts_with("wrong-")).count();
    assert_eq!(aside, 1);
    shelf.hub.behave(Behaviour { page: true, ..Behaviour::default() });
    refused(&shelf.url("index/larkfen-desk-q8_0.gguf"), "is a web page, not a model file");
    shelf.hub.behave(Behaviour::default());
    refused(&shelf.url("index/larkfen-none.gguf"), "does not exist (status 404)");
    refused(&shelf.url("index/seeds/config.json"), "names no file that ends in .gguf");
    refused(&shelf.url("index/larkfen-x-00001-of-00002.gguf"), "does not exist (status 404)");
    // A family that is not supported is refused before its weights come.
    let foreign = project("golden/bad/41-unknown-architecture.gguf");
    std::fs::copy(foreign, shelf.file("index/larkfen-foreign.gguf")).unwrap();
    refused(&shelf.url("index/larkfen-foreign.gguf"), "is not supported; supported: llama");
    let said = world.deft(&["depot", "preview", &shelf.url("index/larkfen-foreign.gguf")]);
    assert!(said.code == 4 && said.err.contains("is not supported"), "{said:?}");
    // A part is missing.
    let part = project("golden/split/llama-00001-of-00003.gguf");
    std::fs::copy(part, shelf.file("index/llama-00001-of-00003.gguf")).unwrap();
    refused(&shelf.url("index/llama-00001-of-00003.gguf"), "llama-00002-of-00003.gguf");
    std::fs::write(shelf.file("index/larkfen-empty.gguf"), "").unwrap();
    refused(&shelf.url("index/larkfen-empty.gguf"), "is empty");
    for (status, part) in [(403, "denies access"), (500, "status 500")] {
        let status = Some(status);
        let later = Some("600".to_owned());
        shelf.hub.behave(Behaviour { status, retry_after: later, ..Behaviour::default() });
        refused(REFERENCE, part);
    }
    let status = Some(429);
    let later = Some("600".to_owned());
    shelf.hub.behave(Behaviour { status, retry_after: later, ..Behaviour::default() });
    refused(REFERENCE, "retry in 600 s");
    assert_eq!(count(&world.data_dir().join("depot/models")), 0);
    assert_eq!(count(&world.data_dir().join("depot/incoming")), 1, "only what was put aside");
}

/// A file system of a few MiB that goes when this is dropped.
struct SmallDisk(std::path::PathBuf);

impl SmallDisk {
    /// Only root may; `cargo xtask test` leaves tests that need it out for others, and says so.
    fn mount(folder: &Path, size: &str) -> Self {
        std::fs::create_dir_all(folder).unwrap();
        let options = ["-t", "tmpfs", "-o", &format!("size={size}"), "tmpfs"];
        let mounted = std::process::Command::new("mount").args(options).arg(folder).output();
        let mounted = mounted.expect("`mount` can be started");
        assert!(mounted.status.success(), "{}", String::from_utf8_lossy(&mounted.stderr));
        Self(folder.to_owned())
    }
}

impl Drop for SmallDisk {
    fn drop(&mut self) {
        let _ = std::process::Command::new("umount").arg("-l").arg(&self.0).status();
    }
}

#[test]
fn as_root_a_disk_that_is_full_is_reported_and_what_was_begun_has_its_room() {
    let shelf = Shelf::new();
    let world = World::new();
    let disk = SmallDisk::mount(&world.data_dir().join("depot"), "4m");
    let world = shelf.known_to(world.start());
    // Others take all that is free while it comes: its own room was reserved before the first byte.
    shelf.hub.behave(until_seen());
    let begun = begin(&world);
    until("it runs", || (transfer(&world, &begun).done_bytes > 0).then_some(()));
    let filler = disk.0.join("filler");
    assert!(std::fs::write(&filler, vec![7; 4 << 20]).is_err(), "the disk is full now");
    shelf.hub.behave(Behaviour::default());
    until("it is kept", || is_listed(&world, NAME).then_some(()));
    world.desk_answers();
    let incoming = disk.0.join("incoming");
    let find = project("demo/larkfen-find/larkfen-find-q8_0.gguf");
    let other = project("demo/larkfen-desk/larkfen-desk-f16.gguf");
    for command in [
        vec!["depot", "pull", "larkfen:larkfen-find/q8_0"],
        vec!["depot", "import", find.to_str().unwrap(), "--as", "other"],
        vec!["depot", "import", other.to_str().unwrap()],
    ] {
        let said = world.deft(&command);
        assert!(said.code == 4 && said.err.contains("are needed"), "{said:?}");
        assert!(said.err.contains(" more. Show") || said.err.contains(" more. Show"), "{said:?}");
        assert_eq!(count(&incoming), 0, "{command:?} left something behind");
    }
    assert_eq!(wait(world.client().depot()).unwrap().len(), 1);
    assert!(world.ok(&["depot", "verify"]).contains("verified"));
    std::fs::remove_file(filler).unwrap();
    world.ok(&["depot", "pull", "larkfen:larkfen-find/q8_0"]);
}

#[test]
fn an_index_that_leads_astray_is_refused_as_a_whole() {
    let shelf = Shelf::new();
    let world = shelf.world();
    let file = shelf.file("index/depot-index.json");
    let good = std::fs::read_to_string(&file).unwrap();
    let long = "x".repeat(300);
    for (from, to, part) in [
        (
            "\"larkfen-desk-q8_0.gguf\"",
            "\"../larkfen.gguf\"".to_owned(),
            "outside the folder of the index",
        ),
        (
            "\"larkfen-desk-q8_0.gguf\"",
            "\"/etc/passwd\"".to_owned(),
            "outside the folder of the index",
        ),
        (
            "\"larkfen-desk-q8_0.gguf\"",
            "\"a\\u0007b.gguf\"".to_owned(),
            "outside the folder of the index",
        ),
        (
            "\"larkfen-desk-q8_0.gguf\"",
            format!("\"{long}.gguf\""),
            "outside the folder of the index",
        ),
        ("\"larkfen-desk\"", format!("\"{long}\""), "is not a valid name"),
        ("\"larkfen-desk\"", "\"../desk\"".to_owned(), "is not a valid name"),
        ("\"depot_index\": 1", "\"depot_index\": 9".to_owned(), "version 9"),
        ("{", "[".to_owned(), "not a depot index"),
    ] {
        assert!(good.contains(from), "{from}");
        std::fs::write(&file, good.replacen(from, &to, 1)).unwrap();
        let said = world.deft(&["depot", "pull", REFERENCE]);
        assert!(said.code == 4 && said.err.contains(part), "{to}: {said:?}");
        let said = world.deft(&["depot", "search"]);
        assert!(said.err.contains("was skipped") && said.err.contains(part), "{said:?}");
    }
}

/// The service is killed at a random moment of a fetch, so often; each time everything is as it was
/// before or as it is after, and the fetch comes to its end by itself.
#[test]
fn killed_at_any_moment_nothing_is_lost_and_nothing_half_listed() {
    let points = std::env::var("KILL_POINTS").ok().and_then(|text| text.parse().ok()).unwrap_or(5);
    let shelf = Shelf::new();
    let mut world = shelf.world();
    shelf.hub.behave(slowly(1));
    // A linear congruential generator: the same moments each time.
    let mut state = 7_u64;
    for point in 0..points {
        state =
            state.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        let moment = Duration::from_millis((state >> 33) % 1_600);
        let begun = begin(&world);
        std::thread::sleep(moment);
        let pid = wait(world.client().status()).unwrap().0.pid;
        processes::kill(pid);
        until("it does not exist", || (!processes::is_alive(pid)).then_some(()));
        world = world.start();
        let case = format!("point {point}, {moment:?}\n{}", world.log());
        let manifest = world.data_dir().join("depot/models").join(NAME).join(".deft-variant.json");
        // Whatever is listed is whole: it is verified, and answers.
        if is_listed(&world, NAME) {
            assert!(manifest.is_file(), "{case}");
        }
        let done = until("it came to its end", || {
            let found = transfer(&world, &begun);
            found.state.has_ended().then_some(found)
        });
        assert_eq!(done.state, TransferState::Done, "{case}{done:?}");
        assert!(is_listed(&world, NAME), "{case}");
        let verified = world.ok(&["depot", "verify"]);
        assert_eq!(verified.trim(), "1 file verified", "{case}");
        world.ok(&["depot", "remove", NAME]);
        assert_eq!(count(&world.data_dir().join("depot/incoming")), 0, "{case}");
    }
}
