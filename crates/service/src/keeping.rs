//! The depot's own files: taking them in, writing them out, renaming, removing, looking after them.

use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};
use std::sync::Arc;

use deft_depot::{
    FileRole, Health, Manifest, Store, StoreError, StoredFile, Taken, Taking, VariantName,
    find_models,
};
use deft_protocol::manage::{
    DepotUsage, ExportRequest, FoundModel, ImportRequest, Removal, Transfer, TransferKind,
    VariantUsage, VerifyRequest,
};
use deft_protocol::{Problem, ProblemKind};

use crate::catalogue::{Catalogue, absolute, off_thread};
use crate::fetching::Fetching;
use crate::fleet::Fleet;
use crate::records::variants::{Given, Registered};
use crate::transfers::{Beginning, Handle, Transfers};
use crate::wire::{depot_problem, store_problem};

/// Looks after the depot's own files.
pub(crate) struct Keeping {
    pub(crate) store: Arc<Store>,
    pub(crate) folder: PathBuf,
    pub(crate) catalogue: Arc<Catalogue>,
    pub(crate) transfers: Transfers,
    pub(crate) fleet: Fleet,
    pub(crate) fetching: Fetching,
}

/// Longest chat template in bytes.
const LONGEST_TEMPLATE: u64 = 1 << 20;

/// A file that is to be taken in.
struct Intake {
    role: FileRole,
    path: PathBuf,
    bytes: u64,
}

impl Keeping {
    /// Takes a file into the depot: looked at first, then copied or moved with progress.
    pub(crate) async fn import(&self, request: &ImportRequest) -> Result<Transfer, Problem> {
        let path = absolute(&request.path)?;
        let beside = Beside {
            projector: request.projector.as_deref().map(absolute).transpose()?,
            template: request.template.as_deref().map(absolute).transpose()?,
        };
        let (name, defaults) = (request.name.clone(), request.defaults.clone());
        let looked = off_thread(move || look_at(&path, &beside, name.as_deref()));
        let (name, intakes, template) = looked.await?;
        if self.catalogue.by_name(&name).is_some() || self.store.variant(&name).is_some() {
            let detail = format!("`{name}` is in the depot already");
            return Err(Problem::new(ProblemKind::Refused, "name_taken", detail).with_way_out(
                format!(
                    "give it another name: --as {}/other; or remove that one first",
                    name.model
                ),
            ));
        }
        let total = intakes.iter().map(|intake| intake.bytes).sum();
        let taking = if request.move_it { Taking::Move } else { Taking::Copy };
        let (store, catalogue) = (Arc::clone(&self.store), Arc::clone(&self.catalogue));
        let about = name.to_string();
        let given = Given { template, defaults: defaults.clone() };
        let variant = Manifest::new(name, Vec::new()).loaded_with(defaults);
        let work = move |handle: &Handle| take_in(&store, variant, intakes, taking, handle);
        let after = move |(name, path): (VariantName, PathBuf)| async move {
            let registered = catalogue.keep(&path, &name, given).await?;
            Ok(format!("kept as `{}`", registered.name))
        };
        Ok(self.transfers.begin_on_disk(
            Beginning::now(TransferKind::Import, &about, total),
            work,
            after,
        ))
    }

    /// Writes a variant's files into a folder.
    pub(crate) fn export(
        &self,
        registered: &Registered,
        request: &ExportRequest,
    ) -> Result<Transfer, Problem> {
        let folder = absolute(&request.folder)?;
        if !registered.kept {
            let (name, source) = (&registered.name, registered.path.display());
            let detail = format!("`{name}` is not kept in the depot; its file is {source}");
            return Err(Problem::new(ProblemKind::Refused, "not_kept", detail)
                .with_way_out(format!("copy that, or import it: deft depot import {source}")));
        }
        let (store, name) = (Arc::clone(&self.store), registered.name.clone());
        let total = registered.stamp.bytes;
        let about = name.to_string();
        let work = move |handle: &Handle| {
            let mut progress = |bytes| handle.advance(bytes);
            let written = store.export(&name, &folder, &mut progress);
            written.map_err(|error| store_problem(&error))
        };
        let after = |written: Vec<PathBuf>| async move {
            let names: Vec<String> =
                written.iter().map(|path| path.display().to_string()).collect();
            Ok(format!("written: {}", names.join(", ")))
        };
        Ok(self.transfers.begin_on_disk(
            Beginning::now(TransferKind::Export, &about, total),
            work,
            after,
        ))
    }

    /// Reads everything again and compares digests.
    pub(crate) async fn verify(&self, request: &VerifyRequest) -> Result<Transfer, Problem> {
        let store = Arc::clone(&self.store);
        let all = off_thread(move || store.variants().map_err(|error| store_problem(&error)));
        let all = all.await?;
        for wanted in &request.models {
            if !all.iter().any(|found| means(wanted, &found.name)) {
                let detail = format!("`{wanted}` is not kept in the depot");
                return Err(Problem::new(ProblemKind::Missing, "not_kept", detail)
                    .with_way_out("what is kept: deft depot usage"));
            }
        }
        let is_wanted = |found: &Manifest| {
            request.models.is_empty()
                || request.models.iter().any(|wanted| means(wanted, &found.name))
        };
        let wanted: Vec<Manifest> = all.into_iter().filter(is_wanted).collect();
        let total = wanted.iter().map(Manifest::bytes).sum();
        let about = match &request.models[..] {
            [] => "all that is kept".to_owned(),
            models => models.join(", "),
        };
        let (store, fetching) = (Arc::clone(&self.store), self.fetching.clone());
        let beginning = Beginning::now(TransferKind::Verify, &about, total);
        Ok(self.transfers.begin(beginning, move |handle| async move {
            let reading = handle.clone();
            let read = off_thread(move || read_again(&store, wanted, &reading)).await?;
            repaired(&fetching, read, &handle).await
        }))
    }

    /// What the depot takes of the disk.
    pub(crate) async fn usage(&self) -> Result<DepotUsage, Problem> {
        let (store, catalogue) = (Arc::clone(&self.store), Arc::clone(&self.catalogue));
        let folder = self.folder.display().to_string();
        off_thread(move || {
            let usage = store.usage().map_err(|error| store_problem(&error))?;
            let mut variants: Vec<VariantUsage> = catalogue
                .listed()
                .iter()
                .map(|found| {
                    let kept = usage.variants.get(&found.name).filter(|_| found.kept);
                    let (bytes, frees) = kept.copied().unwrap_or((found.stamp.bytes, 0));
                    VariantUsage { name: found.name.to_string(), bytes, kept: found.kept, frees }
                })
                .collect();
            variants.sort_by(|a, b| b.bytes.cmp(&a.bytes).then_with(|| a.name.cmp(&b.name)));
            Ok(DepotUsage { folder, variants, total: usage.total, free: usage.free })
        })
        .await
    }

    /// Models in a folder and all below it.
    pub(crate) async fn scan(&self, folder: &str) -> Result<Vec<FoundModel>, Problem> {
        let folder = absolute(folder)?;
        let known: BTreeMap<PathBuf, String> = self
            .catalogue
            .listed()
            .iter()
            .map(|found| (found.path.clone(), found.name.to_string()))
            .collect();
        off_thread(move || {
            let found = find_models(&folder).map_err(|error| depot_problem(&error))?;
            Ok(found.into_iter().map(|found| describe(found, &known)).collect())
        })
        .await
    }

    /// What the removal of a variant would do; nothing is done where it is only asked.
    pub(crate) async fn remove(
        &self,
        registered: &Registered,
        only_ask: bool,
    ) -> Result<Removal, Problem> {
        self.fleet.refuse_while_loaded(&registered.name.to_string())?;
        let (store, name, kept) =
            (Arc::clone(&self.store), registered.name.clone(), registered.kept);
        if !only_ask {
            self.catalogue.forget(registered).await?;
        }
        let frees = off_thread(move || {
            if !kept {
                return Ok(0);
            }
            let freed = if only_ask { store.would_free(&name) } else { store.remove(&name) };
            match freed {
                // The files are gone already: there is nothing more to remove.
                Err(StoreError::NoVariant(_)) => Ok(0),
                other => other.map_err(|error| store_problem(&error)),
            }
        });
        Ok(Removal { name: registered.name.to_string(), kept, frees: frees.await? })
    }

    /// Gives a variant another name.
    pub(crate) async fn rename(
        &self,
        registered: &Registered,
        name: &str,
    ) -> Result<Arc<Registered>, Problem> {
        self.fleet.refuse_while_loaded(&registered.name.to_string())?;
        let to = VariantName::given(name, &registered.name.variant)
            .map_err(|error| crate::catalogue::name_problem(&error))?;
        if self.catalogue.by_name(&to).is_some() {
            let detail = format!("`{to}` is in the depot already");
            return Err(Problem::new(ProblemKind::Refused, "name_taken", detail)
                .with_way_out("choose another name"));
        }
        let mut path = registered.path.clone();
        if registered.kept {
            let (store, from, target) =
                (Arc::clone(&self.store), registered.name.clone(), to.clone());
            path = off_thread(move || {
                store.rename(&from, &target).map_err(|error| store_problem(&error))?;
                let file = path.file_name().unwrap_or_default().to_string_lossy().into_owned();
                Ok(store.path(&target, &file))
            })
            .await?;
        }
        self.catalogue.rename(registered, &to, &path).await
    }

    /// Brings records and files together again, whichever was lost.
    pub(crate) async fn reconcile(&self) -> Result<(), Problem> {
        let store = Arc::clone(&self.store);
        let there = off_thread(move || store.variants().map_err(|error| store_problem(&error)));
        let there = there.await?;
        for registered in self.catalogue.all().iter().filter(|found| found.kept) {
            if !there.iter().any(|manifest| manifest.name == registered.name) {
                tracing::warn!("`{}` is forgotten: its files are gone", registered.name);
                self.catalogue.forget(registered).await?;
            }
        }
        for manifest in there {
            if self.catalogue.by_name(&manifest.name).is_some() {
                continue;
            }
            let Some(first) = manifest.files.first() else {
                continue;
            };
            let path = self.store.path(&manifest.name, &first.name);
            let template =
                manifest.template().map(|file| self.store.path(&manifest.name, &file.name));
            let template = template.and_then(|path| std::fs::read_to_string(path).ok());
            let given = Given { template, defaults: manifest.defaults.clone() };
            match self.catalogue.keep(&path, &manifest.name, given).await {
                Ok(found) => tracing::info!("`{}` is found again in the depot", found.name),
                Err(problem) => tracing::warn!("`{}`: {}", manifest.name, problem.detail),
            }
        }
        Ok(())
    }
}

/// Whether an operator's word means a variant.
fn means(word: &str, name: &VariantName) -> bool {
    word == name.model || word == name.to_string()
}

/// What goes with a model's own files.
struct Beside {
    projector: Option<PathBuf>,
    template: Option<PathBuf>,
}

/// Reads a chat template.
fn template(path: &Path) -> Result<String, Problem> {
    let unusable = |why: &dyn std::fmt::Display| {
        let detail = format!("the template `{}` cannot be used: {why}", path.display());
        Problem::new(ProblemKind::Refused, "template_unusable", detail)
    };
    let bytes = path.metadata().map_err(|error| unusable(&error))?.len();
    if bytes > LONGEST_TEMPLATE {
        return Err(unusable(&format!("it has {bytes} bytes")));
    }
    std::fs::read_to_string(path).map_err(|error| unusable(&error))
}

/// Looks at what is to be taken in, before a byte is copied.
fn look_at(
    path: &Path,
    beside: &Beside,
    name: Option<&str>,
) -> Result<(VariantName, Vec<Intake>, Option<String>), Problem> {
    let template = beside.template.as_deref().map(template).transpose()?;
    let examined = deft_depot::examine_with(path, template.as_deref())
        .map_err(|error| depot_problem(&error))?;
    let defect = examined.facts.warnings.iter().find(|note| note.starts_with("chat template:"));
    if let Some(defect) = defect.filter(|_| template.is_some()) {
        return Err(Problem::new(ProblemKind::Refused, "template_unusable", defect.clone()));
    }
    let quantisation = &examined.facts.quantisation;
    let name = match name {
        Some(given) => VariantName::given(given, quantisation),
        None => VariantName::from_file(path, quantisation),
    };
    let name = name.map_err(|error| crate::catalogue::name_problem(&error))?;
    let files = deft_depot::files_of(path, &examined.stamp);
    let weights = files.map_err(|error| depot_problem(&error))?.into_iter();
    let projector = beside.projector.iter().map(|path| (FileRole::Projector, path.clone()));
    let given = beside.template.iter().map(|path| (FileRole::Template, path.clone()));
    let intake = |(role, path): (FileRole, PathBuf)| {
        let found = std::fs::metadata(&path).ok().filter(std::fs::Metadata::is_file);
        let bytes = found.map(|found| found.len()).ok_or_else(|| {
            let detail = format!("there is no file `{}`", path.display());
            Problem::new(ProblemKind::Missing, "file_missing", detail)
        })?;
        Ok(Intake { role, path, bytes })
    };
    let intakes = weights.chain(projector).chain(given).map(intake);
    Ok((name, intakes.collect::<Result<_, Problem>>()?, template))
}

/// Takes files in and makes a variant of them; where they are moved, their sources go last.
fn take_in(
    store: &Store,
    variant: Manifest,
    intakes: Vec<Intake>,
    taking: Taking,
    handle: &Handle,
) -> Result<(VariantName, PathBuf), Problem> {
    let mut taken = Vec::new();
    let result = take_and_commit(store, variant, intakes, taking, handle, &mut taken);
    if result.is_err() {
        // What cannot be removed now the next start sweeps away.
        let _ = store.give_back(taken);
        return result;
    }
    for source in taken.iter().filter_map(|taken| taken.source_to_remove.as_ref()) {
        if let Err(error) = std::fs::remove_file(source) {
            tracing::warn!("`{}` was taken in and could not be removed: {error}", source.display());
        }
    }
    result
}

fn take_and_commit(
    store: &Store,
    variant: Manifest,
    intakes: Vec<Intake>,
    taking: Taking,
    handle: &Handle,
    all: &mut Vec<Taken>,
) -> Result<(VariantName, PathBuf), Problem> {
    let mut files = Vec::new();
    for Intake { role, path, .. } in intakes {
        let file = path.file_name().unwrap_or_default().to_string_lossy().into_owned();
        handle.begin_file(&file);
        let mut progress = |bytes| handle.advance(bytes);
        let taken =
            store.take(&path, taking, &mut progress).map_err(|error| store_problem(&error))?;
        let (bytes, sha256) = (taken.bytes, taken.sha256);
        files.push(StoredFile { role, name: file, bytes, sha256, mark: None });
        all.push(taken);
    }
    let first = store.path(&variant.name, &files[0].name);
    let manifest = Manifest { files, ..variant };
    store.commit(&manifest).map_err(|error| store_problem(&error))?;
    Ok((manifest.name, first))
}

/// What reading everything again found.
struct ReadAgain {
    well: usize,
    bad: Vec<(Manifest, StoredFile, &'static str)>,
}

fn read_again(store: &Store, wanted: Vec<Manifest>, handle: &Handle) -> Result<ReadAgain, Problem> {
    let mut read = ReadAgain { well: 0, bad: Vec::new() };
    for manifest in wanted {
        for file in &manifest.files {
            handle.begin_file(&file.name);
            let mut progress = |bytes| handle.advance(bytes);
            let health =
                store.verify(file, &mut progress).map_err(|error| store_problem(&error))?;
            let what = match health {
                Health::Well => {
                    read.well += 1;
                    continue;
                }
                Health::Missing => "is gone",
                Health::Changed { .. } => "is not what was taken in any more",
            };
            read.bad.push((manifest.clone(), file.clone(), what));
        }
    }
    Ok(read)
}

/// Fetches again what is bad, where its source is known.
async fn repaired(
    fetching: &Fetching,
    read: ReadAgain,
    handle: &Handle,
) -> Result<String, Problem> {
    let mut left = Vec::new();
    let mut mended = BTreeSet::new();
    for (manifest, file, what) in &read.bad {
        if mended.contains(&file.sha256) {
            continue;
        }
        handle.begin_file(&file.name);
        match fetching.repair(manifest, file.sha256, handle).await {
            Ok(()) => drop(mended.insert(file.sha256)),
            Err(why) => {
                left.push(format!("`{}`: {} {what}; {}", manifest.name, file.name, why.detail));
            }
        }
    }
    // What another variant's source gave is mended for all that share it.
    let is_mended = |(_, file, _): &&(Manifest, StoredFile, &str)| mended.contains(&file.sha256);
    let count = read.bad.iter().filter(is_mended).count();
    if count == read.bad.len() {
        let well = format!("{} files are well", read.well);
        return Ok(match count {
            0 => well,
            count => format!("{well}, {count} fetched again"),
        });
    }
    Err(Problem::new(ProblemKind::Fault, "content_changed", left.join("; "))
        .with_way_out("remove it and take it in again: deft depot remove MODEL"))
}

fn describe(found: deft_depot::Found, known: &BTreeMap<PathBuf, String>) -> FoundModel {
    let path = found.path.display().to_string();
    let known_as = known.get(&found.path).cloned();
    let projector = found.projector.map(|path| path.display().to_string());
    match found.examined {
        Ok(examined) => {
            let name = VariantName::from_file(&found.path, &examined.facts.quantisation);
            let (file_bytes, refused) = (examined.stamp.bytes, None);
            let name = name.ok().map(|name| name.to_string());
            FoundModel { path, file_bytes, name, known_as, refused, projector }
        }
        Err(error) => {
            let refused = Some(error.to_string());
            FoundModel { path, file_bytes: found.bytes, name: None, known_as, refused, projector }
        }
    }
}
