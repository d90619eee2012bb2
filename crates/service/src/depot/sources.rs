//! Where models come from: the sources an operator added, and what they are asked with.

use std::collections::BTreeMap;
use std::io;
use std::os::unix::fs::{MetadataExt, OpenOptionsExt, PermissionsExt};
use std::path::{Path, PathBuf};

use chrono::Utc;
use deft_depot::{Access, Listing, Location, Reference, Secret, Source, most_alike};
use deft_protocol::manage::{ListingRules, SourceKind, SourceReport, SourceRequest};
use deft_protocol::{Problem, ProblemKind};
use parking_lot::RwLock;
use rustix::fs::{Mode, OFlags};
use sqlx::PgPool;
use uuid::Uuid;

use crate::depot::catalogue::{absolute, database_problem};
use crate::records::sources::{self as records, SourceRecord};
use crate::wire::name_taken;

/// The variable that has a source's token is this with its name in capitals.
const TOKEN_VARIABLE: &str = "DEFT_TOKEN_";
/// A file with a token may be read by its owner only.
const OWNER_ONLY: u32 = 0o600;
/// Longest of those in bytes.
const LONGEST_TOKEN: u64 = 16 << 10;
/// Says for which address each token of the environment is.
const TRUSTED: &str = ".environment.json";

/// The sources of this node.
pub(crate) struct Sources {
    database: PgPool,
    node: Uuid,
    /// Folder of the tokens, a file for each.
    tokens: PathBuf,
    all: RwLock<Vec<SourceRecord>>,
}

fn invalid(code: &str, detail: impl Into<String>) -> Problem {
    Problem::new(ProblemKind::Invalid, code, detail)
}

impl Sources {
    pub(crate) async fn open(database: PgPool, node: Uuid, folder: &Path) -> sqlx::Result<Self> {
        let all = RwLock::new(records::all(&database, node).await?);
        Ok(Self { database, node, tokens: folder.join("tokens"), all })
    }

    fn records(&self) -> Vec<SourceRecord> {
        self.all.read().clone()
    }

    /// All of them, by name.
    pub(crate) fn reports(&self) -> Vec<SourceReport> {
        self.records().iter().map(|record| self.report(record)).collect()
    }

    fn report(&self, record: &SourceRecord) -> SourceReport {
        SourceReport {
            name: record.name.clone(),
            kind: record.kind,
            address: record.address.clone(),
            user: record.user.clone(),
            token: self.token_place(record),
            added_at: record.added_at,
        }
    }

    /// All sources with their credentials; for those whose token cannot be read, the reason.
    pub(crate) fn all(&self) -> Vec<(String, Result<Source, Problem>)> {
        let records = self.records();
        records.iter().map(|record| (record.name.clone(), self.source(record))).collect()
    }

    /// The source of that name.
    pub(crate) fn get(&self, name: &str) -> Result<Source, Problem> {
        let records = self.records();
        let found = records.iter().find(|record| record.name == name);
        self.source(found.ok_or_else(|| no_source(name, &records))?)
    }

    /// Adds a source, or gives one that is there another token.
    pub(crate) async fn add(&self, request: &SourceRequest) -> Result<SourceReport, Problem> {
        let name = &request.name;
        let probe = format!("{name}:x");
        if !matches!(probe.parse(), Ok(Reference::Of { .. })) {
            let detail = format!(
                "`{name}` is not a valid name for a source: use letters, digits and dashes"
            );
            return Err(invalid("name_unusable", detail));
        }
        let before = self.records().into_iter().find(|record| record.name == *name);
        if let Some(before) = before.as_ref().filter(|known| known.address != request.address) {
            let detail = format!("the source `{name}` already exists, at {}", before.address);
            let way_out = format!("remove it first: deft source remove {name}");
            return Err(name_taken(detail, way_out));
        }
        // Absent fields stay unchanged.
        let known = before.as_ref();
        let kind = request.kind.or(known.map(|known| known.kind));
        let kind = kind.unwrap_or_else(|| kind_of(&request.address));
        let listing = request.listing.clone().or_else(|| known?.listing.clone());
        place(kind, &request.address, listing.as_ref())?;
        if let Some(file) = &request.token_file {
            read_token(&absolute(file)?)?;
        }
        if std::env::var_os(variable(name)).is_some() && request.token_file.is_none() {
            self.trust(name, &request.address)?;
        }
        if let Some(token) = &request.token {
            Secret::new(token).map_err(|error| invalid("token_unusable", error.to_string()))?;
            self.keep_token(name, token.trim())?;
        }
        let record = SourceRecord {
            name: name.clone(),
            address: request.address.clone(),
            kind,
            listing,
            user: request.user.clone().or_else(|| known.and_then(|known| known.user.clone())),
            token_file: request.token_file.clone(),
            added_at: known.map_or_else(Utc::now, |known| known.added_at),
        };
        let stored = records::store(&self.database, self.node, &record).await;
        stored.map_err(|error| database_problem(&error))?;
        let mut all = self.all.write();
        all.retain(|known| known.name != *name);
        all.push(record.clone());
        all.sort_by(|a, b| a.name.cmp(&b.name));
        drop(all);
        Ok(self.report(&record))
    }

    /// Removes a source and its token; models pulled from it stay.
    pub(crate) async fn remove(&self, name: &str) -> Result<SourceReport, Problem> {
        let records = self.records();
        let found = records.iter().find(|record| record.name == name);
        let report = self.report(found.ok_or_else(|| no_source(name, &records))?);
        let removed = records::remove(&self.database, self.node, name).await;
        removed.map_err(|error| database_problem(&error))?;
        self.all.write().retain(|known| known.name != name);
        match std::fs::remove_file(self.tokens.join(name)) {
            Err(error) if error.kind() != io::ErrorKind::NotFound => {
                tracing::warn!("the token of `{name}` cannot be removed: {error}");
            }
            _ => {}
        }
        Ok(report)
    }

    fn source(&self, record: &SourceRecord) -> Result<Source, Problem> {
        let place = place(record.kind, &record.address, record.listing.as_ref())?;
        let access = Access { user: record.user.clone(), token: self.token(record)? };
        let (name, address) = (record.name.clone(), record.address.clone());
        Ok(Source { name, address, place, access })
    }

    /// The token of a source: from its file, otherwise from the environment of the service, otherwise the stored one.
    fn token(&self, record: &SourceRecord) -> Result<Option<Secret>, Problem> {
        if let Some(file) = &record.token_file {
            return read_token(Path::new(file)).map(Some);
        }
        if let Ok(token) = std::env::var(variable(&record.name)) {
            let unusable = |error: deft_depot::RemoteError| {
                let detail = format!("{}: {error}", variable(&record.name));
                invalid("token_unusable", detail)
            };
            return Secret::new(&token).map(Some).map_err(unusable);
        }
        let kept = self.tokens.join(&record.name);
        if kept.exists() { read_token(&kept).map(Some) } else { Ok(None) }
    }

    fn token_place(&self, record: &SourceRecord) -> Option<String> {
        let variable = variable(&record.name);
        match &record.token_file {
            Some(file) => Some(format!("in {file}")),
            None if std::env::var_os(&variable).is_some() => Some(format!("in {variable}")),
            None => self.tokens.join(&record.name).exists().then(|| "kept".to_owned()),
        }
    }

    /// A token of the environment is for the place that it was first used for: a source that is removed and
    /// added again with another address does not get it.
    fn trust(&self, name: &str, address: &str) -> Result<(), Problem> {
        let file = self.tokens.join(TRUSTED);
        let cannot = |error: io::Error| {
            let detail = format!("`{}` cannot be used: {error}", file.display());
            Problem::new(ProblemKind::Fault, "tokens_unusable", detail)
        };
        let mut known: BTreeMap<String, String> = match std::fs::read(&file) {
            Ok(bytes) => serde_json::from_slice(&bytes).map_err(|e| cannot(e.into()))?,
            Err(error) if error.kind() == io::ErrorKind::NotFound => BTreeMap::new(),
            Err(error) => return Err(cannot(error)),
        };
        let (variable, origin) = (variable(name), origin(address));
        match known.get(name) {
            Some(before) if *before == origin => Ok(()),
            Some(before) => {
                let detail =
                    format!("the token in {variable} is for {before}, and not for {origin}");
                Err(Problem::new(ProblemKind::Refused, "token_for_another", detail).with_way_out(
                    format!(
                        "give the source another name; or, if the token is for {origin}, remove `{}`",
                        file.display()
                    ),
                ))
            }
            None => {
                known.insert(name.to_owned(), origin);
                crate::process::private_files::private_folder(&self.tokens, None)
                    .map_err(cannot)?;
                let text = serde_json::to_vec_pretty(&known).unwrap_or_default();
                crate::process::private_files::write_whole(&file, &text).map_err(cannot)
            }
        }
    }

    fn keep_token(&self, name: &str, token: &str) -> Result<(), Problem> {
        use std::io::Write;
        let write = || {
            std::fs::create_dir_all(&self.tokens)?;
            std::fs::set_permissions(&self.tokens, std::fs::Permissions::from_mode(0o700))?;
            let unfinished = self.tokens.join(format!(".{name}"));
            let _ = std::fs::remove_file(&unfinished);
            let mut file = std::fs::File::options()
                .create_new(true)
                .write(true)
                .mode(OWNER_ONLY)
                .open(&unfinished)?;
            file.write_all(token.as_bytes())?;
            file.sync_all()?;
            std::fs::rename(&unfinished, self.tokens.join(name))
        };
        write().map_err(|error: io::Error| {
            let detail = format!("the token cannot be stored: {error}");
            Problem::new(ProblemKind::Fault, "token_not_kept", detail)
        })
    }
}

fn variable(source: &str) -> String {
    format!("{TOKEN_VARIABLE}{}", source.to_uppercase().replace('-', "_"))
}

/// Reads a file with a token. Refuses a link, a file of another user, and a file that others can read.
fn read_token(path: &Path) -> Result<Secret, Problem> {
    let shown = path.display();
    let unreadable = |error: io::Error| {
        let detail = format!("the token file `{shown}` cannot be read: {error}");
        Problem::new(ProblemKind::Missing, "token_missing", detail)
    };
    let flags = OFlags::RDONLY | OFlags::NOFOLLOW | OFlags::NONBLOCK | OFlags::CLOEXEC;
    let opened = rustix::fs::open(path, flags, Mode::empty());
    let file: std::fs::File = opened.map_err(|error| unreadable(error.into()))?.into();
    let found = file.metadata().map_err(unreadable)?;
    if !found.is_file() || found.uid() != rustix::process::geteuid().as_raw() {
        let detail = format!("the token file `{shown}` does not belong to the user of the service");
        return Err(Problem::new(ProblemKind::Refused, "token_foreign", detail));
    }
    if found.mode() & !OWNER_ONLY & 0o777 != 0 {
        let detail = format!("other users can read the token file `{shown}`");
        return Err(Problem::new(ProblemKind::Refused, "token_open", detail)
            .with_way_out(format!("chmod 600 {shown}")));
    }
    let mut text = String::new();
    io::Read::read_to_string(&mut io::Read::take(file, LONGEST_TOKEN), &mut text)
        .map_err(unreadable)?;
    Secret::new(&text).map_err(|error| invalid("token_unusable", format!("`{shown}`: {error}")))
}

/// The part of an address that says whose it is.
fn origin(address: &str) -> String {
    let url: Result<url::Url, _> = address.replace("{repo}", "repo").parse();
    url.map_or_else(|_| address.to_owned(), |url| url.origin().ascii_serialization())
}

/// Default kind of an address.
fn kind_of(address: &str) -> SourceKind {
    if !address.contains("://") {
        SourceKind::Folder
    } else if address.contains("{repo}") || address.trim_end_matches('/').ends_with(".git") {
        SourceKind::Git
    } else {
        SourceKind::Index
    }
}

fn place(
    kind: SourceKind,
    address: &str,
    rules: Option<&ListingRules>,
) -> Result<Location, Problem> {
    let url = || {
        let url: Result<url::Url, _> = address.parse();
        let url = url.ok().filter(|url| matches!(url.scheme(), "http" | "https") && url.has_host());
        let url = url.filter(|url| url.username().is_empty() && url.password().is_none());
        url.ok_or_else(|| {
            let detail = format!(
                "`{address}` is not an address; write one that begins with https:// or http:// and has no password"
            );
            invalid("address_unusable", detail)
        })
    };
    Ok(match kind {
        SourceKind::Index => Location::Index(url()?),
        SourceKind::Registry => Location::Registry(url()?),
        SourceKind::Git => {
            url()?;
            Location::Git(address.to_owned())
        }
        SourceKind::Folder => Location::Folder(absolute(address)?),
        SourceKind::Listing => {
            let rules = rules.ok_or_else(|| {
                let detail = "a listing needs --download, and the JSON pointers of its fields";
                invalid("listing_missing", detail)
            })?;
            let listing = Listing {
                files: address.to_owned(),
                download: rules.download.clone(),
                entries: rules.entries.clone(),
                path: rules.path.clone(),
                bytes: rules.bytes.clone(),
                sha256: rules.sha256.clone(),
            };
            listing.check().map_err(|error| invalid("listing_unusable", error.to_string()))?;
            Location::Listing(listing)
        }
    })
}

fn no_source(name: &str, all: &[SourceRecord]) -> Problem {
    let nearest = most_alike(name, all.iter().map(|known| (&known.name, &known.name)));
    let way_out = match nearest {
        Some(nearest) => {
            format!("did you mean `{nearest}`? List all sources: deft source list")
        }
        None if all.is_empty() => format!("add it: deft source add {name} ADDRESS"),
        None => "list all sources: deft source list".to_owned(),
    };
    let detail = format!("no source `{name}`");
    Problem::new(ProblemKind::Missing, "no_source", detail).with_way_out(way_out)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn kinds_are_recognised_by_addresses() {
        assert_eq!(kind_of("/srv/models"), SourceKind::Folder);
        assert_eq!(kind_of("https://seeds.example/desk.git"), SourceKind::Git);
        assert_eq!(kind_of("https://seeds.example/{repo}"), SourceKind::Git);
        assert_eq!(kind_of("https://seeds.example/models"), SourceKind::Index);
    }

    #[test]
    fn addresses_that_cannot_be_asked_are_refused() {
        for address in ["ftp://seeds.example", "https://", "https://u:p@seeds.example", "seeds"] {
            let problem = place(SourceKind::Index, address, None).unwrap_err();
            assert_eq!(problem.code, "address_unusable", "{address}");
        }
        assert_eq!(place(SourceKind::Folder, "models", None).unwrap_err().code, "path_relative");
        let listing = place(SourceKind::Listing, "https://a.example/{repo}", None).unwrap_err();
        assert_eq!(listing.code, "listing_missing");
    }

    #[test]
    fn a_token_that_others_may_read_is_refused() {
        let folder = tempfile::tempdir().unwrap();
        let file = folder.path().join("token");
        std::fs::write(&file, "larkfen-secret\n").unwrap();
        std::fs::set_permissions(&file, std::fs::Permissions::from_mode(0o640)).unwrap();
        let problem = read_token(&file).unwrap_err();
        assert_eq!(problem.code, "token_open");
        assert!(problem.way_out.unwrap().starts_with("chmod 600"));
        std::fs::set_permissions(&file, std::fs::Permissions::from_mode(0o600)).unwrap();
        assert_eq!(format!("{:?}", read_token(&file).unwrap()), "(secret)");
        std::fs::write(&file, "two words").unwrap();
        assert_eq!(read_token(&file).unwrap_err().code, "token_unusable");
        assert_eq!(variable("my-hub"), "DEFT_TOKEN_MY_HUB");
        let link = folder.path().join("link");
        std::os::unix::fs::symlink(&file, &link).unwrap();
        assert_eq!(read_token(&link).unwrap_err().code, "token_missing", "no link is followed");
        assert_eq!(read_token(folder.path()).unwrap_err().code, "token_foreign");
    }

    #[tokio::test]
    async fn a_token_of_the_environment_stays_with_the_place_it_was_first_used_for() {
        let folder = tempfile::tempdir().unwrap();
        let database = sqlx::postgres::PgPoolOptions::new()
            .connect_lazy("postgres://nobody@127.0.0.1:1/none")
            .unwrap();
        let tokens = folder.path().join("tokens");
        let sources = || Sources {
            database: database.clone(),
            node: Uuid::nil(),
            tokens: tokens.clone(),
            all: RwLock::default(),
        };
        sources().trust("hub", "https://seeds.example/{repo}").unwrap();
        sources().trust("hub", "https://seeds.example/other").unwrap();
        let refused = sources().trust("hub", "https://collector.test/{repo}").unwrap_err();
        assert_eq!(refused.code, "token_for_another");
        assert!(refused.detail.contains("https://seeds.example"), "{refused}");
        sources().trust("other", "https://collector.test").unwrap();
    }
}
