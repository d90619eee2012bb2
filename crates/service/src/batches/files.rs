//! Files of calls and answers in the data directory.

use std::io;
use std::path::{Path, PathBuf};
use std::time::Duration;

use bytes::Bytes;
use deft_protocol::batches::{FILE_PREFIX, FileObject, FilePurpose, id_of};
use deft_protocol::{Problem, ProblemKind};
use futures_util::{Stream, StreamExt};
use sqlx::PgPool;
use tokio::io::AsyncWriteExt;
use tokio::sync::Semaphore;
use uuid::Uuid;

use crate::depot::catalogue::database_problem;
use crate::records::batches::{self, FileRecord};

/// Largest file.
const MAX_FILE: u64 = 200 << 20;
/// Most bytes of all files together; further uploads are refused.
const MOST_BYTES: i64 = 4 << 30;
/// Most files.
const MOST_FILES: i64 = 1000;
/// Most uploads at once.
const UPLOADS: usize = 4;
/// An upload that sends nothing for so long is given up.
const SILENT: Duration = Duration::from_secs(30);
/// Ends the names of files that are being written.
const PART: &str = "part";

/// The files.
pub(crate) struct Files {
    folder: PathBuf,
    database: PgPool,
    node: Uuid,
    uploads: Semaphore,
}

impl Files {
    /// The files in a folder. Uploads that did not end are removed; whatever else is there stays.
    pub(super) fn open(folder: PathBuf, database: PgPool, node: Uuid) -> io::Result<Self> {
        crate::process::private_files::private_folder(&folder, None)?;
        for entry in std::fs::read_dir(&folder)? {
            let path = entry?.path();
            let name = path.file_stem().and_then(|name| name.to_str());
            let is_upload = name.is_some_and(|name| name.strip_prefix("up-").is_some_and(is_id));
            if is_upload && path.extension().is_some_and(|end| end == PART) {
                std::fs::remove_file(path)?;
            }
        }
        Ok(Self { folder, database, node, uploads: Semaphore::new(UPLOADS) })
    }

    /// Where the content of a file is.
    pub(super) fn path(&self, id: Uuid) -> PathBuf {
        self.folder.join(id.simple().to_string())
    }

    /// Where answers are written until their batch has ended.
    pub(super) fn growing(&self, id: Uuid) -> PathBuf {
        self.path(id).with_extension(PART)
    }

    /// Stores an upload.
    ///
    /// # Errors
    /// It is too large, there are too many files, or it cannot be stored.
    pub(crate) async fn receive<E: std::fmt::Display>(
        &self,
        name: &str,
        mut content: impl Stream<Item = Result<Bytes, E>> + Unpin,
    ) -> Result<FileObject, Problem> {
        let _upload = self.uploads.try_acquire().map_err(|_| {
            Problem::new(ProblemKind::Overloaded, "many_uploads", "too many uploads at once")
                .with_way_out("retry in a moment")
        })?;
        self.has_room().await?;
        let id = Uuid::now_v7();
        let incoming = self.folder.join(format!("up-{}", id.simple())).with_extension(PART);
        let written = self.write(&incoming, &mut content).await;
        let bytes = match written {
            Ok(bytes) => bytes,
            Err(problem) => {
                // A start removes it too.
                let _ = tokio::fs::remove_file(&incoming).await;
                return Err(problem);
            }
        };
        tokio::fs::rename(&incoming, self.path(id)).await.map_err(|error| cannot_store(&error))?;
        let record = FileRecord::new(id, shown_name(name), bytes, FilePurpose::Batch);
        if let Err(error) = batches::add_file(&self.database, self.node, &record).await {
            let _ = tokio::fs::remove_file(self.path(id)).await;
            return Err(database_problem(&error));
        }
        Ok(object(&record))
    }

    async fn write<E: std::fmt::Display>(
        &self,
        path: &Path,
        content: &mut (impl Stream<Item = Result<Bytes, E>> + Unpin),
    ) -> Result<u64, Problem> {
        let mut options = tokio::fs::OpenOptions::new();
        let options = options.write(true).create_new(true).mode(0o600);
        let mut file = options.open(path).await.map_err(|error| cannot_store(&error))?;
        let mut bytes = 0;
        while let Some(piece) = tokio::time::timeout(SILENT, content.next())
            .await
            .map_err(|_| broken(&"it is silent"))?
        {
            let piece = piece.map_err(|error| broken(&error))?;
            bytes += piece.len() as u64;
            if bytes > MAX_FILE {
                let detail = format!("the file has more than {} MiB", MAX_FILE >> 20);
                return Err(Problem::new(ProblemKind::Invalid, "file_too_large", detail)
                    .at_field("file")
                    .with_way_out("divide it into several batches"));
            }
            file.write_all(&piece).await.map_err(|error| cannot_store(&error))?;
        }
        file.sync_all().await.map_err(|error| cannot_store(&error))?;
        Ok(bytes)
    }

    async fn has_room(&self) -> Result<(), Problem> {
        let size = batches::size_of_files(&self.database, self.node).await;
        let (count, bytes) = size.map_err(|error| database_problem(&error))?;
        if count < MOST_FILES && bytes < MOST_BYTES {
            return Ok(());
        }
        let detail = format!(
            "there are {count} files with {} MiB; at most {MOST_FILES} with {} MiB are allowed",
            bytes >> 20,
            MOST_BYTES >> 20
        );
        Err(Problem::new(ProblemKind::Refused, "files_full", detail)
            .with_way_out("delete some: DELETE /v1/files/{id}; GET /v1/files lists them"))
    }

    /// Records a file of answers that is in its place.
    pub(super) async fn record(&self, id: Uuid, name: &str, bytes: u64) -> sqlx::Result<()> {
        let record = FileRecord::new(id, shown_name(name), bytes, FilePurpose::BatchOutput);
        batches::add_file(&self.database, self.node, &record).await
    }

    /// The newest files, or the newest before the file `after`; with whether there are more.
    pub(crate) async fn list(
        &self,
        after: Option<Uuid>,
        count: u32,
    ) -> Result<(Vec<FileObject>, bool), Problem> {
        let found = batches::files(&self.database, self.node, after, i64::from(count) + 1).await;
        let mut found = found.map_err(|error| database_problem(&error))?;
        let has_more = found.len() > count as usize;
        found.truncate(count as usize);
        Ok((found.iter().map(object).collect(), has_more))
    }

    /// A file by its id.
    ///
    /// # Errors
    /// There is no such file.
    pub(crate) async fn find(&self, id: &str) -> Result<(Uuid, FileObject), Problem> {
        let number = id_of(FILE_PREFIX, id).ok_or_else(|| no_file(id))?;
        let found = batches::file(&self.database, self.node, number).await;
        let found = found.map_err(|error| database_problem(&error))?;
        found.map(|record| (number, object(&record))).ok_or_else(|| no_file(id))
    }

    /// The content of a file.
    ///
    /// # Errors
    /// There is no such file, or its content is not there any more.
    pub(crate) async fn content(&self, id: &str) -> Result<tokio::fs::File, Problem> {
        let (number, _) = self.find(id).await?;
        tokio::fs::File::open(self.path(number)).await.map_err(|error| {
            let detail = format!("the content of file `{id}` cannot be read: {error}");
            Problem::new(ProblemKind::Fault, "file_unreadable", detail)
        })
    }

    /// Deletes a file with its content.
    ///
    /// # Errors
    /// There is no such file.
    pub(super) async fn remove(&self, id: Uuid) -> Result<(), Problem> {
        batches::remove_file(&self.database, self.node, id)
            .await
            .map_err(|error| database_problem(&error))?;
        match tokio::fs::remove_file(self.path(id)).await {
            Err(error) if error.kind() != io::ErrorKind::NotFound => {
                let detail = format!("the content of the file cannot be deleted: {error}");
                Err(Problem::new(ProblemKind::Fault, "file_not_deleted", detail))
            }
            _ => Ok(()),
        }
    }
}

fn is_id(name: &str) -> bool {
    Uuid::try_parse(name).is_ok()
}

/// A name as it can be shown: short, in one line.
fn shown_name(name: &str) -> String {
    crate::routes::readable(name)
}

fn object(record: &FileRecord) -> FileObject {
    FileObject {
        id: format!("{FILE_PREFIX}{}", record.id.simple()),
        object: "file".to_owned(),
        bytes: u64::try_from(record.bytes).unwrap_or(0),
        created_at: record.created_at.timestamp(),
        filename: record.name.clone(),
        purpose: record.purpose(),
        status: "processed".to_owned(),
    }
}

fn no_file(id: &str) -> Problem {
    let id: String = id.chars().take(60).collect();
    Problem::new(ProblemKind::Missing, "file_not_found", format!("there is no file `{id}`"))
        .with_way_out("list all files: GET /v1/files")
}

fn broken(why: &dyn std::fmt::Display) -> Problem {
    let detail = format!("the upload is incomplete: {why}");
    Problem::new(ProblemKind::Invalid, "upload_incomplete", detail)
}

fn cannot_store(error: &io::Error) -> Problem {
    let detail = format!("the file cannot be stored: {error}");
    Problem::new(ProblemKind::Fault, "file_not_stored", detail)
        .with_way_out("check the free space of the data directory")
}
