//! The depot's entries in memory: calls find their model here, whether or not the database answers.

use std::collections::BTreeSet;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::{Duration, Instant};

use chrono::Utc;
use deft_depot::headers::HeaderReader;
use deft_depot::{Examined, NameError, VariantName, most_alike};
use deft_protocol::{Problem, ProblemKind};
use parking_lot::RwLock;
use sqlx::PgPool;
use uuid::Uuid;

use crate::database::in_time;
use crate::depot::header_process::HeaderHelper;
use crate::records::variants::{self, Given, Registered, Storage, UnreadRow};
use crate::wire;

/// Longest time that a temporary variant waits for its instance.
const LONGEST_TEMPORARY: Duration = Duration::from_secs(600);

/// The registered variants, the oldest first.
pub(crate) struct Catalogue {
    database: PgPool,
    node: Uuid,
    variants: RwLock<Vec<Arc<Registered>>>,
    /// Rows that this version does not understand.
    unread: Vec<UnreadRow>,
    /// Names of profiles: callers find these first, so that no model gets one.
    of_profiles: RwLock<BTreeSet<String>>,
    /// Where headers are read.
    reader: &'static dyn HeaderReader,
}

pub(crate) fn database_problem(error: &sqlx::Error) -> Problem {
    let (kind, code, what) = match error {
        sqlx::Error::Database(_) => {
            (ProblemKind::Fault, "records_refused", "the records database refuses the statement")
        }
        sqlx::Error::Decode(_)
        | sqlx::Error::ColumnDecode { .. }
        | sqlx::Error::ColumnNotFound(_)
        | sqlx::Error::RowNotFound => {
            (ProblemKind::Fault, "record_unreadable", "a record cannot be read")
        }
        _ => (ProblemKind::Down, "database_down", "the records database does not answer"),
    };
    Problem::new(kind, code, format!("{what}: {error}"))
        .with_way_out("loaded models still answer; read the log: deft service logs")
}

pub(crate) fn name_problem(error: &NameError) -> Problem {
    Problem::new(ProblemKind::Invalid, "name_unusable", error.to_string())
}

impl Catalogue {
    pub(crate) async fn open(database: PgPool, node: Uuid) -> sqlx::Result<Self> {
        let (all, unread) = variants::all(&database, node).await?;
        for UnreadRow { name, why, .. } in &unread {
            tracing::warn!("`{name}` was left unchanged: {why}");
        }
        let variants = RwLock::new(all.into_iter().map(Arc::new).collect());
        let of_profiles = RwLock::default();
        Ok(Self { database, node, variants, unread, of_profiles, reader: &HeaderHelper })
    }

    /// Rows that this version does not understand; they stay as they are.
    pub(crate) fn unread(&self) -> &[UnreadRow] {
        &self.unread
    }

    /// Keeps the names of profiles from models.
    pub(crate) fn set_profiles(&self, names: BTreeSet<String>) {
        *self.of_profiles.write() = names;
    }

    /// Refuses a name for a model that a profile has, or a row that is not understood: calls would
    /// not reach the model, or the row would be overwritten.
    pub(crate) fn refuse_unusable(&self, name: &VariantName) -> Result<(), Problem> {
        if self.of_profiles.read().contains(&name.model) {
            let detail = format!("`{}` is the name of a profile", name.model);
            let way_out = format!(
                "use another name, or remove the profile first: deft profile remove {}",
                name.model
            );
            return Err(wire::name_taken(detail, way_out));
        }
        let Some(row) = self.unread.iter().find(|row| row.name == *name) else {
            return Ok(());
        };
        let detail = format!("`{name}` exists and cannot be read ({})", row.why);
        Err(Problem::new(ProblemKind::Refused, "not_understood", detail)
            .with_way_out("run the version that recorded it, or use another name"))
    }

    pub(crate) fn all(&self) -> Vec<Arc<Registered>> {
        self.variants.read().clone()
    }

    /// Those that are not temporary.
    pub(crate) fn listed(&self) -> Vec<Arc<Registered>> {
        self.all().into_iter().filter(|found| !found.is_temporary).collect()
    }

    pub(crate) fn by_id(&self, id: Uuid) -> Option<Arc<Registered>> {
        self.all().into_iter().find(|registered| registered.id == id)
    }

    /// The variant that a name means: a model's name alone means a variant of it that `is_loaded`,
    /// else the one registered first of those that can serve something, else the one registered first.
    pub(crate) fn resolve(
        &self,
        name: &str,
        is_loaded: impl Fn(Uuid) -> bool,
    ) -> Result<Arc<Registered>, Problem> {
        let all = self.all();
        let exact = all.iter().find(|found| found.name.to_string() == name);
        let of_model = || all.iter().filter(|found| found.name.model == name);
        let found = exact
            .or_else(|| of_model().find(|found| is_loaded(found.id)))
            .or_else(|| of_model().find(|found| !found.facts.serves.is_empty()))
            .or_else(|| of_model().next());
        found.cloned().ok_or_else(|| not_found(name, &all))
    }

    pub(crate) fn by_name(&self, name: &VariantName) -> Option<Arc<Registered>> {
        self.all().into_iter().find(|registered| registered.name == *name)
    }

    /// Examines a file and registers it.
    pub(crate) async fn register(
        &self,
        path: &Path,
        name: Option<&str>,
    ) -> Result<Arc<Registered>, Problem> {
        // Its settings stay.
        let known = self.all().into_iter().find(|known| known.path == path);
        let given = known.map(|known| known.given.clone()).unwrap_or_default();
        self.record(path, name, Storage::Registered, given).await
    }

    /// Looks at a file that is to be there for the time of a call only. A file that is known already is
    /// what it is known as.
    pub(crate) async fn register_temporarily(
        &self,
        path: &Path,
    ) -> Result<Arc<Registered>, Problem> {
        let known = |all: Vec<Arc<Registered>>| all.into_iter().find(|found| found.path == path);
        if let Some(known) = known(self.listed()).or_else(|| known(self.all())) {
            return Ok(known);
        }
        let examined = examine(path, None, false, self.reader).await?;
        let quantisation = &examined.facts.quantisation;
        let mut name =
            VariantName::from_file(path, quantisation).map_err(|error| name_problem(&error))?;
        while self.by_name(&name).is_some() {
            name.variant.push_str("-temporary");
        }
        let registered = Arc::new(Registered {
            id: Uuid::now_v7(),
            name,
            path: path.to_owned(),
            stamp: examined.stamp,
            facts: examined.facts,
            registered_at: Utc::now(),
            since: Instant::now(),
            stored: false,
            is_temporary: true,
            given: Given::default(),
        });
        self.put(&registered);
        Ok(registered)
    }

    /// Forgets temporary variants that are no longer needed: they had an instance, or never got one for long.
    pub(crate) fn forget_temporary(&self, loaded: &BTreeSet<String>, seen: &mut BTreeSet<Uuid>) {
        let mut variants = self.variants.write();
        variants.retain(|found| {
            if !found.is_temporary {
                return true;
            }
            if loaded.contains(&found.name.to_string()) {
                seen.insert(found.id);
                return true;
            }
            !seen.remove(&found.id) && found.since.elapsed() < LONGEST_TEMPORARY
        });
    }

    /// Records a variant whose files are the depot's own, with the id that they have there.
    pub(crate) async fn keep(
        &self,
        path: &Path,
        name: &VariantName,
        id: Option<Uuid>,
        given: Given,
    ) -> Result<Arc<Registered>, Problem> {
        self.record(path, Some(&name.to_string()), Storage::Stored(id), given).await
    }

    /// Brings the record of a stored variant up to date with its files, which are good but others to the
    /// operating system, as after a restore.
    pub(crate) async fn renew(&self, name: &VariantName) -> Result<(), Problem> {
        let Some(known) = self.by_name(name) else {
            return Ok(());
        };
        let template = known.given.template.clone();
        let now = examine(&known.path, template, known.stored, self.reader).await?;
        if now.stamp == known.stamp {
            return Ok(());
        }
        self.keep(&known.path, name, Some(known.id), known.given.clone()).await?;
        Ok(())
    }

    /// Removes a variant from the records; its files are not touched.
    pub(crate) async fn forget(&self, registered: &Registered) -> Result<(), Problem> {
        self.forget_with(registered, async { Ok(()) }).await
    }

    /// Forgets a variant together with its files, which `remove` removes: where they cannot be removed,
    /// nothing is forgotten.
    pub(crate) async fn forget_with<T>(
        &self,
        registered: &Registered,
        remove: impl Future<Output = Result<T, Problem>>,
    ) -> Result<T, Problem> {
        let down = |error: sqlx::Error| database_problem(&error);
        let mut change = in_time(self.database.begin()).await.map_err(down)?;
        variants::remove(&mut *change, registered.id).await.map_err(down)?;
        let removed = remove.await?;
        // Without its files it is nothing: where this is not recorded the next start does it.
        if let Err(error) = in_time(change.commit()).await {
            tracing::error!("`{}` was removed, but not from the records: {error}", registered.name);
        }
        let mut variants = self.variants.write();
        variants.retain(|found| found.id != registered.id);
        Ok(removed)
    }

    /// Gives a variant another name, and the path that its file has then.
    pub(crate) async fn rename(
        &self,
        registered: &Registered,
        name: &VariantName,
        path: &Path,
    ) -> Result<Arc<Registered>, Problem> {
        let renamed = Arc::new(Registered {
            name: name.clone(),
            path: path.to_owned(),
            ..registered.clone()
        });
        let place = path.to_string_lossy();
        let stored = variants::rename(&self.database, registered.id, name, &place);
        stored.await.map_err(|error| database_problem(&error))?;
        self.put(&renamed);
        Ok(renamed)
    }

    async fn record(
        &self,
        path: &Path,
        name: Option<&str>,
        storage: Storage,
        given: Given,
    ) -> Result<Arc<Registered>, Problem> {
        let is_stored = matches!(storage, Storage::Stored(_));
        let examined = examine(path, given.template.clone(), is_stored, self.reader).await?;
        let quantisation = &examined.facts.quantisation;
        let name = match name {
            Some(given) => VariantName::given(given, quantisation),
            None => VariantName::from_file(path, quantisation),
        };
        let name = name.map_err(|error| name_problem(&error))?;
        self.refuse_unusable(&name)?;
        let place = path.to_str().ok_or_else(|| {
            Problem::new(ProblemKind::Invalid, "path_not_utf8", "the file's path is not UTF-8")
        })?;
        let stored =
            variants::store(&self.database, self.node, &name, place, &examined, storage, &given)
                .await
                .map_err(|error| database_problem(&error))?;
        let registered = Arc::new(stored.ok_or_else(|| {
            let detail = format!("`{name}` is already registered, for another file");
            let way_out = format!(
                "register it with another name: deft depot register {place} --as {}/other",
                name.model
            );
            wire::name_taken(detail, way_out)
        })?);
        self.put(&registered);
        Ok(registered)
    }

    fn put(&self, registered: &Arc<Registered>) {
        let mut variants = self.variants.write();
        match variants.iter_mut().find(|found| found.id == registered.id) {
            Some(found) => *found = Arc::clone(registered),
            None => variants.push(Arc::clone(registered)),
        }
    }
}

/// What a file is, read off the threads that serve.
async fn examine(
    path: &Path,
    template: Option<String>,
    is_stored: bool,
    reader: &'static dyn HeaderReader,
) -> Result<Examined, Problem> {
    let file = absolute(path)?;
    off_thread(move || {
        let examined = match is_stored {
            true => deft_depot::examine_stored(&file, template.as_deref(), reader),
            false => deft_depot::examine_with(&file, template.as_deref(), reader),
        };
        examined.map_err(|error| wire::depot_problem(&error))
    })
    .await
}

/// Runs what waits for the disk off the threads that serve.
pub(crate) async fn off_thread<T: Send + 'static>(
    work: impl FnOnce() -> Result<T, Problem> + Send + 'static,
) -> Result<T, Problem> {
    let done = tokio::task::spawn_blocking(work).await;
    done.unwrap_or_else(|error| Err(Problem::new(ProblemKind::Fault, "fault", error.to_string())))
}

/// A path that means the same for the service as for the sender: an absolute one.
pub(crate) fn absolute(path: impl Into<PathBuf>) -> Result<PathBuf, Problem> {
    let path = path.into();
    if path.is_absolute() {
        return Ok(path);
    }
    let detail = format!("`{}` is not an absolute path", path.display());
    Err(Problem::new(ProblemKind::Invalid, "path_relative", detail))
}

fn not_found(name: &str, all: &[Arc<Registered>]) -> Problem {
    let names = all.iter().flat_map(|found| [found.name.to_string(), found.name.model.clone()]);
    let way_out = match most_alike(name, names.map(|known| (known.clone(), known))) {
        Some(nearest) => format!("did you mean `{nearest}`? List all models: deft depot list"),
        None if all.is_empty() => "register one: deft depot register FILE".to_owned(),
        None => "list all models: deft depot list".to_owned(),
    };
    let detail = format!("no model `{name}` in the depot");
    Problem::new(ProblemKind::Missing, "no_model", detail).with_way_out(way_out)
}

#[cfg(test)]
mod tests {
    use deft_depot::FileStamp;
    use deft_protocol::manage::ModelFacts;
    use serde_json::json;

    use super::*;

    fn facts() -> ModelFacts {
        serde_json::from_value(json!({
            "family": "llama", "name": null, "parameters": 5, "mix": [], "quantisation": "q8_0",
            "context_length": 64, "layers": 1, "heads": 2, "kv_heads": 1, "width": 16,
            "vocabulary": 300, "tokenizer": "sentencepiece", "has_template": false,
            "licence": null, "description": null,
        }))
        .unwrap_or_else(|error| panic!("{error}"))
    }

    /// A catalogue whose database is never asked.
    fn catalogue(names: &[&str]) -> Catalogue {
        let database = sqlx::postgres::PgPoolOptions::new()
            .connect_lazy("postgres://nobody@127.0.0.1:1/none")
            .unwrap_or_else(|error| panic!("{error}"));
        let registered = names.iter().map(|name| {
            Arc::new(Registered {
                id: Uuid::now_v7(),
                name: name.parse().unwrap_or_else(|error| panic!("{error}")),
                path: format!("/depot/{name}.gguf").into(),
                stamp: FileStamp { bytes: 1, modified_ns: 1, inode: 1 },
                facts: facts(),
                registered_at: Utc::now(),
                since: Instant::now(),
                stored: false,
                is_temporary: false,
                given: Given::default(),
            })
        });
        let variants = RwLock::new(registered.collect());
        let reader = &deft_depot::headers::InThisProcess;
        Catalogue {
            database,
            node: Uuid::nil(),
            variants,
            unread: Vec::new(),
            of_profiles: RwLock::default(),
            reader,
        }
    }

    #[tokio::test]
    async fn a_models_name_means_its_loaded_variant_or_the_first() {
        let catalogue = catalogue(&["desk/q8_0", "desk/f16", "mini/q8_0"]);
        let name = |wanted: &str, loaded: &str| {
            let id =
                catalogue.all().iter().find(|found| found.name.to_string() == loaded).map(|f| f.id);
            catalogue
                .resolve(wanted, |variant| Some(variant) == id)
                .map(|found| found.name.to_string())
        };
        assert_eq!(name("desk", "none").unwrap(), "desk/q8_0");
        assert_eq!(name("desk", "desk/f16").unwrap(), "desk/f16");
        assert_eq!(name("desk/q8_0", "desk/f16").unwrap(), "desk/q8_0");
        assert_eq!(name("mini", "desk/f16").unwrap(), "mini/q8_0");
    }

    #[tokio::test]
    async fn a_name_that_is_not_there_gets_the_nearest_one() {
        let way_out = |catalogue: &Catalogue, name: &str| {
            let problem = catalogue.resolve(name, |_| false).unwrap_err();
            assert_eq!(problem.kind, ProblemKind::Missing);
            problem.way_out.unwrap_or_default()
        };
        let some = catalogue(&["larkfen-desk/q8_0", "mini/q8_0"]);
        assert!(way_out(&some, "larkfen-dsk").contains("did you mean `larkfen-desk`?"));
        assert!(way_out(&some, "larkfen-desk/q4_0").contains("`larkfen-desk/q8_0`"));
        assert_eq!(way_out(&some, "zzz"), "list all models: deft depot list");
        assert!(way_out(&catalogue(&[]), "desk").contains("deft depot register FILE"));
    }

    #[tokio::test]
    async fn a_passing_file_is_forgotten_when_its_last_instance_has_gone() {
        let catalogue = catalogue(&["desk/q8_0"]);
        let file = Path::new(env!("CARGO_MANIFEST_DIR"))
            .join("../../demo/larkfen-desk/larkfen-desk-q8_0.gguf");
        let temporary = catalogue.register_temporarily(&file).await.unwrap();
        assert_eq!(
            catalogue.register_temporarily(&file).await.unwrap().id,
            temporary.id,
            "once is enough"
        );
        assert_eq!((catalogue.all().len(), catalogue.listed().len()), (2, 1));
        let loaded = BTreeSet::from([temporary.name.to_string()]);
        let (none, mut seen) = (BTreeSet::new(), BTreeSet::new());
        catalogue.forget_temporary(&none, &mut seen);
        assert_eq!(catalogue.all().len(), 2, "it waits for its instance");
        catalogue.forget_temporary(&loaded, &mut seen);
        catalogue.forget_temporary(&none, &mut seen);
        assert_eq!(catalogue.all().len(), 1, "it has gone");
    }

    #[tokio::test]
    async fn a_path_that_is_not_absolute_is_refused_before_anything_is_read() {
        let problem = catalogue(&[]).register(Path::new("desk.gguf"), None).await.unwrap_err();
        assert_eq!(problem.code, "path_relative");
    }
}
