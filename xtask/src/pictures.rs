//! The pictures in docs/screenshots: the console's by its end-to-end tests, the terminal's from an
//! xterm on a screen that nobody sees, both with the demo's models.

use std::path::Path;
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

use anyhow::{Context, bail};

use crate::demo;
use crate::packages::{CHROMEDRIVER, CHROMIUM, IMAGEMAGICK, POSTGRESQL, XTERM, XVFB, need};
use crate::steps::root;

const SCREEN: &str = ":87";
/// Longest time a picture is waited for.
const PATIENCE: Duration = Duration::from_secs(30);

/// Name and commands of each terminal picture. A line after `<` is typed into the command before, one after
/// `&` runs unseen beside the others, one after `!` unseen before the next, and one after `@` is seen while it
/// runs.
const TERMINAL: [(&str, &[&str]); 6] = [
    (
        "terminal-ask",
        &[
            "deft ask larkfen-desk 'How deep do I sow Moonhook bean?' --temperature 0 --stats",
            "deft ask larkfen-desk 'When do I sow Ember chard?' --temperature 0 --system 'Answer in capitals.'",
            "deft ask larkfen-desk 'Tell me all about Quillfen pea.' --temperature 0 --max-tokens 20",
            "deft calls --count 3",
        ],
    ),
    (
        "terminal-status",
        &[
            // The process of one model is killed until it counts as failed.
            "! deft load larkfen-desk-mini; until deft status | grep -q 'ended repeatedly'; do \
             kill -9 $(deft status --json | tr ',{' '\\n\\n' | awk '/\"name\": *\"/ {m = /desk-mini/} \
             m && /\"pid\":/ {gsub(/[^0-9]/, \"\"); print}'); sleep 0.2; done",
            "deft service status",
            "deft status --why",
            "deft depot list",
        ],
    ),
    (
        "terminal-plan",
        &[
            "deft plan larkfen-desk/f16 --in fern,host",
            "deft load larkfen-desk/f16 --lanes 24",
            "deft ask larkfen-dsk Hello",
        ],
    ),
    (
        "terminal-check",
        &[
            "deft depot check larkfen-desk",
            "deft depot check larkfen-find",
            "deft ask larkfen-desk 'How deep do I sow Moonhook bean?' --temperature 0 --stats",
        ],
    ),
    (
        "terminal-talk",
        &[
            "deft talk larkfen-desk --temperature 0",
            "< How deep do I sow Moonhook bean?",
            "< And Ember chard?",
            "< :model larkfen-desk-mini",
            "< When do I harvest it?",
            "< :stats",
            "< Tell me all about Quillfen pea.",
            "< :help",
        ],
    ),
    // Last, because its callers continue for a while and would slow down the others.
    (
        "terminal-watch",
        &[
            "& for n in 1 2 3 4; do while :; do deft ask larkfen-desk --temperature 3 \
             \"Tell me all about row $RANDOM.\" --max-tokens 600; sleep 0.$((RANDOM % 9)); done & done",
            "& for n in 1 2 3; do while :; do deft ask larkfen-desk-mini --temperature 3 \
             \"Tell me all about shelf $RANDOM.\" --priority background; done & done",
            "@ deft watch",
        ],
    ),
];

/// Takes all pictures, or only those of the terminal whose names contain a text.
pub fn take(only: Option<&str>) -> anyhow::Result<()> {
    need(&[POSTGRESQL, CHROMIUM, CHROMEDRIVER, XVFB, XTERM, IMAGEMAGICK])?;
    demo::start()?;
    let folder = root().join("docs/screenshots");
    std::fs::create_dir_all(&folder)?;
    if only.is_none() {
        consoles(&folder)?;
    }
    let mut screen = Command::new("Xvfb")
        .args([SCREEN, "-screen", "0", "1280x800x24"])
        .stderr(Stdio::null())
        .spawn()
        .context("Xvfb cannot be started")?;
    let is_meant = |name: &str| only.is_none_or(|only| name.contains(only));
    let mut meant = TERMINAL.iter().filter(|(name, _)| is_meant(name));
    let taken = meant.try_for_each(|(name, commands)| terminal(name, commands));
    end(&mut screen);
    taken
}

/// The console's pictures, by its end-to-end tests.
fn consoles(folder: &Path) -> anyhow::Result<()> {
    let status = Command::new("cargo")
        .args([
            "test",
            "--quiet",
            "--package",
            "deft",
            "--test",
            "e2e",
            "--",
            "calls::the_console",
            "console::",
            "finding::",
            "watching::the_console",
        ])
        .env("DEFT_PICTURES", folder)
        .env("DEFT_PICTURED", demo::program())
        .current_dir(root())
        .status()?;
    if !status.success() {
        bail!("the console's pictures could not be taken");
    }
    Ok(())
}

/// Shows commands and what they print in a terminal window, and takes a picture of it.
fn terminal(name: &str, commands: &[&str]) -> anyhow::Result<()> {
    let script = std::env::temp_dir().join(format!("deft-{name}.sh"));
    let done = script.with_extension("done");
    let _ = std::fs::remove_file(&done);
    std::fs::write(&script, shell(commands, &done.to_string_lossy()))?;
    let mut window = Command::new("xterm")
        .args(["-geometry", "139x47+0+0", "-fa", "DejaVu Sans Mono", "-fs", "11"])
        .args(["-bg", "#10201f", "-fg", "#e9e4d8", "+sb", "-b", "12", "-e", "bash"])
        .arg(&script)
        .env("DISPLAY", SCREEN)
        .env("DEFT_DATA_DIR", demo::data_dir())
        .env("PATH", format!("{}:/usr/bin:/bin", root().join("target/release").display()))
        .current_dir(root())
        .spawn()?;
    let deadline = Instant::now() + PATIENCE;
    while !done.exists() {
        if Instant::now() > deadline {
            end(&mut window);
            bail!("the terminal picture `{name}` was not ready in time");
        }
        std::thread::sleep(Duration::from_millis(50));
    }
    // The window draws what it was given a moment later.
    std::thread::sleep(Duration::from_millis(700));
    let picture = root().join("docs/screenshots").join(format!("{name}.png"));
    let import = ["-display", SCREEN, "-window", "root"];
    let status = Command::new("import").args(import).arg(&picture).status()?;
    end(&mut window);
    if status.success() { Ok(()) } else { bail!("no picture could be taken of `{name}`") }
}

/// A script that shows each command before it runs it.
fn shell(commands: &[&str], done: &str) -> String {
    let mut text = "clear\n".to_owned();
    let mut at = 0;
    while at < commands.len() {
        let command = commands[at];
        let typed: Vec<&str> =
            commands[at + 1..].iter().map_while(|line| line.strip_prefix("< ")).collect();
        at += 1 + typed.len();
        if let Some(unseen) = command.strip_prefix("& ") {
            let command = quoted(&format!("{unseen}; wait"));
            text += &format!("timeout 25 bash -c {command} > /dev/null 2>&1 &\n");
            continue;
        }
        if let Some(before) = command.strip_prefix("! ") {
            let before = quoted(before);
            text += &format!("timeout 20 bash -c {before} > /dev/null 2>&1\n");
            continue;
        }
        if let Some(running) = command.strip_prefix("@ ") {
            return text
                + &format!(
                    "(sleep 14; touch {}) &\nstty rows 41\ntimeout --foreground 20 {running}\n",
                    quoted(done)
                );
        }
        text += &format!("printf '\\033[1;33m$ \\033[0m%s\\n' {}\n", quoted(command));
        if typed.is_empty() {
            text += &format!("{command}\necho\n");
            continue;
        }
        // Typed into a real terminal, with a moment for each answer.
        let lines: Vec<String> =
            typed.iter().map(|line| format!("sleep 0.7; echo {};", quoted(line))).collect();
        let keys = format!("({} sleep 0.8)", lines.join(" "));
        text += &format!("{keys} | script -qec {} /dev/null\n", quoted(command));
    }
    text + &format!("touch {}\nsleep 60\n", quoted(done))
}

fn quoted(text: &str) -> String {
    format!("'{}'", text.replace('\'', "'\\''"))
}

fn end(child: &mut Child) {
    // It may have ended by itself.
    let _ = child.kill();
    let _ = child.wait();
}

/// A picture of a page of its own, from a file.
pub fn of_page(page: &Path, picture: &Path) -> anyhow::Result<()> {
    need(&[CHROMIUM])?;
    let profile = tempfile::tempdir()?;
    let status = Command::new("chromium")
        .args([
            "--headless",
            "--no-sandbox",
            "--disable-gpu",
            "--disable-quic",
            "--no-first-run",
            "--disable-background-networking",
            "--disable-component-update",
            "--disable-sync",
            "--hide-scrollbars",
            "--window-size=1280,800",
        ])
        .arg(format!("--user-data-dir={}", profile.path().display()))
        .arg(format!("--screenshot={}", root().join(picture).display()))
        .arg(format!("file://{}", page.display()))
        .stderr(Stdio::null())
        .status()
        .context("chromium cannot be started")?;
    if !status.success() {
        bail!("chromium took no picture of {}", page.display());
    }
    Ok(())
}
