//! Permission to manage. Reaching the port gives no permission. The kernel identifies the user of a connection; a caller
//! that is unknown or not an operator needs the operator's key, or a session that began with a link.

mod attempts;
pub(crate) mod guard;
mod key;
mod operators;
mod peers;
mod sessions;

use std::path::Path;
use std::time::Instant;

use actix_web::body::{EitherBody, MessageBody};
use actix_web::cookie::{Cookie, SameSite};
use actix_web::dev::{ServiceRequest, ServiceResponse};
use actix_web::http::Method;
use actix_web::http::header::{AUTHORIZATION, HeaderName, ORIGIN};
use actix_web::middleware::Next;
use actix_web::{Error, web};
use deft_protocol::{Problem, ProblemKind};

use crate::config::{Access, ConfigError, PermissionConfig};
use crate::routes::{App, respond};
use attempts::{Answer, Attempts};
use key::OperatorKey;
pub use key::{KeyError, key_file, read_key};
use operators::Operators;
pub(crate) use peers::Peer;
pub(crate) use sessions::{LINK, Sessions};

/// The name of the session's cookie.
const COOKIE: &str = "deft_session";
/// Methods that change nothing.
const SAFE: [Method; 3] = [Method::GET, Method::HEAD, Method::OPTIONS];
/// Code of a call that needs permission.
pub(crate) const PERMISSION_NEEDED: &str = "permission_needed";

/// Decides who may do what.
pub(crate) struct Permission {
    key: OperatorKey,
    operators: Operators,
    config: PermissionConfig,
    pub(crate) sessions: Sessions,
    attempts: Attempts,
}

/// Why permission cannot be decided.
#[derive(Debug, thiserror::Error)]
pub enum PermissionError {
    /// The operator's key cannot be used.
    #[error(transparent)]
    Key(#[from] KeyError),
    /// The settings name an unknown user or group.
    #[error(transparent)]
    Config(#[from] ConfigError),
}

impl Permission {
    /// By the key in the data directory, and the settings.
    ///
    /// # Errors
    /// The key can be read by others, or the settings name an unknown user or group.
    pub(crate) fn open(
        data_dir: &Path,
        config: &PermissionConfig,
    ) -> Result<Self, PermissionError> {
        Ok(Self {
            key: OperatorKey::open(data_dir)?,
            operators: Operators::new(config)?,
            config: config.clone(),
            sessions: Sessions::default(),
            attempts: Attempts::default(),
        })
    }

    /// Whether calls of models need the operator's key.
    pub(crate) fn answers_need_key(&self) -> bool {
        self.config.answers == Access::Operators
    }

    /// Who may use a path; everything that is not named here is for operators only.
    fn access(&self, path: &str) -> Access {
        let is_below = |top: &str| {
            path.strip_prefix(top).is_some_and(|rest| rest.is_empty() || rest.starts_with('/'))
        };
        if is_below("/manage") {
            return Access::Operators;
        }
        if is_below("/v1") {
            return self.config.answers;
        }
        if is_below("/health") {
            return self.config.health;
        }
        if is_below("/metrics") {
            return self.config.metrics;
        }
        // The console's files are not secret: what they show comes from `/manage`.
        Access::Open
    }

    /// Lets a request through, or says what it needs.
    async fn judge(&self, request: &ServiceRequest) -> Result<(), Problem> {
        // A path may be written in several ways: each of them must be allowed.
        let raw = request.uri().path();
        let accesses = [self.access(raw), self.access(request.match_info().as_str())];
        if accesses.iter().all(|access| *access == Access::Open) {
            return Ok(());
        }
        let peer = peer_of(request);
        if self.operators.admit(peer) {
            return Ok(());
        }
        if let Some(given) = bearer(request) {
            if self.key.is(&given) {
                self.attempts.right(peer);
                return Ok(());
            }
            return Err(self.wrong(peer, "key").await);
        }
        let cookie = request.cookie(COOKIE);
        if cookie.is_some_and(|it| self.sessions.is_good(it.value(), peer, Instant::now())) {
            return own_page(request);
        }
        Err(needed(peer))
    }

    /// A wrong key or code: logged without it, and answered slowly.
    async fn wrong(&self, peer: Peer, what: &str) -> Problem {
        let answer = self.attempts.wrong(peer).await;
        let detail = match answer {
            Answer::Slowly(count) => {
                tracing::warn!("wrong {what} from {peer}, {count} in a row");
                format!("wrong {what}")
            }
            Answer::SentAway => {
                tracing::warn!("wrong {what} from {peer}, among many others");
                let detail = format!("too many attempts with a wrong {what}");
                return Problem::new(ProblemKind::Overloaded, "too_many_attempts", detail);
            }
        };
        Problem::new(ProblemKind::Unauthorized, "wrong_key", detail)
            .with_way_out("the key is in the file `operator.key` of the data directory")
    }

    /// Turns the code of a link into a session's cookie; nothing where the code is not good.
    pub(crate) async fn enter(
        &self,
        code: &str,
        peer: Peer,
    ) -> std::io::Result<Option<Cookie<'static>>> {
        let Some(session) = self.sessions.begin(code, peer, Instant::now())? else {
            self.wrong(peer, "link").await;
            return Ok(None);
        };
        tracing::info!("a browser of {peer} used a link and may manage now");
        let cookie = Cookie::build(COOKIE, session).path("/").http_only(true);
        Ok(Some(cookie.same_site(SameSite::Strict).finish()))
    }
}

/// Who is at the other end of a request's connection.
pub(crate) fn peer_of(request: &ServiceRequest) -> Peer {
    request.conn_data::<Peer>().copied().unwrap_or(Peer::Unknown)
}

/// Header with the key in the messages protocol.
const KEY_HEADER: &str = "x-api-key";

fn bearer(request: &ServiceRequest) -> Option<String> {
    let Some(text) = request.headers().get(AUTHORIZATION) else {
        let key = request.headers().get(KEY_HEADER)?.to_str().ok()?;
        return Some(key.trim().to_owned());
    };
    let text = text.to_str().ok()?;
    let (scheme, key) = text.split_once(' ')?;
    scheme.eq_ignore_ascii_case("bearer").then(|| key.trim().to_owned())
}

/// A cookie goes along with whatever a browser sends: what changes something must come from our own page.
/// The guard has checked that an Origin is ours; here it must be present.
fn own_page(request: &ServiceRequest) -> Result<(), Problem> {
    let site = request.headers().get(HeaderName::from_static("sec-fetch-site"));
    let is_told = request.headers().contains_key(ORIGIN)
        || site.is_some_and(|site| site.as_bytes() == b"same-origin");
    if SAFE.contains(request.method()) || is_told {
        return Ok(());
    }
    let detail = "with a browser session, only the console can make changes";
    Err(Problem::new(ProblemKind::Forbidden, "origin_missing", detail)
        .with_way_out("in a program, send the operator's key instead"))
}

fn needed(peer: Peer) -> Problem {
    let detail = match peer {
        Peer::User(user) => format!("user {user} is not allowed to manage this service"),
        Peer::Unknown => {
            "the user of this connection is not known, so managing needs the operator's key"
                .to_owned()
        }
    };
    Problem::new(ProblemKind::Unauthorized, PERMISSION_NEEDED, detail).with_way_out(
        "run the command as the user of the service, or name the operator's key: --key-file FILE or DEFT_KEY. \
         For a browser, open a link: deft console",
    )
}

/// Middleware: passes on permitted requests.
pub(crate) async fn permit<B: MessageBody + 'static>(
    request: ServiceRequest,
    next: Next<B>,
) -> Result<ServiceResponse<EitherBody<B>>, Error> {
    let app = request.app_data::<web::Data<App>>().cloned();
    let judged = match &app {
        Some(app) => app.permission.judge(&request).await,
        None => Err(needed(Peer::Unknown)),
    };
    match judged {
        Ok(()) => Ok(next.call(request).await?.map_into_left_body()),
        Err(problem) => {
            let response = respond::refusal(request.path(), &problem);
            Ok(request.into_response(response).map_into_right_body())
        }
    }
}
