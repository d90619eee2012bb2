//! `deft depot import`.

use std::path::PathBuf;

use deft_client::Client;
use deft_protocol::manage::{FoundModel, ImportRequest, Transfer};

use super::{counted, whole_path};
use crate::arguments::{Common, LoadArguments};
use crate::commands::transfers;
use crate::failure::Failure;
use crate::print;

/// The files to import, as named on the command line.
pub(super) struct Files {
    pub(super) path: PathBuf,
    pub(super) name: Option<String>,
    pub(super) moves: bool,
    pub(super) projector: Option<PathBuf>,
    pub(super) template: Option<PathBuf>,
}

/// Imports a file or the models of a folder, and prints what was imported.
pub(super) async fn run(
    common: &Common,
    client: &Client,
    files: Files,
    defaults: &LoadArguments,
    without_asking: bool,
) -> Result<(), Failure> {
    let whole = |path: Option<PathBuf>| path.map(|path| whole_path(&path)).transpose();
    let request = ImportRequest {
        path: whole_path(&files.path)?,
        name: files.name,
        moves: files.moves,
        projector: whole(files.projector)?,
        template: whole(files.template)?,
        defaults: defaults.request(),
    };
    if !files.path.is_dir() {
        return super::done(common, client, client.import(&request).await?).await;
    }
    let wanted = wanted(common, client, &request, without_asking).await?;
    let mut imported: Vec<Transfer> = Vec::new();
    for request in wanted {
        let transfer = transfers::follow(client, client.import(&request).await?).await?;
        if !common.json {
            print::line(transfer.outcome.clone().unwrap_or_default());
        }
        imported.push(transfer);
    }
    if common.json {
        print::json(&imported);
    }
    Ok(())
}

/// The models of a folder that are not in the depot, if the operator agrees to import them.
async fn wanted(
    common: &Common,
    client: &Client,
    request: &ImportRequest,
    without_asking: bool,
) -> Result<Vec<ImportRequest>, Failure> {
    let found = client.scan(&request.path).await?;
    if found.is_empty() {
        return Err(Failure::missing(format!("no model in `{}`", request.path)));
    }
    let is_for_one =
        request.name.is_some() || request.projector.is_some() || request.template.is_some();
    if is_for_one {
        return only(request, &found).map(|one| vec![one]);
    }
    if !common.json {
        print::note(table(&found));
    }
    let is_new = |found: &&FoundModel| found.known_as.is_none() && found.refused.is_none();
    let wanted: Vec<ImportRequest> =
        found.iter().filter(is_new).map(|found| request_for(found, request)).collect();
    if wanted.is_empty() {
        print::note("no new models to import");
        return Ok(wanted);
    }
    let question = format!("import {}?", counted(wanted.len(), "model"));
    if !without_asking && !print::ask_yes(&question) {
        return Err(Failure::refused("no model was imported")
            .with_way_out("import them without asking: --yes"));
    }
    Ok(wanted)
}

/// The request for the only model of a folder.
fn only(request: &ImportRequest, found: &[FoundModel]) -> Result<ImportRequest, Failure> {
    let [one] = found else {
        let what = format!(
            "--as, --projector and --template are for one model, and `{}` has {}",
            request.path,
            found.len()
        );
        return Err(Failure::usage(what).with_way_out("name the file of one model"));
    };
    Ok(request_for(one, request))
}

/// The import request for a model that was found, with the projector in its folder unless another one is named.
fn request_for(model: &FoundModel, request: &ImportRequest) -> ImportRequest {
    let projector = request.projector.clone().or_else(|| model.projector.clone());
    ImportRequest { path: model.path.clone(), projector, ..request.clone() }
}

fn table(found: &[FoundModel]) -> String {
    let row = |found: &FoundModel| {
        let state = match (&found.known_as, &found.refused) {
            (Some(name), _) => format!("in the depot as {name}"),
            (None, Some(why)) => format!("cannot be used: {why}"),
            (None, None) if found.projector.is_some() => "with image projector".to_owned(),
            (None, None) => "new".to_owned(),
        };
        let name = found.name.clone().unwrap_or_default();
        vec![name, print::bytes(found.file_bytes), found.path.clone(), state]
    };
    print::table(&["model", "size", "file", ""], found.iter().map(row).collect(), &[1])
}
