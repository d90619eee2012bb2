//! Partial files, with the digests of their complete segments: after any interruption, no verified segment is pulled
//! again.
//!
//! Two files in the depot's `incoming`: `<key>.part` has the content, each byte at its place, and
//! `<key>.segments` one line of JSON for the file and then one for each segment that is complete. The
//! digest of a segment (BLAKE3, which costs a tenth of the file's own SHA-256) is compared with the
//! content before it is relied on, so neither a torn write nor a torn line does harm.

use std::collections::{BTreeMap, BTreeSet};
use std::fs::{self, File};
use std::io::{self, BufRead, BufReader, Write};
use std::os::unix::fs::FileExt;
use std::path::{Path, PathBuf};

use ring::digest::{Context, SHA256};
use rustix::fs::{FallocateFlags, fallocate};
use serde::{Deserialize, Serialize};

use super::Mark;
use crate::store::{Digest, StoreError, failed, need_space, partial_paths as paths};

/// Bytes of a segment.
pub(super) const SEGMENT: u64 = 8 << 20;
/// Bytes that are read back at a time.
const PIECE: usize = 1 << 20;

/// The first line of the journal: what the segments belong to.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
struct Heading {
    segment_bytes: u64,
    bytes: u64,
    mark: Option<Mark>,
}

/// A further line: a segment that is complete.
#[derive(Debug, Serialize, Deserialize)]
struct JournalLine {
    segment: u64,
    /// In hexadecimal digits.
    blake3: String,
}

/// A file that is being fetched.
pub(super) struct Partial {
    path: PathBuf,
    journal_path: PathBuf,
    file: File,
    journal: File,
    heading: Heading,
    /// Segments that are complete and checked.
    done: BTreeSet<u64>,
    /// Incomplete segments: the hash so far and its length.
    begun: BTreeMap<u64, (blake3::Hasher, u64)>,
    /// The digest of everything before this byte.
    whole: Context,
    frontier: u64,
}

/// Length of a partially pulled file.
pub(super) fn length(incoming: &Path, key: &str) -> Option<u64> {
    let (part, journal) = paths(incoming, key);
    let (heading, _) = read_journal(&journal).filter(|_| part.is_file())?;
    (heading.segment_bytes == SEGMENT).then_some(heading.bytes)
}

/// Whether a segment of it is complete.
pub(super) fn has_segments(incoming: &Path, key: &str) -> bool {
    let (_, journal) = paths(incoming, key);
    read_journal(&journal).is_some_and(|(_, lines)| !lines.is_empty())
}

/// Removes the partial file of a key.
pub(super) fn discard(incoming: &Path, key: &str) {
    let (part, segments) = paths(incoming, key);
    let _ = fs::remove_file(segments);
    let _ = fs::remove_file(part);
}

impl Partial {
    /// Nothing of it is complete yet.
    fn of(paths: (PathBuf, PathBuf), file: File, journal: File, heading: Heading) -> Self {
        let (path, journal_path) = paths;
        let (done, begun) = (BTreeSet::new(), BTreeMap::new());
        let whole = Context::new(&SHA256);
        Self { path, journal_path, file, journal, heading, done, begun, whole, frontier: 0 }
    }

    /// What an attempt before left, checked; nothing where there is nothing that can be relied on.
    pub(super) fn resume(incoming: &Path, key: &str) -> Option<Self> {
        let (path, journal_path) = paths(incoming, key);
        let (heading, lines) = read_journal(&journal_path)?;
        if heading.segment_bytes != SEGMENT {
            return None;
        }
        let file = File::options().read(true).write(true).open(&path).ok()?;
        let journal = File::options().append(true).open(&journal_path).ok()?;
        let mut partial = Self::of((path, journal_path), file, journal, heading);
        let mut buffer = vec![0; PIECE];
        for line in lines {
            let range = partial.range(line.segment);
            if range.is_empty() {
                return None;
            }
            let found = partial.digest(range, &mut buffer);
            if found.is_ok_and(|found| found.to_hex().as_str() == line.blake3) {
                partial.done.insert(line.segment);
            }
        }
        Some(partial)
    }

    /// Begins again, and reserves space for the whole file.
    pub(super) fn begin(
        incoming: &Path,
        key: &str,
        bytes: u64,
        mark: Option<Mark>,
    ) -> Result<Self, StoreError> {
        discard(incoming, key);
        let (path, journal_path) = paths(incoming, key);
        need_space(incoming, bytes)?;
        let new = |path: &Path| {
            File::options()
                .create_new(true)
                .read(true)
                .write(true)
                .open(path)
                .map_err(failed("make", path))
        };
        let file = new(&path)?;
        if let Err(error) = reserve(&file, bytes) {
            discard(incoming, key);
            return Err(full(incoming, bytes, &path, error));
        }
        let heading = Heading { segment_bytes: SEGMENT, bytes, mark };
        let mut journal = new(&journal_path)?;
        let line = serde_json::to_string(&heading).unwrap_or_default();
        if let Err(error) = writeln!(journal, "{line}").and_then(|()| journal.sync_all()) {
            discard(incoming, key);
            return Err(full(incoming, bytes, &journal_path, error));
        }
        Ok(Self::of((path, journal_path), file, journal, heading))
    }

    /// Length of the whole file.
    pub(super) fn bytes(&self) -> u64 {
        self.heading.bytes
    }

    /// What the server said of the file when it was begun.
    pub(super) fn mark(&self) -> Option<&Mark> {
        self.heading.mark.as_ref()
    }

    /// Bytes of a segment.
    fn range(&self, segment: u64) -> std::ops::Range<u64> {
        let start = segment.saturating_mul(SEGMENT).min(self.heading.bytes);
        start..start.saturating_add(SEGMENT).min(self.heading.bytes)
    }

    /// Missing ranges, as runs of neighbouring segments of at most `longest` bytes.
    pub(super) fn missing(&self, longest: u64) -> Vec<std::ops::Range<u64>> {
        let mut runs: Vec<std::ops::Range<u64>> = Vec::new();
        for segment in 0..self.heading.bytes.div_ceil(SEGMENT) {
            if self.done.contains(&segment) {
                continue;
            }
            let range = self.range(segment);
            match runs.last_mut() {
                Some(run) if run.end == range.start && range.end - run.start <= longest => {
                    run.end = range.end;
                }
                _ => runs.push(range),
            }
        }
        runs
    }

    /// Number of bytes that have been pulled.
    pub(super) fn here(&self) -> u64 {
        self.done.iter().map(|&segment| self.range(segment)).map(|r| r.end - r.start).sum()
    }

    /// Puts a piece at its place. Pieces of one segment come in their order.
    pub(super) fn write(&mut self, mut at: u64, mut piece: &[u8]) -> Result<(), StoreError> {
        let written = self.file.write_all_at(piece, at);
        written.map_err(|error| self.failed_write(error))?;
        if at == self.frontier {
            self.whole.update(piece);
            self.frontier += piece.len() as u64;
        }
        while !piece.is_empty() {
            let segment = at / SEGMENT;
            let end = self.range(segment).end;
            let now = piece.len().min(usize::try_from(end - at).unwrap_or(usize::MAX));
            let (hasher, so_far) = self
                .begun
                .entry(segment)
                .or_insert_with(|| (blake3::Hasher::new(), segment * SEGMENT));
            debug_assert_eq!(*so_far, at, "pieces of a segment come in their order");
            hasher.update(&piece[..now]);
            *so_far += now as u64;
            if *so_far == end {
                let digest = hasher.finalize();
                self.begun.remove(&segment);
                self.complete(segment, digest)?;
            }
            at += now as u64;
            piece = &piece[now..];
        }
        if self.frontier < self.bytes() && self.done.contains(&(self.frontier / SEGMENT)) {
            // One segment at a time, so that pulling continues meanwhile.
            self.hash_to(self.range(self.frontier / SEGMENT).end)?;
        }
        Ok(())
    }

    /// Takes content that came out of order, or was here before, into the whole file's digest.
    fn hash_to(&mut self, end: u64) -> Result<(), StoreError> {
        let mut buffer = vec![0; PIECE];
        while self.frontier < end {
            let left = usize::try_from(end - self.frontier).unwrap_or(usize::MAX);
            let now = &mut buffer[..left.min(PIECE)];
            let read = self.file.read_exact_at(now, self.frontier);
            read.map_err(failed("read", &self.path))?;
            self.whole.update(now);
            self.frontier += now.len() as u64;
        }
        Ok(())
    }

    fn complete(&mut self, segment: u64, digest: blake3::Hash) -> Result<(), StoreError> {
        self.done.insert(segment);
        let line = JournalLine { segment, blake3: digest.to_hex().to_string() };
        let line = serde_json::to_string(&line).unwrap_or_default();
        writeln!(self.journal, "{line}").map_err(|error| self.failed_write(error))
    }

    fn failed_write(&self, error: io::Error) -> StoreError {
        let folder = self.path.parent().unwrap_or(&self.path);
        full(folder, self.bytes() - self.here(), &self.path, error)
    }

    /// Flushes the file to the disk, and returns the digest of the whole file.
    pub(super) fn finish(mut self) -> Result<(PathBuf, Digest), StoreError> {
        self.hash_to(self.heading.bytes)?;
        self.file.set_len(self.heading.bytes).map_err(failed("write", &self.path))?;
        self.file.sync_all().map_err(failed("write", &self.path))?;
        let _ = fs::remove_file(&self.journal_path);
        Ok((self.path, Digest::of(self.whole)))
    }

    fn digest(&self, range: std::ops::Range<u64>, buffer: &mut [u8]) -> io::Result<blake3::Hash> {
        let mut hasher = blake3::Hasher::new();
        let mut at = range.start;
        while at < range.end {
            let left = usize::try_from(range.end - at).unwrap_or(usize::MAX);
            let most = buffer.len().min(left);
            let now = &mut buffer[..most];
            self.file.read_exact_at(now, at)?;
            hasher.update(now);
            at += now.len() as u64;
        }
        Ok(hasher.finalize())
    }
}

/// Reserves room, so that nothing else can fill the disk meanwhile; where the file system cannot,
/// writing tells.
fn reserve(file: &File, bytes: u64) -> io::Result<()> {
    if bytes == 0 {
        return Ok(());
    }
    match fallocate(file, FallocateFlags::KEEP_SIZE, 0, bytes) {
        Err(rustix::io::Errno::NOSPC) => Err(io::ErrorKind::StorageFull.into()),
        _ => Ok(()),
    }
}

/// A full disk says how much is missing; every other error says itself.
fn full(folder: &Path, need: u64, path: &Path, error: io::Error) -> StoreError {
    if error.kind() == io::ErrorKind::StorageFull
        && let Err(too_small) = need_space(folder, need)
    {
        return too_small;
    }
    failed("write", path)(error)
}

fn read_journal(path: &Path) -> Option<(Heading, Vec<JournalLine>)> {
    let mut lines = BufReader::new(File::open(path).ok()?).lines();
    let heading = serde_json::from_str(&lines.next()?.ok()?).ok()?;
    // The last line may be torn.
    let lines = lines.map_while(Result::ok).map_while(|line| serde_json::from_str(&line).ok());
    Some((heading, lines.collect()))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn content(bytes: u64) -> Vec<u8> {
        (0..bytes).map(|at| u8::try_from(at * 7 % 251).unwrap()).collect()
    }

    #[test]
    fn what_was_complete_is_not_fetched_again_and_what_was_spoilt_is() {
        let folder = tempfile::tempdir().unwrap();
        let all = content(SEGMENT * 3 + 100);
        let total = all.len() as u64;
        let segment = usize::try_from(SEGMENT).unwrap();
        let mut partial = Partial::begin(folder.path(), "k", total, None).unwrap();
        assert_eq!(partial.missing(u64::MAX).first(), Some(&(0..total)));
        partial.write(SEGMENT, &all[segment..segment * 3]).unwrap();
        partial.write(0, &all[..segment]).unwrap();
        partial.write(SEGMENT * 3, &all[segment * 3..segment * 3 + 50]).unwrap();
        drop(partial);
        // A torn line at the end, and a segment that never reached the disk.
        let (part, journal) = paths(folder.path(), "k");
        let mut open = File::options().append(true).open(&journal).unwrap();
        open.write_all(b"{\"segment\":3,\"bl").unwrap();
        File::options().write(true).open(&part).unwrap().write_all_at(b"xyz", SEGMENT + 9).unwrap();
        let mut partial = Partial::resume(folder.path(), "k").unwrap();
        assert_eq!(partial.missing(u64::MAX), [SEGMENT..SEGMENT * 2, SEGMENT * 3..total]);
        assert_eq!(partial.here(), SEGMENT * 2);
        partial.write(SEGMENT * 3, &all[segment * 3..]).unwrap();
        partial.write(SEGMENT, &all[segment..segment * 2]).unwrap();
        let (path, digest) = partial.finish().unwrap();
        assert_eq!(fs::read(&path).unwrap(), all);
        assert_eq!(
            digest,
            crate::store::digest_of(&path, &mut |_| { std::ops::ControlFlow::Continue(()) })
                .unwrap()
                .0
        );
        assert!(!journal.exists());
    }

    #[test]
    fn runs_are_no_longer_than_configured_and_a_foreign_journal_is_not_relied_on() {
        let folder = tempfile::tempdir().unwrap();
        let partial = Partial::begin(folder.path(), "k", SEGMENT * 5, None).unwrap();
        let runs = partial.missing(SEGMENT * 2);
        assert_eq!(runs, [0..SEGMENT * 2, SEGMENT * 2..SEGMENT * 4, SEGMENT * 4..SEGMENT * 5]);
        drop(partial);
        let (_, journal) = paths(folder.path(), "k");
        fs::write(&journal, "nonsense").unwrap();
        assert!(Partial::resume(folder.path(), "k").is_none());
        let digest = blake3::hash(b"").to_hex().to_string();
        let heading = Heading { segment_bytes: SEGMENT, bytes: 5, mark: None };
        let line = JournalLine { segment: u64::MAX, blake3: digest };
        let text =
            [serde_json::to_string(&heading).unwrap(), serde_json::to_string(&line).unwrap()];
        fs::write(&journal, text.join("\n")).unwrap();
        assert!(Partial::resume(folder.path(), "k").is_none(), "no such segment");
    }
}
