//! Reading a remote file like a local one: by ranges, and only the requested part.

use std::io::{self, Read, Seek, SeekFrom};
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};

use bytes::Bytes;
use futures_util::StreamExt;
use futures_util::stream::BoxStream;
use tokio::runtime::Handle;

use super::{Address, Mark, RemoteError, Web};
use crate::headers::sought;

/// Bytes of the first request, and most bytes of a later one.
const FIRST: u64 = 256 << 10;
const MOST: u64 = 768 << 10;
/// Most bytes that are stored of a file whose server does not support ranges.
const MOST_HELD: u64 = 64 << 20;
/// Most attempts of a request.
const TRIES: u32 = 3;

/// A file of another machine. It blocks: use it off the threads that serve.
pub struct RemoteFile {
    web: Web,
    address: Address,
    handle: Handle,
    bytes: u64,
    mark: Option<Mark>,
    at: u64,
    held: Held,
    fetched: Arc<AtomicU64>,
}

/// The part that has been read.
enum Held {
    /// One piece, its offset, and the length of the next request.
    Piece { from: u64, bytes: Bytes, next: u64 },
    /// All from the beginning so far, and the rest as it comes: the server has no ranges.
    Stream { bytes: Vec<u8>, rest: BoxStream<'static, Result<Bytes, RemoteError>> },
}

impl RemoteFile {
    /// Requests the beginning of a file.
    ///
    /// # Errors
    /// It cannot be had, is a web page, is empty, or has no length.
    pub async fn open(web: &Web, address: &Address) -> Result<Self, RemoteError> {
        let place = address.shown();
        let opened = match web.open(address, 0..FIRST, None).await {
            Err(RemoteError::RangeRefused { .. }) => return Err(RemoteError::Empty { place }),
            other => other?,
        };
        let bytes = opened.total.ok_or_else(|| RemoteError::Confused {
            place: place.clone(),
            what: "the server does not report the length of the file".to_owned(),
        })?;
        if bytes == 0 {
            return Err(RemoteError::Empty { place });
        }
        let (mark, ranges) = (opened.mark.clone(), opened.ranges);
        let fetched = Arc::new(AtomicU64::new(0));
        let mut rest = opened.pieces().boxed();
        let held = if ranges {
            let piece = collect(&mut rest, &fetched, FIRST, &place).await?;
            Held::Piece { from: 0, bytes: piece, next: FIRST * 2 }
        } else {
            Held::Stream { bytes: Vec::new(), rest }
        };
        let (web, address, handle) = (web.clone(), address.clone(), Handle::current());
        Ok(Self { web, address, handle, bytes, mark, at: 0, held, fetched })
    }

    /// Its length in bytes.
    #[must_use]
    pub fn bytes(&self) -> u64 {
        self.bytes
    }

    /// Counts the bytes that came over the wire.
    #[must_use]
    pub fn fetched(&self) -> Arc<AtomicU64> {
        Arc::clone(&self.fetched)
    }

    async fn range(&self, from: u64, length: u64) -> Result<Bytes, RemoteError> {
        let end = (from + length).min(self.bytes);
        let mut tries = 0;
        loop {
            tries += 1;
            let asked = async {
                let opened = self.web.open(&self.address, from..end, self.mark.as_ref()).await?;
                let place = self.address.shown();
                collect(&mut opened.pieces().boxed(), &self.fetched, end - from, &place).await
            };
            match asked.await {
                Err(error) if tries < TRIES && error.passes().is_some() => {}
                other => return other,
            }
        }
    }

    /// Makes sure that the byte at the current position has been read; none at the end of the file.
    fn hold(&mut self) -> Result<&[u8], RemoteError> {
        let handle = self.handle.clone();
        let missing = match &self.held {
            Held::Piece { from, bytes, next } => {
                let here = *from..from + bytes.len() as u64;
                (!here.contains(&self.at)).then_some(*next)
            }
            Held::Stream { .. } => None,
        };
        if let Some(length) = missing {
            let bytes = handle.block_on(self.range(self.at, length))?;
            self.held = Held::Piece { from: self.at, bytes, next: (length * 2).min(MOST) };
        }
        match &mut self.held {
            Held::Piece { from, bytes, .. } => Ok(bytes
                .get(usize::try_from(self.at - *from).unwrap_or(usize::MAX)..)
                .unwrap_or(&[])),
            Held::Stream { bytes, rest } => {
                if self.at >= MOST_HELD {
                    let (place, most) = (self.address.shown(), MOST_HELD >> 20);
                    let what = format!(
                        "the server does not support ranges, and the header is longer than {most} MiB"
                    );
                    return Err(RemoteError::Confused { place, what });
                }
                let at = usize::try_from(self.at).unwrap_or(usize::MAX);
                while bytes.len() <= at {
                    let Some(piece) = handle.block_on(rest.next()) else {
                        return Ok(&[]);
                    };
                    let piece = piece?;
                    self.fetched.fetch_add(piece.len() as u64, Ordering::Relaxed);
                    bytes.extend_from_slice(&piece);
                }
                Ok(&bytes[at..])
            }
        }
    }
}

/// Reads a response, which must not be longer than requested.
async fn collect(
    pieces: &mut BoxStream<'static, Result<Bytes, RemoteError>>,
    fetched: &AtomicU64,
    most: u64,
    place: &str,
) -> Result<Bytes, RemoteError> {
    let mut all = Vec::new();
    while let Some(piece) = pieces.next().await {
        let piece = piece?;
        if (all.len() + piece.len()) as u64 > most {
            let what = format!("it sends more than the requested {most} bytes");
            return Err(RemoteError::Confused { place: place.to_owned(), what });
        }
        fetched.fetch_add(piece.len() as u64, Ordering::Relaxed);
        all.extend_from_slice(&piece);
    }
    Ok(all.into())
}

impl Read for RemoteFile {
    fn read(&mut self, target: &mut [u8]) -> io::Result<usize> {
        if self.at >= self.bytes {
            return Ok(0);
        }
        let here = self.hold().map_err(io::Error::other)?;
        let count = here.len().min(target.len());
        target[..count].copy_from_slice(&here[..count]);
        self.at += count as u64;
        Ok(count)
    }
}

impl Seek for RemoteFile {
    fn seek(&mut self, to: SeekFrom) -> io::Result<u64> {
        self.at = sought(to, self.at, self.bytes)?;
        Ok(self.at)
    }
}
