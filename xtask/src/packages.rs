//! Debian packages that the project's commands need.

use std::path::Path;
use std::process::Command;

use anyhow::bail;

use crate::steps;

/// A package and how to see that it is there.
pub struct Package {
    name: &'static str,
    is_there: fn() -> bool,
}

/// The database's programs.
pub const POSTGRESQL: Package = Package { name: "postgresql", is_there: has_postgresql };
/// The browser of the console's tests.
pub const CHROMIUM: Package =
    Package { name: "chromium", is_there: || Path::new("/usr/bin/chromium").exists() };
/// The browser's remote control.
pub const CHROMEDRIVER: Package =
    Package { name: "chromium-driver", is_there: || Path::new("/usr/bin/chromedriver").exists() };

/// A registry for artefacts.
pub const REGISTRY: Package = Package {
    name: "docker-registry",
    is_there: || Path::new("/usr/bin/docker-registry").exists(),
};
/// Repositories, and what serves them.
pub const GIT: Package = Package { name: "git", is_there: || answers("git") };
/// Run the programs of the guides, as their readers do.
pub const CURL: Package = Package { name: "curl", is_there: || answers("curl") };
/// Likewise.
pub const PYTHON: Package = Package { name: "python3", is_there: || answers("python3") };
/// For clients of the protocol that are written in Python.
pub const PYTHON_VENV: Package = Package {
    name: "python3-venv",
    is_there: || {
        let output = Command::new("python3").args(["-c", "import ensurepip"]).output();
        output.is_ok_and(|output| output.status.success())
    },
};

/// Makes a fresh Debian in a folder.
pub const DEBOOTSTRAP: Package =
    Package { name: "debootstrap", is_there: || Path::new("/usr/sbin/debootstrap").exists() };

/// A virtual screen.
pub const XVFB: Package =
    Package { name: "xvfb", is_there: || Path::new("/usr/bin/Xvfb").exists() };
/// A terminal window.
pub const XTERM: Package =
    Package { name: "xterm", is_there: || Path::new("/usr/bin/xterm").exists() };
/// Takes a picture of a window.
pub const IMAGEMAGICK: Package =
    Package { name: "imagemagick", is_there: || Path::new("/usr/bin/import").exists() };

fn answers(program: &str) -> bool {
    Command::new(program).arg("--version").output().is_ok_and(|output| output.status.success())
}

fn has_postgresql() -> bool {
    let Ok(versions) = Path::new("/usr/lib/postgresql").read_dir() else {
        return false;
    };
    versions.filter_map(Result::ok).any(|entry| entry.path().join("bin/initdb").exists())
}

/// Installs missing packages if the user is root; otherwise lists them.
pub fn need(packages: &[Package]) -> anyhow::Result<()> {
    let missing: Vec<&str> =
        packages.iter().filter(|package| !(package.is_there)()).map(|found| found.name).collect();
    if missing.is_empty() {
        return Ok(());
    }
    if !is_root() {
        bail!("missing Debian packages; install them: sudo apt-get install {}", missing.join(" "));
    }
    println!("installing Debian packages: {}", missing.join(" "));
    steps::run("apt-get", &["update", "-qq"], ".")?;
    let mut arguments = vec!["install", "--yes", "-qq", "--no-install-recommends"];
    arguments.extend(&missing);
    steps::run("apt-get", &arguments, ".")
}

pub fn is_root() -> bool {
    let output = Command::new("id").arg("-u").output();
    output.is_ok_and(|output| output.stdout.trim_ascii() == b"0")
}
