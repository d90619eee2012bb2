//! Building the release programs, with how far it is and how long it will still take.

use std::collections::{BTreeMap, BTreeSet};
use std::io::{BufRead, BufReader, IsTerminal, Write};
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

use anyhow::{Context, bail};
use serde_json::Value;

use crate::steps;

/// Seconds that a crate took to compile where they were measured (`cargo build --timings`), one crate a line. Only
/// their ratios matter: they say how much of the work is done.
const SECONDS: &str = include_str!("compile_seconds.txt");
/// Of a crate that is not in the list.
const ORDINARY: f64 = 1.0;
/// An estimate from less of the work would be a guess.
const LEAST_DONE: f64 = 0.05;
/// Without a terminal, a line for so much of the work.
const LINE_EVERY: f64 = 0.1;

/// Builds packages with a profile and shows the progress on standard error.
pub(crate) fn build(packages: &[&str], profile: &str) -> anyhow::Result<()> {
    let mut progress = Progress::new(work(packages)?);
    let mut cargo = Command::new("cargo");
    cargo.args(["build", "--quiet", "--message-format", "json-render-diagnostics"]);
    cargo.args(["--profile", profile]).args(chosen(packages));
    let mut cargo = cargo.current_dir(steps::root()).stdout(Stdio::piped()).spawn()?;
    let reported = cargo.stdout.take().context("cargo has no output")?;
    for line in BufReader::new(reported).lines() {
        if let Some((name, is_fresh)) = finished(&line?) {
            progress.finish(&name, is_fresh);
        }
    }
    let status = cargo.wait()?;
    progress.end();
    if !status.success() {
        bail!("`cargo build --profile {profile}` failed ({status})");
    }
    Ok(())
}

fn chosen<'a>(packages: &[&'a str]) -> Vec<&'a str> {
    packages.iter().flat_map(|package| ["--package", package]).collect()
}

/// The crates that are needed, each with its share of the work.
fn work(packages: &[&str]) -> anyhow::Result<BTreeMap<String, f64>> {
    let shape = ["tree", "--edges", "normal,build", "--prefix", "none", "--format", "{p}"];
    let tree = steps::output("cargo", &[&shape[..], &chosen(packages)].concat(), ".")?;
    let seconds = seconds();
    let tree = String::from_utf8_lossy(&tree);
    let names: BTreeSet<&str> =
        tree.lines().filter_map(|line| line.split_whitespace().next()).collect();
    let share = |name: &str| seconds.get(name).copied().unwrap_or(ORDINARY);
    Ok(names.into_iter().map(|name| (name.to_owned(), share(name))).collect())
}

fn seconds() -> BTreeMap<&'static str, f64> {
    let pairs = SECONDS.lines().filter_map(|line| line.split_once(' '));
    pairs.filter_map(|(name, seconds)| Some((name, seconds.parse().ok()?))).collect()
}

/// Which package a message says is compiled, and whether it was before.
fn finished(message: &str) -> Option<(String, bool)> {
    let message: Value = serde_json::from_str(message).ok()?;
    if message["reason"] != "compiler-artifact" || message["target"]["kind"][0] == "custom-build" {
        return None;
    }
    // An id ends in `#name@version`, or in `/name#version` where the folder has the package's name.
    let id = message["package_id"].as_str()?;
    let (place, version) = id.rsplit_once('#')?;
    let name = match version.split_once('@') {
        Some((name, _)) => name,
        None => place.rsplit('/').next()?,
    };
    Some((name.to_owned(), message["fresh"].as_bool()?))
}

struct Progress {
    /// Names of packages that are not compiled yet.
    left: BTreeMap<String, f64>,
    packages: usize,
    /// Work of this run that is done and that is not, in the list's seconds.
    done: f64,
    begun: Instant,
    reported: f64,
    is_terminal: bool,
}

impl Progress {
    fn new(left: BTreeMap<String, f64>) -> Self {
        let packages = left.len();
        let is_terminal = std::io::stderr().is_terminal();
        Self { left, packages, done: 0.0, begun: Instant::now(), reported: 0.0, is_terminal }
    }

    fn finish(&mut self, name: &str, is_fresh: bool) {
        let Some(seconds) = self.left.remove(name) else {
            return;
        };
        if !is_fresh {
            self.done += seconds;
            self.show();
        }
    }

    fn share(&self) -> f64 {
        self.done / (self.done + self.left.values().sum::<f64>()).max(f64::MIN_POSITIVE)
    }

    fn show(&mut self) {
        let share = self.share();
        if !self.is_terminal && share < self.reported + LINE_EVERY {
            return;
        }
        self.reported = share;
        let line =
            line(self.packages - self.left.len(), self.packages, share, self.begun.elapsed());
        let (start, end) = if self.is_terminal { ("\r\x1b[K", "") } else { ("", "\n") };
        let mut errors = std::io::stderr();
        let _ = write!(errors, "{start}{line}{end}").and_then(|()| errors.flush());
    }

    fn end(&self) {
        if self.is_terminal && self.done > 0.0 {
            eprintln!();
        }
    }
}

/// The progress line, with an estimate as soon as enough is done for one.
fn line(compiled: usize, packages: usize, share: f64, elapsed: Duration) -> String {
    let so_far = format!("  {compiled} of {packages} packages, {}", minutes(elapsed));
    if share < LEAST_DONE {
        return so_far;
    }
    let left = elapsed.mul_f64((1.0 - share) / share);
    format!("{so_far}, about {} left", minutes(left))
}

fn minutes(time: Duration) -> String {
    match time.as_secs() {
        seconds @ ..60 => format!("{seconds} s"),
        seconds => format!("{} min {} s", seconds / 60, seconds % 60),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_message_names_the_package_that_is_compiled() {
        let message = |id: &str, kind: &str| {
            serde_json::json!({"reason": "compiler-artifact", "package_id": id, "fresh": false,
                "target": {"kind": [kind]}})
            .to_string()
        };
        let found = |id, kind| finished(&message(id, kind)).map(|(name, _)| name);
        assert_eq!(found("registry+some#serde@1.0.2", "lib").as_deref(), Some("serde"));
        assert_eq!(found("path+file:///a/crates/cli#deft@0.1.0", "bin").as_deref(), Some("deft"));
        assert_eq!(found("path+file:///a/xtask#0.1.0", "bin").as_deref(), Some("xtask"));
        assert_eq!(found("registry+some#serde@1.0.2", "custom-build"), None);
        assert_eq!(finished("warning: unused"), None);
    }

    #[test]
    fn what_was_compiled_before_is_no_work_of_this_run() {
        let shares = [("old", 90.0), ("new", 5.0), ("next", 5.0)];
        let shares = shares.map(|(name, seconds)| (name.to_owned(), seconds));
        let mut progress = Progress::new(BTreeMap::from(shares));
        progress.finish("old", true);
        progress.finish("new", false);
        progress.finish("new", false);
        assert!((progress.share() - 0.5).abs() < 1e-9, "{}", progress.share());
    }

    #[test]
    fn an_estimate_needs_enough_to_go_by() {
        let second = Duration::from_secs(1);
        assert_eq!(line(1, 400, 0.01, second), "  1 of 400 packages, 1 s");
        let reported = line(200, 400, 0.25, 100 * second);
        assert_eq!(reported, "  200 of 400 packages, 1 min 40 s, about 5 min 0 s left");
    }

    #[test]
    fn every_line_of_the_list_is_read() {
        assert_eq!(seconds().len(), SECONDS.lines().count());
    }
}
