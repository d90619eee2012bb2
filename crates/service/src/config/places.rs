//! Where data and settings are by default.

use std::path::PathBuf;

/// `/var/lib/deft-harbor` for root (a system service), else under the user's data directory.
pub(super) fn default_data_dir() -> PathBuf {
    if rustix::process::geteuid().is_root() {
        return PathBuf::from("/var/lib/deft-harbor");
    }
    user_dir("XDG_DATA_HOME", ".local/share").join("deft-harbor")
}

/// `/etc/deft-harbor/deft.toml` for root, else under the user's folder of settings.
pub(super) fn default_file() -> PathBuf {
    if rustix::process::geteuid().is_root() {
        return PathBuf::from("/etc/deft-harbor/deft.toml");
    }
    user_dir("XDG_CONFIG_HOME", ".config").join("deft-harbor/deft.toml")
}

fn user_dir(variable: &str, below_home: &str) -> PathBuf {
    match std::env::var_os(variable) {
        Some(path) if !path.is_empty() => PathBuf::from(path),
        _ => PathBuf::from(std::env::var_os("HOME").unwrap_or_default()).join(below_home),
    }
}
