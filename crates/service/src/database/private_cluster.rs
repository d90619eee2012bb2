//! A PostgreSQL cluster of our own in the data directory, on loopback.
//!
//! Made with Debian's programs on first start, never run as root: root hands it to the user
//! `postgres` (or `nobody`). Port and password are drawn by chance and kept beside it, readable by
//! its owner only. The postmaster ends with the service, also where the service is killed
//! (`setpriv --pdeathsig`); what a crash of everything leaves behind is recognised at the next
//! start. Debian's own cluster is not touched.

use std::fs;
use std::io::Write;
use std::net::TcpListener;
use std::os::unix::fs::{MetadataExt, OpenOptionsExt, PermissionsExt};
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

use rustix::process::{Pid, Signal, kill_process};
use serde::{Deserialize, Serialize};
use sqlx::postgres::PgConnectOptions;
use thiserror::Error;

/// Where Debian keeps the programs of each major version.
const DEBIAN_PROGRAMS: &str = "/usr/lib/postgresql";
/// Longest time the postmaster gets to end.
const STOP: Duration = Duration::from_secs(20);
/// The cluster's place in the database folder.
const CLUSTER: &str = "cluster";
/// The database's superuser within the private cluster.
const USER: &str = "deft";

/// Why there is no private cluster.
#[derive(Debug, Error)]
pub enum ClusterError {
    /// The programs are not installed.
    #[error("PostgreSQL is not installed; install Debian's package: apt-get install postgresql")]
    NoPrograms,
    /// The unprivileged user cannot reach the directory.
    #[error(
        "the database must not run as root, and user `{user}` cannot enter `{}`; put the data \
         directory where it can (for instance --data-dir /var/lib/deft-harbor), or open the way: \
         chmod o+x {}", blocked.display(), blocked.display()
    )]
    Unreachable {
        /// The user it would run as.
        user: String,
        /// The first directory that keeps it out.
        blocked: PathBuf,
    },
    /// The cluster was made by another major version.
    #[error(
        "the records in `{}` were written by PostgreSQL {found}, installed is {installed}. Install \
         postgresql-{found} beside it; or dump them with the old version (pg_dumpall), move the \
         folder away, start the service, and restore the dump", folder.display()
    )]
    OtherVersion {
        /// The cluster.
        folder: PathBuf,
        /// Its major version.
        found: String,
        /// The installed ones.
        installed: String,
    },
    /// A program failed.
    #[error("`{program}` failed: {output}")]
    Program {
        /// Which.
        program: String,
        /// What it said.
        output: String,
    },
    /// The operating system refused.
    #[error("the database folder `{}` cannot be used: {source}", path.display())]
    Io {
        /// Where.
        path: PathBuf,
        /// Why.
        source: std::io::Error,
    },
    /// A postmaster is left that does not end.
    #[error("an earlier database process ({pid}) does not end; end it: kill -INT {pid}")]
    StillRunning {
        /// Its process.
        pid: u32,
    },
}

/// Port and password, kept between starts.
#[derive(Serialize, Deserialize)]
struct Secret {
    port: u16,
    password: String,
}

/// Whom the database runs as, where we are root.
#[derive(Clone)]
struct Servant {
    name: String,
    uid: u32,
    gid: u32,
}

/// A private cluster and how it is run.
pub(crate) struct PrivateCluster {
    folder: PathBuf,
    programs: PathBuf,
    servant: Option<Servant>,
    secret: Secret,
    postmaster: Child,
}

impl PrivateCluster {
    /// Makes the cluster where there is none, and starts it. Blocks.
    ///
    /// # Errors
    /// Why not, with a way out.
    pub(crate) fn start(folder: &Path) -> Result<Self, ClusterError> {
        let servant = servant(folder)?;
        let cluster = folder.join(CLUSTER);
        let programs = programs(&cluster)?;
        make_folder(folder, servant.as_ref())?;
        end_leftover(&cluster)?;
        let mut secret = read_secret(folder)?;
        if !cluster.join("PG_VERSION").is_file() {
            initialise(&programs, folder, &cluster, servant.as_ref(), &secret)?;
        }
        if !is_free(secret.port) {
            secret.port = free_port(folder)?;
        }
        write_secret(folder, &secret)?;
        let postmaster = launch(&programs, folder, servant.as_ref(), &secret)?;
        Ok(Self { folder: folder.to_owned(), programs, servant, secret, postmaster })
    }

    /// Starts the server again where it ended unasked; true where it did. Blocks.
    ///
    /// # Errors
    /// It cannot be started.
    pub(crate) fn start_again_if_ended(&mut self) -> Result<bool, ClusterError> {
        if matches!(self.postmaster.try_wait(), Ok(None)) {
            return Ok(false);
        }
        end_leftover(&self.folder.join(CLUSTER))?;
        self.postmaster =
            launch(&self.programs, &self.folder, self.servant.as_ref(), &self.secret)?;
        Ok(true)
    }

    /// How to connect.
    #[must_use]
    pub(crate) fn connect_options(&self) -> PgConnectOptions {
        PgConnectOptions::new()
            .host("127.0.0.1")
            .port(self.secret.port)
            .username(USER)
            .password(&self.secret.password)
            .database("postgres")
    }

    /// Stops the cluster and waits for its end. Blocks.
    ///
    /// # Errors
    /// It does not end in time.
    pub(crate) fn stop(&mut self) -> Result<(), ClusterError> {
        let pid = self.postmaster.id();
        interrupt(pid);
        let deadline = Instant::now() + STOP;
        while Instant::now() < deadline {
            if matches!(self.postmaster.try_wait(), Ok(Some(_))) {
                return Ok(());
            }
            std::thread::sleep(Duration::from_millis(20));
        }
        Err(ClusterError::StillRunning { pid })
    }
}

fn io_error(path: &Path) -> impl FnOnce(std::io::Error) -> ClusterError {
    let path = path.to_owned();
    move |source| ClusterError::Io { path, source }
}

/// Whom the database runs as: nobody else where we are not root.
fn servant(folder: &Path) -> Result<Option<Servant>, ClusterError> {
    if !rustix::process::geteuid().is_root() {
        return Ok(None);
    }
    let accounts = fs::read_to_string("/etc/passwd").map_err(io_error(Path::new("/etc/passwd")))?;
    let find = |name: &str| {
        let line = accounts.lines().find(|line| line.split(':').next() == Some(name))?;
        let mut fields = line.split(':').skip(2);
        let uid = fields.next()?.parse().ok()?;
        let gid = fields.next()?.parse().ok()?;
        Some(Servant { name: name.to_owned(), uid, gid })
    };
    let servant = find("postgres").or_else(|| find("nobody")).ok_or(ClusterError::NoPrograms)?;
    let mut above: Vec<&Path> = folder.ancestors().skip(1).collect();
    above.reverse();
    for path in above {
        let Ok(metadata) = fs::metadata(path) else {
            break;
        };
        let bit = match () {
            () if metadata.uid() == servant.uid => 0o100,
            () if metadata.gid() == servant.gid => 0o010,
            () => 0o001,
        };
        if metadata.mode() & bit == 0 {
            let blocked = path.to_owned();
            return Err(ClusterError::Unreachable { user: servant.name, blocked });
        }
    }
    Ok(Some(servant))
}

/// The programs to use: those of the cluster's own version, else the newest.
fn programs(cluster: &Path) -> Result<PathBuf, ClusterError> {
    let mut versions: Vec<(u32, PathBuf)> = fs::read_dir(DEBIAN_PROGRAMS)
        .map_err(|_| ClusterError::NoPrograms)?
        .filter_map(|entry| {
            let path = entry.ok()?.path();
            let version = path.file_name()?.to_str()?.parse().ok()?;
            let programs = path.join("bin");
            programs.join("postgres").is_file().then_some((version, programs))
        })
        .collect();
    versions.sort_unstable();
    let wanted = fs::read_to_string(cluster.join("PG_VERSION")).ok();
    let wanted = wanted.as_deref().map(str::trim);
    let found = match wanted {
        None => versions.last(),
        Some(wanted) => versions.iter().find(|(version, _)| version.to_string() == wanted),
    };
    match (found, wanted) {
        (Some((_, programs)), _) => Ok(programs.clone()),
        (None, Some(wanted)) if !versions.is_empty() => {
            let installed: Vec<String> =
                versions.iter().map(|(version, _)| version.to_string()).collect();
            Err(ClusterError::OtherVersion {
                folder: cluster.to_owned(),
                found: wanted.to_owned(),
                installed: installed.join(", "),
            })
        }
        _ => Err(ClusterError::NoPrograms),
    }
}

fn make_folder(folder: &Path, servant: Option<&Servant>) -> Result<(), ClusterError> {
    fs::create_dir_all(folder).map_err(io_error(folder))?;
    if let Some(servant) = servant {
        let owner = (Some(servant.uid), Some(servant.gid));
        std::os::unix::fs::chown(folder, owner.0, owner.1).map_err(io_error(folder))?;
    }
    fs::set_permissions(folder, fs::Permissions::from_mode(0o700)).map_err(io_error(folder))
}

/// Ends a postmaster that a killed service left, and removes a stale pid file.
fn end_leftover(cluster: &Path) -> Result<(), ClusterError> {
    let pid_file = cluster.join("postmaster.pid");
    let Ok(text) = fs::read_to_string(&pid_file) else {
        return Ok(());
    };
    let pid = text.lines().next().and_then(|line| line.trim().parse::<u32>().ok());
    let deadline = Instant::now() + STOP;
    while let Some(pid) = pid.filter(|&pid| is_postmaster_of(pid, cluster)) {
        interrupt(pid);
        if Instant::now() >= deadline {
            return Err(ClusterError::StillRunning { pid });
        }
        std::thread::sleep(Duration::from_millis(20));
    }
    match fs::remove_file(&pid_file) {
        Err(error) if error.kind() != std::io::ErrorKind::NotFound => {
            Err(io_error(&pid_file)(error))
        }
        _ => Ok(()),
    }
}

/// Whether that process is a server running in this folder: a pid may long be somebody else's.
fn is_postmaster_of(pid: u32, cluster: &Path) -> bool {
    let process = PathBuf::from(format!("/proc/{pid}"));
    let name = fs::read_to_string(process.join("comm")).unwrap_or_default();
    let state = fs::read_to_string(process.join("stat")).unwrap_or_default();
    let ended = state.rsplit(") ").next().is_some_and(|rest| rest.starts_with('Z'));
    let folder = fs::read_link(process.join("cwd")).ok();
    name.trim() == "postgres" && !ended && folder == fs::canonicalize(cluster).ok()
}

fn interrupt(pid: u32) {
    let pid = i32::try_from(pid).ok().and_then(Pid::from_raw);
    if let Some(pid) = pid {
        // A process that is gone already is what is wanted.
        let _ = kill_process(pid, Signal::INT);
    }
}

fn read_secret(folder: &Path) -> Result<Secret, ClusterError> {
    let path = folder.join("access.json");
    if let Ok(bytes) = fs::read(&path)
        && let Ok(secret) = serde_json::from_slice(&bytes)
    {
        return Ok(secret);
    }
    let password = uuid::Uuid::new_v4().simple().to_string();
    Ok(Secret { port: free_port(folder)?, password })
}

fn write_secret(folder: &Path, secret: &Secret) -> Result<(), ClusterError> {
    let path = folder.join("access.json");
    let json = serde_json::to_vec(secret).expect("a port and a password are JSON");
    private_file(&path, &json, None)
}

/// Writes a file that only its owner may read.
fn private_file(path: &Path, bytes: &[u8], owner: Option<&Servant>) -> Result<(), ClusterError> {
    let mut options = fs::OpenOptions::new();
    options.write(true).create(true).truncate(true).mode(0o600);
    let mut file = options.open(path).map_err(io_error(path))?;
    file.write_all(bytes).map_err(io_error(path))?;
    if let Some(owner) = owner {
        std::os::unix::fs::fchown(&file, Some(owner.uid), Some(owner.gid))
            .map_err(io_error(path))?;
    }
    Ok(())
}

fn is_free(port: u16) -> bool {
    TcpListener::bind(("127.0.0.1", port)).is_ok()
}

fn free_port(folder: &Path) -> Result<u16, ClusterError> {
    let listener = TcpListener::bind(("127.0.0.1", 0)).map_err(io_error(folder))?;
    Ok(listener.local_addr().map_err(io_error(folder))?.port())
}

/// A command that runs as the servant and dies with us. `setpriv` sets the death signal after it
/// changed the user, for changing the user clears it.
fn command(program: &Path, servant: Option<&Servant>) -> Command {
    let mut command = Command::new("setpriv");
    command.args(["--pdeathsig", "INT"]);
    if let Some(servant) = servant {
        command.arg(format!("--reuid={}", servant.uid));
        command.arg(format!("--regid={}", servant.gid));
        command.arg("--clear-groups");
    }
    command.arg("--").arg(program);
    command.env_clear().env("LC_ALL", "C.UTF-8").env("PATH", "/usr/bin:/bin");
    command.stdin(Stdio::null());
    command
}

fn initialise(
    programs: &Path,
    folder: &Path,
    cluster: &Path,
    servant: Option<&Servant>,
    secret: &Secret,
) -> Result<(), ClusterError> {
    // A cluster without PG_VERSION was interrupted while it was being made: begin anew.
    if cluster.exists() {
        fs::remove_dir_all(cluster).map_err(io_error(cluster))?;
    }
    let password_file = folder.join("first-password");
    private_file(&password_file, secret.password.as_bytes(), servant)?;
    let mut initdb = command(&programs.join("initdb"), servant);
    initdb.current_dir(folder).arg("--pgdata").arg(cluster);
    initdb.args([
        "--username",
        USER,
        "--auth",
        "scram-sha-256",
        "--encoding",
        "UTF8",
        "--locale",
        "C.UTF-8",
    ]);
    initdb.arg("--pwfile").arg(&password_file);
    let output = initdb.output().map_err(io_error(folder))?;
    let _ = fs::remove_file(&password_file);
    if output.status.success() {
        return Ok(());
    }
    Err(ClusterError::Program {
        program: "initdb".to_owned(),
        output: String::from_utf8_lossy(&output.stderr).trim().to_owned(),
    })
}

fn launch(
    programs: &Path,
    folder: &Path,
    servant: Option<&Servant>,
    secret: &Secret,
) -> Result<Child, ClusterError> {
    let log = folder.join("postgresql.log");
    let log_file = fs::OpenOptions::new()
        .append(true)
        .create(true)
        .mode(0o600)
        .open(&log)
        .map_err(io_error(&log))?;
    let errors = log_file.try_clone().map_err(io_error(&log))?;
    let mut postgres = command(&programs.join("postgres"), servant);
    postgres.current_dir(folder).arg("-D").arg(folder.join(CLUSTER));
    for setting in [
        &format!("port={}", secret.port),
        "listen_addresses=127.0.0.1",
        // Loopback is enough, and the path of a socket must not depend on the data directory's.
        "unix_socket_directories=",
        "max_connections=32",
        "shared_buffers=16MB",
        "timezone=UTC",
    ] {
        postgres.args(["-c", setting]);
    }
    // The death signal follows the thread that spawns: this must be one that lives as long as the
    // service, so spawning has a thread of its own.
    postgres.stdout(log_file).stderr(errors);
    crate::spawner::spawn(postgres).map_err(io_error(folder))
}
