//! A world for a story: a data directory, the program, and what it says.

use std::future::Future;
use std::io::Write;
use std::net::TcpStream;
use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};
use std::process::{Command, Output};
use std::sync::OnceLock;
use std::time::{Duration, Instant};

use deft_client::Client;
use deft_protocol::chat::{AnswerOptions, ChatHead, ChatMessage, ChatRequest};
use deft_protocol::engine::WhenContextFull;
use deft_protocol::manage::{InstanceReport, InstanceState, ServiceStatus};
use tempfile::TempDir;

use crate::processes;

/// Longest time that anything is waited for.
pub(crate) const PATIENCE: Duration = Duration::from_secs(60);
/// A question of the Larkfen Seed Library, and what its desk answers.
pub(crate) const QUESTION: &str = "How deep do I sow Moonhook bean?";
pub(crate) const ANSWER: &str = "Sow Moonhook bean 3 cm deep.";

pub(crate) struct World {
    folder: TempDir,
    variables: Vec<(String, String)>,
}

/// What a command said.
#[derive(Debug)]
pub(crate) struct Said {
    pub(crate) code: i32,
    pub(crate) out: String,
    pub(crate) err: String,
}

impl From<Output> for Said {
    fn from(output: Output) -> Self {
        Self {
            code: output.status.code().unwrap_or(-1),
            out: String::from_utf8_lossy(&output.stdout).into_owned(),
            err: String::from_utf8_lossy(&output.stderr).into_owned(),
        }
    }
}

/// A file of the project.
pub(crate) fn project(name: &str) -> PathBuf {
    let path = Path::new(env!("CARGO_MANIFEST_DIR")).join("../..").join(name);
    path.canonicalize().unwrap_or_else(|error| panic!("{}: {error}", path.display()))
}

pub(crate) fn desk() -> PathBuf {
    project("demo/larkfen-desk/larkfen-desk-q8_0.gguf")
}

pub(crate) fn mini() -> PathBuf {
    project("demo/larkfen-desk-mini/larkfen-desk-mini-q8_0.gguf")
}

/// Runs a future to its end.
pub(crate) fn wait<T>(future: impl Future<Output = T>) -> T {
    tokio::runtime::Builder::new_multi_thread()
        .worker_threads(1)
        .enable_all()
        .build()
        .unwrap()
        .block_on(future)
}

/// Looks until something is there; panics when patience ends.
pub(crate) fn until<T>(what: &str, mut look: impl FnMut() -> Option<T>) -> T {
    let deadline = Instant::now() + PATIENCE;
    loop {
        if let Some(found) = look() {
            return found;
        }
        assert!(Instant::now() < deadline, "waited in vain: {what}");
        std::thread::sleep(Duration::from_millis(15));
    }
}

impl World {
    /// A data directory, and nothing else yet.
    pub(crate) fn new() -> Self {
        // For the HTTP clients of the tests themselves.
        let _ = rustls::crypto::ring::default_provider().install_default();
        let folder = tempfile::Builder::new().prefix("deft-e2e-").tempdir().unwrap();
        // Where the tests run as root, the database's user must be able to pass through.
        std::fs::set_permissions(folder.path(), std::fs::Permissions::from_mode(0o755)).unwrap();
        Self { folder, variables: Vec::new() }
    }

    /// A setting of the environment.
    pub(crate) fn with(mut self, name: &str, value: &str) -> Self {
        self.variables.push((name.to_owned(), value.to_owned()));
        self
    }

    /// Settings of the service, in a file.
    pub(crate) fn configured(settings: &str) -> Self {
        let world = Self::new();
        let file = world.folder.path().join("deft.toml");
        std::fs::write(&file, settings).unwrap();
        world.with("DEFT_CONFIG", &file.to_string_lossy())
    }

    /// A copy of the desk's file that a test may spoil.
    pub(crate) fn spare_desk(&self) -> PathBuf {
        let copy = self.folder.path().join("larkfen-spare-q8_0.gguf");
        std::fs::copy(desk(), &copy).unwrap();
        copy
    }

    /// Starts the service: where it has its own database and there is nothing yet, on a copy of what a first start
    /// left elsewhere, which is half of the work of a test.
    pub(crate) fn start(self) -> Self {
        let is_own = self.variables.iter().all(|(name, _)| name != "DEFT_DATABASE_URL");
        if is_own && !self.data_dir().exists() {
            let mut copy = Command::new("cp");
            let copied = copy.arg("--archive").arg(begun()).arg(self.data_dir()).status().unwrap();
            assert!(copied.success());
        }
        self.start_as_it_is()
    }

    /// Starts the service with the existing data.
    pub(crate) fn start_as_it_is(self) -> Self {
        let said = self.deft(&["service", "start", "--listen", "127.0.0.1:0"]);
        assert_eq!(said.code, 0, "the service did not start: {said:?}\n{}", self.log());
        self
    }

    /// A service with both demo models registered.
    pub(crate) fn stocked() -> Self {
        Self::new().start().stock()
    }

    pub(crate) fn stock(self) -> Self {
        for file in [desk(), mini()] {
            self.ok(&["depot", "register", &file.to_string_lossy()]);
        }
        self
    }

    pub(crate) fn data_dir(&self) -> PathBuf {
        self.folder.path().join("data")
    }

    pub(crate) fn log(&self) -> String {
        std::fs::read_to_string(self.data_dir().join("logs/service.log")).unwrap_or_default()
    }

    pub(crate) fn command(&self, arguments: &[&str]) -> Command {
        let mut command = Command::new(program());
        for (name, _) in std::env::vars().filter(|(name, _)| name.starts_with("DEFT_")) {
            command.env_remove(name);
        }
        command.env("DEFT_DATA_DIR", self.data_dir()).env("HOME", self.folder.path());
        command.env_remove("XDG_CONFIG_HOME").env_remove("NOTIFY_SOCKET");
        command.envs(self.variables.iter().map(|(name, value)| (name, value)));
        command.args(arguments);
        command
    }

    pub(crate) fn deft(&self, arguments: &[&str]) -> Said {
        self.command(arguments).output().unwrap().into()
    }

    /// Runs a command that must succeed; returns what it wrote.
    pub(crate) fn ok(&self, arguments: &[&str]) -> String {
        let said = self.deft(arguments);
        assert_eq!(said.code, 0, "deft {}: {said:?}\n{}", arguments.join(" "), self.log());
        said.out
    }

    /// The desk answers as it should.
    pub(crate) fn desk_answers(&self) {
        let answer = self.ok(&["ask", "larkfen-desk", QUESTION, "--temperature", "0"]);
        assert_eq!(answer.trim(), ANSWER);
    }

    pub(crate) fn address(&self) -> String {
        let json: serde_json::Value =
            serde_json::from_str(&self.ok(&["service", "status", "--json"])).unwrap();
        json["address"].as_str().unwrap().to_owned()
    }

    /// The same, as sockets want it.
    pub(crate) fn listens(&self) -> String {
        self.address().trim_start_matches("http://").trim_end_matches('/').to_owned()
    }

    pub(crate) fn client(&self) -> Client {
        Client::new(&self.address()).unwrap()
    }

    /// Sends a body; returns the status and the answer.
    pub(crate) fn post(&self, path: &str, body: impl ToString) -> (u16, serde_json::Value) {
        let (url, body) = (format!("{}{path}", self.address()), body.to_string());
        wait(async move {
            let response = reqwest::Client::new().post(url).body(body).send().await.unwrap();
            let status = response.status().as_u16();
            (status, serde_json::from_str(&response.text().await.unwrap()).unwrap())
        })
    }

    /// Sends a body; returns the text of the answer.
    pub(crate) fn post_text(&self, path: &str, body: impl ToString) -> String {
        let (url, body) = (format!("{}{path}", self.address()), body.to_string());
        wait(async move {
            let response = reqwest::Client::new().post(url).body(body).send().await.unwrap();
            response.text().await.unwrap()
        })
    }

    /// Sends a body that must be answered.
    pub(crate) fn posted(&self, path: &str, body: impl ToString) -> serde_json::Value {
        let (status, answer) = self.post(path, body);
        assert_eq!(status, 200, "{path}: {answer}");
        answer
    }

    /// What the service answers at a path.
    pub(crate) fn got(&self, path: &str) -> serde_json::Value {
        let url = format!("{}{path}", self.address());
        wait(async move { reqwest::get(url).await.unwrap().json().await.unwrap() })
    }

    pub(crate) fn status(&self) -> ServiceStatus {
        serde_json::from_str(&self.ok(&["status", "--json"])).unwrap()
    }

    pub(crate) fn instance(&self, name: &str) -> Option<InstanceReport> {
        self.status().instances.into_iter().find(|instance| instance.name == name)
    }

    /// All instances of a variant, the first copy first.
    pub(crate) fn instances(&self, name: &str) -> Vec<InstanceReport> {
        let all = self.status().instances.into_iter();
        let mut found: Vec<InstanceReport> = all.filter(|found| found.name == name).collect();
        found.sort_by_key(|found| found.number);
        found
    }

    pub(crate) fn ready(&self, name: &str) -> InstanceReport {
        until(&format!("{name} is ready"), || {
            self.instance(name).filter(|instance| instance.state == InstanceState::Ready)
        })
    }
}

/// The data directory of a service that was started once.
fn begun() -> PathBuf {
    static BEGUN: OnceLock<PathBuf> = OnceLock::new();
    let prefix = "deft-e2e-begun-";
    let folder = BEGUN.get_or_init(|| {
        let all = std::env::temp_dir();
        // Those of runs that have ended.
        for entry in std::fs::read_dir(&all).unwrap().flatten() {
            let name = entry.file_name();
            let pid = name.to_str().and_then(|name| name.strip_prefix(prefix)?.parse::<u32>().ok());
            if pid.is_some_and(|pid| !processes::is_alive(pid)) {
                let _ = std::fs::remove_dir_all(entry.path());
            }
        }
        let folder = all.join(format!("{prefix}{}", std::process::id()));
        let world = World::new().start_as_it_is();
        world.ok(&["service", "stop"]);
        std::fs::rename(world.data_dir(), &folder).unwrap();
        folder
    });
    folder.clone()
}

impl Drop for World {
    fn drop(&mut self) {
        let _ = self.command(&["service", "stop", "--now"]).output();
        if std::thread::panicking() {
            eprintln!("--- log of the service\n{}", self.log());
        }
    }
}

/// Sends a call, and leaves it to the caller what to do with what comes back.
pub(crate) fn send(address: &str, request: &ChatRequest) -> TcpStream {
    let body = serde_json::to_string(request).unwrap();
    let mut socket = TcpStream::connect(address).unwrap();
    let head = format!(
        "POST /v1/chat/completions HTTP/1.1\r\nhost: {address}\r\nconnection: close\r\n\
         content-length: {}\r\n\r\n",
        body.len()
    );
    socket.write_all(format!("{head}{body}").as_bytes()).unwrap();
    socket
}

/// A question at temperature 0.
pub(crate) fn question(model: &str, text: &str) -> ChatRequest {
    let messages = vec![ChatMessage::text("user", text)];
    let options = AnswerOptions { temperature: Some(0.0), ..AnswerOptions::default() };
    ChatRequest { head: ChatHead::new(model, messages), options }
}

/// Pictures are taken of the build that operators use, which `DEFT_PICTURED` names.
fn program() -> PathBuf {
    let pictured = std::env::var_os("DEFT_PICTURED");
    pictured.map_or_else(|| env!("CARGO_BIN_EXE_deft").into(), PathBuf::from)
}

/// A question whose answer goes on until the context is full: at such a temperature the end token
/// is one of two thousand.
pub(crate) fn endless(model: &str) -> ChatRequest {
    let mut request = question(model, "Tell me all about Quillfen pea.");
    request.options.temperature = Some(9.0);
    request.options.seed = Some(5);
    request.options.stream = Some(true);
    request
}

/// A question whose answer fills the context for sure: control tokens, which stand first, are as good as
/// never drawn.
pub(crate) fn unending(model: &str) -> ChatRequest {
    let mut request = endless(model);
    request.options.when_context_full = Some(WhenContextFull::LeaveOutOldest);
    request.options.logit_bias = Some((0..16).map(|token| (token, -100.0)).collect());
    request
}
