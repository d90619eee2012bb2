//! Pulling a file: in ranges over several connections if that is faster, continued after an interruption, verified before
//! it is used.

use std::ops::Range;
use std::sync::Arc;
use std::time::Duration;

use backon::{BackoffBuilder, ExponentialBuilder};
use bytes::Bytes;
use futures_util::StreamExt;
use parking_lot::Mutex;
use tokio::sync::mpsc;
use tokio::task::{JoinHandle, JoinSet};
use tokio_util::sync::CancellationToken;

use super::growth::{Growth, RUN};
use super::partial::{self, Partial};
use super::{Address, Mark, Opened, RateLimit, RemoteError, Web};
use crate::store::{Digest, Store, StoreError, Taken};

/// Time between two checks whether another connection would help.
const LOOK_EVERY: Duration = Duration::from_secs(1);
/// Most received pieces that wait to be written.
const WAITING: usize = 64;
/// How often a file that changes during its pull is begun again.
const MOST_CHANGES: u32 = 3;
/// Most failed requests in a row without a byte in between.
const TRIES: usize = 6;
/// The first and the longest pause between them.
const FIRST_WAIT: Duration = Duration::from_millis(500);
const LONGEST_WAIT: Duration = Duration::from_secs(30);
/// Longest pause that a server may request.
const PATIENCE: Duration = Duration::from_secs(60);
/// The first bytes of a GGUF file.
const MAGIC: &[u8] = b"GGUF";

/// A file to pull.
#[derive(Debug, Clone)]
pub struct Wanted {
    /// Its address.
    pub address: Address,
    /// Its name.
    pub name: String,
    /// Its length, if announced.
    pub bytes: Option<u64>,
    /// Its digest, if announced.
    pub sha256: Option<Digest>,
}

impl Wanted {
    /// Key of its partial file in the depot.
    #[must_use]
    pub fn key(&self) -> String {
        match &self.sha256 {
            Some(digest) => digest.to_string(),
            None => blake3::hash(self.address.shown().as_bytes()).to_hex().to_string(),
        }
    }
}

/// Receives a number of bytes.
pub type Tell = Arc<dyn Fn(u64) + Send + Sync>;

/// Receives the progress of a pull, and can cancel it.
pub struct Watching {
    /// Bytes that arrived.
    pub advance: Tell,
    /// Bytes that were stored before.
    pub found: Tell,
    /// Bytes to subtract, because they are pulled again.
    pub retreat: Tell,
    /// Cancels the pull; its partial file stays.
    pub stop: CancellationToken,
}

/// State that all connections of a file share.
struct Shared {
    web: Web,
    address: Address,
    rate_limit: RateLimit,
    mark: Option<Mark>,
    bytes: u64,
    runs: Mutex<Vec<Range<u64>>>,
    pieces: mpsc::Sender<(u64, Bytes)>,
}

impl Store {
    /// Pulls a file's content into the depot. Stored content is not pulled, and the partial file of an earlier attempt is
    /// continued.
    ///
    /// # Errors
    /// Why it cannot be pulled. The partial file stays for the next attempt, unless its content is wrong or the disk is
    /// full.
    pub async fn fetch(
        self: &Arc<Self>,
        web: &Web,
        wanted: &Wanted,
        rate_limit: &RateLimit,
        watching: &Watching,
    ) -> Result<Taken, RemoteError> {
        let turn = self.fetches.of(&wanted.key());
        let _turn = turn.lock().await;
        if let Some(here) = wanted.sha256.and_then(|digest| self.hold(&digest)) {
            (watching.found)(here.bytes);
            return Ok(here);
        }
        let mut changes = 0;
        loop {
            let counted = Mutex::new(0);
            let attempt = self.attempt(web, wanted, rate_limit, watching, &counted).await;
            match attempt {
                Err(RemoteError::Changed { .. } | RemoteError::RangeRefused { .. })
                    if changes < MOST_CHANGES =>
                {
                    changes += 1;
                    self.discard(wanted);
                    (watching.retreat)(*counted.lock());
                }
                Err(error @ RemoteError::Store(StoreError::NoSpace { .. })) => {
                    self.discard(wanted);
                    return Err(error);
                }
                other => return other,
            }
        }
    }

    /// Removes the partial file.
    pub fn discard(&self, wanted: &Wanted) {
        partial::discard(&self.incoming(), &wanted.key());
    }

    /// Removes the partial file if it has no complete segment.
    pub fn discard_bare(&self, wanted: &Wanted) {
        if !partial::has_segments(&self.incoming(), &wanted.key()) {
            self.discard(wanted);
        }
    }

    /// Asks for the length of a file, and reserves disk space for it. Returns the length in bytes.
    ///
    /// # Errors
    /// It cannot be reached, or the disk is too full.
    pub async fn reserve(
        self: &Arc<Self>,
        web: &Web,
        wanted: &Wanted,
        watching: &Watching,
    ) -> Result<u64, RemoteError> {
        let turn = self.fetches.of(&wanted.key());
        let _turn = turn.lock().await;
        if let Some(here) = wanted.sha256.and_then(|digest| self.hold(&digest)) {
            return Ok(here.bytes);
        }
        // A partial file has its space already; its content is verified when it is continued.
        let begun = partial::length(&self.incoming(), &wanted.key());
        match begun.filter(|begun| wanted.bytes.is_none_or(|bytes| bytes == *begun)) {
            Some(bytes) => Ok(bytes),
            None => Ok(self.begun(web, wanted, watching).await?.bytes()),
        }
    }

    /// Opens the partial file of an earlier attempt, or begins a new one.
    async fn begun(
        self: &Arc<Self>,
        web: &Web,
        wanted: &Wanted,
        watching: &Watching,
    ) -> Result<Partial, RemoteError> {
        let (incoming, key) = (self.incoming(), wanted.key());
        let before = blocking({
            let (incoming, key) = (incoming.clone(), key.clone());
            move || Ok(Partial::resume(&incoming, &key))
        });
        let is_as_long =
            |partial: &Partial| wanted.bytes.is_none_or(|bytes| bytes == partial.bytes());
        if let Some(partial) = before.await?.filter(is_as_long) {
            return Ok(partial);
        }
        let look = with_patience(watching, || web.look(&wanted.address));
        let (bytes, mark) = announced(&look.await?, wanted)?;
        blocking(move || Ok(Partial::begin(&incoming, &key, bytes, mark)?)).await
    }

    async fn attempt(
        self: &Arc<Self>,
        web: &Web,
        wanted: &Wanted,
        rate_limit: &RateLimit,
        watching: &Watching,
        counted: &Mutex<u64>,
    ) -> Result<Taken, RemoteError> {
        let count = |bytes: u64| {
            *counted.lock() += bytes;
            bytes
        };
        let advance = |bytes: u64| (watching.advance)(count(bytes));
        let partial = self.begun(web, wanted, watching).await?;
        (watching.found)(count(partial.here()));
        let finished = fetch_missing(web, wanted, rate_limit, watching, partial, &advance).await?;
        let (store, wanted) = (Arc::clone(self), wanted.clone());
        blocking(move || {
            let (path, digest) = finished.finish()?;
            if let Some(announced) = wanted.sha256.filter(|announced| *announced != digest) {
                let aside = store.put_aside(&path, &format!("{digest}-{}", wanted.name));
                let place = wanted.address.shown();
                return Err(RemoteError::WrongDigest { place, announced, found: digest, aside });
            }
            Ok(store.take_finished(&path, digest)?)
        })
        .await
    }
}

/// Length and mark of a file, compared with those announced before.
fn announced(opened: &Opened, wanted: &Wanted) -> Result<(u64, Option<Mark>), RemoteError> {
    let place = wanted.address.shown();
    let bytes = opened.total.or(wanted.bytes).ok_or_else(|| RemoteError::Confused {
        place: place.clone(),
        what: "the server does not report the length of the file".to_owned(),
    })?;
    if bytes == 0 {
        return Err(RemoteError::Empty { place });
    }
    if let Some(announced) = wanted.bytes.filter(|announced| *announced != bytes) {
        return Err(RemoteError::WrongLength { place, announced, found: bytes });
    }
    Ok((bytes, opened.mark.clone()))
}

/// Pulls the missing ranges of a file.
async fn fetch_missing(
    web: &Web,
    wanted: &Wanted,
    rate_limit: &RateLimit,
    watching: &Watching,
    partial: Partial,
    advance: &(dyn Fn(u64) + Send + Sync),
) -> Result<Partial, RemoteError> {
    let mut runs = partial.missing(RUN);
    runs.reverse();
    let left: u64 = runs.iter().map(|run| run.end - run.start).sum();
    let (pieces, received) = mpsc::channel::<(u64, Bytes)>(WAITING);
    let shared = Arc::new(Shared {
        web: web.clone(),
        address: wanted.address.clone(),
        rate_limit: rate_limit.clone(),
        mark: partial.mark().cloned(),
        bytes: partial.bytes(),
        runs: Mutex::new(runs),
        pieces,
    });
    let (written, mut writing) = mpsc::unbounded_channel();
    let writer = tokio::task::spawn_blocking(writer(wanted, partial, received, written));
    let mut connections = JoinSet::new();
    let mut growth = Growth::new(left);
    connections.spawn(Arc::clone(&shared).connection());
    let mut look = tokio::time::interval(LOOK_EVERY);
    look.tick().await;
    loop {
        tokio::select! {
            () = watching.stop.cancelled() => return Err(RemoteError::Cancelled),
            Some(bytes) = writing.recv() => {
                growth.bytes += bytes;
                advance(bytes);
            }
            _ = look.tick() => {
                if growth.wants_another(connections.len()) {
                    connections.spawn(Arc::clone(&shared).connection());
                }
            }
            joined = connections.join_next() => match joined {
                Some(Ok(Ok(()))) => {}
                Some(Ok(Err(error))) => {
                    connections.shutdown().await;
                    drop(shared);
                    // If writing failed, that is the cause of this error.
                    return Err(match joined_writer(writer.await) { Err(why) => why, Ok(_) => error });
                }
                Some(Err(error)) => return Err(RemoteError::Setup(error.to_string())),
                None => break,
            },
        }
    }
    drop(shared);
    written_in_full(writer, writing, advance).await
}

/// Waits until all received pieces are written.
async fn written_in_full(
    mut writer: JoinHandle<Result<Partial, RemoteError>>,
    mut writing: mpsc::UnboundedReceiver<u64>,
    advance: &(dyn Fn(u64) + Send + Sync),
) -> Result<Partial, RemoteError> {
    let partial = loop {
        tokio::select! {
            biased;
            Some(bytes) = writing.recv() => advance(bytes),
            written = &mut writer => break joined_writer(written)?,
        }
    };
    while let Ok(bytes) = writing.try_recv() {
        advance(bytes);
    }
    Ok(partial)
}

/// Writes received pieces to their offsets, and reports their lengths.
fn writer(
    wanted: &Wanted,
    mut partial: Partial,
    mut received: mpsc::Receiver<(u64, Bytes)>,
    written: mpsc::UnboundedSender<u64>,
) -> impl FnOnce() -> Result<Partial, RemoteError> + Send + 'static {
    let is_model = wanted.name.ends_with(".gguf");
    let place = wanted.address.shown();
    move || {
        while let Some((at, piece)) = received.blocking_recv() {
            if at == 0 && is_model {
                begins_well(&piece, &place)?;
            }
            partial.write(at, &piece)?;
            let _ = written.send(piece.len() as u64);
        }
        Ok(partial)
    }
}

fn joined_writer(
    written: Result<Result<Partial, RemoteError>, tokio::task::JoinError>,
) -> Result<Partial, RemoteError> {
    written.unwrap_or_else(|error| Err(RemoteError::Setup(error.to_string())))
}

impl Shared {
    /// Pulls runs until none is left.
    async fn connection(self: Arc<Self>) -> Result<(), RemoteError> {
        loop {
            let next = self.runs.lock().pop();
            let Some(mut run) = next else {
                return Ok(());
            };
            let mut waits = Waits::new();
            while run.start < run.end {
                let before = run.start;
                match self.stream(&mut run).await {
                    Ok(()) => {}
                    Err(error) => {
                        if run.start > before {
                            waits = Waits::new();
                        }
                        waits.wait(error).await?;
                    }
                }
            }
        }
    }

    /// Pulls a run as far as possible; moves the run's start along.
    async fn stream(&self, run: &mut Range<u64>) -> Result<(), RemoteError> {
        let opened = self.web.open(&self.address, run.clone(), self.mark.as_ref()).await?;
        if let Some(found) = opened.total.filter(|total| *total != self.bytes) {
            let place = self.address.shown();
            tracing::debug!("{place} now has {found} bytes instead of {}", self.bytes);
            return Err(RemoteError::Changed { place });
        }
        // A server without ranges sends the whole file; bytes that are stored are skipped.
        let mut at = opened.from;
        let mut pieces = opened.pieces();
        while let Some(piece) = pieces.next().await {
            let mut piece = piece?;
            self.rate_limit.take(piece.len()).await;
            let end = at + piece.len() as u64;
            if at < run.start {
                let over = usize::try_from(run.start - at).unwrap_or(usize::MAX).min(piece.len());
                piece = piece.split_off(over);
            }
            if end > run.end {
                let surplus = usize::try_from(end - run.end).unwrap_or(usize::MAX);
                piece.truncate(piece.len().saturating_sub(surplus));
            }
            at = end;
            if piece.is_empty() {
                continue;
            }
            let (from, length) = (run.start, piece.len() as u64);
            // If there is no receiver, writing has failed, and the writer reports that.
            self.pieces.send((from, piece)).await.map_err(|_| RemoteError::Cancelled)?;
            run.start += length;
            if run.start == run.end {
                return Ok(());
            }
        }
        let (place, what) =
            (self.address.shown(), "the connection ended before the file".to_owned());
        Err(RemoteError::Unreachable { place, what })
    }
}

/// Pauses between attempts, each longer than the last.
struct Waits(backon::ExponentialBackoff);

impl Waits {
    fn new() -> Self {
        let waits = ExponentialBuilder::new()
            .with_min_delay(FIRST_WAIT)
            .with_max_delay(LONGEST_WAIT)
            .with_max_times(TRIES)
            .with_jitter();
        Self(waits.build())
    }

    /// Pauses before the next attempt, if the error may be temporary and attempts are left.
    async fn wait(&mut self, error: RemoteError) -> Result<(), RemoteError> {
        let Some(later) = error.passes() else {
            return Err(error);
        };
        let Some(wait) = self.0.next() else {
            return Err(error);
        };
        if later.is_some_and(|later| later > PATIENCE) {
            return Err(error);
        }
        let wait = later.map_or(wait, |later| later.max(wait));
        tracing::info!("{error}; retrying in {:.1} s", wait.as_secs_f64());
        tokio::time::sleep(wait).await;
        Ok(())
    }
}

/// Retries a request while its error may be temporary.
pub(crate) async fn with_patience<T, F>(
    watching: &Watching,
    ask: impl Fn() -> F,
) -> Result<T, RemoteError>
where
    F: Future<Output = Result<T, RemoteError>>,
{
    let asked = async {
        let mut waits = Waits::new();
        loop {
            match ask().await {
                Ok(answer) => return Ok(answer),
                Err(error) => waits.wait(error).await?,
            }
        }
    };
    tokio::select! {
        () = watching.stop.cancelled() => Err(RemoteError::Cancelled),
        answer = asked => answer,
    }
}

async fn blocking<T: Send + 'static>(
    work: impl FnOnce() -> Result<T, RemoteError> + Send + 'static,
) -> Result<T, RemoteError> {
    let done = tokio::task::spawn_blocking(work).await;
    done.unwrap_or_else(|error| Err(RemoteError::Setup(error.to_string())))
}

/// Checks that a file that is named as a model begins like one.
fn begins_well(piece: &[u8], place: &str) -> Result<(), RemoteError> {
    let shorter = piece.len().min(MAGIC.len());
    if piece[..shorter] == MAGIC[..shorter] {
        return Ok(());
    }
    let place = place.to_owned();
    if piece.trim_ascii_start().starts_with(b"<") {
        return Err(RemoteError::Page { place });
    }
    let start = String::from_utf8_lossy(&piece[..piece.len().min(12)]).escape_debug().to_string();
    let what = format!("it begins with \"{start}\", unlike a GGUF file");
    Err(RemoteError::Confused { place, what })
}
