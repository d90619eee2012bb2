//! The stand-in itself: one small web server.

use std::net::{Ipv4Addr, TcpListener};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::{AtomicU32, AtomicU64, Ordering};

use actix_web::dev::ServerHandle;
use actix_web::http::header;
use actix_web::{App, HttpRequest, HttpResponse, HttpServer, web};
use anyhow::Context;
use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use parking_lot::Mutex;
use serde_json::json;

use crate::behaviour::Behaviour;
use crate::registry::READER;
use crate::tokens::Issuer;
use crate::{content, git};

/// Longest body of a request in bytes.
const MAX_BODY: usize = 8 << 20;

/// Settings of a stand-in.
#[derive(Debug, Clone, Default)]
pub struct HubOptions {
    /// The folder that it serves: files of `index/`, repositories of `git/`, files of `large/` by digest.
    pub folder: PathBuf,
    /// The port; by default any free one.
    pub port: u16,
    /// Whether connections are encrypted with a certificate of its own.
    pub encrypted: bool,
    /// Its behaviour.
    pub behaviour: Behaviour,
}

/// A running stand-in; it ends when this is dropped.
#[derive(Debug)]
pub struct Hub {
    address: String,
    certificate: Option<String>,
    state: State,
    handle: ServerHandle,
}

/// State that all workers share; cheap to clone.
#[derive(Debug, Clone)]
pub(crate) struct State(Arc<Inner>);

#[derive(Debug)]
struct Inner {
    folder: PathBuf,
    behaviour: Mutex<Behaviour>,
    questions: AtomicU32,
    broken: AtomicU32,
    refused: AtomicU32,
    /// Counts since the last change of behaviour.
    sent: Mutex<Arc<AtomicU64>>,
    sending: AtomicU32,
    most_sending: AtomicU32,
    /// Path and authorization of each request.
    seen: Mutex<Vec<(String, String)>>,
    /// Issues tokens for a registry.
    issuer: Issuer,
}

/// Counts a response and its bytes.
pub(crate) struct SendingCount {
    state: State,
    /// The counts at the time of the request: a response that began before a change of behaviour is not counted with later
    /// ones.
    sent: Arc<AtomicU64>,
}

impl SendingCount {
    pub(crate) fn sent(&self, bytes: u64) {
        self.sent.fetch_add(bytes, Ordering::Relaxed);
    }
}

impl Drop for SendingCount {
    fn drop(&mut self) {
        self.state.0.sending.fetch_sub(1, Ordering::Relaxed);
    }
}

impl State {
    pub(crate) fn folder(&self) -> &Path {
        &self.0.folder
    }

    /// Its behaviour, and the number of requests for content including this one.
    pub(crate) fn content_question(&self) -> (Behaviour, u32) {
        let asked = self.0.questions.fetch_add(1, Ordering::Relaxed) + 1;
        (self.0.behaviour.lock().clone(), asked)
    }

    /// Counts a response until the returned value is dropped.
    pub(crate) fn begin_sending(&self) -> SendingCount {
        let now = self.0.sending.fetch_add(1, Ordering::Relaxed) + 1;
        self.0.most_sending.fetch_max(now, Ordering::Relaxed);
        SendingCount { sent: Arc::clone(&self.0.sent.lock()), state: self.clone() }
    }

    /// Its behaviour for requests other than content.
    pub(crate) fn behaviour(&self) -> Behaviour {
        self.0.behaviour.lock().clone()
    }

    pub(crate) fn may_break(&self, behaviour: &Behaviour) -> bool {
        let before = self.0.broken.fetch_add(1, Ordering::Relaxed);
        behaviour.breaks.is_none_or(|most| before < most)
    }

    pub(crate) fn may_refuse(&self, behaviour: &Behaviour) -> bool {
        let before = self.0.refused.fetch_add(1, Ordering::Relaxed);
        behaviour.refusals.is_none_or(|most| before < most)
    }

    /// Whether the request has the required token, as a bearer token or as the password of any user.
    pub(crate) fn admits(&self, request: &HttpRequest) -> bool {
        let header = request.headers().get(header::AUTHORIZATION);
        let header = header.and_then(|value| value.to_str().ok()).unwrap_or_default().to_owned();
        self.0.seen.lock().push((request.path().to_owned(), header.clone()));
        let Some(token) = self.0.behaviour.lock().token.clone() else {
            return true;
        };
        let password = header
            .strip_prefix("Basic ")
            .and_then(|text| String::from_utf8(STANDARD.decode(text).ok()?).ok());
        header == format!("Bearer {token}")
            || password.is_some_and(|pair| pair.ends_with(&format!(":{token}")))
    }
}

impl Hub {
    /// Starts a stand-in on loopback.
    ///
    /// # Errors
    /// The port is in use, or the certificate cannot be made.
    pub fn start(options: HubOptions) -> anyhow::Result<Self> {
        let listener = TcpListener::bind((Ipv4Addr::LOCALHOST, options.port))
            .with_context(|| format!("port {} cannot be listened on", options.port))?;
        let port = listener.local_addr()?.port();
        let state = State(Arc::new(Inner {
            folder: options.folder,
            behaviour: Mutex::new(options.behaviour),
            questions: AtomicU32::new(0),
            broken: AtomicU32::new(0),
            refused: AtomicU32::new(0),
            sent: Mutex::default(),
            sending: AtomicU32::new(0),
            most_sending: AtomicU32::new(0),
            seen: Mutex::default(),
            issuer: Issuer::new()?,
        }));
        let (encryption, certificate) = if options.encrypted {
            let (config, pem) = certificate()?;
            (Some(config), Some(pem))
        } else {
            (None, None)
        };
        let scheme = if options.encrypted { "https" } else { "http" };
        let address = format!("{scheme}://localhost:{port}");
        let (sender, started) = std::sync::mpsc::channel();
        let serving = state.clone();
        std::thread::spawn(move || {
            actix_web::rt::System::new().block_on(async move {
                let server = HttpServer::new(move || {
                    App::new().app_data(web::Data::new(serving.clone())).configure(routes)
                });
                let server = server.workers(2).disable_signals().shutdown_timeout(0);
                let server = match encryption {
                    Some(config) => server.listen_rustls_0_23(listener, config),
                    None => server.listen(listener),
                };
                match server {
                    Ok(server) => {
                        let server = server.run();
                        let _ = sender.send(Ok(server.handle()));
                        let _ = server.await;
                    }
                    Err(error) => drop(sender.send(Err(error))),
                }
            });
        });
        let handle = started.recv().context("the stand-in did not start")??;
        Ok(Self { address, certificate, state, handle })
    }

    /// Its address, without a slash at the end.
    #[must_use]
    pub fn address(&self) -> &str {
        &self.address
    }

    /// Issues tokens at `/token`, for a registry that trusts them.
    #[must_use]
    pub fn issuer(&self) -> &Issuer {
        &self.state.0.issuer
    }

    /// The certificate to trust (PEM), if connections are encrypted.
    #[must_use]
    pub fn certificate(&self) -> Option<&str> {
        self.certificate.as_deref()
    }

    /// Changes its behaviour and resets the counts.
    pub fn behave(&self, behaviour: Behaviour) {
        let inner = &self.state.0;
        *inner.behaviour.lock() = behaviour;
        for count in [&inner.questions, &inner.broken, &inner.refused] {
            count.store(0, Ordering::Relaxed);
        }
        *inner.sent.lock() = Arc::default();
        inner.seen.lock().clear();
    }

    /// Bytes of content that it sent for requests since the last change of behaviour.
    #[must_use]
    pub fn sent(&self) -> u64 {
        self.state.0.sent.lock().load(Ordering::Relaxed)
    }

    /// Largest number of simultaneous responses since the start.
    #[must_use]
    pub fn most_at_once(&self) -> u32 {
        self.state.0.most_sending.load(Ordering::Relaxed)
    }

    /// Requests for content since the last change of behaviour.
    #[must_use]
    pub fn questions(&self) -> u32 {
        self.state.0.questions.load(Ordering::Relaxed)
    }

    /// Paths and authorizations of requests since the last change of behaviour.
    #[must_use]
    pub fn seen(&self) -> Vec<(String, String)> {
        self.state.0.seen.lock().clone()
    }
}

impl Drop for Hub {
    fn drop(&mut self) {
        // The server stops in its own thread.
        drop(self.handle.stop(false));
    }
}

/// A certificate for the loopback names.
fn certificate() -> anyhow::Result<(rustls::ServerConfig, String)> {
    let names = vec!["localhost".to_owned(), "127.0.0.1".to_owned()];
    let made = rcgen::generate_simple_self_signed(names)?;
    let key = rustls::pki_types::PrivateKeyDer::try_from(made.signing_key.serialize_der());
    let key = key.map_err(anyhow::Error::msg)?;
    let provider = rustls::crypto::ring::default_provider();
    let config = rustls::ServerConfig::builder_with_provider(Arc::new(provider))
        .with_safe_default_protocol_versions()?
        .with_no_client_auth()
        .with_single_cert(vec![made.cert.der().clone()], key)?;
    Ok((config, made.cert.pem()))
}

fn routes(config: &mut web::ServiceConfig) {
    config
        .app_data(web::PayloadConfig::new(MAX_BODY))
        .route("/-/behaviour", web::post().to(behave))
        .route("/token", web::get().to(token))
        .route("/index/{path:.*}", web::get().to(index))
        .route("/list/{repo:.*}/{revision}", web::get().to(list))
        .route("/get/{revision}/{path:.*}", web::get().to(get))
        .route("/large/{id}", web::get().to(large))
        .route("/git/{path:.*}/info/lfs/objects/batch", web::post().to(git::batch))
        .route("/git/{path:.*}", web::to(git::backend));
}

async fn behave(state: web::Data<State>, behaviour: web::Json<Behaviour>) -> HttpResponse {
    *state.0.behaviour.lock() = behaviour.into_inner();
    HttpResponse::NoContent().finish()
}

#[derive(serde::Deserialize)]
struct TokenQuery {
    scope: Option<String>,
}

/// Issues a token for reading.
async fn token(
    state: web::Data<State>,
    request: HttpRequest,
    query: web::Query<TokenQuery>,
) -> HttpResponse {
    let header = request.headers().get(header::AUTHORIZATION);
    let header = header.and_then(|value| value.to_str().ok()).unwrap_or_default();
    let wanted = format!("Basic {}", STANDARD.encode(format!("{}:{}", READER.0, READER.1)));
    if header != wanted {
        return unauthorized();
    }
    match state.0.issuer.token(READER.0, query.scope.as_deref()) {
        Ok(token) => HttpResponse::Ok().json(token),
        Err(error) => HttpResponse::InternalServerError().body(error.to_string()),
    }
}

pub(crate) fn unauthorized() -> HttpResponse {
    let challenge = (header::WWW_AUTHENTICATE, "Basic realm=\"a stand-in\"");
    HttpResponse::Unauthorized().insert_header(challenge).body("a token is needed\n")
}

/// A path below a folder; none if it leads out of the folder.
fn below(folder: &Path, path: &str) -> Option<PathBuf> {
    let plain = path.split('/').all(|part| !matches!(part, "" | "." | ".."));
    plain.then(|| folder.join(path))
}

fn file(state: &State, request: &HttpRequest, folder: &str, path: &str) -> HttpResponse {
    if !state.admits(request) {
        return unauthorized();
    }
    match below(&state.folder().join(folder), path) {
        Some(path) => content::send(state, request, &path),
        None => HttpResponse::BadRequest().finish(),
    }
}

async fn index(
    state: web::Data<State>,
    request: HttpRequest,
    path: web::Path<String>,
) -> HttpResponse {
    file(&state, &request, "index", &path)
}

async fn large(
    state: web::Data<State>,
    request: HttpRequest,
    id: web::Path<String>,
) -> HttpResponse {
    file(&state, &request, "large", &id)
}

async fn get(
    state: web::Data<State>,
    request: HttpRequest,
    path: web::Path<(String, String)>,
) -> HttpResponse {
    file(&state, &request, "index", &path.1)
}

/// Lists the files of a folder in the form of a hub.
async fn list(
    state: web::Data<State>,
    request: HttpRequest,
    path: web::Path<(String, String)>,
) -> HttpResponse {
    if !state.admits(&request) {
        return unauthorized();
    }
    let Some(folder) = below(&state.folder().join("index"), &path.0) else {
        return HttpResponse::BadRequest().finish();
    };
    let Ok(entries) = std::fs::read_dir(&folder) else {
        return HttpResponse::NotFound().finish();
    };
    let mut files: Vec<serde_json::Value> = entries
        .filter_map(|entry| {
            let entry = entry.ok()?;
            let bytes = entry.metadata().ok().filter(|found| found.is_file())?.len();
            Some(json!({"name": entry.file_name().to_string_lossy(), "about": {"size": bytes}}))
        })
        .collect();
    files.push(json!({"folder": "notes"}));
    HttpResponse::Ok().json(json!({"revision": path.1, "files": files}))
}

#[cfg(test)]
mod tests {
    use std::io::{Read, Write};
    use std::net::TcpStream;

    use super::*;

    #[test]
    fn who_is_still_sent_something_is_not_counted_with_those_that_come_later() {
        let folder = tempfile::tempdir().unwrap();
        std::fs::create_dir(folder.path().join("index")).unwrap();
        std::fs::write(folder.path().join("index/larkfen.gguf"), vec![7; 1 << 20]).unwrap();
        let folder = folder.path().to_owned();
        let slow = Behaviour { rate: Some(1 << 16), ..Behaviour::default() };
        let options = HubOptions { folder, behaviour: slow, ..HubOptions::default() };
        let hub = Hub::start(options).unwrap();
        let ask = || {
            let port = hub.address().rsplit(':').next().unwrap().trim_matches('/').parse().unwrap();
            let mut stream = TcpStream::connect((Ipv4Addr::LOCALHOST, port)).unwrap();
            let question =
                "GET /index/larkfen.gguf HTTP/1.1\r\nHost: it\r\nConnection: close\r\n\r\n";
            stream.write_all(question.as_bytes()).unwrap();
            stream
        };
        let mut early = ask();
        early.read_exact(&mut [0; 1000]).unwrap();
        assert!(hub.sent() > 0);
        hub.behave(Behaviour::default());
        let mut rest = Vec::new();
        early.read_to_end(&mut rest).unwrap();
        assert!(rest.len() >= (1 << 20) - 1000, "it is sent the rest, and faster");
        assert_eq!(hub.sent(), 0);
        ask().read_to_end(&mut rest).unwrap();
        assert_eq!(hub.sent(), 1 << 20);
    }
}
