//! Removes the permissions that a process does not need, before it reads an untrusted file: inherited descriptors, all files but
//! its own, the network, other programs and processes, and memory beyond its plan. What the kernel does not support is left out
//! and reported.
//!
//! The process must have only one thread at that time, because the restrictions of a thread apply only to threads that it
//! starts.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

use landlock::{
    ABI, Access, AccessFs, AccessNet, PathBeneath, PathFd, Ruleset, RulesetAttr,
    RulesetCreatedAttr, RulesetStatus, Scope,
};
use rustix::process::{Resource, Rlimit, getrlimit, setrlimit};
use seccompiler::{
    SeccompAction, SeccompCmpArgLen, SeccompCmpOp, SeccompCondition, SeccompFilter, SeccompRule,
};

/// System files that a process reads for the time zone, the processors and their control groups.
const SYSTEM: [&str; 5] = [
    "/etc/localtime",
    "/usr/share/zoneinfo",
    "/proc/self",
    "/sys/fs/cgroup",
    "/sys/devices/system/cpu",
];
/// The newest version of Landlock whose restrictions are used.
const NEWEST: ABI = ABI::V6;
/// Most open files of a process.
const MOST_FILES: u64 = 256;

/// The permissions that remain.
#[derive(Debug, Clone, Default)]
pub struct Allowed {
    /// Files that the process may read.
    pub files: Vec<PathBuf>,
    /// Most address space, in bytes.
    pub memory: Option<u64>,
    /// Longest time on a processor, in seconds.
    pub seconds: Option<u64>,
}

/// The restrictions in force, as text for people.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Confined {
    /// Restrictions in force.
    pub holds: Vec<String>,
    /// Restrictions that this kernel does not support.
    pub missing: Vec<String>,
}

/// Closes all descriptors except the three standard ones.
pub fn close_inherited() {
    let Ok(entries) = std::fs::read_dir("/proc/self/fd") else {
        return;
    };
    let numbers: Vec<i32> =
        entries.filter_map(|entry| entry.ok()?.file_name().to_str()?.parse().ok()).collect();
    // The descriptor of the listing is closed already; closing it again has no effect.
    for number in numbers.into_iter().filter(|number| *number > 2) {
        let _ = nix::unistd::close(number);
    }
}

/// Removes all permissions except the allowed ones.
///
/// # Errors
/// The kernel supports a restriction but refused it.
pub fn confine(allowed: &Allowed) -> Result<Confined, String> {
    let (mut holds, mut missing) = (Vec::new(), Vec::new());
    limits(allowed)?;
    holds.push(match allowed.memory {
        Some(bytes) => format!("{} MiB of address space", bytes >> 20),
        None => "no limit on address space".to_owned(),
    });
    match files(&allowed.files)? {
        RulesetStatus::FullyEnforced => holds.push("only its own files, no network".to_owned()),
        RulesetStatus::PartiallyEnforced => {
            holds.push("only its own files".to_owned());
            missing.push("all of Landlock (Linux 6.12)".to_owned());
        }
        RulesetStatus::NotEnforced => missing.push("Landlock (Linux 5.13)".to_owned()),
    }
    if calls()? {
        holds.push("no sockets, programs or other processes".to_owned());
    } else {
        missing.push("seccomp for this processor".to_owned());
    }
    Ok(Confined { holds, missing })
}

fn limits(allowed: &Allowed) -> Result<(), String> {
    let set = |resource: Resource, most: u64| {
        let Rlimit { maximum, .. } = getrlimit(resource);
        let most = maximum.map_or(most, |maximum| maximum.min(most));
        let limit = Rlimit { current: Some(most), maximum: Some(most) };
        setrlimit(resource, limit).map_err(|error| format!("limits cannot be set: {error}"))
    };
    set(Resource::Core, 0)?;
    set(Resource::Nofile, MOST_FILES)?;
    allowed.seconds.map_or(Ok(()), |seconds| set(Resource::Cpu, seconds))?;
    allowed.memory.map_or(Ok(()), |memory| set(Resource::As, memory))
}

/// Restricts files with Landlock, which applies to the files themselves and not to their names.
fn files(own: &[PathBuf]) -> Result<RulesetStatus, String> {
    let message = |error: landlock::RulesetError| format!("Landlock: {error}");
    let read = AccessFs::from_read(NEWEST);
    let mut rules = Ruleset::default()
        .handle_access(AccessFs::from_all(NEWEST))
        .and_then(|rules| rules.handle_access(AccessNet::from_all(NEWEST)))
        .and_then(|rules| rules.scope(Scope::from_all(NEWEST)))
        .and_then(Ruleset::create)
        .map_err(message)?;
    let system = SYSTEM.iter().map(Path::new);
    for path in own.iter().map(PathBuf::as_path).chain(system) {
        // A missing file cannot be read anyway.
        let Ok(opened) = PathFd::new(path) else { continue };
        let access = if path.is_dir() { read } else { read & AccessFs::from_file(NEWEST) };
        rules = rules.add_rule(PathBeneath::new(opened, access)).map_err(message)?;
    }
    Ok(rules.restrict_self().map_err(message)?.ruleset)
}

/// Refuses system calls that an engine never makes, with seccomp. Returns whether the processor's architecture is supported.
fn calls() -> Result<bool, String> {
    let Ok(processor) = std::env::consts::ARCH.try_into() else {
        return Ok(false);
    };
    let message = |error: seccompiler::BackendError| format!("seccomp: {error}");
    let mut refused: BTreeMap<i64, Vec<SeccompRule>> =
        never().into_iter().map(|call| (call, Vec::new())).collect();
    // `clone` starts threads and processes; only threads are allowed.
    let is_thread = u64::from(libc::CLONE_THREAD.unsigned_abs());
    let condition =
        SeccompCondition::new(0, SeccompCmpArgLen::Dword, SeccompCmpOp::MaskedEq(is_thread), 0);
    let rule = SeccompRule::new(vec![condition.map_err(message)?]).map_err(message)?;
    refused.insert(libc::SYS_clone, vec![rule]);
    let refuse = |rules, error: i32| {
        let action = SeccompAction::Errno(error.unsigned_abs());
        let filter = SeccompFilter::new(rules, SeccompAction::Allow, action, processor);
        let program: seccompiler::BpfProgram =
            filter.and_then(TryInto::try_into).map_err(message)?;
        seccompiler::apply_filter(&program).map_err(|error| format!("seccomp: {error}"))
    };
    refuse(refused, libc::EPERM)?;
    // The flags of `clone3` are in memory, which a filter cannot read; without it, the C library uses `clone`.
    refuse(BTreeMap::from([(libc::SYS_clone3, Vec::new())]), libc::ENOSYS)?;
    Ok(true)
}

/// System calls that an engine never makes: network, other programs, other processes, system settings.
fn never() -> Vec<i64> {
    let mut never = vec![
        libc::SYS_socket,
        libc::SYS_socketpair,
        libc::SYS_connect,
        libc::SYS_bind,
        libc::SYS_listen,
        libc::SYS_accept,
        libc::SYS_accept4,
        libc::SYS_execve,
        libc::SYS_execveat,
        libc::SYS_ptrace,
        libc::SYS_process_vm_readv,
        libc::SYS_process_vm_writev,
        libc::SYS_pidfd_open,
        libc::SYS_pidfd_getfd,
        libc::SYS_pidfd_send_signal,
        libc::SYS_kill,
        libc::SYS_tkill,
        libc::SYS_unshare,
        libc::SYS_setns,
        libc::SYS_mount,
        libc::SYS_umount2,
        libc::SYS_pivot_root,
        libc::SYS_chroot,
        libc::SYS_bpf,
        libc::SYS_perf_event_open,
        libc::SYS_io_uring_setup,
        libc::SYS_userfaultfd,
        libc::SYS_keyctl,
        libc::SYS_add_key,
        libc::SYS_request_key,
        libc::SYS_init_module,
        libc::SYS_finit_module,
        libc::SYS_kexec_load,
        libc::SYS_reboot,
        libc::SYS_swapon,
        libc::SYS_settimeofday,
        libc::SYS_clock_settime,
        libc::SYS_open_by_handle_at,
    ];
    #[cfg(target_arch = "x86_64")]
    never.extend([libc::SYS_fork, libc::SYS_vfork]);
    never
}
