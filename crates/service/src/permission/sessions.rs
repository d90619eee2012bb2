//! How a browser gets permission: a link with a code that is good once and for some minutes, which becomes
//! a session. Codes and sessions are known in memory only, and only by their digests.

use std::collections::VecDeque;
use std::io;

use std::time::{Duration, Instant};

use parking_lot::{Mutex, MutexGuard};

use super::key::drawn;
use super::peers::Peer;

/// How long a link is good.
pub(crate) const LINK: Duration = Duration::from_secs(5 * 60);
/// How long a session is good.
pub(crate) const SESSION: Duration = Duration::from_secs(12 * 3600);
/// So many of each are known; beyond that the oldest goes.
const MOST: usize = 64;
/// Bytes of chance in each.
const CHANCE: usize = 24;

struct Code {
    digest: blake3::Hash,
    until: Instant,
    /// The only user who may use it, if it is bound to one.
    only: Option<Peer>,
}

struct Session {
    digest: blake3::Hash,
    until: Instant,
    /// Browsers send cookies to every port of a machine, so only the user who began the session may use it.
    peer: Peer,
}

#[derive(Default)]
struct Known {
    codes: VecDeque<Code>,
    sessions: VecDeque<Session>,
}

/// The codes and sessions that are good now.
#[derive(Default)]
pub(crate) struct Sessions(Mutex<Known>);

impl Sessions {
    fn known(&self) -> MutexGuard<'_, Known> {
        self.0.lock()
    }

    /// A new code for a link, for one user only where that is said.
    pub(crate) fn code(&self, only: Option<Peer>, now: Instant) -> io::Result<String> {
        let code = drawn::<CHANCE>()?;
        let mut known = self.known();
        known.codes.truncate(MOST - 1);
        known.codes.push_front(Code {
            digest: blake3::hash(code.as_bytes()),
            until: now + LINK,
            only,
        });
        Ok(code)
    }

    /// Exchanges a code for a session, once; none if the code is invalid.
    pub(crate) fn begin(&self, code: &str, peer: Peer, now: Instant) -> io::Result<Option<String>> {
        let digest = blake3::hash(code.as_bytes());
        let mut known = self.known();
        let Some(at) = known.codes.iter().position(|known| known.digest == digest) else {
            return Ok(None);
        };
        let code = known.codes.remove(at);
        let is_good = |code: &Code| now < code.until && code.only.is_none_or(|only| only == peer);
        if !code.as_ref().is_some_and(is_good) {
            return Ok(None);
        }
        let session = drawn::<CHANCE>()?;
        known.sessions.truncate(MOST - 1);
        known.sessions.push_front(Session {
            digest: blake3::hash(session.as_bytes()),
            until: now + SESSION,
            peer,
        });
        Ok(Some(session))
    }

    /// Whether that is a session of this user.
    pub(crate) fn is_good(&self, session: &str, peer: Peer, now: Instant) -> bool {
        let digest = blake3::hash(session.as_bytes());
        let mut known = self.known();
        known.sessions.retain(|session| now < session.until);
        known.sessions.iter().any(|known| known.digest == digest && known.peer == peer)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const OTHER: Peer = Peer::User(1000);

    #[test]
    fn a_code_is_good_once_and_for_some_minutes() {
        let (sessions, now) = (Sessions::default(), Instant::now());
        let code = sessions.code(None, now).unwrap();
        let session = sessions.begin(&code, OTHER, now).unwrap().unwrap();
        assert_ne!(session, code);
        assert_eq!(sessions.begin(&code, OTHER, now).unwrap(), None, "it was used");
        let late = sessions.code(None, now).unwrap();
        assert_eq!(sessions.begin(&late, OTHER, now + LINK).unwrap(), None);
        assert_eq!(sessions.begin("larkfen", OTHER, now).unwrap(), None);
    }

    #[test]
    fn a_code_for_one_user_is_lost_where_another_one_tries_it() {
        let (sessions, now) = (Sessions::default(), Instant::now());
        let code = sessions.code(Some(Peer::User(7)), now).unwrap();
        assert_eq!(sessions.begin(&code, OTHER, now).unwrap(), None);
        assert_eq!(sessions.begin(&code, Peer::User(7), now).unwrap(), None);
        let code = sessions.code(Some(Peer::User(7)), now).unwrap();
        assert!(sessions.begin(&code, Peer::User(7), now).unwrap().is_some());
    }

    #[test]
    fn a_session_is_for_one_user_and_not_for_another_day() {
        let (sessions, now) = (Sessions::default(), Instant::now());
        let code = sessions.code(None, now).unwrap();
        let session = sessions.begin(&code, OTHER, now).unwrap().unwrap();
        assert!(sessions.is_good(&session, OTHER, now + SESSION / 2));
        assert!(
            !sessions.is_good(&session, Peer::User(1001), now),
            "a cookie that was carried off"
        );
        assert!(!sessions.is_good(&session, Peer::Unknown, now));
        assert!(!sessions.is_good(&session, OTHER, now + SESSION), "a cookie from yesterday");
        assert!(!sessions.is_good("larkfen", OTHER, now));
    }

    #[test]
    fn no_more_are_known_than_are_of_use() {
        let (sessions, now) = (Sessions::default(), Instant::now());
        let first = sessions.code(None, now).unwrap();
        for _ in 0..200 {
            let code = sessions.code(None, now).unwrap();
            sessions.begin(&code, OTHER, now).unwrap();
            sessions.code(None, now).unwrap();
        }
        assert!(sessions.known().codes.len() <= MOST && sessions.known().sessions.len() <= MOST);
        assert_eq!(sessions.begin(&first, OTHER, now).unwrap(), None);
    }
}
