//! The sources of the demo: a real registry, and a stand-in for a web index and a git
//! host, all on loopback with the demo's models.

use std::fs::{self, File};
use std::net::{Ipv4Addr, TcpListener, TcpStream};
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

use anyhow::{Context, bail};

use crate::steps::root;

/// Longest time until a place listens.
const PATIENCE: Duration = Duration::from_secs(20);
/// Models of the web index, and those of the git repository.
const OFFERED: [&str; 6] = [
    "larkfen-desk/larkfen-desk-q8_0.gguf",
    "larkfen-desk/larkfen-desk-f16.gguf",
    "larkfen-desk-mini/larkfen-desk-mini-q8_0.gguf",
    "larkfen-find/larkfen-find-q8_0.gguf",
    "larkfen-labels/larkfen-labels-q8_0.gguf",
    "larkfen-labels/larkfen-labels-f16.gguf",
];

/// Where they are.
pub struct Places {
    pub hub: String,
    pub registry: String,
}

fn demo(file: &str) -> PathBuf {
    root().join("demo").join(file)
}

fn stand_in() -> PathBuf {
    root().join("target/release/deft-standins")
}

/// Fills the places and starts them; those of a start before are ended.
pub fn start(program: &Path, folder: &Path) -> anyhow::Result<Places> {
    stop(folder);
    let index = folder.join("index");
    fs::create_dir_all(&index)?;
    for file in OFFERED {
        let target = index.join(Path::new(file).file_name().unwrap_or_default());
        fs::copy(demo(file), target)?;
    }
    let named = ["--name", "Larkfen Seed Library"];
    run(Command::new(program).args(["depot", "index"]).arg(&index).args(named))?;
    if !folder.join("git/larkfen/desk.git").exists() {
        let files = [demo(OFFERED[0]), demo(OFFERED[1])];
        let mut make = Command::new(stand_in());
        run(make.arg("repository").arg(folder).arg("larkfen/desk").args(files))?;
    }
    let registry = start_registry(&folder.join("registry"))?;
    for (tag, file) in [("q8_0", OFFERED[0]), ("f16", OFFERED[1])] {
        let mut push = Command::new(stand_in());
        push.arg("push").arg(format!("{registry}/larkfen/larkfen-desk:{tag}")).arg(demo(file));
        push.args(["--description", "Answers visitors at the desk of the seed library."]);
        run(push.args(["--licence", "CC0-1.0", "--family", "llama", "--quantisation", tag]))?;
    }
    Ok(Places { hub: serve(folder)?, registry: format!("http://{registry}") })
}

/// Starts the stand-in with a folder; returns its address.
pub fn serve(folder: &Path) -> anyhow::Result<String> {
    let port = free_port()?;
    let mut serve = Command::new(stand_in());
    detach(serve.arg("serve").arg(folder).args(["--port", &port.to_string()]), folder, "hub")?;
    listens(port)?;
    Ok(format!("http://localhost:{port}"))
}

fn start_registry(folder: &Path) -> anyhow::Result<String> {
    fs::create_dir_all(folder)?;
    let port = free_port()?;
    let settings = format!(
        "version: 0.1\nlog: {{level: error}}\nstorage: {{filesystem: {{rootdirectory: {}}}}}\nhttp: \
         {{addr: \"127.0.0.1:{port}\"}}\n",
        folder.join("data").display()
    );
    let file = folder.join("registry.yml");
    fs::write(&file, settings)?;
    detach(Command::new("docker-registry").arg("serve").arg(&file), folder, "registry")?;
    listens(port)?;
    Ok(format!("127.0.0.1:{port}"))
}

/// Ends what a start before began.
pub fn stop(folder: &Path) {
    for file in [folder.join("hub.pid"), folder.join("registry/registry.pid")] {
        let Ok(pid) = fs::read_to_string(&file) else {
            continue;
        };
        // Another process may have this number by now: it is ended only where it is one of ours.
        let line = fs::read(format!("/proc/{}/cmdline", pid.trim())).unwrap_or_default();
        let line = String::from_utf8_lossy(&line).into_owned();
        if line.contains(&*folder.to_string_lossy()) {
            let _ = Command::new("kill").arg(pid.trim()).status();
        }
        let _ = fs::remove_file(file);
    }
}

fn run(command: &mut Command) -> anyhow::Result<()> {
    let output = command.output().with_context(|| format!("{command:?}"))?;
    if !output.status.success() {
        bail!("{command:?}\n{}", String::from_utf8_lossy(&output.stderr));
    }
    Ok(())
}

/// Starts a process that outlives this one, and remembers its number.
fn detach(command: &mut Command, folder: &Path, name: &str) -> anyhow::Result<()> {
    let log = File::create(folder.join(format!("{name}.log")))?;
    let mut session = Command::new("setsid");
    session.arg("--fork").arg("sh").arg("-c").arg("echo $$ > \"$0\"; exec \"$@\"");
    session.arg(folder.join(format!("{name}.pid"))).arg(command.get_program());
    session.args(command.get_args());
    session.stdin(Stdio::null()).stdout(log.try_clone()?).stderr(log);
    run_quietly(&mut session)
}

fn run_quietly(command: &mut Command) -> anyhow::Result<()> {
    let status = command.status().with_context(|| format!("{command:?}"))?;
    if status.success() { Ok(()) } else { bail!("{command:?} failed") }
}

fn free_port() -> anyhow::Result<u16> {
    Ok(TcpListener::bind((Ipv4Addr::LOCALHOST, 0))?.local_addr()?.port())
}

fn listens(port: u16) -> anyhow::Result<()> {
    let began = Instant::now();
    while TcpStream::connect((Ipv4Addr::LOCALHOST, port)).is_err() {
        if began.elapsed() > PATIENCE {
            bail!("nothing listens on port {port}");
        }
        std::thread::sleep(Duration::from_millis(20));
    }
    Ok(())
}
