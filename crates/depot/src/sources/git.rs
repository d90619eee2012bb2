//! Git repositories. The installed `git` reads their trees, without files. Large files are pulled by the open batch
//! protocol for large files, so that one of them can be pulled without the rest.

use std::path::{Path, PathBuf};
use std::process::Stdio;
use std::time::Duration;

use base64::Engine;
use serde::{Deserialize, Serialize};
use tokio::io::AsyncReadExt;
use tokio::process::Command;
use url::Url;

use super::group::{Found, group, is_of_a_model};
use super::{Content, Finder, Offer, SourceError};
use crate::name::is_plain_path;
use crate::remote::{Access, Address};

/// Placeholder of the repository in an address.
pub(super) const REPO: &str = "{repo}";
/// Larger files of the repository itself are not fetched for a list.
const SMALL: &str = "blob:limit=64k";
/// Longest pointer to a large file, in bytes.
const LONGEST_POINTER: u64 = 1024;
/// First line of such a pointer.
const POINTER: &str = "version https://git-lfs";
/// A connection that is slower than this, in bytes per second, for the longest allowed silence is closed.
const SLOWEST: &str = "1000";
/// Environment variables of the service that `git` gets.
const PASSED: [&str; 7] =
    ["PATH", "http_proxy", "https_proxy", "HTTPS_PROXY", "all_proxy", "no_proxy", "NO_PROXY"];
/// Longest output of `git` in bytes: a list of some hundred thousand files.
const MOST_OUTPUT: u64 = 64 << 20;
/// Longest time of one `git` command.
const LONGEST_WORK: Duration = Duration::from_secs(120);
/// Headers of a host's answer that are sent with the request for a large file; others are dropped.
const PASSED_HEADERS: [&str; 2] = ["authorization", "accept"];
/// The system's certificates on Debian and others.
const SYSTEM_CERTIFICATES: &str = "/etc/ssl/certs";
/// Kind of the batch protocol's documents.
const BATCH_KIND: &str = "application/vnd.git-lfs+json";

/// A file in a repository itself.
#[derive(Debug, Clone)]
pub struct GitBlob {
    repository: Repository,
    id: String,
}

/// The local copy of a repository: its trees and small files.
#[derive(Debug, Clone)]
struct Repository {
    folder: PathBuf,
    address: String,
    access: Access,
    ca_file: Option<PathBuf>,
    stall: Duration,
}

/// The last part of a repository's address.
pub(super) fn own_name(address: &str) -> &str {
    let trimmed = address.trim_end_matches('/');
    let last = trimmed.rsplit('/').next().unwrap_or(trimmed);
    last.strip_suffix(".git").unwrap_or(last)
}

/// The offers of a repository.
pub(super) async fn offers(
    finder: &Finder,
    address: &str,
    access: &Access,
    model: &str,
    revision: Option<&str>,
) -> Result<Vec<Offer>, SourceError> {
    let repository = Repository {
        folder: finder.cache.join("git").join(blake3::hash(address.as_bytes()).to_hex().as_str()),
        address: address.to_owned(),
        access: access.clone(),
        ca_file: finder.ca_file.clone(),
        stall: finder.web.stall(),
    };
    // Two commands in one folder at a time would disturb each other.
    let turn = finder.locks.of(address);
    let _turn = turn.lock().await;
    let commit = repository.current(revision).await?;
    let mut entries = repository.entries(&commit).await?;
    entries.retain(|entry| is_of_a_model(&entry.path));
    let mut files = Vec::new();
    let mut pointers = Vec::new();
    for entry in entries {
        let content =
            Content::Git(GitBlob { repository: repository.clone(), id: entry.id.clone() });
        let pointer = match entry.bytes {
            Some(bytes) if bytes <= LONGEST_POINTER => pointer(&repository.blob(&entry.id).await?),
            _ => None,
        };
        let found = Found { path: entry.path, bytes: entry.bytes, sha256: None, content };
        match pointer {
            Some(pointer) => pointers.push((found, pointer)),
            None => files.push(found),
        }
    }
    files.extend(repository.large(finder, pointers).await?);
    Ok(group(model, Some(&commit), files))
}

/// A file of a tree.
struct Entry {
    path: String,
    id: String,
    /// Its length, if its content is here.
    bytes: Option<u64>,
}

/// Pointer to a large file.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
struct Pointer {
    oid: String,
    size: u64,
}

/// Parses a pointer; none if it is not one.
fn pointer(text: &[u8]) -> Option<Pointer> {
    let text = std::str::from_utf8(text).ok()?;
    let mut lines = text.lines();
    lines.next().filter(|line| line.starts_with(POINTER))?;
    let field = |name: &str| {
        let mut lines = text.lines();
        lines.find_map(|line| line.strip_prefix(name)?.strip_prefix(' ').map(str::to_owned))
    };
    let oid = field("oid")?.strip_prefix("sha256:")?.to_owned();
    Some(Pointer { oid, size: field("size")?.parse().ok()? })
}

#[derive(Serialize)]
struct Batch<'a> {
    operation: &'a str,
    transfers: [&'a str; 1],
    hash_algo: &'a str,
    objects: Vec<Pointer>,
}

#[derive(Deserialize)]
struct BatchAnswer {
    objects: Vec<BatchObject>,
}

#[derive(Deserialize)]
struct BatchObject {
    oid: String,
    #[serde(default)]
    actions: Option<Actions>,
}

#[derive(Deserialize)]
struct Actions {
    download: Option<Download>,
}

#[derive(Deserialize)]
struct Download {
    href: String,
    #[serde(default)]
    header: std::collections::BTreeMap<String, String>,
}

impl Repository {
    fn error(&self, what: impl Into<String>) -> SourceError {
        SourceError::Git { place: self.shown(), what: what.into() }
    }

    fn shown(&self) -> String {
        match self.address.parse::<Url>() {
            Ok(url) => crate::remote::shown(&url),
            Err(_) => self.address.clone(),
        }
    }

    /// A `git` command without the operator's settings. The token is passed so that no process list shows it.
    fn git(&self) -> Command {
        let mut git = Command::new("git");
        // Without the service's environment, which may contain tokens.
        git.env_clear();
        git.envs(PASSED.iter().filter_map(|name| Some((name, std::env::var_os(name)?))));
        git.arg("-C").arg(&self.folder);
        // `git` would send the token to the target of a redirect, so with a token it follows none.
        let follows = if self.access.token.is_some() { "false" } else { "initial" };
        let mut settings = vec![("http.followRedirects".to_owned(), follows.to_owned())];
        if let Some(file) = &self.ca_file {
            // The system's certificates stay trusted.
            git.env("GIT_SSL_CAINFO", file).env("GIT_SSL_CAPATH", SYSTEM_CERTIFICATES);
        }
        if let Some(header) = self.authorization() {
            let key = format!("http.{}.extraHeader", self.address);
            settings.push((key, format!("Authorization: {header}")));
        }
        git.env("GIT_CONFIG_COUNT", settings.len().to_string());
        for (at, (key, value)) in settings.iter().enumerate() {
            git.env(format!("GIT_CONFIG_KEY_{at}"), key);
            git.env(format!("GIT_CONFIG_VALUE_{at}"), value);
        }
        git.env("GIT_CONFIG_GLOBAL", "/dev/null")
            .env("GIT_CONFIG_NOSYSTEM", "1")
            .env("GIT_TERMINAL_PROMPT", "0")
            .env("GIT_ALLOW_PROTOCOL", "http:https")
            .env("GIT_NO_LAZY_FETCH", "1")
            .env("GIT_HTTP_LOW_SPEED_LIMIT", SLOWEST)
            .env("GIT_HTTP_LOW_SPEED_TIME", self.stall.as_secs().max(1).to_string())
            .env("LC_ALL", "C")
            .stdin(Stdio::null())
            .kill_on_drop(true);
        git
    }

    /// Git hosts accept a token as password with any user name.
    fn authorization(&self) -> Option<String> {
        let token = self.access.token.as_ref()?;
        let user = self.access.user.as_deref().unwrap_or("deft");
        let pair = format!("{user}:{}", token.expose());
        Some(format!("Basic {}", base64::engine::general_purpose::STANDARD.encode(pair)))
    }

    async fn run(&self, arguments: &[&str]) -> Result<Vec<u8>, SourceError> {
        let asked = tokio::time::timeout(LONGEST_WORK, self.output(arguments)).await;
        let output = asked.map_err(|_| {
            let what = format!("it did not answer within {} s", LONGEST_WORK.as_secs());
            crate::remote::RemoteError::Unreachable { place: self.shown(), what }
        })??;
        if output.status.success() {
            return Ok(output.stdout);
        }
        let said = String::from_utf8_lossy(&output.stderr).into_owned();
        let why =
            said.lines().rev().find(|line| line.starts_with("fatal") || line.starts_with("error"));
        let why = why.unwrap_or("it ended with an error").replace(&self.address, &self.shown());
        if why.contains("not found") {
            let place = self.shown();
            return Err(crate::remote::RemoteError::NotFound { place }.into());
        }
        if why.contains("Authentication failed") || why.contains("could not read Username") {
            let place = self.shown();
            return Err(crate::remote::RemoteError::Unauthorized { place }.into());
        }
        if self.access.token.is_some() && why.contains("returned error: 30") {
            return Err(SourceError::GitSentOn { place: self.shown() });
        }
        Err(self.error(why))
    }

    /// Output of a command, up to a limit, because the content of a repository is not trusted.
    async fn output(&self, arguments: &[&str]) -> Result<std::process::Output, SourceError> {
        let failed = |error: std::io::Error| match error.kind() {
            std::io::ErrorKind::NotFound => self.error("the program `git` is not installed"),
            _ => self.error(error.to_string()),
        };
        let mut git = self.git();
        git.args(arguments).stdout(Stdio::piped()).stderr(Stdio::piped());
        let mut child = git.spawn().map_err(failed)?;
        let (out, err) = (child.stdout.take(), child.stderr.take());
        let (mut stdout, mut stderr) = (Vec::new(), Vec::new());
        let output = async {
            let mut out = out.expect("it was asked for").take(MOST_OUTPUT + 1);
            let mut err = err.expect("it was asked for").take(MOST_OUTPUT);
            tokio::try_join!(out.read_to_end(&mut stdout), err.read_to_end(&mut stderr))
        };
        output.await.map_err(failed)?;
        if stdout.len() as u64 > MOST_OUTPUT {
            // Dropping the process kills it.
            return Err(
                self.error(format!("it lists more than {} MiB of files", MOST_OUTPUT >> 20))
            );
        }
        let status = child.wait().await.map_err(failed)?;
        Ok(std::process::Output { status, stdout, stderr })
    }

    /// Fetches a state. If the rest of a killed `git` is in the way, removes that first.
    async fn current(&self, revision: Option<&str>) -> Result<String, SourceError> {
        let was_there = self.folder.exists();
        match self.fetch(revision).await {
            Err(SourceError::Git { .. }) if was_there => {
                let removed = tokio::fs::remove_dir_all(&self.folder).await;
                removed.map_err(|error| self.error(error.to_string()))?;
                self.fetch(revision).await
            }
            other => other,
        }
    }

    /// Fetches a state without its large files; returns its commit.
    async fn fetch(&self, revision: Option<&str>) -> Result<String, SourceError> {
        let url: Result<Url, _> = self.address.parse();
        if !url.is_ok_and(|url| matches!(url.scheme(), "http" | "https")) {
            return Err(self.error("its address must begin with https:// or http://"));
        }
        tokio::fs::create_dir_all(&self.folder).await.map_err(|e| self.error(e.to_string()))?;
        if !self.folder.join("HEAD").exists() {
            self.run(&["init", "--quiet", "--bare"]).await?;
        }
        for (key, value) in [
            ("remote.origin.url", &self.address[..]),
            ("remote.origin.promisor", "true"),
            ("remote.origin.partialclonefilter", SMALL),
        ] {
            self.run(&["config", key, value]).await?;
        }
        let filter = format!("--filter={SMALL}");
        let wanted = revision.unwrap_or("HEAD");
        let fetch = ["fetch", "--quiet", "--depth=1", "--no-tags", &filter, "origin", wanted];
        self.run(&fetch).await?;
        let commit = self.run(&["rev-parse", "--verify", "FETCH_HEAD^{commit}"]).await?;
        Ok(String::from_utf8_lossy(&commit).trim().to_owned())
    }

    /// The files of a state. Links and other repositories within it are left out.
    async fn entries(&self, commit: &str) -> Result<Vec<Entry>, SourceError> {
        let sizes = self.run(&[
            "cat-file",
            "--batch-all-objects",
            "--batch-check=%(objectname) %(objecttype) %(objectsize)",
        ]);
        let sizes = String::from_utf8_lossy(&sizes.await?).into_owned();
        let sizes: std::collections::HashMap<&str, u64> = sizes
            .lines()
            .filter_map(|line| {
                let mut words = line.split(' ');
                let (id, kind, size) = (words.next()?, words.next()?, words.next()?);
                (kind == "blob").then(|| Some((id, size.parse().ok()?)))?
            })
            .collect();
        let tree = self.run(&["ls-tree", "-r", "-z", "--full-tree", commit]).await?;
        let tree = String::from_utf8(tree).map_err(|_| self.error("a path in it is not UTF-8"))?;
        let entry = |line: &str| {
            let (about, path) = line.split_once('\t')?;
            let mut words = about.split(' ');
            let (mode, kind, id) = (words.next()?, words.next()?, words.next()?);
            let fits = kind == "blob" && mode.starts_with("100") && is_plain_path(path);
            fits.then(|| Entry {
                path: path.to_owned(),
                id: id.to_owned(),
                bytes: sizes.get(id).copied(),
            })
        };
        Ok(tree.split('\0').filter_map(entry).collect())
    }

    async fn blob(&self, id: &str) -> Result<Vec<u8>, SourceError> {
        self.run(&["cat-file", "blob", id]).await
    }

    /// Addresses of the large files' content.
    async fn large(
        &self,
        finder: &Finder,
        pointers: Vec<(Found, Pointer)>,
    ) -> Result<Vec<Found>, SourceError> {
        if pointers.is_empty() {
            return Ok(Vec::new());
        }
        let base = self.address.trim_end_matches('/');
        let ending = if base.ends_with(".git") { "" } else { ".git" };
        let url = format!("{base}{ending}/info/lfs/objects/batch");
        let url: Url = url.parse().map_err(|_| self.error("its address is not valid"))?;
        let own = [("accept", BATCH_KIND), ("content-type", BATCH_KIND)];
        let own = own.map(|(name, value)| (name.to_owned(), value.to_owned()));
        let token = self.authorization().map(|value| ("authorization".to_owned(), value));
        let address = Address::new(url.clone()).with(own.into_iter().chain(token));
        let batch = Batch {
            operation: "download",
            transfers: ["basic"],
            hash_algo: "sha256",
            objects: pointers.iter().map(|(_, pointer)| pointer.clone()).collect(),
        };
        let body = serde_json::to_vec(&batch).unwrap_or_default();
        let answer = finder.web.exchange(&address, body).await?;
        let answer: BatchAnswer = serde_json::from_slice(&answer)
            .map_err(|error| self.error(format!("its list of large files: {error}")))?;
        let mut all = Vec::new();
        for (found, pointer) in &pointers {
            let object = answer.objects.iter().find(|object| object.oid == pointer.oid);
            let download = object.and_then(|object| object.actions.as_ref()?.download.as_ref());
            // A large file that its server does not have is left out; pulling it is an error.
            let Some(Download { href, header }) = download else { continue };
            let href = url
                .join(href)
                .map_err(|_| self.error("it redirects to an address that is not valid"))?;
            if !may_be_sent_to(&url, &href) {
                let to = crate::remote::shown(&href);
                return Err(
                    self.error(format!("it redirects a large file to {to}, which is less secure"))
                );
            }
            let sha256 = pointer.oid.parse().map_err(|error: String| self.error(error))?;
            let passed = header.iter().filter(|(name, _)| {
                PASSED_HEADERS.iter().any(|passed| name.eq_ignore_ascii_case(passed))
            });
            let passed = passed.map(|(name, value)| (name.clone(), value.clone()));
            all.push(Found {
                bytes: Some(pointer.size),
                sha256: Some(sha256),
                content: Content::Web(Address::new(href).with(passed)),
                ..found.clone()
            });
        }
        Ok(all)
    }
}

/// Whether a host may name an address for a large file: not an unencrypted one from an encrypted connection, and not this
/// machine itself from another machine.
fn may_be_sent_to(from: &Url, to: &Url) -> bool {
    let is_here = |url: &Url| match url.host() {
        Some(url::Host::Domain(name)) => name.eq_ignore_ascii_case("localhost"),
        Some(url::Host::Ipv4(ip)) => ip.is_loopback() || ip.is_unspecified() || ip.is_link_local(),
        Some(url::Host::Ipv6(ip)) => ip.is_loopback() || ip.is_unspecified(),
        None => true,
    };
    let is_web = matches!(to.scheme(), "http" | "https");
    let is_downgrade = from.scheme() == "https" && to.scheme() != "https";
    is_web && !is_downgrade && (is_here(from) || !is_here(to))
}

impl GitBlob {
    /// Identifies its content.
    pub(super) fn id(&self) -> &str {
        &self.id
    }

    /// The content of a small file.
    pub(super) async fn read(&self) -> Result<Vec<u8>, SourceError> {
        self.repository.blob(&self.id).await
    }

    /// Writes the content to a file; fetches it first if necessary.
    ///
    /// # Errors
    /// `git` failed, or the file cannot be written.
    pub async fn write(
        &self,
        target: &Path,
        advance: &(dyn Fn(u64) + Send + Sync),
    ) -> Result<(), SourceError> {
        let refused = |error: std::io::Error| self.repository.error(error.to_string());
        let mut git = self.repository.git();
        git.env_remove("GIT_NO_LAZY_FETCH").args(["cat-file", "blob", &self.id]);
        let mut child =
            git.stdout(Stdio::piped()).stderr(Stdio::null()).spawn().map_err(refused)?;
        let mut from = child.stdout.take().expect("it was asked for");
        let mut to = tokio::fs::File::create(target).await.map_err(refused)?;
        let mut piece = vec![0; 1 << 20];
        loop {
            let read = tokio::time::timeout(LONGEST_WORK, from.read(&mut piece)).await;
            let silent = |_| {
                let what = format!("it sent nothing for {} s", LONGEST_WORK.as_secs());
                self.repository.error(what)
            };
            let length = read.map_err(silent)?.map_err(refused)?;
            if length == 0 {
                break;
            }
            tokio::io::AsyncWriteExt::write_all(&mut to, &piece[..length])
                .await
                .map_err(refused)?;
            advance(length as u64);
        }
        tokio::io::AsyncWriteExt::flush(&mut to).await.map_err(refused)?;
        if child.wait().await.map_err(refused)?.success() {
            return Ok(());
        }
        Err(self.repository.error("it does not offer the content of the file"))
    }
}

#[cfg(test)]
mod tests;
