//! Makes git repositories in the form of hubs: large files are outside the repository, which has a pointer to each.

use std::path::{Path, PathBuf};
use std::process::Command;

use anyhow::{Context, bail};

/// The beginning of a pointer to a large file, from the open specification.
const POINTER: &str = "version https://git-lfs.github.com/spec/v1";

fn git(folder: &Path, arguments: &[&str]) -> anyhow::Result<()> {
    let output = Command::new("git")
        .arg("-C")
        .arg(folder)
        .args(["-c", "user.name=Larkfen", "-c", "user.email=desk@larkfen.example"])
        .args(arguments)
        .env("GIT_CONFIG_GLOBAL", "/dev/null")
        .env("GIT_CONFIG_NOSYSTEM", "1")
        .output()
        .context("git cannot be started")?;
    if !output.status.success() {
        bail!("git {}: {}", arguments.join(" "), String::from_utf8_lossy(&output.stderr));
    }
    Ok(())
}

/// Makes `git/<name>.git` in a stand-in's folder with a commit of these files, or adds a commit to it. Each file has its path in
/// the repository, its source, and whether it is a large file outside the repository.
///
/// # Errors
/// `git` fails, or a file cannot be read.
pub fn make_repository(
    folder: &Path,
    name: &str,
    files: &[(&str, PathBuf, bool)],
) -> anyhow::Result<()> {
    let bare = folder.join("git").join(format!("{name}.git"));
    let large = folder.join("large");
    std::fs::create_dir_all(&large)?;
    std::fs::create_dir_all(bare.parent().unwrap_or(folder))?;
    let work = tempfile::tempdir()?;
    if bare.exists() {
        git(work.path(), &["clone", "--quiet", &bare.to_string_lossy(), "."])?;
    } else {
        git(folder, &["init", "--quiet", "--bare", "-b", "main", &bare.to_string_lossy()])?;
        git(work.path(), &["init", "--quiet", "-b", "main", "."])?;
        git(work.path(), &["remote", "add", "origin", &bare.to_string_lossy()])?;
    }
    git(&bare, &["config", "uploadpack.allowFilter", "true"])?;
    git(&bare, &["config", "uploadpack.allowAnySHA1InWant", "true"])?;
    for (path, source, beside) in files {
        let target = work.path().join(path);
        std::fs::create_dir_all(target.parent().unwrap_or(work.path()))?;
        if *beside {
            let (digest, bytes) = deft_depot::digest_of_file(source)?;
            std::fs::copy(source, large.join(digest.to_string()))?;
            std::fs::write(target, format!("{POINTER}\noid sha256:{digest}\nsize {bytes}\n"))?;
        } else {
            std::fs::copy(source, target)?;
        }
    }
    git(work.path(), &["add", "--all"])?;
    git(work.path(), &["commit", "--quiet", "-m", "Add models"])?;
    git(work.path(), &["push", "--quiet", "origin", "HEAD:main"])
}
