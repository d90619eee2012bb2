//! The depot's own files: import, export, rename, remove, verify.

mod import;

use std::collections::{BTreeMap, BTreeSet};
use std::path::PathBuf;
use std::sync::Arc;

use deft_depot::{
    Health, Manifest, Relinked, Store, StoreError, StoredFile, VariantName, find_models,
};
use deft_protocol::manage::{
    DepotUsage, ExportRequest, FoundModel, NotUnderstood, Removal, Transfer, TransferKind,
    VariantUsage, VerifyRequest,
};
use deft_protocol::{Problem, ProblemKind};

use crate::depot::catalogue::{Catalogue, absolute, off_thread};
use crate::depot::header_process::HeaderHelper;
use crate::depot::pulling::Pulling;
use crate::depot::transfers::{Beginning, Handle, Transfers};
use crate::fleet::Fleet;
use crate::records::variants::{Given, Registered};
use crate::wire::{depot_problem, name_taken, store_problem};

/// The depot's own files, and the operations on them.
pub(crate) struct DepotFiles {
    pub(crate) store: Arc<Store>,
    pub(crate) folder: PathBuf,
    pub(crate) catalogue: Arc<Catalogue>,
    pub(crate) transfers: Transfers,
    pub(crate) fleet: Fleet,
    pub(crate) pulling: Pulling,
}

impl DepotFiles {
    /// Copies the files of a variant into a folder.
    pub(crate) fn export(
        &self,
        registered: &Registered,
        request: &ExportRequest,
    ) -> Result<Transfer, Problem> {
        let folder = absolute(&request.folder)?;
        if !registered.stored {
            let (name, source) = (&registered.name, registered.path.display());
            let detail = format!("`{name}` is not stored in the depot; its file is {source}");
            return Err(Problem::new(ProblemKind::Refused, "not_stored", detail).with_way_out(
                format!("copy that file, or import it: deft depot import {source}"),
            ));
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
                let detail = format!("`{wanted}` is not stored in the depot");
                return Err(Problem::new(ProblemKind::Missing, "not_stored", detail)
                    .with_way_out("what is stored: deft depot usage"));
            }
        }
        let is_wanted = |found: &Manifest| {
            request.models.is_empty()
                || request.models.iter().any(|wanted| means(wanted, &found.name))
        };
        let wanted: Vec<Manifest> = all.into_iter().filter(is_wanted).collect();
        let total = wanted.iter().map(Manifest::bytes).sum();
        let about = match &request.models[..] {
            [] => "all stored variants".to_owned(),
            models => models.join(", "),
        };
        let (store, pulling) = (Arc::clone(&self.store), self.pulling.clone());
        let catalogue = Arc::clone(&self.catalogue);
        let beginning = Beginning::now(TransferKind::Verify, &about, total);
        Ok(self.transfers.begin(beginning, move |handle| async move {
            let (reading, reader) = (handle.clone(), Arc::clone(&store));
            let all = wanted.clone();
            let read = off_thread(move || read_again(&reader, all, &reading)).await?;
            let mut doubtful: BTreeSet<VariantName> =
                read.foreign.iter().map(|(name, _)| name.clone()).collect();
            let bad: Vec<_> = read.bad.iter().map(|(manifest, ..)| manifest.name.clone()).collect();
            let result = repaired(&pulling, read, &handle).await;
            if result.is_err() {
                doubtful.extend(bad);
            }
            let good = wanted.iter().filter(|manifest| !doubtful.contains(&manifest.name));
            let recorded = record(&store, &catalogue, good).await;
            result.and_then(|result| recorded.map(|()| result))
        }))
    }

    /// Returns the disk usage of the depot.
    pub(crate) async fn usage(&self) -> Result<DepotUsage, Problem> {
        let (store, catalogue) = (Arc::clone(&self.store), Arc::clone(&self.catalogue));
        let folder = self.folder.display().to_string();
        off_thread(move || {
            let usage = store.usage().map_err(|error| store_problem(&error))?;
            let mut variants: Vec<VariantUsage> = catalogue
                .listed()
                .iter()
                .map(|found| {
                    let stored = usage.variants.get(&found.name).filter(|_| found.stored);
                    let (bytes, frees) = stored.copied().unwrap_or((found.stamp.bytes, 0));
                    VariantUsage {
                        name: found.name.to_string(),
                        bytes,
                        stored: found.stored,
                        frees,
                    }
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
            let found =
                find_models(&folder, &HeaderHelper).map_err(|error| depot_problem(&error))?;
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
        let (store, name, stored) =
            (Arc::clone(&self.store), registered.name.clone(), registered.stored);
        let work = off_thread(move || {
            if !stored {
                return Ok(0);
            }
            let freed = if only_ask { store.would_free(&name) } else { store.remove(&name) };
            match freed {
                // The files are gone already: there is nothing more to remove.
                Err(StoreError::NoVariant(_)) => Ok(0),
                other => other.map_err(|error| store_problem(&error)),
            }
        });
        let frees = match only_ask {
            true => work.await?,
            false => self.catalogue.forget_with(registered, work).await?,
        };
        Ok(Removal { name: registered.name.to_string(), stored, frees })
    }

    /// Gives a variant another name.
    pub(crate) async fn rename(
        &self,
        registered: &Registered,
        name: &str,
    ) -> Result<Arc<Registered>, Problem> {
        self.fleet.refuse_while_loaded(&registered.name.to_string())?;
        let to = VariantName::given(name, &registered.name.variant)
            .map_err(|error| crate::depot::catalogue::name_problem(&error))?;
        self.catalogue.refuse_unusable(&to)?;
        if self.catalogue.by_name(&to).is_some() {
            let detail = format!("`{to}` is already in the depot");
            return Err(name_taken(detail, "use another name".to_owned()));
        }
        let mut path = registered.path.clone();
        if registered.stored {
            let file = path.file_name().unwrap_or_default().to_string_lossy().into_owned();
            path = self.store.path(&to, &file);
            self.move_files(&registered.name, &to).await?;
        }
        match self.catalogue.rename(registered, &to, &path).await {
            Err(problem) if registered.stored => {
                // Files and record have the same name, whatever happens.
                if let Err(stays) = self.move_files(&to, &registered.name).await {
                    tracing::error!("`{to}` cannot be renamed back: {}", stays.detail);
                }
                Err(problem)
            }
            renamed => renamed,
        }
    }

    async fn move_files(&self, from: &VariantName, to: &VariantName) -> Result<(), Problem> {
        let (store, from, to) = (Arc::clone(&self.store), from.clone(), to.clone());
        off_thread(move || store.rename(&from, &to).map_err(|error| store_problem(&error))).await
    }

    /// Files and records that are not understood.
    pub(crate) async fn not_understood(&self) -> Result<Vec<NotUnderstood>, Problem> {
        let store = Arc::clone(&self.store);
        let read = off_thread(move || store.not_understood().map_err(|e| store_problem(&e)));
        let files = read.await?.into_iter().map(|model| NotUnderstood {
            name: model.name,
            place: model.folder.display().to_string(),
            why: model.why,
            bytes: model.bytes,
        });
        let records = self.catalogue.unread().iter().map(|row| NotUnderstood {
            name: row.name.to_string(),
            place: row.path.display().to_string(),
            why: row.why.clone(),
            bytes: row.path.metadata().map_or(0, |found| found.len()),
        });
        Ok(files.chain(records).collect())
    }

    /// Reconciles records and files, whichever was lost. What is not understood is neither
    /// forgotten nor recorded.
    pub(crate) async fn reconcile(&self) -> Result<(), Problem> {
        let store = Arc::clone(&self.store);
        let there = off_thread(move || {
            let there = store.variants().map_err(|error| store_problem(&error))?;
            let aside = store.not_understood().map_err(|error| store_problem(&error))?;
            Ok((there, aside))
        });
        let (there, aside) = there.await?;
        for registered in self.catalogue.all().iter().filter(|found| found.stored) {
            let name = &registered.name;
            if let Some(manifest) = there.iter().find(|manifest| manifest.name == *name) {
                // The data directory was moved.
                let path = self.store.path(name, &manifest.files[0].name);
                if path != registered.path {
                    self.catalogue.rename(registered, name, &path).await?;
                }
                continue;
            }
            if aside.iter().any(|model| model.name == name.to_string()) {
                tracing::warn!("`{name}` cannot be used: its files cannot be read");
                continue;
            }
            // A rename was interrupted before it was recorded.
            let moved = there.iter().find(|manifest| manifest.id == Some(registered.id));
            let moved = moved.filter(|manifest| self.catalogue.by_name(&manifest.name).is_none());
            match moved {
                Some(manifest) => {
                    let path = self.store.path(&manifest.name, &manifest.files[0].name);
                    tracing::info!("renamed `{name}` to `{}`", manifest.name);
                    self.catalogue.rename(registered, &manifest.name, &path).await?;
                }
                None => {
                    tracing::warn!("removed `{name}` from the records: its files no longer exist");
                    self.catalogue.forget(registered).await?;
                }
            }
        }
        for manifest in there {
            if self.catalogue.by_name(&manifest.name).is_some() {
                continue;
            }
            if let Err(problem) = find_again(&self.store, &self.catalogue, &manifest).await {
                tracing::warn!("`{}`: {}", manifest.name, problem.detail);
            }
        }
        Ok(())
    }
}

/// Brings the records of variants up to date whose files are good.
async fn record(
    store: &Store,
    catalogue: &Catalogue,
    good: impl Iterator<Item = &Manifest>,
) -> Result<(), Problem> {
    for manifest in good {
        // It may have been renamed or removed meanwhile.
        match (catalogue.by_name(&manifest.name), store.variant(&manifest.name)) {
            (Some(_), _) => catalogue.renew(&manifest.name).await?,
            (None, Some(manifest)) => find_again(store, catalogue, &manifest).await?,
            (None, None) => {}
        }
    }
    Ok(())
}

/// Records a variant whose files are there and whose record is not.
async fn find_again(
    store: &Store,
    catalogue: &Catalogue,
    manifest: &Manifest,
) -> Result<(), Problem> {
    let Some(first) = manifest.files.first() else {
        return Ok(());
    };
    let path = store.path(&manifest.name, &first.name);
    let template = manifest.template().map(|file| store.path(&manifest.name, &file.name));
    let template = template.map(|path| deft_depot::open_stored_template(&path));
    let template = template.transpose().map_err(|error| depot_problem(&error))?;
    let given = Given { template, defaults: manifest.defaults.clone() };
    let found = catalogue.keep(&path, &manifest.name, manifest.id, given).await?;
    tracing::info!("found `{}` in the depot again", found.name);
    Ok(())
}

/// Whether an operator's word means a variant.
fn means(word: &str, name: &VariantName) -> bool {
    word == name.model || word == name.to_string()
}

/// What reading everything again found.
struct ReadAgain {
    well: usize,
    bad: Vec<(Manifest, StoredFile, &'static str)>,
    /// Variants with good content, each with a file of other content in the place of the variant's own.
    foreign: Vec<(VariantName, PathBuf)>,
}

fn read_again(store: &Store, wanted: Vec<Manifest>, handle: &Handle) -> Result<ReadAgain, Problem> {
    let mut read = ReadAgain { well: 0, bad: Vec::new(), foreign: Vec::new() };
    for manifest in wanted {
        for file in &manifest.files {
            handle.begin_file(&file.name);
            let mut progress = |bytes| handle.advance(bytes);
            let health =
                store.verify(file, &mut progress).map_err(|error| store_problem(&error))?;
            let what = match health {
                Health::Well => {
                    // Restored without its links, the content verified and the file used would be two.
                    let relinked = store.relink(&manifest.name, file, &mut |_| handle.advance(0));
                    match relinked.map_err(|error| store_problem(&error))? {
                        Relinked::Same => read.well += 1,
                        Relinked::Other => {
                            let path = store.path(&manifest.name, &file.name);
                            read.foreign.push((manifest.name.clone(), path));
                        }
                    }
                    continue;
                }
                Health::Missing => "does not exist",
                Health::Changed { .. } => "has changed since it was imported",
            };
            read.bad.push((manifest.clone(), file.clone(), what));
        }
    }
    Ok(read)
}

/// Pulls damaged content again, if its source is known.
async fn repaired(
    pulling: &Pulling,
    mut read: ReadAgain,
    handle: &Handle,
) -> Result<String, Problem> {
    let mut left = Vec::new();
    let mut mended: BTreeMap<_, Vec<VariantName>> = BTreeMap::new();
    for (manifest, file, what) in &read.bad {
        if mended.contains_key(&file.sha256) {
            continue;
        }
        handle.begin_file(&file.name);
        match pulling.repair(manifest, file.sha256, handle).await {
            Ok(names) => drop(mended.insert(file.sha256, names)),
            Err(why) => {
                left.push(format!("`{}`: {} {what}; {}", manifest.name, file.name, why.detail));
            }
        }
    }
    // What another variant's source gave is mended for all that share it.
    let mut count = 0;
    for (manifest, file, _) in &read.bad {
        match mended.get(&file.sha256) {
            Some(names) if names.contains(&manifest.name) => count += 1,
            // In the place of its own file there is another one.
            Some(_) => {
                let path = pulling.store.path(&manifest.name, &file.name);
                read.foreign.push((manifest.name.clone(), path));
            }
            None => {}
        }
    }
    if count == read.bad.len() && read.foreign.is_empty() {
        let files = if read.well == 1 { "file" } else { "files" };
        let well = format!("{} {files} verified", read.well);
        return Ok(match count {
            0 => well,
            count => format!("{well}, {count} pulled again"),
        });
    }
    let mut ways = Vec::new();
    if !left.is_empty() {
        ways.push("remove it and import it again: deft depot remove MODEL");
    }
    if !read.foreign.is_empty() {
        ways.push("move the other file away, and verify again: deft depot verify MODEL");
    }
    left.extend(read.foreign.iter().map(|(name, path)| {
        format!(
            "`{}` has other content than `{name}`; it was left unchanged and is not used",
            path.display()
        )
    }));
    Err(Problem::new(ProblemKind::Fault, "content_changed", left.join("; "))
        .with_way_out(ways.join("; ")))
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
