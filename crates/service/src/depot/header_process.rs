//! Headers of model files are read, and their templates rendered, in a process of their own that may nothing
//! but talk to the service: strangers wrote them.

use std::io::BufReader;
use std::os::fd::OwnedFd;
use std::os::unix::net::UnixStream;
use std::path::PathBuf;
use std::process::{Child, Command, ExitStatus, Stdio};
use std::time::{Duration, Instant};

use deft_depot::headers::{
    HeaderAnswer, HeaderReader, HeaderTask, NumberedFiles, Refusal, RefusalKind, link,
};

use crate::process::spawner;

/// The hidden command of such a process.
const COMMAND: &str = "read-headers";
/// Longest silence of such a process: more than its time on a processor.
const SILENCE: Duration = Duration::from_secs(120);
/// Longest total time, including reads from other machines.
const LONGEST: Duration = Duration::from_secs(600);

/// Reads headers in a process for each model.
#[derive(Debug, Clone, Copy, Default)]
pub struct HeaderHelper;

impl HeaderReader for HeaderHelper {
    fn read(
        &self,
        task: &HeaderTask,
        files: &mut dyn NumberedFiles,
    ) -> Result<HeaderAnswer, Refusal> {
        read_by(spawner::own_program(), SILENCE, task, files)
    }
}

fn read_by(
    program: PathBuf,
    silence: Duration,
    task: &HeaderTask,
    files: &mut dyn NumberedFiles,
) -> Result<HeaderAnswer, Refusal> {
    let begin = || {
        let (ours, theirs) = UnixStream::pair()?;
        ours.set_read_timeout(Some(silence))?;
        ours.set_write_timeout(Some(silence))?;
        let mut command = Command::new(program);
        command.arg(COMMAND).arg("--parent").arg(std::process::id().to_string());
        command.stdin(Stdio::from(OwnedFd::from(theirs)));
        command.stdout(Stdio::null()).stderr(Stdio::null());
        command.env_clear().current_dir("/");
        std::io::Result::Ok((ours, spawner::spawn(command)?))
    };
    let (ours, mut child) = begin().map_err(|error| {
        let what = format!("the process that reads its header could not be started: {error}");
        Refusal::new(RefusalKind::Process, what)
    })?;
    let result =
        link::converse(task, files, BufReader::new(&ours), &ours, Instant::now() + LONGEST);
    drop(ours);
    match result {
        Err(Refusal { kind: RefusalKind::Process, what, file }) => {
            let ended = how_it_ended(&mut child);
            let ended = ended
                .map(|how| format!("the process that read its header ended unexpectedly ({how})"));
            let what = ended.unwrap_or(what);
            Err(Refusal { kind: RefusalKind::Process, what, file })
        }
        result => {
            end(&mut child);
            result
        }
    }
}

/// How a process ended by itself; one that runs on is ended.
fn how_it_ended(child: &mut Child) -> Option<ExitStatus> {
    // Its link closes a moment before it is gone.
    for _ in 0..20 {
        match child.try_wait() {
            Ok(Some(status)) => return Some(status),
            Ok(None) => std::thread::sleep(Duration::from_millis(10)),
            Err(_) => break,
        }
    }
    end(child);
    None
}

fn end(child: &mut Child) {
    // A process that has already ended is fine.
    let _ = child.kill();
    let _ = child.wait();
}

#[cfg(test)]
mod tests {
    use std::io;

    use super::*;

    struct NoFiles;

    impl NumberedFiles for NoFiles {
        fn open(&mut self, _: u32) -> io::Result<u64> {
            Err(io::ErrorKind::NotFound.into())
        }

        fn read_at(&mut self, _: u32, _: u64, _: &mut [u8]) -> io::Result<usize> {
            Err(io::ErrorKind::NotFound.into())
        }
    }

    /// The error of a helper that is this script.
    fn error_of(script: &str, silence: Duration) -> String {
        use std::os::unix::fs::PermissionsExt;
        let folder = tempfile::tempdir().unwrap();
        let program = folder.path().join("helper");
        std::fs::write(&program, format!("#!/bin/sh\n{script}\n")).unwrap();
        std::fs::set_permissions(&program, std::fs::Permissions::from_mode(0o700)).unwrap();
        let refusal = read_by(program, silence, &HeaderTask::Projector, &mut NoFiles).unwrap_err();
        assert_eq!(refusal.kind, RefusalKind::Process);
        refusal.what
    }

    #[test]
    fn a_helper_that_ends_or_is_silent_is_reported_and_waited_for_no_longer() {
        let patience = Duration::from_secs(60);
        let ended = error_of("exit 7", patience);
        assert!(ended.contains("ended unexpectedly (exit status: 7)"), "{ended}");
        let killed = error_of("kill -9 $$", patience);
        assert!(killed.contains("signal: 9"), "{killed}");
        let silent = error_of("exec sleep 600", Duration::from_millis(200));
        assert!(silent.contains("did not finish"), "{silent}");
        assert!(error_of("", patience).contains("ended unexpectedly (exit status: 0)"));
        let absent =
            read_by(PathBuf::from("/nowhere/deft"), patience, &HeaderTask::Projector, &mut NoFiles);
        assert!(absent.unwrap_err().what.contains("could not be started"));
    }
}
