//! A PostgreSQL cluster of our own in the data directory, reached by a Unix socket in its own folder.
//!
//! The cluster is made with Debian's programs at the first start, and never runs as root. Root gives the cluster's folder,
//! and only that one, to the user `postgres` (or `nobody`), so root never opens a file in a folder of another user. No
//! other user can put a socket into the folder, so the server behind the socket is this cluster. The password is random
//! and stored beside the cluster, readable by its owner only. The server ends with the service, even if the service is
//! killed (`setpriv --pdeathsig`). A server that survived a crash is recognised at the next start. Debian's own cluster is
//! not touched.
//!
//! A cluster is made in a temporary folder and then renamed, so it is complete or absent. An incomplete cluster is
//! reported and left unchanged.

use std::fs::{self, File};
use std::io::{self, Write};
use std::os::fd::AsRawFd;
use std::os::unix::fs::{MetadataExt, OpenOptionsExt, PermissionsExt};
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

use rustix::fs::{Gid, Mode, OFlags, Uid, fchown};
use rustix::process::{Pid, Signal, kill_process};
use serde::{Deserialize, Serialize};
use sqlx::postgres::PgConnectOptions;

use super::cluster_error::ClusterError;

/// Where Debian has the programs of each major version.
const DEBIAN_PROGRAMS: &str = "/usr/lib/postgresql";
/// Longest wait for the end of the server.
const STOP: Duration = Duration::from_secs(20);
/// Name of the cluster's folder, and its name while it is made.
const CLUSTER: &str = "cluster";
const UNFINISHED: &str = "cluster.unfinished";
/// Log of the server.
pub(super) const LOG: &str = "postgresql.log";
/// Length at which the log is rotated at a start.
const LONGEST_LOG: u64 = 8 << 20;
/// The file with the password.
const KEY_FILE: &str = "access.json";
/// Longest password file, in bytes.
const LONGEST_KEY: u64 = 4096;
/// Number in the socket's name. Any number works, because the folder is the cluster's own.
const SOCKET_NUMBER: u16 = 5432;
/// Files that every complete cluster has.
const PARTS: [&str; 3] = ["PG_VERSION", "global/pg_control", "postgresql.conf"];
/// The database's superuser within the private cluster.
const USER: &str = "deft";

/// The stored password. Older versions stored a port too.
#[derive(Serialize, Deserialize)]
struct Secret {
    password: String,
}

/// The user that the database runs as if the service is root.
#[derive(Clone)]
struct Servant {
    name: String,
    uid: u32,
    gid: u32,
}

/// A running private cluster.
pub(crate) struct PrivateCluster {
    folder: PathBuf,
    programs: PathBuf,
    servant: Option<Servant>,
    secret: Secret,
    postmaster: Child,
    /// Handle of the cluster's folder: by it the socket can be reached even if its path is too long.
    place: File,
}

impl PrivateCluster {
    /// Starts the cluster, and makes it if there is none. Blocks.
    ///
    /// # Errors
    /// Why not, with a way out.
    pub(crate) fn start(folder: &Path) -> Result<Self, ClusterError> {
        let servant = servant(folder)?;
        let cluster = folder.join(CLUSTER);
        let programs = programs(&cluster)?;
        make_folder(folder, servant.as_ref())?;
        end_leftover(&cluster)?;
        let secret = match missing_part(&cluster)? {
            Whole::Yes => read_secret(folder, &cluster)?,
            Whole::NotThere => initialise(&programs, folder, &cluster, servant.as_ref())?,
            Whole::Torn(missing) => return Err(ClusterError::Torn { folder: cluster, missing }),
        };
        let postmaster = launch(&programs, folder, servant.as_ref())?;
        let place = open_folder(&cluster)?;
        Ok(Self { folder: folder.to_owned(), programs, servant, secret, postmaster, place })
    }

    /// Restarts the server if it has ended by itself; returns whether it had. Blocks.
    ///
    /// # Errors
    /// It cannot be started.
    pub(crate) fn start_again_if_ended(&mut self) -> Result<bool, ClusterError> {
        if matches!(self.postmaster.try_wait(), Ok(None)) {
            return Ok(false);
        }
        end_leftover(&self.folder.join(CLUSTER))?;
        self.postmaster = launch(&self.programs, &self.folder, self.servant.as_ref())?;
        Ok(true)
    }

    /// Processor time of the server's processes, in ticks. It grows while a recovery makes progress.
    #[must_use]
    pub(crate) fn work(&self) -> u64 {
        let parent = self.postmaster.id();
        let own = ticks(parent).map_or(0, |(_, ticks)| ticks);
        let all = fs::read_dir("/proc").into_iter().flatten().flatten();
        let pids = all.filter_map(|entry| entry.file_name().to_str()?.parse::<u32>().ok());
        let children = pids.filter_map(ticks).filter(|(of, _)| *of == parent);
        own + children.map(|(_, ticks)| ticks).sum::<u64>()
    }

    /// Options to connect with.
    #[must_use]
    pub(crate) fn connect_options(&self) -> PgConnectOptions {
        PgConnectOptions::new()
            // By the handle, because the length of a socket's path is limited.
            .socket(format!("/proc/self/fd/{}", self.place.as_raw_fd()))
            .port(SOCKET_NUMBER)
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

/// Group of the database user, if it is not our own.
pub(super) fn servant_group() -> Option<u32> {
    account().ok().flatten().map(|servant| servant.gid)
}

/// The database user; none if the service is not root.
fn account() -> Result<Option<Servant>, ClusterError> {
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
    Ok(Some(servant))
}

/// The database user, which must be able to enter the folder.
fn servant(folder: &Path) -> Result<Option<Servant>, ClusterError> {
    let Some(servant) = account()? else {
        return Ok(None);
    };
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

/// The programs of the cluster's version, or the newest ones for a new cluster.
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

/// Opens a folder; refuses a symbolic link.
fn open_folder(path: &Path) -> Result<File, ClusterError> {
    let flags = OFlags::RDONLY | OFlags::DIRECTORY | OFlags::NOFOLLOW | OFlags::CLOEXEC;
    match rustix::fs::open(path, flags, Mode::empty()) {
        Ok(opened) => Ok(opened.into()),
        Err(rustix::io::Errno::LOOP | rustix::io::Errno::NOTDIR) => {
            Err(ClusterError::Foreign { path: path.to_owned(), what: "no folder".to_owned() })
        }
        Err(error) => Err(io_error(path)(error.into())),
    }
}

/// Sets owner and mode of our own folder, through its handle.
fn settle(
    folder: &File,
    path: &Path,
    owner: Option<(u32, u32)>,
    mode: u32,
) -> Result<(), ClusterError> {
    if let Some((uid, gid)) = owner {
        let owned = fchown(folder, Some(Uid::from_raw(uid)), Some(Gid::from_raw(gid)));
        owned.map_err(|error| io_error(path)(error.into()))?;
    }
    folder.set_permissions(fs::Permissions::from_mode(mode)).map_err(io_error(path))
}

/// Makes the database folder. It stays ours; the database user may only pass through it.
fn make_folder(folder: &Path, servant: Option<&Servant>) -> Result<(), ClusterError> {
    fs::create_dir_all(folder).map_err(io_error(folder))?;
    let opened = open_folder(folder)?;
    match servant {
        Some(servant) => settle(&opened, folder, Some((0, servant.gid)), 0o710),
        None => settle(&opened, folder, None, 0o700),
    }
}

/// Completeness of a cluster.
enum Whole {
    Yes,
    NotThere,
    /// This part is missing.
    Torn(String),
}

fn missing_part(cluster: &Path) -> Result<Whole, ClusterError> {
    match fs::read_dir(cluster) {
        Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(Whole::NotThere),
        Err(error) => return Err(io_error(cluster)(error)),
        Ok(_) => {}
    }
    let is_missing = |part: &&&str| {
        fs::metadata(cluster.join(part)).map_or(true, |found| !found.is_file() || found.len() == 0)
    };
    let missing = PARTS.iter().find(is_missing);
    Ok(missing.map_or(Whole::Yes, |missing| Whole::Torn((*missing).to_owned())))
}

/// Ends a server that survived a killed service, and removes a stale pid file.
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

/// Whether a process is a server of this folder: the pid may belong to another program by now.
fn is_postmaster_of(pid: u32, cluster: &Path) -> bool {
    let process = PathBuf::from(format!("/proc/{pid}"));
    let name = fs::read_to_string(process.join("comm")).unwrap_or_default();
    let state = fs::read_to_string(process.join("stat")).unwrap_or_default();
    let ended = state.rsplit(") ").next().is_some_and(|rest| rest.starts_with('Z'));
    let folder = fs::read_link(process.join("cwd")).ok();
    name.trim() == "postgres" && !ended && folder == fs::canonicalize(cluster).ok()
}

/// Parent and processor time (in ticks) of a process.
fn ticks(pid: u32) -> Option<(u32, u64)> {
    let stat = fs::read_to_string(format!("/proc/{pid}/stat")).ok()?;
    let mut fields = stat.rsplit_once(") ")?.1.split_whitespace();
    let parent = fields.nth(1)?.parse().ok()?;
    let user: u64 = fields.nth(9)?.parse().ok()?;
    let system: u64 = fields.next()?.parse().ok()?;
    Some((parent, user + system))
}

fn interrupt(pid: u32) {
    let pid = i32::try_from(pid).ok().and_then(Pid::from_raw);
    if let Some(pid) = pid {
        // An error means that it has ended already.
        let _ = kill_process(pid, Signal::INT);
    }
}

/// The password of an existing cluster.
fn read_secret(folder: &Path, cluster: &Path) -> Result<Secret, ClusterError> {
    let path = folder.join(KEY_FILE);
    let unusable =
        |why: String| ClusterError::NoKey { file: path.clone(), folder: cluster.to_owned(), why };
    let mut bytes = Vec::new();
    let read = open_ours(&path, OFlags::RDONLY)
        .and_then(|file| io::Read::read_to_end(&mut io::Read::take(file, LONGEST_KEY), &mut bytes));
    read.map_err(|error| unusable(error.to_string()))?;
    serde_json::from_slice(&bytes).map_err(|error| unusable(error.to_string()))
}

/// Opens a file in the database folder; does not follow a symbolic link.
fn open_ours(path: &Path, flags: OFlags) -> io::Result<File> {
    let flags = flags | OFlags::NOFOLLOW | OFlags::CLOEXEC;
    Ok(rustix::fs::open(path, flags, Mode::from_raw_mode(0o600))?.into())
}

/// Writes one of our files completely or not at all; `reader` may read it too.
fn private_file(path: &Path, bytes: &[u8], reader: Option<&Servant>) -> Result<(), ClusterError> {
    let unfinished = path.with_extension("unfinished");
    let write = || {
        match fs::remove_file(&unfinished) {
            Err(error) if error.kind() != io::ErrorKind::NotFound => return Err(error),
            _ => {}
        }
        let mut file =
            File::options().write(true).create_new(true).mode(0o600).open(&unfinished)?;
        if let Some(Servant { gid, .. }) = reader {
            fchown(&file, None, Some(Gid::from_raw(*gid)))?;
            file.set_permissions(fs::Permissions::from_mode(0o640))?;
        }
        file.write_all(bytes)?;
        file.sync_all()?;
        fs::rename(&unfinished, path)
    };
    write().map_err(io_error(path))
}

/// A command that runs as the database user and ends with the service. `setpriv` sets the death signal after it has
/// changed the user, because changing the user clears it.
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

/// Makes a cluster in a temporary folder, and renames it when it is complete.
fn initialise(
    programs: &Path,
    folder: &Path,
    cluster: &Path,
    servant: Option<&Servant>,
) -> Result<Secret, ClusterError> {
    let secret = Secret { password: uuid::Uuid::new_v4().simple().to_string() };
    let key_file = folder.join(KEY_FILE);
    let json = serde_json::to_vec(&secret).expect("a password is JSON");
    let unfinished = folder.join(UNFINISHED);
    // This name is only used here, for incomplete clusters.
    match fs::symlink_metadata(&unfinished) {
        Ok(found) if found.is_dir() => {
            fs::remove_dir_all(&unfinished).map_err(io_error(&unfinished))?;
        }
        Ok(_) => {
            let what = "no folder".to_owned();
            return Err(ClusterError::Foreign { path: unfinished, what });
        }
        Err(_) => {}
    }
    fs::create_dir(&unfinished).map_err(io_error(&unfinished))?;
    let owner = servant.map(|servant| (servant.uid, servant.gid));
    settle(&open_folder(&unfinished)?, &unfinished, owner, 0o700)?;
    let password_file = folder.join("first-password");
    private_file(&password_file, secret.password.as_bytes(), servant)?;
    let mut initdb = command(&programs.join("initdb"), servant);
    initdb.current_dir("/").arg("--pgdata").arg(&unfinished);
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
    if !output.status.success() {
        return Err(ClusterError::Program {
            program: "initdb".to_owned(),
            output: String::from_utf8_lossy(&output.stderr).trim().to_owned(),
        });
    }
    // The password first, because a cluster without it cannot be opened.
    private_file(&key_file, &json, None)?;
    fs::rename(&unfinished, cluster).map_err(io_error(cluster))?;
    open_folder(folder)?.sync_all().map_err(io_error(folder))?;
    Ok(secret)
}

/// Rotates a long log; one previous log stays.
fn keep_small(log: &Path) -> io::Result<()> {
    match fs::symlink_metadata(log) {
        Ok(found) if found.len() >= LONGEST_LOG => {
            fs::rename(log, log.with_extension("previous.log"))
        }
        _ => Ok(()),
    }
}

fn launch(
    programs: &Path,
    folder: &Path,
    servant: Option<&Servant>,
) -> Result<Child, ClusterError> {
    let log = folder.join(LOG);
    if let Err(error) = keep_small(&log) {
        tracing::warn!("the log `{}` cannot be rotated: {error}", log.display());
    }
    let log_file = open_ours(&log, OFlags::WRONLY | OFlags::APPEND | OFlags::CREATE)
        .map_err(io_error(&log))?;
    let errors = log_file.try_clone().map_err(io_error(&log))?;
    let mut postgres = command(&programs.join("postgres"), servant);
    postgres.current_dir("/").arg("-D").arg(folder.join(CLUSTER));
    for setting in [
        &format!("port={SOCKET_NUMBER}"),
        // It has no port, and no other user can make a socket in its folder.
        "listen_addresses=",
        "unix_socket_directories=.",
        "unix_socket_permissions=0700",
        "max_connections=32",
        "shared_buffers=16MB",
        "timezone=UTC",
        // Routine messages would fill the log.
        "log_checkpoints=off",
    ] {
        postgres.args(["-c", setting]);
    }
    // The death signal is sent when the spawning thread ends, so a separate thread spawns, which lives as long as the
    // service.
    postgres.stdout(log_file).stderr(errors);
    crate::process::spawner::spawn(postgres).map_err(io_error(folder))
}
