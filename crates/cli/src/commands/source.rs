//! `deft source`.

use std::io::IsTerminal;

use deft_protocol::manage::{ListingRules, SourceCheck, SourceKind, SourceReport, SourceRequest};

use super::depot::whole_path;
use crate::arguments::{AddSource, Common, Source};
use crate::connection;
use crate::failure::Failure;
use crate::print;

pub(super) async fn run(common: &Common, command: Source) -> Result<(), Failure> {
    match command {
        Source::Add(add) => self::add(common, add).await,
        Source::List => list(common).await,
        Source::Check { name } => check(common, name).await,
        Source::Remove { name } => {
            let removed = connection::connect(common).await?.remove_source(&name).await?;
            if common.json {
                print::json(&removed);
            } else {
                print::line(format!(
                    "source `{}` removed; models pulled from it stay",
                    removed.name
                ));
            }
            Ok(())
        }
    }
}

async fn add(common: &Common, add: AddSource) -> Result<(), Failure> {
    let client = connection::connect(common).await?;
    let token = if add.ask_token { Some(ask_token(&add.name)?) } else { None };
    // A folder is meant as the terminal sees it.
    let address = match add.address.contains("://") {
        true => add.address,
        false => whole_path(add.address.as_ref())?,
    };
    let (entries, path, bytes, sha256) = (add.entries, add.path, add.bytes, add.sha256);
    let listing =
        add.download.map(|download| ListingRules { download, entries, path, bytes, sha256 });
    let kind = add.kind.map(SourceKind::from);
    let kind = kind.or_else(|| listing.as_ref().map(|_| SourceKind::Listing));
    let request = SourceRequest {
        name: add.name,
        address,
        kind,
        listing,
        user: add.user,
        token,
        token_file: add.token_file.map(|file| whole_path(&file)).transpose()?,
    };
    let added = client.add_source(&request).await?;
    if common.json {
        print::json(&added);
        return Ok(());
    }
    let token =
        added.token.as_ref().map_or("no token".to_owned(), |place| format!("token {place}"));
    print::line(format!("source `{}` added: {}, {token}", added.name, kind_word(added.kind)));
    print::note(format!("check that it can be reached: deft source check {}", added.name));
    Ok(())
}

/// A token from the terminal, unseen; else the first line of standard input.
fn ask_token(source: &str) -> Result<String, Failure> {
    if std::io::stdin().is_terminal() {
        return Ok(rpassword::prompt_password(format!("token for `{source}`: "))?);
    }
    let mut line = String::new();
    std::io::stdin().read_line(&mut line)?;
    let token = line.trim().to_owned();
    if token.is_empty() {
        return Err(Failure::usage("no token on standard input"));
    }
    Ok(token)
}

fn kind_word(kind: SourceKind) -> &'static str {
    match kind {
        SourceKind::Index => "web index",
        SourceKind::Registry => "OCI registry",
        SourceKind::Git => "git",
        SourceKind::Listing => "listing",
        SourceKind::Folder => "folder",
    }
}

async fn list(common: &Common) -> Result<(), Failure> {
    let sources = connection::connect(common).await?.sources().await?;
    if common.json {
        print::json(&sources);
        return Ok(());
    }
    if sources.is_empty() {
        print::note("no sources; add one: deft source add NAME ADDRESS");
        return Ok(());
    }
    let row = |source: &SourceReport| {
        vec![
            source.name.clone(),
            kind_word(source.kind).to_owned(),
            source.address.clone(),
            source.token.clone().unwrap_or_default(),
        ]
    };
    let headers = ["source", "kind", "address", "token"];
    print::line(print::table(&headers, sources.iter().map(row).collect(), &[]));
    Ok(())
}

async fn check(common: &Common, name: Option<String>) -> Result<(), Failure> {
    let client = connection::connect(common).await?;
    let names = match name {
        Some(name) => vec![name],
        None => client.sources().await?.into_iter().map(|source| source.name).collect(),
    };
    let mut checks = Vec::new();
    for name in names {
        checks.push(client.check_source(&name).await?);
    }
    if common.json {
        print::json(&checks);
    } else {
        let row = |check: &SourceCheck| {
            let found = match (&check.problem, check.variants) {
                (Some(problem), _) => problem.detail.clone(),
                (None, Some(1)) => "offers 1 variant".to_owned(),
                (None, Some(count)) => format!("offers {count} variants"),
                (None, None) => "reachable; it does not list its offers".to_owned(),
            };
            vec![check.name.clone(), print::seconds(check.seconds), found]
        };
        print::line(print::table(&["source", "took", ""], checks.iter().map(row).collect(), &[1]));
    }
    let troubled = checks.into_iter().find_map(|check| check.problem);
    troubled.map_or(Ok(()), |problem| Err(problem.into()))
}
