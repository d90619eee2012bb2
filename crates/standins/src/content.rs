//! Files, whole and in ranges, with all that a stand-in may do wrong about it.

use std::io;
use std::path::Path;
use std::time::Duration;

use actix_web::body::SizedStream;
use actix_web::http::{StatusCode, header};
use actix_web::{HttpRequest, HttpResponse};
use bytes::Bytes;
use futures_util::stream;

use crate::hub::State;

/// Bytes that are sent at a time.
const PIECE: usize = 64 << 10;

/// A file as the stand-in's behaviour wants it sent.
pub(crate) fn send(state: &State, request: &HttpRequest, path: &Path) -> HttpResponse {
    let Ok(mut content) = std::fs::read(path) else {
        return HttpResponse::NotFound().body("there is nothing here\n");
    };
    let (behaviour, asked) = state.content_question();
    if let Some(answer) = misbehaved(state, request, &behaviour) {
        return answer;
    }
    if behaviour.lies && path.ends_with(deft_depot::INDEX_FILE) {
        content = turned(&content);
    }
    let is_other = behaviour.changes_after.is_some_and(|after| asked > after);
    if is_other && let Some(byte) = content.last_mut() {
        *byte ^= 1;
    }
    let longer = usize::try_from(behaviour.longer_by.unsigned_abs()).unwrap_or(0);
    if behaviour.longer_by < 0 {
        content.truncate(content.len().saturating_sub(longer));
    } else {
        content.resize(content.len() + longer, 0);
    }
    let total = content.len();
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
        let told = format!("bytes {start}-{}/{total}", end.saturating_sub(1));
        response.insert_header((header::CONTENT_RANGE, told));
        response
    } else {
        HttpResponse::Ok()
    };
    if !behaviour.no_marks {
        response.insert_header((header::ETAG, mark));
    }
    let kind = mime_guess::from_path(path).first_or_octet_stream();
    response.content_type(kind.to_string());
    let body = Bytes::from(content).slice(start..end);
    let break_at = behaviour.break_after.and_then(|after| {
        let after = usize::try_from(after).unwrap_or(usize::MAX);
        (after < body.len() && state.may_break(&behaviour)).then_some(after)
    });
    let length = body.len() as u64;
    response.body(SizedStream::new(length, pieces(state.clone(), body, behaviour.rate, break_at)))
}

/// Digests that are none of the files: each begins with another digit.
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

/// What it does instead of sending content.
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

/// The bytes that `bytes=a-b` or `bytes=a-` means.
fn range_of(text: &str, total: usize) -> Option<(usize, usize)> {
    let (start, end) = text.strip_prefix("bytes=")?.split_once('-')?;
    let start: usize = start.parse().ok()?;
    let end = if end.is_empty() { total } else { end.parse::<usize>().ok()?.saturating_add(1) };
    (start < total && start < end).then_some((start, end.min(total)))
}

fn pieces(
    state: State,
    body: Bytes,
    rate: Option<u64>,
    break_at: Option<usize>,
) -> impl futures_util::Stream<Item = io::Result<Bytes>> {
    stream::unfold((state, body, 0), move |(state, body, at)| async move {
        if at == body.len() {
            return None;
        }
        if break_at.is_some_and(|limit| at >= limit) {
            let broken = io::Error::new(io::ErrorKind::ConnectionReset, "told to break off");
            let length = body.len();
            return Some((Err(broken), (state, body, length)));
        }
        let piece =
            rate.map_or(PIECE, |rate| PIECE.min(usize::try_from(rate / 20).unwrap_or(1).max(1)));
        let end = (at + piece).min(break_at.unwrap_or(body.len())).min(body.len());
        if let Some(rate) = rate {
            #[expect(clippy::cast_precision_loss, reason = "a pause")]
            let pause = (end - at) as f64 / rate.max(1) as f64;
            tokio::time::sleep(Duration::from_secs_f64(pause)).await;
        }
        let now = body.slice(at..end);
        state.sent(now.len() as u64);
        Some((Ok(now), (state, body, end)))
    })
}
