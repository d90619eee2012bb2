//! Shell completion: scripts for shells, and names of models from the running service.

use std::time::Duration;

use clap::CommandFactory;
use clap_complete::engine::{ArgValueCompleter, CompletionCandidate};
use clap_complete::env::Shells;
use clap_complete::{CompleteEnv, Shell};

use super::{Arguments, Common};
use crate::connection;
use crate::failure::Failure;

/// Environment variable with which a shell requests completions.
const VARIABLE: &str = "DEFT_COMPLETE";
/// Longest time that a shell waits for names.
const PATIENCE: Duration = Duration::from_millis(700);

/// Answers a shell's request for completions, and ends the program.
pub(crate) fn complete() {
    CompleteEnv::with_factory(Arguments::command).var(VARIABLE).complete();
}

/// The script that makes a shell ask this program for completions.
///
/// # Errors
/// The shell is not supported.
pub(crate) fn completion_script(shell: Shell) -> Result<String, Failure> {
    let mut script = Vec::new();
    let shells = Shells::builtins();
    let name = shell.to_string();
    let completer = shells
        .completer(&name)
        .ok_or_else(|| Failure::usage(format!("completions for {name} are not available")))?;
    completer.write_registration(VARIABLE, "deft", "deft", "deft", &mut script)?;
    Ok(String::from_utf8_lossy(&script).into_owned())
}

/// Completes names of models and variants.
pub(super) fn models() -> ArgValueCompleter {
    ArgValueCompleter::new(|begun: &std::ffi::OsStr| {
        let begun = begun.to_string_lossy();
        let names = names().unwrap_or_default().into_iter();
        names.filter(|name| name.starts_with(&*begun)).map(CompletionCandidate::new).collect()
    })
}

/// Names that the service of this environment knows; none where it does not answer in time.
fn names() -> Option<Vec<String>> {
    let common = Common {
        json: false,
        service: std::env::var("DEFT_SERVICE").ok(),
        key_file: None,
        config: std::env::var_os("DEFT_CONFIG").map(Into::into),
        data_dir: None,
    };
    let asked = async {
        let client = connection::client(&common).ok()?;
        let variants = tokio::time::timeout(PATIENCE, client.depot()).await.ok()?.ok()?;
        let names = variants.into_iter().flat_map(|found| [found.model, found.name]);
        let mut names: Vec<String> = names.collect();
        names.sort_unstable();
        names.dedup();
        Some(names)
    };
    let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().ok()?;
    runtime.block_on(asked)
}
