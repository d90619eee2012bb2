//! Running commands, and repeating only steps that are out of date.

use std::path::{Path, PathBuf};
use std::process::Command;
use std::time::SystemTime;

use anyhow::{Context, bail};

/// The top of the project.
pub fn root() -> PathBuf {
    let here = Path::new(env!("CARGO_MANIFEST_DIR"));
    here.parent().map_or_else(|| here.to_owned(), Path::to_owned)
}

/// Runs a command in a folder of the project.
pub fn run(program: &str, arguments: &[&str], folder: &str) -> anyhow::Result<()> {
    run_with(program, arguments, folder, &[])
}

/// As [`run`], with more in the environment.
pub fn run_with(
    program: &str,
    arguments: &[&str],
    folder: &str,
    variables: &[(&str, String)],
) -> anyhow::Result<()> {
    let status = Command::new(program)
        .args(arguments)
        .envs(variables.iter().map(|(name, value)| (name, value)))
        .current_dir(root().join(folder))
        .status()
        .with_context(|| format!("`{program}` cannot be started; is it installed?"))?;
    if !status.success() {
        bail!("`{program} {}` failed ({status})", arguments.join(" "));
    }
    Ok(())
}

/// Runs a command and returns what it prints.
pub fn output(program: &str, arguments: &[&str], folder: &str) -> anyhow::Result<Vec<u8>> {
    let output = Command::new(program)
        .args(arguments)
        .current_dir(root().join(folder))
        .stderr(std::process::Stdio::inherit())
        .output()
        .with_context(|| format!("`{program}` cannot be started; is it installed?"))?;
    if !output.status.success() {
        bail!("`{program} {}` failed ({})", arguments.join(" "), output.status);
    }
    Ok(output.stdout)
}

/// Installs the console's packages as locked, unless they are there.
pub fn install_console() -> anyhow::Result<()> {
    let console = root().join("console");
    let installed = modified(&console.join("node_modules/.package-lock.json"));
    if installed >= modified(&console.join("package-lock.json")) && installed.is_some() {
        return Ok(());
    }
    run("npm", &["ci", "--no-audit", "--no-fund", "--loglevel=error"], "console")
}

/// Builds the console, unless nothing changed since.
pub fn build_console() -> anyhow::Result<()> {
    install_console()?;
    let console = root().join("console");
    let built = modified(&console.join("dist/index.html"));
    let sources = ["src", "public", "index.html", "package-lock.json", "vite.config.ts"];
    let newest = sources.iter().filter_map(|name| newest(&console.join(name))).max();
    if built.is_some() && built >= newest {
        return Ok(());
    }
    run("npm", &["run", "--silent", "build"], "console")
}

/// Builds the console, the release binary, and the stand-ins of the demo: together, for apart they would
/// build what they share twice.
pub fn build_release() -> anyhow::Result<()> {
    build_console()?;
    crate::building::build(&["deft", "deft-standins"], "release")
}

/// The time of the last change of a file, if it exists.
pub fn modified(path: &Path) -> Option<SystemTime> {
    path.metadata().ok()?.modified().ok()
}

/// When anything below a path was last written.
fn newest(path: &Path) -> Option<SystemTime> {
    if !path.is_dir() {
        return modified(path);
    }
    let entries = path.read_dir().ok()?.filter_map(Result::ok);
    entries.filter_map(|entry| newest(&entry.path())).chain(modified(path)).max()
}
