//! Content of files, whole or in ranges, with the faults of a stand-in.

use std::fs::File;
use std::io;
use std::os::unix::fs::FileExt;
use std::path::Path;
use std::time::Duration;

use actix_web::body::SizedStream;
use actix_web::http::{StatusCode, header};
use actix_web::{HttpRequest, HttpResponse};
use bytes::Bytes;
use futures_util::stream;

use crate::hub::{SendingCount, State};

/// Number of bytes that are sent at a time.
const PIECE: u64 = 256 << 10;

/// A file to send, with its faults.
struct Content {
    file: File,
    length: u64,
    /// Content that is sent instead of the file.
    substitute: Option<Bytes>,
    /// Position of a byte that differs from the file.
    spoilt_at: Option<u64>,
}

impl Content {
    fn open(path: &Path) -> io::Result<Self> {
        let file = File::open(path)?;
        let found = file.metadata()?;
        if !found.is_file() {
            return Err(io::ErrorKind::NotFound.into());
        }
        Ok(Self { file, length: found.len(), substitute: None, spoilt_at: None })
    }

    /// A range of the content; zeros beyond its end.
    fn piece(&self, from: u64, end: u64) -> io::Result<Bytes> {
        let index = |at: u64| usize::try_from(at).unwrap_or(usize::MAX);
        if let Some(substitute) = &self.substitute {
            return Ok(substitute.slice(index(from)..index(end)));
        }
        let mut piece = vec![0; index(end - from)];
        let inside = index(end.min(self.length).saturating_sub(from));
        self.file.read_exact_at(&mut piece[..inside], from)?;
        if let Some(at) = self.spoilt_at.filter(|at| (from..end).contains(at)) {
            piece[index(at - from)] ^= 1;
        }
        Ok(piece.into())
    }
}

/// The answer to a request for a file, according to the stand-in's behaviour.
pub(crate) fn send(state: &State, request: &HttpRequest, path: &Path) -> HttpResponse {
    let Ok(mut content) = Content::open(path) else {
        return HttpResponse::NotFound().body("there is nothing here\n");
    };
    let (behaviour, asked) = state.content_question();
    if let Some(answer) = misbehaved(state, request, &behaviour) {
        return answer;
    }
    if behaviour.lies && path.ends_with(deft_depot::INDEX_FILE) {
        content.substitute = Some(turned(&std::fs::read(path).unwrap_or_default()).into());
    }
    let is_other = behaviour.changes_after.is_some_and(|after| asked > after);
    content.spoilt_at = content.length.checked_sub(1).filter(|_| is_other);
    let total = content.length.saturating_add_signed(behaviour.longer_by);
    let range = request.headers().get(header::RANGE).and_then(|value| value.to_str().ok());
    let range = range.filter(|_| !behaviour.no_ranges).map(|text| range_of(text, total));
    let mark = format!("\"{}-{}\"", total, u8::from(is_other));
    let wanted = request.headers().get(header::IF_RANGE).and_then(|value| value.to_str().ok());
    let range = range.filter(|_| wanted.is_none_or(|wanted| wanted == mark));
    let (start, end) = match range {
        Some(None) => return HttpResponse::RangeNotSatisfiable().finish(),
        Some(Some(range)) => range,
        None => (0, total),
    };
    let mut response = if range.is_some() {
        let mut response = HttpResponse::build(StatusCode::PARTIAL_CONTENT);
        let range = format!("bytes {start}-{}/{total}", end.saturating_sub(1));
        response.insert_header((header::CONTENT_RANGE, range));
        response
    } else {
        HttpResponse::Ok()
    };
    if !behaviour.no_marks {
        response.insert_header((header::ETAG, mark));
    }
    let kind = mime_guess::from_path(path).first_or_octet_stream();
    response.content_type(kind.to_string());
    let length = end - start;
    let break_at = behaviour
        .break_after
        .and_then(|after| (after < length && state.may_break(&behaviour)).then_some(start + after));
    let count = state.begin_sending();
    let sending = Sending { state: state.clone(), content, end, break_at, count };
    response.body(SizedStream::new(length, sending.pieces(start)))
}

/// Wrong digests: the first digit is changed.
fn turned(index: &[u8]) -> Vec<u8> {
    let key = b"\"sha256\": \"";
    let mut text = index.to_vec();
    for at in 0..text.len().saturating_sub(key.len()) {
        if text[at..].starts_with(key) {
            let digit = &mut text[at + key.len()];
            *digit = if *digit == b'0' { b'1' } else { b'0' };
        }
    }
    text
}

/// The answer of a stand-in that does not send content.
fn misbehaved(
    state: &State,
    request: &HttpRequest,
    behaviour: &crate::Behaviour,
) -> Option<HttpResponse> {
    if let Some(status) = behaviour.status.filter(|_| state.may_refuse(behaviour)) {
        let status = StatusCode::from_u16(status).unwrap_or(StatusCode::INTERNAL_SERVER_ERROR);
        let mut response = HttpResponse::build(status);
        if let Some(later) = &behaviour.retry_after {
            response.insert_header((header::RETRY_AFTER, later.clone()));
        }
        return Some(response.body("not now\n"));
    }
    if let Some(to) = &behaviour.redirect {
        let to = to.replace("{path}", request.path());
        return Some(HttpResponse::Found().insert_header((header::LOCATION, to)).finish());
    }
    let page = "<!doctype html><title>Larkfen Seed Library</title>\n";
    behaviour.page.then(|| HttpResponse::Ok().content_type("text/html").body(page))
}

/// The range of `bytes=a-b` or `bytes=a-`.
fn range_of(text: &str, total: u64) -> Option<(u64, u64)> {
    let (start, end) = text.strip_prefix("bytes=")?.split_once('-')?;
    let start: u64 = start.parse().ok()?;
    let end = if end.is_empty() { total } else { end.parse::<u64>().ok()?.saturating_add(1) };
    (start < total && start < end).then_some((start, end.min(total)))
}

/// Content that is being sent.
struct Sending {
    state: State,
    content: Content,
    end: u64,
    break_at: Option<u64>,
    count: SendingCount,
}

impl Sending {
    fn pieces(self, start: u64) -> impl futures_util::Stream<Item = io::Result<Bytes>> {
        stream::unfold((self, start), |(sending, at)| async move {
            if at >= sending.end {
                return None;
            }
            if sending.break_at.is_some_and(|limit| at >= limit) {
                let broken = io::Error::new(io::ErrorKind::ConnectionReset, "broken on request");
                let end = sending.end;
                return Some((Err(broken), (sending, end)));
            }
            let behaviour = sending.state.behaviour();
            let rate = behaviour.rate.filter(|_| at >= behaviour.slow_from);
            let most = rate.map_or(PIECE, |rate| PIECE.min(rate / 20).max(1));
            let end = (at + most).min(sending.break_at.unwrap_or(u64::MAX)).min(sending.end);
            if let Some(rate) = rate {
                #[expect(clippy::cast_precision_loss, reason = "a pause")]
                let pause = (end - at) as f64 / rate.max(1) as f64;
                tokio::time::sleep(Duration::from_secs_f64(pause)).await;
            }
            let piece = sending.content.piece(at, end);
            sending.count.sent(end - at);
            Some((piece, (sending, end)))
        })
    }
}
