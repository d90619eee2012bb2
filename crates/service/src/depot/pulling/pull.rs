//! Pulling a model: from its reference to a variant of the depot.

use std::path::PathBuf;
use std::sync::Arc;

use deft_depot::{
    Content, Digest, Manifest, NamedFile, Offer, OfferedFile, Origin, RateLimit, RemoteError,
    Store, StoredFile, Taken, Taking, VariantName, Wanted, Watching,
};
use deft_protocol::manage::{FileProgress, PullRequest, Transfer, TransferKind};
use deft_protocol::{Problem, ProblemKind};
use futures_util::{FutureExt, StreamExt, TryStreamExt, stream};

use super::{Named, Pulling};
use crate::config::parse_rate;
use crate::depot::catalogue::off_thread;
use crate::depot::transfers::{Beginning, Handle};
use crate::records::variants::Given;
use crate::wire::{name_taken, remote_problem, source_problem, store_problem};

/// Number of files of a variant that are pulled in parallel.
const AT_ONCE: usize = 3;
/// Most times that the addresses of files are resolved again, because some are valid for a limited time only.
const MOST_RESOLUTIONS: u32 = 3;

/// For each file without an announced digest, a mark that changes with its content (for instance an entity tag).
type Marks = Vec<Option<String>>;

/// Files that have been pulled, with their marks.
struct Fetched {
    taken: Vec<Taken>,
    marks: Marks,
}

/// What a pull has to do.
enum Aim {
    /// Nothing: the depot has the offered state.
    Here,
    /// Store a new variant.
    New,
    /// Replace a stored variant by another state of it.
    Other,
}

impl Pulling {
    /// Begins a pull. If the same pull is running, returns that one.
    pub(crate) fn pull(&self, request: &PullRequest) -> Result<Transfer, Problem> {
        // Without the parts of an address that may be secret, because it is recorded.
        let shown = self.named(&request.reference)?.reference.to_string();
        rate_limit(request)?;
        let same = |other: &PullRequest| other.reference == shown && other.name == request.name;
        if let Some(going_on) = self.transfers.going_on(same) {
            return Ok(going_on);
        }
        let recorded = PullRequest { reference: shown.clone(), ..request.clone() };
        let written = serde_json::to_value(recorded).unwrap_or_default();
        let beginning = Beginning::now(TransferKind::Pull, &shown, 0);
        Ok(self.begin(Beginning { request: written, ..beginning }, request.clone()))
    }

    fn begin(&self, beginning: Beginning, request: PullRequest) -> Transfer {
        let pulling = self.clone();
        self.transfers.begin(beginning, move |handle| async move {
            let mut begun = Vec::new();
            let done = pulling.fetch(&request, &handle, &mut begun).await;
            if handle.stop().is_cancelled() {
                // The beginning of a cancelled pull is not wanted any more.
                begun.iter().for_each(|wanted| pulling.store.discard(wanted));
            } else if done.is_err() {
                // Reserved space is freed; segments that were verified stay, so that a retry continues there.
                begun.iter().for_each(|wanted| pulling.store.discard_bare(wanted));
            }
            done
        })
    }

    /// Continues the pulls that were running when the service ended.
    pub(crate) async fn go_on(&self) -> sqlx::Result<()> {
        for (transfer, written) in self.transfers.restore().await? {
            let Ok(request) = serde_json::from_value::<PullRequest>(written.clone()) else {
                continue;
            };
            tracing::info!("the pull of `{}` continues", request.reference);
            let beginning = Beginning {
                id: transfer.id,
                kind: transfer.kind,
                about: transfer.about,
                total_bytes: 0,
                began_at: transfer.began_at,
                request: written,
            };
            self.begin(beginning, request);
        }
        Ok(())
    }

    /// Pulls a model. Adds the files that it begins to pull to `begun`.
    async fn fetch(
        &self,
        request: &PullRequest,
        handle: &Handle,
        begun: &mut Vec<Wanted>,
    ) -> Result<String, Problem> {
        handle.stage(Some("looking"));
        let named = self.named(&request.reference)?;
        let mut offer = unless_cancelled(handle, self.resolve(&named)).await?;
        let name = self.name(&named, &offer, request.name.as_deref())?;
        let reference = named.reference.to_string();
        let marks = unless_cancelled(handle, async { Ok(self.marks(&offer).await) }).await?;
        let aim = self.aim(&name, &reference, &offer, &marks)?;
        if matches!(aim, Aim::Here) {
            return Ok(format!("`{name}` is already in the depot and up to date"));
        }
        self.can_be_used(&named, &offer, handle).await?;
        begun.extend(offer.files.iter().filter_map(wanted));
        let rate_limit = rate_limit(request)?.unwrap_or_else(|| self.rate_limit.clone());
        let fetched = self.fetch_files(&named, &mut offer, &rate_limit, handle);
        let taken = unless_cancelled(handle, fetched).await?;
        handle.stage(Some("checking"));
        let origin = Origin { reference, revision: offer.revision.clone() };
        let content = Fetched { taken, marks };
        self.commit(&name, &offer, content, origin, &aim).await
    }

    /// What a pull of an offer under a name has to do.
    fn aim(
        &self,
        name: &VariantName,
        reference: &str,
        offer: &Offer,
        marks: &Marks,
    ) -> Result<Aim, Problem> {
        let taken = |detail: String| {
            let way_out = format!(
                "pull it with another name: deft depot pull {reference} --as {}/other",
                name.model
            );
            name_taken(detail, way_out)
        };
        self.catalogue.refuse_unusable(name)?;
        let Some(kept) = self.store.variant(name) else {
            return match self.catalogue.by_name(name) {
                Some(_) => Err(taken(format!("`{name}` is already registered, for another file"))),
                None => Ok(Aim::New),
            };
        };
        if is_same(&kept, offer, marks) {
            return Ok(Aim::Here);
        }
        let same_origin = kept.origin.as_ref().is_some_and(|origin| origin.reference == reference);
        if !same_origin {
            return Err(taken(format!("`{name}` is already in the depot, from another source")));
        }
        self.fleet.refuse_while_loaded(&name.to_string())?;
        Ok(Aim::Other)
    }

    /// Marks of the files without an announced digest.
    async fn marks(&self, offer: &Offer) -> Marks {
        let mut marks = Vec::new();
        for file in &offer.files {
            marks.push(match file.sha256 {
                Some(_) => None,
                None => self.finder.mark(file).await,
            });
        }
        marks
    }

    /// Refuses a model that cannot be used, before its weights are pulled.
    async fn can_be_used(
        &self,
        named: &Named,
        offer: &Offer,
        handle: &Handle,
    ) -> Result<(), Problem> {
        let look = async { Ok(self.finder.look(offer).await) };
        let looked = unless_cancelled(handle, look).await?;
        match looked.map_err(|error| source_problem(&error, named.source.as_ref())) {
            Ok(_) => Ok(()),
            // These errors may be temporary; the pull itself waits and retries.
            Err(problem) if matches!(problem.kind, ProblemKind::Busy | ProblemKind::Down) => Ok(()),
            Err(problem) => Err(problem),
        }
    }

    async fn fetch_files(
        &self,
        named: &Named,
        offer: &mut Offer,
        rate_limit: &RateLimit,
        handle: &Handle,
    ) -> Result<Vec<Taken>, Problem> {
        let progress = |file: &OfferedFile| FileProgress {
            name: file.name.clone(),
            done_bytes: 0,
            total_bytes: file.bytes.unwrap_or(0),
        };
        handle.works_on(offer.files.iter().map(progress).collect());
        let mut resolutions = 0;
        let problem = |error: &RemoteError| remote_problem(error, named.source.as_ref());
        loop {
            let before = handle.done();
            let fetched = self.fetch_all(&offer.files, rate_limit, handle).await;
            let error = match fetched {
                Ok(taken) => return Ok(taken),
                Err(Trouble::Remote(error)) => error,
                Err(Trouble::Other(problem)) => return Err(problem),
            };
            let is_stale =
                matches!(error, RemoteError::Unauthorized { .. } | RemoteError::Forbidden { .. });
            let went_on = handle.done() > before;
            if !is_stale || !went_on || resolutions == MOST_RESOLUTIONS {
                return Err(problem(&error));
            }
            resolutions += 1;
            let files = self.resolve(named).await?.files;
            if files.len() != offer.files.len() {
                return Err(problem(&error));
            }
            offer.files = files;
            handle.restart_files();
        }
    }

    async fn fetch_all(
        &self,
        files: &[OfferedFile],
        rate_limit: &RateLimit,
        handle: &Handle,
    ) -> Result<Vec<Taken>, Trouble> {
        // Disk space for all files is reserved before the first byte.
        for (at, file) in files.iter().enumerate() {
            if let Some(wanted) = wanted(file) {
                let watching = watching(handle, at);
                let reserved = self.store.reserve(&self.finder.web, &wanted, &watching).await;
                let bytes = reserved.map_err(Trouble::Remote)?;
                handle.measure(at, bytes);
            }
        }
        handle.stage(None);
        let mut each = Vec::new();
        for (at, file) in files.iter().enumerate() {
            each.push(self.fetch_file(at, file, rate_limit, handle).boxed());
        }
        stream::iter(each).buffered(AT_ONCE).try_collect().await
    }

    async fn fetch_file(
        &self,
        at: usize,
        file: &OfferedFile,
        rate_limit: &RateLimit,
        handle: &Handle,
    ) -> Result<Taken, Trouble> {
        let store = Arc::clone(&self.store);
        match (&file.content, wanted(file)) {
            (_, Some(wanted)) => {
                let watching = watching(handle, at);
                let fetched = store.fetch(&self.finder.web, &wanted, rate_limit, &watching);
                fetched.await.map_err(Trouble::Remote)
            }
            (Content::Git(blob), None) => {
                let target = store.new_incoming();
                let advance = |bytes| handle.advance_file(at, bytes);
                let written = blob.write(&target, &advance).await;
                if let Err(error) = written {
                    let _ = std::fs::remove_file(&target);
                    return Err(Trouble::Other(source_problem(&error, None)));
                }
                take(store, target, Taking::Move, None).await
            }
            (Content::Here(path), None) => {
                let progress = Some((handle.clone(), at));
                take(store, path.clone(), Taking::Copy, progress).await
            }
            (Content::Web(_), None) => unreachable!("a file at an address has a request"),
        }
    }

    async fn commit(
        &self,
        name: &VariantName,
        offer: &Offer,
        content: Fetched,
        origin: Origin,
        aim: &Aim,
    ) -> Result<String, Problem> {
        let Fetched { taken, marks } = content;
        let stored = offer.files.iter().zip(&taken).zip(marks);
        let file = |((file, taken), mark): ((&OfferedFile, &Taken), Option<String>)| StoredFile {
            role: file.role,
            name: file.name.clone(),
            bytes: taken.bytes,
            sha256: taken.sha256,
            mark,
        };
        let files: Vec<StoredFile> = stored.map(file).collect();
        let manifest = Manifest::new(name.clone(), files).fetched_from(origin);
        let (store, is_new) = (Arc::clone(&self.store), matches!(aim, Aim::New));
        let path = self.store.path(name, &manifest.files[0].name);
        let id = manifest.id;
        off_thread(move || {
            let stored = if is_new { store.commit(&manifest) } else { store.replace(&manifest) };
            // Until the variant is stored, `taken` protects its content from being removed.
            drop(taken);
            stored.map_err(|error| store_problem(&error))
        })
        .await?;
        if let Some(before) = self.catalogue.by_name(name).filter(|before| before.path != path) {
            self.catalogue.forget(&before).await?;
        }
        match self.catalogue.keep(&path, name, id, Given::default()).await {
            Ok(registered) if is_new => Ok(format!("stored as `{}`", registered.name)),
            Ok(registered) => Ok(format!("updated `{}`", registered.name)),
            Err(problem) => {
                let (store, name) = (Arc::clone(&self.store), name.clone());
                if problem.kind != ProblemKind::Down {
                    // The catalogue refuses it, so it is not a usable model.
                    off_thread(move || store.remove(&name).map_err(|e| store_problem(&e))).await?;
                }
                Err(problem)
            }
        }
    }

    /// Pulls damaged or missing content again, from the source of its variant. Returns the variants that have it now.
    pub(crate) async fn repair(
        &self,
        manifest: &Manifest,
        sha256: Digest,
        handle: &Handle,
    ) -> Result<Vec<VariantName>, Problem> {
        let detail = |why: &str| {
            let detail = format!("`{}`: {why}", manifest.name);
            Problem::new(ProblemKind::Refused, "not_repaired", detail)
        };
        let origin = manifest.origin.as_ref();
        let origin = origin.ok_or_else(|| detail("its source is not known"))?;
        let named = self.named(&origin.reference)?;
        let offer = unless_cancelled(handle, self.resolve(&named)).await?;
        let file = offer.files.iter().find(|file| file.sha256 == Some(sha256));
        let file = file.ok_or_else(|| detail("its source now offers other files"))?;
        self.store.give_up(&sha256).map_err(|error| store_problem(&error))?;
        let fetched = async { Ok(self.fetch_file(0, file, &self.rate_limit, handle).await) };
        let taken = unless_cancelled(handle, fetched).await;
        let taken = taken.map_err(Trouble::Other).and_then(|fetched| fetched);
        let taken = taken.map_err(|trouble| {
            // The damaged content is restored: it is better than none.
            let _ = self.store.take_back(&sha256);
            match trouble {
                Trouble::Remote(error) => remote_problem(&error, named.source.as_ref()),
                Trouble::Other(problem) => problem,
            }
        })?;
        let store = Arc::clone(&self.store);
        let healed = off_thread(move || {
            let healed = store.heal(&sha256).map_err(|error| store_problem(&error));
            drop(taken);
            healed
        });
        let healed = healed.await?;
        for name in &healed {
            self.catalogue.renew(name).await?;
        }
        Ok(healed)
    }
}

/// Runs some work, which may stop at any await, until it ends or its transfer is cancelled.
async fn unless_cancelled<T>(
    handle: &Handle,
    work: impl Future<Output = Result<T, Problem>>,
) -> Result<T, Problem> {
    let stop = handle.stop();
    tokio::select! {
        biased;
        () = stop.cancelled() => Err(crate::depot::transfers::cancelled()),
        done = work => done,
    }
}

/// The rate limit of a request, if it names one.
fn rate_limit(request: &PullRequest) -> Result<Option<RateLimit>, Problem> {
    let limit = request.limit.as_deref().map(|text| {
        parse_rate(text).map(RateLimit::limited).ok_or_else(|| {
            let detail = format!("`{text}` is not a rate; write an amount such as `20 MiB/s`");
            Problem::new(ProblemKind::Invalid, "rate_unusable", detail)
        })
    });
    limit.transpose()
}

/// Why a file was not pulled.
enum Trouble {
    Remote(RemoteError),
    Other(Problem),
}

/// The request for a file, if the file is at an address.
fn wanted(file: &OfferedFile) -> Option<Wanted> {
    let Content::Web(address) = &file.content else {
        return None;
    };
    let (address, name) = (address.clone(), file.name.clone());
    Some(Wanted { address, name, bytes: file.bytes, sha256: file.sha256 })
}

/// Reports the progress of one file to a handle.
fn watching(handle: &Handle, at: usize) -> Watching {
    let (advance, found, retreat) = (handle.clone(), handle.clone(), handle.clone());
    Watching {
        advance: Arc::new(move |bytes| advance.advance_file(at, bytes)),
        found: Arc::new(move |bytes| found.found(at, bytes)),
        retreat: Arc::new(move |bytes| retreat.retreat(at, bytes)),
        stop: handle.stop(),
    }
}

async fn take(
    store: Arc<Store>,
    path: PathBuf,
    taking: Taking,
    progress: Option<(Handle, usize)>,
) -> Result<Taken, Trouble> {
    off_thread(move || {
        let mut advance = |bytes| {
            use std::ops::ControlFlow::{Break, Continue};
            let Some((handle, at)) = &progress else {
                return Continue(());
            };
            handle.advance_file(*at, bytes);
            if handle.stop().is_cancelled() { Break(()) } else { Continue(()) }
        };
        let file = NamedFile::open(&path).map_err(|error| store_problem(&error.into()))?;
        let taken = store.take(file, taking, &mut advance).map_err(|e| store_problem(&e))?;
        if let Some(source) = &taken.source_to_remove {
            let _ = source.remove();
        }
        Ok(taken)
    })
    .await
    .map_err(Trouble::Other)
}

/// Whether a variant has all files of an offer, and no others.
fn is_same(kept: &Manifest, offer: &Offer, marks: &Marks) -> bool {
    let same = |((stored, offered), mark): ((&StoredFile, &OfferedFile), &Option<String>)| {
        let same_content = match offered.sha256 {
            Some(announced) => announced == stored.sha256,
            None => mark.is_some() && *mark == stored.mark,
        };
        same_content && offered.name == stored.name
    };
    let mut pairs = kept.files.iter().zip(&offer.files).zip(marks);
    kept.files.len() == offer.files.len() && pairs.all(same)
}
