//! Imports. Each file is opened once, so the examined content is the imported content.

use std::path::{Path, PathBuf};
use std::sync::Arc;

use deft_depot::{
    FileRole, Manifest, MovedSource, NamedFile, Store, StoredFile, Taken, Taking, VariantName,
};
use deft_protocol::manage::{ImportRequest, Transfer, TransferKind};
use deft_protocol::{Problem, ProblemKind};

use super::DepotFiles;
use crate::depot::catalogue::{Catalogue, absolute, name_problem, off_thread};
use crate::depot::header_process::HeaderHelper;
use crate::depot::transfers::{Beginning, Handle};
use crate::records::variants::Given;
use crate::wire::{depot_problem, name_taken, store_problem};

/// What goes with a model's own files.
struct Beside {
    projector: Option<PathBuf>,
    template: Option<PathBuf>,
}

/// Examined files to import.
struct Intake {
    name: VariantName,
    files: Vec<(FileRole, NamedFile)>,
    template: Option<String>,
}

/// A variant that the depot has now.
struct TakenIn {
    manifest: Manifest,
    first: PathBuf,
    /// Files that are to be removed once it is recorded.
    sources: Vec<MovedSource>,
}

impl DepotFiles {
    /// Imports a file: examines it, then copies or moves it with progress.
    pub(crate) async fn import(&self, request: &ImportRequest) -> Result<Transfer, Problem> {
        let path = absolute(&request.path)?;
        let beside = Beside {
            projector: request.projector.as_deref().map(absolute).transpose()?,
            template: request.template.as_deref().map(absolute).transpose()?,
        };
        let name = request.name.clone();
        let looked = off_thread(move || look_at(&path, &beside, name.as_deref()));
        let Intake { name, files, template } = looked.await?;
        self.catalogue.refuse_unusable(&name)?;
        if self.catalogue.by_name(&name).is_some() || self.store.variant(&name).is_some() {
            let detail = format!("`{name}` is already in the depot");
            let way_out = format!(
                "import it with another name: --as {}/other; or remove the other one first",
                name.model
            );
            return Err(name_taken(detail, way_out));
        }
        let total = files.iter().map(|(_, file)| file.metadata.len()).sum();
        let taking = if request.moves { Taking::Move } else { Taking::Copy };
        let about = name.to_string();
        let defaults = request.defaults.clone();
        let given = Given { template, defaults: defaults.clone() };
        let variant = Manifest::new(name, Vec::new()).loaded_with(defaults);
        let (store, catalogue) = (Arc::clone(&self.store), Arc::clone(&self.catalogue));
        let taking_in = Arc::clone(&self.store);
        let work = move |handle: &Handle| take_in(&taking_in, variant, files, taking, handle);
        let after = move |taken| async move { record(&store, &catalogue, taken, given).await };
        Ok(self.transfers.begin_on_disk(
            Beginning::now(TransferKind::Import, &about, total),
            work,
            after,
        ))
    }
}

/// Examines what will be imported, before a byte is copied.
fn look_at(path: &Path, beside: &Beside, name: Option<&str>) -> Result<Intake, Problem> {
    let problem = |error: deft_depot::DepotError| depot_problem(&error);
    let template = beside.template.as_deref().map(deft_depot::open_template).transpose();
    let (template_file, template) = template.map_err(problem)?.unzip();
    let (examined, mut files) =
        deft_depot::open_model(path, template.as_deref(), &HeaderHelper).map_err(problem)?;
    let defect = examined.facts.warnings.iter().find(|note| note.starts_with("chat template:"));
    if let Some(defect) = defect.filter(|_| template.is_some()) {
        return Err(Problem::new(ProblemKind::Refused, "template_unusable", defect.clone()));
    }
    let quantisation = &examined.facts.quantisation;
    let name = match name {
        Some(given) => VariantName::given(given, quantisation),
        None => VariantName::from_file(path, quantisation),
    };
    let name = name.map_err(|error| name_problem(&error))?;
    let open_projector = |path: &Path| deft_depot::open_projector(path, &HeaderHelper);
    let projector = beside.projector.as_deref().map(open_projector).transpose();
    files.extend(projector.map_err(problem)?.map(|file| (FileRole::Projector, file)));
    files.extend(template_file.map(|file| (FileRole::Template, file)));
    Ok(Intake { name, files, template })
}

/// Takes files in and makes a variant of them.
fn take_in(
    store: &Store,
    variant: Manifest,
    files: Vec<(FileRole, NamedFile)>,
    taking: Taking,
    handle: &Handle,
) -> Result<TakenIn, Problem> {
    let mut taken = Vec::new();
    let result = take_and_commit(store, variant, files, taking, handle, &mut taken);
    if result.is_err() {
        // What cannot be removed now the next start sweeps away.
        let _ = store.give_back(taken);
    }
    result
}

fn take_and_commit(
    store: &Store,
    variant: Manifest,
    named: Vec<(FileRole, NamedFile)>,
    taking: Taking,
    handle: &Handle,
    all: &mut Vec<Taken>,
) -> Result<TakenIn, Problem> {
    let mut files = Vec::new();
    for (role, file) in named {
        let name = file.name();
        handle.begin_file(&name);
        let mut progress = |bytes| handle.advance(bytes);
        let taken =
            store.take(file, taking, &mut progress).map_err(|error| store_problem(&error))?;
        let (bytes, sha256) = (taken.bytes, taken.sha256);
        files.push(StoredFile { role, name, bytes, sha256, mark: None });
        all.push(taken);
    }
    let first = store.path(&variant.name, &files[0].name);
    let manifest = Manifest { files, ..variant };
    store.commit(&manifest).map_err(|error| store_problem(&error))?;
    let sources = all.iter().filter_map(|taken| taken.source_to_remove.clone()).collect();
    Ok(TakenIn { manifest, first, sources })
}

/// Records what was taken in. Where files were moved, their sources go last of all; where it cannot be
/// recorded it is not kept, and they stay.
async fn record(
    store: &Arc<Store>,
    catalogue: &Catalogue,
    taken: TakenIn,
    given: Given,
) -> Result<String, Problem> {
    let TakenIn { manifest, first, sources } = taken;
    let recorded = catalogue.keep(&first, &manifest.name, manifest.id, given).await;
    let (store, name) = (Arc::clone(store), manifest.name);
    let is_recorded = recorded.is_ok();
    off_thread(move || {
        if !is_recorded {
            return store.remove(&name).map(|_| ()).map_err(|error| store_problem(&error));
        }
        for source in sources {
            if let Err(error) = source.remove() {
                let place = source.path().display();
                tracing::warn!("`{place}` was imported but cannot be deleted: {error}");
            }
        }
        Ok(())
    })
    .await?;
    Ok(format!("stored as `{}`", recorded?.name))
}
