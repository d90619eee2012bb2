//! `deft depot`.

mod import;
mod show;

use std::ops::ControlFlow;
use std::path::Path;

use deft_client::Client;
use deft_protocol::manage::{PullRequest, RegisterRequest, Transfer};
use deft_service::HeaderHelper;

use super::{model, offers, transfers};
use crate::arguments::{Common, Depot, DepotOrder};
use crate::connection;
use crate::failure::Failure;
use crate::print;

pub(super) async fn run(common: &Common, command: Depot) -> Result<(), Failure> {
    if let Depot::Index { folder, name } = command {
        return index(common, &folder, name);
    }
    let client = connection::connect(common).await?;
    match command {
        Depot::Index { .. } => unreachable!("it needs no service, and was done before"),
        Depot::List { words, sort } => list(common, &client, &words, sort).await,
        Depot::Inspect { model, template } => inspect(common, &client, &model, template).await,
        Depot::Search { words, source } => {
            offers::search(common, &client, &words, source.as_deref()).await
        }
        Depot::Preview { reference } => offers::preview(common, &client, &reference).await,
        Depot::Pull { reference, name, limit, detach } => {
            let request = PullRequest { reference, name, limit };
            offers::pull(common, &client, &request, detach).await
        }
        Depot::Import { path, name, moves, projector, template, yes, defaults } => {
            let files = import::Files { path, name, moves, projector, template };
            import::run(common, &client, files, &defaults, yes).await
        }
        Depot::Register { file, name } => register(common, &client, &file, name).await,
        Depot::Rename { model, name } => {
            let variant = client.inspect(&model).await?;
            let renamed = client.rename(&variant.name, &name).await?;
            shown(common, &renamed, || format!("renamed `{}` to `{}`", variant.name, renamed.name));
            Ok(())
        }
        Depot::Remove { model, dry_run } => {
            let variant = client.inspect(&model).await?;
            let removal = client.remove(&variant.name, dry_run).await?;
            shown(common, &removal, || show::removed(&removal, dry_run));
            Ok(())
        }
        Depot::Path { model } => {
            let variant = client.inspect(&model).await?;
            shown(common, &variant.path, || variant.path.clone());
            Ok(())
        }
        Depot::Export { model, folder } => {
            let variant = client.inspect(&model).await?;
            let folder = whole_path(&folder)?;
            done(common, &client, client.export(&variant.name, &folder).await?).await
        }
        Depot::Check { model } => check(common, &client, &model).await,
        Depot::Verify { models } => done(common, &client, client.verify(&models).await?).await,
        Depot::Usage => {
            let usage = client.usage().await?;
            shown(common, &usage, || show::disk(&usage));
            Ok(())
        }
    }
}

/// Prints a result as JSON or as a line of text.
fn shown(common: &Common, result: &impl serde::Serialize, text: impl FnOnce() -> String) {
    if common.json {
        print::json(result);
    } else {
        print::line(text());
    }
}

async fn list(
    common: &Common,
    client: &Client,
    words: &[String],
    sort: DepotOrder,
) -> Result<(), Failure> {
    let variants = show::chosen(client.depot().await?, words, sort);
    let mut unreadable = client.not_understood().await?;
    unreadable.retain(|found| words.iter().all(|word| found.name.contains(word)));
    if common.json {
        print::json(&show::listed(&variants, &unreadable));
        return Ok(());
    }
    if variants.is_empty() && unreadable.is_empty() {
        print::note(match words.is_empty() {
            true => "the depot is empty; import a file: deft depot import FILE",
            false => "no variant in the depot contains these words",
        });
    }
    if !variants.is_empty() {
        print::line(show::list(&variants));
    }
    unreadable.iter().for_each(|found| print::line(show::unreadable(found)));
    Ok(())
}

async fn inspect(
    common: &Common,
    client: &Client,
    name: &str,
    template: bool,
) -> Result<(), Failure> {
    let name = model::model(client, name).await?.name;
    let variant = client.inspect(&name).await?;
    if common.json {
        print::json(&variant);
        return Ok(());
    }
    let kernels = show::kernels(&client.status().await?.0, &variant.name);
    print::out(&show::inspection(&variant, kernels.as_deref(), template));
    show::notes(&variant);
    Ok(())
}

async fn register(
    common: &Common,
    client: &Client,
    file: &Path,
    name: Option<String>,
) -> Result<(), Failure> {
    let request = RegisterRequest { path: whole_path(file)?, name, temporary: false };
    let variant = client.register(&request).await?;
    shown(common, &variant, || {
        format!("registered `{}`: {}", variant.name, show::in_short(&variant))
    });
    if !common.json {
        show::notes(&variant);
    }
    Ok(())
}

async fn check(common: &Common, client: &Client, name: &str) -> Result<(), Failure> {
    let meant = model::model(client, name).await?;
    let report = client.check(&meant.name).await?;
    if common.json {
        print::json(&report);
    } else {
        print::out(&show::findings(&report));
    }
    if !report.passed {
        return Err(Failure::fault(format!("`{}` failed its check", report.name)));
    }
    Ok(())
}

/// Writes the index of a folder; needs no service.
fn index(common: &Common, folder: &Path, name: Option<String>) -> Result<(), Failure> {
    let own = || {
        let whole = std::fs::canonicalize(folder).unwrap_or_default();
        whole.file_name().unwrap_or_default().to_string_lossy().into_owned()
    };
    let bar = transfers::spinner("reading");
    let mut advance = |bytes| {
        bar.inc(bytes);
        ControlFlow::Continue(())
    };
    let written =
        deft_depot::write_index(folder, &name.unwrap_or_else(own), &HeaderHelper, &mut advance);
    bar.finish_and_clear();
    let written = written.map_err(|error| Failure::refused(error.to_string()))?;
    for (path, why) in &written.refused {
        print::note(format!("skipped {}: {why}", path.display()));
    }
    let variants: usize = written.index.models.iter().map(|model| model.variants.len()).sum();
    let path = folder.join(deft_depot::INDEX_FILE);
    shown(common, &written.index, || {
        format!(
            "wrote {}: {} of {}",
            path.display(),
            counted(variants, "variant"),
            counted(written.index.models.len(), "model"),
        )
    });
    Ok(())
}

/// An absolute path without symbolic links, as the service needs it.
pub(super) fn whole_path(path: &Path) -> Result<String, Failure> {
    let path = std::path::absolute(path)?;
    let path = std::fs::canonicalize(&path).unwrap_or(path);
    path.into_os_string()
        .into_string()
        .map_err(|path| Failure::usage(format!("the path {} is not UTF-8", path.display())))
}

/// Follows a transfer and prints its result.
pub(super) async fn done(common: &Common, client: &Client, begun: Transfer) -> Result<(), Failure> {
    let transfer = transfers::follow(client, begun).await?;
    shown(common, &transfer, || transfer.outcome.clone().unwrap_or_default());
    Ok(())
}

fn counted(count: usize, what: &str) -> String {
    format!("{count} {what}{}", if count == 1 { "" } else { "s" })
}
