//! The Debian package, and its trial in a fresh Debian.

use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};

use anyhow::{Context, bail, ensure};

use crate::{building, packages, steps};

/// The maintained tool that writes the package, and its version.
const TOOL: [&str; 2] = ["cargo-deb", "3.8.0"];
/// What `crates/cli/Cargo.toml` puts into the package, from the project's folder.
const STAGE: &str = "target/package/stage";
/// Longest size of the program, in bytes.
const MOST_BYTES: u64 = 40 << 20;
/// Program of an ordinary install, and of the package.
const PROGRAMS: [&str; 2] = ["/usr/local/bin/deft", "/usr/bin/deft"];
const SHELLS: [(&str, &str); 3] = [("bash", "deft"), ("zsh", "_deft"), ("fish", "deft.fish")];

/// Builds the package; where it is.
pub(crate) fn make() -> anyhow::Result<PathBuf> {
    steps::build_console()?;
    building::build(&["deft"], "dist")?;
    let root = steps::root();
    let program = root.join("target/dist/deft");
    let bytes = program.metadata()?.len();
    ensure!(bytes <= MOST_BYTES, "`{}` has {} MiB", program.display(), bytes >> 20);
    stage(&program, &root.join(STAGE))?;
    let tools = root.join("target/tools");
    if !tools.join("bin").join(TOOL[0]).exists() {
        let tools = tools.to_string_lossy();
        let [name, version] = TOOL;
        let install = ["install", name, "--version", version, "--locked", "--quiet", "--root"];
        steps::run("cargo", &[&install[..], &[&tools]].concat(), ".")?;
    }
    let package = root.join("target/package/deft-harbor.deb");
    let tool = tools.join("bin").join(TOOL[0]);
    let (tool, place) = (tool.to_string_lossy(), package.to_string_lossy());
    let arguments =
        ["--package", "deft", "--profile", "dist", "--no-build", "--quiet", "--output", &place];
    steps::run(&tool, &arguments, ".")?;
    println!("{} MiB program, {} MiB package", bytes >> 20, package.metadata()?.len() >> 20);
    println!("{}", package.display());
    Ok(package)
}

/// Writes what the program prints of itself: unit, man pages, completions.
fn stage(program: &Path, stage: &Path) -> anyhow::Result<()> {
    if stage.exists() {
        std::fs::remove_dir_all(stage)?;
    }
    let man = stage.join("man");
    std::fs::create_dir_all(&man)?;
    print_of(program, &["documents", "--man", &man.to_string_lossy()])?;
    let [ordinary, packaged] = PROGRAMS;
    let unit = std::fs::read_to_string(steps::root().join("deploy/deft-harbor.service"))?;
    ensure!(unit.contains(ordinary), "the unit does not start `{ordinary}`");
    let settings = "[Service]\nEnvironment=DEFT_CONFIG=/etc/deft-harbor/deft.toml";
    let unit = unit.replace(ordinary, packaged).replace("[Service]", settings);
    std::fs::write(stage.join("deft-harbor.service"), unit)?;
    for (shell, name) in SHELLS {
        let folder = stage.join("completions").join(shell);
        std::fs::create_dir_all(&folder)?;
        let script = print_of(program, &["completions", shell])?;
        let built = program.to_string_lossy();
        std::fs::write(folder.join(name), script.replace(&*built, packaged))?;
    }
    Ok(())
}

fn print_of(program: &Path, arguments: &[&str]) -> anyhow::Result<String> {
    let output = Command::new(program).args(arguments).stderr(Stdio::inherit()).output()?;
    ensure!(output.status.success(), "`deft {}` failed", arguments.join(" "));
    Ok(String::from_utf8(output.stdout)?)
}

/// Installs the package into a fresh Debian, starts the service there, asks it, and removes the package again.
pub(crate) fn try_out(package: &Path) -> anyhow::Result<()> {
    if !packages::is_root() {
        bail!("a fresh Debian is made by root: run this as root");
    }
    packages::need(&[packages::DEBOOTSTRAP])?;
    let debian = Debian::make()?;
    debian.install(package)?;
    debian.starts_and_answers()?;
    debian.removes()?;
    println!("installed, started, answered, removed; nothing of the package is left");
    Ok(())
}

/// A Debian in a folder, on whose processes nothing outside depends.
struct Debian {
    root: tempfile::TempDir,
}

/// Files below these are of the package or its data, by `find`'s patterns.
const OWN: &str = "find / -xdev \\( -name '*deft*' -o -user deft \\) -not -path '/proc/*' -not -path '/tmp/*' \
                   -not -path '/var/cache/apt/*' -not -path '/var/log/*' 2>/dev/null | sort";

impl Debian {
    fn make() -> anyhow::Result<Self> {
        let root = tempfile::Builder::new().prefix("deft-debian-").tempdir_in("/var/tmp")?;
        let (mirror, release) = mirror()?;
        println!("making a fresh Debian {release}; this takes a few minutes");
        let place = root.path().to_string_lossy();
        let arguments = ["--variant=minbase", &*release, &*place, &*mirror];
        let made = Command::new("debootstrap").args(arguments).output()?;
        ensure!(made.status.success(), "debootstrap: {}", String::from_utf8_lossy(&made.stdout));
        let debian = Self { root };
        // Packages must not start their services here.
        debian.run("printf '#!/bin/sh\\nexit 101\\n' > /usr/sbin/policy-rc.d; chmod +x /usr/sbin/policy-rc.d")?;
        Ok(debian)
    }

    /// Runs a script there with processes of its own, all of which end with it; what it prints.
    fn run(&self, script: &str) -> anyhow::Result<String> {
        let root = self.root.path();
        let script = format!(
            "set -e; mount -t proc proc /proc; export DEBIAN_FRONTEND=noninteractive; {script}"
        );
        let mut there = Command::new("unshare");
        there.args(["--mount", "--pid", "--fork", "--kill-child", "chroot"]).arg(root);
        there.args(["/bin/sh", "-c", &script]).env_clear();
        there.env("PATH", "/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin");
        let output = there.output().context("`unshare` cannot be started")?;
        let reported = String::from_utf8_lossy(&output.stdout).into_owned();
        let errors = String::from_utf8_lossy(&output.stderr);
        ensure!(output.status.success(), "{script}\n{reported}{errors}");
        Ok(reported)
    }

    fn install(&self, package: &Path) -> anyhow::Result<()> {
        std::fs::copy(package, self.root.path().join("tmp/deft-harbor.deb"))?;
        self.run(
            "apt-get update -qq; apt-get install --yes -qq --no-install-recommends /tmp/deft-harbor.deb",
        )?;
        let files = self.run("dpkg --listfiles deft-harbor")?;
        for file in [
            "/usr/bin/deft",
            "/etc/deft-harbor/deft.toml",
            "/usr/share/man/man1/deft.1.gz",
            "/usr/share/bash-completion/completions/deft",
        ] {
            ensure!(files.lines().any(|found| found == file), "{file} is not in it:\n{files}");
        }
        ensure!(files.contains("deft-harbor.service"), "no unit:\n{files}");
        Ok(())
    }

    /// As the unit starts it: by its user, with its settings.
    fn starts_and_answers(&self) -> anyhow::Result<()> {
        let reported = self.run(
            "export DEFT_CONFIG=/etc/deft-harbor/deft.toml DEFT_DATA_DIR=/var/lib/deft-harbor HOME=/var/lib/deft-harbor
             as_deft() { setpriv --reuid deft --regid deft --init-groups \"$@\"; }
             as_deft deft service start && as_deft deft status && as_deft deft service stop",
        )?;
        ensure!(reported.contains("http://127.0.0.1"), "{reported}");
        println!("{}", reported.trim_end());
        Ok(())
    }

    /// A purge leaves the operator's data and nothing else.
    fn removes(&self) -> anyhow::Result<()> {
        self.run("apt-get purge --yes -qq deft-harbor")?;
        let left = self.run(OWN)?;
        let stray: Vec<&str> =
            left.lines().filter(|file| !file.starts_with("/var/lib/deft-harbor")).collect();
        ensure!(stray.is_empty(), "left behind: {stray:?}");
        ensure!(left.contains("/var/lib/deft-harbor/"), "the operator's data is gone");
        Ok(())
    }
}

/// Where this machine's own packages come from, and its release.
fn mirror() -> anyhow::Result<(String, String)> {
    let release = std::fs::read_to_string("/etc/os-release")?;
    let release = release.lines().find_map(|line| line.strip_prefix("VERSION_CODENAME="));
    let release = release.context("this is not a released Debian")?.to_owned();
    let shape = ["indextargets", "--format", "$(REPO_URI) $(CODENAME)", "Created-By: Packages"];
    let targets = steps::output("apt-get", &shape, ".")?;
    let targets = String::from_utf8(targets)?;
    let mut targets = targets.lines().filter_map(|line| line.split_once(' '));
    let found = targets.find(|(_, codename)| *codename == release);
    Ok((found.context("apt knows no mirror of this release")?.0.to_owned(), release))
}
