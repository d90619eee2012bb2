//! Pulls from a stand-in with the faults that a server can have.
#![expect(clippy::unwrap_used, reason = "a test that panics has failed")]

use std::io::Read;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::{Duration, Instant};

use deft_depot::{
    Access, Address, RateLimit, RemoteError, RemoteFile, Secret, Store, StoreError, Taken, Tell,
    Wanted, Watching, Web, WebSettings, digest_of_file,
};
use deft_standins::{Behaviour, Hub, HubOptions};
use tempfile::TempDir;
use tokio_util::sync::CancellationToken;

const FILE: &str = "larkfen-big-q8_0.gguf";
const MIB: u64 = 1 << 20;

/// A stand-in with one file, a depot, and the reported progress.
struct Scene {
    folder: TempDir,
    hub: Hub,
    store: Arc<Store>,
    web: Web,
    done: Arc<AtomicU64>,
    /// The part that was present before.
    found: Arc<AtomicU64>,
}

/// Content that begins as a model does and has no two alike pieces.
fn content(bytes: u64) -> Vec<u8> {
    let mut content = b"GGUF".to_vec();
    let mut state = 7_u64;
    while (content.len() as u64) < bytes {
        state = state.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1);
        content.extend_from_slice(&state.to_le_bytes());
    }
    content.truncate(usize::try_from(bytes).unwrap());
    content
}

fn hub_of(folder: &Path, encrypted: bool) -> Hub {
    let options = HubOptions { folder: folder.to_owned(), encrypted, ..HubOptions::default() };
    Hub::start(options).unwrap()
}

fn settings(ca_file: Option<&Path>) -> WebSettings<'_> {
    WebSettings { ca_file, stall: Duration::from_secs(5) }
}

fn scene_of(bytes: u64, encrypted: bool) -> Scene {
    let folder = tempfile::tempdir().unwrap();
    std::fs::create_dir(folder.path().join("index")).unwrap();
    std::fs::write(folder.path().join("index").join(FILE), content(bytes)).unwrap();
    let hub = hub_of(folder.path(), encrypted);
    let ca_file = hub.certificate().map(|pem| {
        let file = folder.path().join("ca.pem");
        std::fs::write(&file, pem).unwrap();
        file
    });
    let store = Arc::new(Store::open(&folder.path().join("depot")).unwrap());
    let web = Web::new(&settings(ca_file.as_deref())).unwrap();
    Scene { folder, hub, store, web, done: Arc::default(), found: Arc::default() }
}

fn scene() -> Scene {
    scene_of(20 * MIB, false)
}

impl Scene {
    fn source(&self) -> PathBuf {
        self.folder.path().join("index").join(FILE)
    }

    fn wanted(&self) -> Wanted {
        let url = format!("{}/index/{FILE}", self.hub.address()).parse().unwrap();
        let (sha256, bytes) = digest_of_file(&self.source()).unwrap();
        let (bytes, sha256) = (Some(bytes), Some(sha256));
        Wanted { address: Address::new(url), name: FILE.to_owned(), bytes, sha256 }
    }

    async fn fetch(&self, wanted: &Wanted) -> Result<Taken, RemoteError> {
        self.fetch_until(wanted, CancellationToken::new()).await
    }

    async fn fetch_until(
        &self,
        wanted: &Wanted,
        stop: CancellationToken,
    ) -> Result<Taken, RemoteError> {
        self.done.store(0, Ordering::Relaxed);
        let (more, less) = (Arc::clone(&self.done), Arc::clone(&self.done));
        let advance: Tell = Arc::new(move |bytes| _ = more.fetch_add(bytes, Ordering::Relaxed));
        let retreat = Arc::new(move |bytes| _ = less.fetch_sub(bytes, Ordering::Relaxed));
        let (count, before) = (advance.clone(), Arc::clone(&self.found));
        let found = Arc::new(move |bytes| {
            before.fetch_add(bytes, Ordering::Relaxed);
            count(bytes);
        });
        let watching = Watching { found, advance, retreat, stop };
        self.store.fetch(&self.web, wanted, &RateLimit::unlimited(), &watching).await
    }

    /// Fetches what must come, whole and counted once.
    async fn arrives(&self, wanted: &Wanted) {
        let taken = self.fetch(wanted).await.unwrap();
        assert_eq!(taken.bytes, self.source().metadata().unwrap().len());
        assert_eq!(taken.sha256, digest_of_file(&self.source()).unwrap().0);
        assert_eq!(self.done.load(Ordering::Relaxed), taken.bytes, "every byte is counted once");
    }

    async fn refused(&self, wanted: &Wanted) -> String {
        let error = self.fetch(wanted).await.unwrap_err().to_string();
        let folder = self.folder.path().display().to_string();
        error.replace(self.hub.address(), "HUB").replace(&folder, "DIR")
    }

    /// How many files lie in a folder of the depot, but for notes of content that no variant names yet.
    fn count(&self, folder: &str) -> usize {
        let all = std::fs::read_dir(self.folder.path().join("depot").join(folder)).unwrap();
        let names = all.map(|entry| entry.unwrap().file_name().to_string_lossy().into_owned());
        names.filter(|name| !name.starts_with("object-")).count()
    }
}

#[tokio::test]
async fn a_file_comes_whole_and_is_not_fetched_twice() {
    let scene = scene();
    let wanted = scene.wanted();
    let _held = scene.fetch(&wanted).await.unwrap();
    assert_eq!(scene.hub.sent(), 20 * MIB + 1, "one byte to look at it");
    assert_eq!(scene.count("incoming"), 0);
    scene.hub.behave(Behaviour::default());
    scene.arrives(&wanted).await;
    assert_eq!(scene.hub.questions(), 0, "it is here");
}

#[tokio::test]
async fn after_a_break_only_what_is_missing_is_fetched() {
    let scene = scene();
    let wanted = scene.wanted();
    // It never comes to the end of the second segment.
    let (rate, slow_from) = (Some(1), 11 * MIB);
    scene.hub.behave(Behaviour { rate, slow_from, ..Behaviour::default() });
    let stop = CancellationToken::new();
    let (result, ()) = tokio::join!(scene.fetch_until(&wanted, stop.clone()), async {
        while scene.done.load(Ordering::Relaxed) < 10 * MIB {
            tokio::time::sleep(Duration::from_millis(5)).await;
        }
        stop.cancel();
    });
    assert!(matches!(result, Err(RemoteError::Cancelled)));
    scene.hub.behave(Behaviour::default());
    scene.arrives(&wanted).await;
    let here = scene.found.load(Ordering::Relaxed);
    assert_eq!(here, 8 * MIB, "one segment was complete");
    assert_eq!(scene.hub.sent(), 12 * MIB, "what was checked is not fetched again");
}

#[tokio::test]
async fn connections_that_break_are_made_again_where_they_broke() {
    let scene = scene();
    let (break_after, breaks) = (Some(7 * MIB + 5), Some(2));
    scene.hub.behave(Behaviour { break_after, breaks, ..Behaviour::default() });
    scene.arrives(&scene.wanted()).await;
    assert!(scene.hub.sent() < 21 * MIB, "nothing was fetched twice");
}

#[tokio::test]
async fn a_server_without_ranges_serves_too_and_after_a_break_what_is_here_is_passed_over() {
    let scene = scene();
    let whole = Behaviour { no_ranges: true, no_marks: true, ..Behaviour::default() };
    scene.hub.behave(whole.clone());
    scene.arrives(&scene.wanted()).await;
    let scene = self::scene();
    // The question for its length is the first that breaks.
    let breaks = Some(3);
    scene.hub.behave(Behaviour { break_after: Some(9 * MIB), breaks, ..whole });
    scene.arrives(&scene.wanted()).await;
}

#[tokio::test]
async fn a_file_that_changes_in_between_is_begun_anew_or_given_up() {
    let scene = scene();
    let wanted = Wanted { bytes: None, sha256: None, ..scene.wanted() };
    // The first request breaks, and the second one gets another file.
    scene.hub.behave(Behaviour {
        changes_after: Some(2),
        break_after: Some(9 * MIB),
        breaks: Some(1),
        ..Behaviour::default()
    });
    let taken = scene.fetch(&wanted).await.unwrap();
    assert_ne!(taken.sha256, digest_of_file(&scene.source()).unwrap().0);
    assert_eq!(scene.done.load(Ordering::Relaxed), 20 * MIB, "what was thrown away is not counted");
    // The announced digest is not that of the new file.
    let scene = self::scene();
    let wanted = scene.wanted();
    scene.hub.behave(Behaviour { changes_after: Some(0), ..Behaviour::default() });
    assert!(scene.refused(&wanted).await.contains("was announced. It is not used"));
}

#[tokio::test]
async fn what_is_not_what_was_announced_is_put_aside_and_never_used() {
    let scene = scene();
    let announced = "0".repeat(64).parse().unwrap();
    let wanted = Wanted { sha256: Some(announced), ..scene.wanted() };
    let error = scene.refused(&wanted).await;
    assert!(error.contains("was announced. It is not used"), "{error}");
    assert!(error.contains("DIR/depot/incoming/wrong-"), "{error}");
    assert_eq!(scene.count("incoming"), 1);
    assert!(scene.store.hold(&announced).is_none());
    let root = scene.folder.path().join("depot");
    drop(scene.store);
    drop(Store::open(&root).unwrap());
    assert_eq!(std::fs::read_dir(root.join("incoming")).unwrap().count(), 0, "swept at the start");
}

#[tokio::test]
async fn every_refusal_says_what_is_wrong() {
    let scene = scene_of(MIB, false);
    let wanted = scene.wanted();
    let bare = Wanted { bytes: None, sha256: None, ..wanted.clone() };
    let mut errors = Vec::new();
    let status = |code: u16, later: Option<&str>| Behaviour {
        status: Some(code),
        retry_after: later.map(str::to_owned),
        ..Behaviour::default()
    };
    for (case, behaviour) in [
        ("401", status(401, None)),
        ("403", status(403, None)),
        ("404", status(404, None)),
        ("416", status(416, None)),
        ("429 for long", status(429, Some("3600"))),
        ("503 for long", status(503, Some("3600"))),
        ("shorter", Behaviour { longer_by: -5, ..Behaviour::default() }),
        ("longer", Behaviour { longer_by: 5, ..Behaviour::default() }),
        ("page", Behaviour { page: true, ..Behaviour::default() }),
        ("loop", Behaviour { redirect: Some("{path}".to_owned()), ..Behaviour::default() }),
    ] {
        scene.hub.behave(behaviour);
        errors.push(format!("{case}: {}", scene.refused(&wanted).await));
    }
    scene.hub.behave(Behaviour::default());
    for (case, content) in
        [("empty", ""), ("a page called a model", "<html>"), ("a pointer", "version https://")]
    {
        std::fs::write(scene.source(), content).unwrap();
        errors.push(format!("{case}: {}", scene.refused(&bare).await));
    }
    insta::assert_snapshot!(errors.join("\n"));
    assert!(scene.store.variants().unwrap().is_empty());
}

#[tokio::test]
async fn what_passes_is_waited_for_as_long_as_the_server_says() {
    let scene = scene_of(MIB, false);
    let retry_after = Some("1".to_owned());
    let (status, refusals) = (Some(429), Some(2));
    scene.hub.behave(Behaviour { status, refusals, retry_after, ..Behaviour::default() });
    let began = Instant::now();
    scene.arrives(&scene.wanted()).await;
    assert!(began.elapsed() >= Duration::from_secs(2), "it was asked to wait twice");
}

#[tokio::test]
async fn a_token_goes_to_its_own_host_only() {
    let token = "larkfen-secret";
    let access = Access { user: None, token: Some(Secret::new(token).unwrap()) };
    assert!(!format!("{access:?}").contains(token));
    let scene = scene_of(MIB, false);
    let mut wanted = scene.wanted();
    wanted.address = wanted.address.with_access(&access);
    scene.hub.behave(Behaviour { token: Some(token.to_owned()), ..Behaviour::default() });
    scene.arrives(&wanted).await;
    let fresh = scene_of(MIB, false);
    let other = hub_of(fresh.folder.path(), false);
    let redirect = Some(format!("{}{{path}}", other.address()));
    fresh.hub.behave(Behaviour { redirect, ..Behaviour::default() });
    let mut wanted = fresh.wanted();
    wanted.address = wanted.address.with_access(&access);
    fresh.arrives(&wanted).await;
    assert!(fresh.hub.seen().iter().all(|(_, sent)| sent.contains(token)));
    assert!(!other.seen().is_empty());
    assert!(other.seen().iter().all(|(_, sent)| sent.is_empty()), "{:?}", other.seen());
}

#[tokio::test]
async fn encrypted_connections_need_an_authority_that_is_trusted_and_stay_encrypted() {
    let scene = scene_of(MIB, true);
    scene.arrives(&scene.wanted()).await;
    let distrustful = Web::new(&settings(None)).unwrap();
    let stranger = Scene { web: distrustful, ..scene_of(MIB, true) };
    let look = RemoteFile::open(&stranger.web, &stranger.wanted().address).await;
    let error = look.err().map(|error| error.to_string()).unwrap_or_default();
    assert!(error.contains("cannot be reached") && error.contains("ertificate"), "{error}");
    let plain = scene_of(MIB, false);
    let redirect = Some(format!("{}{{path}}", plain.hub.address()));
    scene.hub.behave(Behaviour { redirect, ..Behaviour::default() });
    let wanted = Wanted { sha256: Some("1".repeat(64).parse().unwrap()), ..scene.wanted() };
    assert!(scene.refused(&wanted).await.contains("which is not encrypted"));
    let nonsense = scene.folder.path().join("none.pem");
    std::fs::write(&nonsense, "nonsense").unwrap();
    assert!(matches!(Web::new(&settings(Some(&nonsense))), Err(RemoteError::CaFile { .. })));
}

#[tokio::test]
async fn two_that_want_the_same_fetch_it_once() {
    let scene = scene();
    let wanted = scene.wanted();
    scene.hub.behave(Behaviour { rate: Some(40 * MIB), ..Behaviour::default() });
    let stop = CancellationToken::new();
    let (one, other) =
        tokio::join!(scene.fetch_until(&wanted, stop.clone()), scene.fetch_until(&wanted, stop));
    assert_eq!(one.unwrap().sha256, other.unwrap().sha256);
    assert_eq!(scene.hub.sent(), 20 * MIB + 1);
}

#[tokio::test]
async fn more_connections_are_made_as_long_as_they_help() {
    // Each connection is slow: more of them are faster.
    let scene = scene_of(160 * MIB, false);
    scene.hub.behave(Behaviour { rate: Some(30 * MIB), ..Behaviour::default() });
    scene.arrives(&scene.wanted()).await;
    assert!((2..=4).contains(&scene.hub.most_at_once()), "{}", scene.hub.most_at_once());
    // What comes in less than a second needs no second one.
    let scene = scene_of(20 * MIB, false);
    scene.arrives(&scene.wanted()).await;
    assert_eq!(scene.hub.most_at_once(), 1);
}

#[tokio::test]
async fn a_header_is_read_without_the_rest() {
    let scene = scene_of(50 * MIB, false);
    for no_ranges in [false, true] {
        scene.hub.behave(Behaviour { no_ranges, ..Behaviour::default() });
        let file = RemoteFile::open(&scene.web, &scene.wanted().address).await;
        let mut file = file.unwrap();
        let fetched = file.fetched();
        let read = tokio::task::spawn_blocking(move || {
            let mut start = vec![0; 3 << 20];
            file.read_exact(&mut start).map(|()| start)
        });
        assert_eq!(read.await.unwrap().unwrap(), content(3 * MIB));
        assert!(fetched.load(Ordering::Relaxed) <= 4 * MIB, "{fetched:?}");
    }
}

/// A file system of a few MiB; nothing where none may be mounted.
fn small_disk(folder: &Path) -> bool {
    std::fs::create_dir_all(folder).unwrap();
    let options = ["-t", "tmpfs", "-o", "size=12m", "tmpfs"];
    let mounted = std::process::Command::new("mount").args(options).arg(folder).output();
    mounted.is_ok_and(|output| output.status.success())
}

#[tokio::test]
async fn a_disk_that_is_too_full_is_reported_before_the_first_byte_and_left_as_it_was() {
    let mut scene = scene();
    let disk = scene.folder.path().join("small");
    if !small_disk(&disk) {
        // Only root may mount; the figures are tested without a disk as well.
        return;
    }
    let other = Arc::new(Store::open(&disk.join("depot")).unwrap());
    let before = std::mem::replace(&mut scene.store, other);
    let error = scene.fetch(&scene.wanted()).await.unwrap_err();
    let text = error.to_string();
    assert!(matches!(error, RemoteError::Store(StoreError::NoSpace { .. })), "{text}");
    assert!(text.contains("20.0 MiB are needed") && text.contains("more"), "{text}");
    assert!(scene.hub.sent() <= 1, "nothing was fetched");
    assert_eq!(std::fs::read_dir(disk.join("depot/incoming")).unwrap().count(), 0);
    scene.store = before;
    let unmounted = std::process::Command::new("umount").arg("-l").arg(&disk).status();
    assert!(unmounted.unwrap().success());
}
