//! The demo: the Larkfen Seed Library's models behind a real service.

use std::hash::{DefaultHasher, Hash, Hasher};
use std::path::PathBuf;
use std::process::{Command, Output};

use anyhow::{Context, bail};

use crate::packages;
use crate::places::{self, Places};
use crate::steps::{self, build_release, root};

/// Models that are registered, and those that are loaded.
const REGISTERED: [&str; 5] = [
    "larkfen-desk/larkfen-desk-q8_0.gguf",
    "larkfen-desk/larkfen-desk-f16.gguf",
    "larkfen-desk-mini/larkfen-desk-mini-q8_0.gguf",
    "larkfen-desk-mini/larkfen-desk-mini-f16.gguf",
    "larkfen-find/larkfen-find-q8_0.gguf",
];
const LOADED: [&str; 2] = ["larkfen-desk/q8_0", "larkfen-desk-mini/q8_0"];

/// Where the demo's models can be fetched from.
const SOURCES: [&str; 3] = ["larkfen", "larkfen-registry", "larkfen-git"];

/// Everything the demo keeps. The database cannot run as root, and its user may not be able to
/// enter the project's folder; then each copy of the project has a place of its own, by its path.
pub fn data_dir() -> PathBuf {
    if packages::is_root() {
        let mut hasher = DefaultHasher::new();
        root().hash(&mut hasher);
        PathBuf::from(format!("/var/tmp/deft-harbor-demo-{:016x}", hasher.finish()))
    } else {
        root().join("target/demo")
    }
}

pub fn program() -> PathBuf {
    root().join("target/release/deft")
}

fn try_deft(arguments: &[&str]) -> anyhow::Result<Output> {
    Command::new(program())
        .arg("--data-dir")
        .arg(data_dir())
        .arg("--config")
        .arg(root().join("demo/deft.toml"))
        .args(arguments)
        .env_remove("DEFT_SERVICE")
        .output()
        .context("the release binary cannot be started")
}

fn deft(arguments: &[&str]) -> anyhow::Result<String> {
    let output = try_deft(arguments)?;
    if !output.status.success() {
        bail!("deft {}\n{}", arguments.join(" "), String::from_utf8_lossy(&output.stderr));
    }
    Ok(String::from_utf8_lossy(&output.stdout).into_owned())
}

/// Starts everything; run again it changes nothing.
pub fn start() -> anyhow::Result<()> {
    packages::need(&[packages::POSTGRESQL, packages::REGISTRY, packages::GIT])?;
    println!("building the console and the release binary");
    build_release()?;
    // A service that still runs an older build is replaced; what it had loaded comes back.
    let started = steps::modified(&data_dir().join("service.json"));
    let is_older = started.is_some() && started < steps::modified(&program());
    let action = if is_older { "restart" } else { "start" };
    println!("starting the service");
    let started = try_deft(&["service", action])?;
    if !started.status.success() {
        // Most often another program has the usual port; every other cause fails once more.
        println!(
            "{}\nanother attempt, with a free port",
            String::from_utf8_lossy(&started.stderr).trim_end()
        );
        deft(&["service", "start", "--listen", "127.0.0.1:0"])?;
    }
    for file in REGISTERED {
        let path = root().join("demo").join(file);
        deft(&["depot", "register", &path.to_string_lossy()])?;
    }
    println!("starting the places that models come from: a registry, a web index, a git host");
    let places = places::start(&program(), &data_dir().join("places"))?;
    for source in SOURCES {
        // Their ports are others each time.
        let _ = try_deft(&["source", "remove", source])?;
    }
    let Places { hub, registry } = places;
    deft(&["source", "add", SOURCES[0], &format!("{hub}/index")])?;
    deft(&["source", "add", SOURCES[1], &registry, "--kind", "registry"])?;
    deft(&["source", "add", SOURCES[2], &format!("{hub}/git/{{repo}}")])?;
    for model in LOADED {
        deft(&["load", model])?;
    }
    println!("\n{}\n", deft(&["status"])?.trim_end());
    let status = deft(&["service", "status"])?;
    let console = status.lines().find_map(|line| line.strip_prefix("console"));
    println!("The console: {}\n", console.unwrap_or_default().trim());
    println!("Six commands worth trying:\n");
    println!(
        "  export PATH=\"$PWD/target/release:$PATH\" DEFT_DATA_DIR={}\n",
        data_dir().display()
    );
    for command in [
        "deft ask larkfen-desk \"How deep do I sow Moonhook bean?\" --stats",
        "deft talk larkfen-desk --temperature 0",
        "deft depot search labels",
        "deft ask larkfen:larkfen-labels/q8_0 --raw --yes $'Larkfen Seed Library\\nMoonhook bean\\n'",
        "deft ask --with larkfen-desk,larkfen-desk-mini \"When do I sow Ember chard?\"",
        "deft watch",
    ] {
        println!("  {command}");
    }
    println!("\nEnd it: cargo xtask demo --stop");
    Ok(())
}

/// Stops the service and its database; the data stays.
pub fn stop() -> anyhow::Result<()> {
    if !program().exists() {
        println!("the demo was never built, so nothing runs");
        return Ok(());
    }
    places::stop(&data_dir().join("places"));
    let output = try_deft(&["service", "stop"])?;
    print!(
        "{}{}",
        String::from_utf8_lossy(&output.stdout),
        String::from_utf8_lossy(&output.stderr)
    );
    Ok(())
}
