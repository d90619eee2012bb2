//! Who calls: the program, by the name it gives itself, and where it runs.

use std::convert::Infallible;
use std::future::{Ready, ready};

use actix_web::dev::Payload;
use actix_web::http::header::USER_AGENT;
use actix_web::{FromRequest, HttpMessage, HttpRequest};
use uuid::Uuid;

/// Longest name of a caller, in characters.
const LONGEST: usize = 64;

/// A caller and its request.
pub(super) struct Caller {
    /// Default name.
    pub(super) name: String,
    /// Id of the request, which the response's headers and the record of the call have too.
    pub(super) request: Uuid,
    /// Whether its calls wait behind all others.
    pub(super) is_background: bool,
}

impl Caller {
    /// A call of a batch.
    pub(super) fn of_batch(name: String) -> Self {
        Self { name, request: Uuid::now_v7(), is_background: true }
    }
}

/// The id that [`crate::permission::guard`] gives every request.
#[derive(Clone, Copy)]
pub(crate) struct RequestId(pub(crate) Uuid);

impl FromRequest for Caller {
    type Error = Infallible;
    type Future = Ready<Result<Self, Infallible>>;

    fn from_request(request: &HttpRequest, _: &mut Payload) -> Self::Future {
        let agent = request.headers().get(USER_AGENT).and_then(|agent| agent.to_str().ok());
        let address = request.peer_addr().map(|peer| peer.ip().to_string());
        let name = named(agent.unwrap_or_default(), address.as_deref());
        let id = request.extensions().get::<RequestId>().map(|id| id.0);
        let request = id.unwrap_or_else(Uuid::now_v7);
        ready(Ok(Self { name, request, is_background: false }))
    }
}

fn named(agent: &str, address: Option<&str>) -> String {
    let program = match agent.split(['/', ' ', '(']).next() {
        // Every browser begins with this.
        Some("Mozilla") => "a browser",
        None | Some("") => "a program",
        Some(program) => program,
    };
    match address {
        Some(address) => readable(&format!("{program} at {address}")),
        None => readable(program),
    }
}

/// A name as it can be shown: short, in one line.
pub(crate) fn readable(name: &str) -> String {
    name.chars().filter(|letter| !letter.is_control()).take(LONGEST).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn programs_are_named_as_they_name_themselves() {
        assert_eq!(named("deft/0.1", Some("127.0.0.1")), "deft at 127.0.0.1");
        assert_eq!(named("Mozilla/5.0 (X11; Linux)", Some("::1")), "a browser at ::1");
        assert_eq!(named("", Some("127.0.0.1")), "a program at 127.0.0.1");
        assert_eq!(named("seed-agent", None), "seed-agent");
    }

    #[test]
    fn a_name_has_one_short_line() {
        assert_eq!(readable("two\nlines\u{1b}[31m"), "twolines[31m");
        assert_eq!(readable(&"é".repeat(300)).chars().count(), LONGEST);
    }
}
