//! Processes of this machine, seen through the kernel's eyes.

use std::path::Path;

/// Ends a process as a crash would.
pub(crate) fn kill(pid: u32) {
    signal(pid, rustix::process::Signal::KILL);
}

/// The same for a process that may have ended by itself.
pub(crate) fn end(pid: u32) {
    let pid = i32::try_from(pid).ok().and_then(rustix::process::Pid::from_raw);
    let _ = pid.map(|pid| rustix::process::kill_process(pid, rustix::process::Signal::KILL));
}

pub(crate) fn signal(pid: u32, signal: rustix::process::Signal) {
    let pid = rustix::process::Pid::from_raw(i32::try_from(pid).unwrap()).unwrap();
    rustix::process::kill_process(pid, signal).unwrap();
}

/// Stops a process as if it hung.
pub(crate) fn halt(pid: u32) {
    signal(pid, rustix::process::Signal::STOP);
}

/// Continues a stopped process.
pub(crate) fn go_on(pid: u32) {
    signal(pid, rustix::process::Signal::CONT);
}

pub(crate) fn is_alive(pid: u32) -> bool {
    let stat = std::fs::read_to_string(format!("/proc/{pid}/stat")).unwrap_or_default();
    let first = stat.rsplit(") ").next();
    // The first thread may have ended before those that still hold files and connections.
    let threads = std::fs::read_dir(format!("/proc/{pid}/task")).map_or(0, Iterator::count);
    threads > 1 || first.is_some_and(|rest| !rest.is_empty() && !rest.starts_with('Z'))
}

/// The session a process belongs to.
pub(crate) fn session(pid: u32) -> i32 {
    let stat = std::fs::read_to_string(format!("/proc/{pid}/stat")).unwrap();
    let fields = stat.rsplit(") ").next().unwrap().to_owned();
    fields.split_whitespace().nth(3).unwrap().parse().unwrap()
}

/// Processes whose command line or working directory names the folder, or whose parent's does.
pub(crate) fn of_folder(folder: &Path) -> Vec<(u32, String)> {
    let folder = folder.to_string_lossy().into_owned();
    let mut found = Vec::new();
    for entry in std::fs::read_dir("/proc").unwrap().filter_map(Result::ok) {
        let Ok(pid) = entry.file_name().to_string_lossy().parse::<u32>() else {
            continue;
        };
        let command = std::fs::read(entry.path().join("cmdline")).unwrap_or_default();
        let command = String::from_utf8_lossy(&command).replace('\0', " ");
        let cwd = std::fs::read_link(entry.path().join("cwd")).unwrap_or_default();
        let here = command.contains(&folder) || cwd.to_string_lossy().contains(&folder);
        if here && is_alive(pid) && pid != std::process::id() {
            found.push((pid, command));
        }
    }
    found
}

/// The processes that a process started, with their command lines.
pub(crate) fn children(parent: u32) -> Vec<(u32, String)> {
    let mut found = Vec::new();
    for entry in std::fs::read_dir("/proc").unwrap().filter_map(Result::ok) {
        let Ok(pid) = entry.file_name().to_string_lossy().parse::<u32>() else {
            continue;
        };
        let stat = std::fs::read_to_string(entry.path().join("stat")).unwrap_or_default();
        let of = stat.rsplit(") ").next().and_then(|rest| rest.split_whitespace().nth(1));
        if of.and_then(|of| of.parse().ok()) == Some(parent) && is_alive(pid) {
            let command = std::fs::read(entry.path().join("cmdline")).unwrap_or_default();
            found.push((pid, String::from_utf8_lossy(&command).replace('\0', " ")));
        }
    }
    found
}
