//! `/v1/files`: files of calls for batches, and files of their answers.

use actix_multipart::Multipart;
use actix_web::web::{Data, Json, Path, Query};
use actix_web::{HttpResponse, delete, get, post};
use deft_protocol::batches::{FILE_PREFIX, FileDeleted, FileList, FileObject, FileUpload, id_of};
use deft_protocol::chat::ErrorBody;
use deft_protocol::{Problem, ProblemKind};
use futures_util::StreamExt;
use serde::Deserialize;
use tokio_util::io::ReaderStream;
use utoipa::IntoParams;
use uuid::Uuid;

use super::App;
use super::respond::ChatError;

/// Longest text of a form's field that is not a file.
const MAX_FIELD: usize = 256;
/// Most fields of a form.
const MOST_FIELDS: usize = 16;
/// Entries of a list, if the request does not say how many.
const ENTRIES: u32 = 100;

/// A part of a list.
#[derive(Debug, Deserialize, IntoParams)]
pub(super) struct PartOfList {
    /// Most entries, from 1 to 1000; 100 by default.
    limit: Option<u32>,
    /// Begin after the entry with this id.
    after: Option<String>,
}

impl PartOfList {
    pub(super) fn count(&self) -> Result<u32, Problem> {
        let count = self.limit.unwrap_or(ENTRIES);
        if (1..=1000).contains(&count) {
            return Ok(count);
        }
        let detail = format!("`limit` is {count}; it must be 1 to 1000");
        Err(Problem::new(ProblemKind::Invalid, "field_out_of_range", detail).at_field("limit"))
    }

    pub(super) fn after(&self, prefix: &str) -> Result<Option<Uuid>, Problem> {
        let Some(after) = &self.after else { return Ok(None) };
        id_of(prefix, after).map(Some).ok_or_else(|| {
            let detail = "`after` is no id of an entry".to_owned();
            Problem::new(ProblemKind::Invalid, "field_out_of_range", detail).at_field("after")
        })
    }
}

/// Uploads a file of calls.
#[utoipa::path(
    tag = "batches",
    request_body(content = FileUpload, content_type = "multipart/form-data"),
    responses(
        (status = 200, body = FileObject),
        (status = "default", description = "The error", body = ErrorBody),
    )
)]
#[post("/v1/files")]
pub(super) async fn upload_file(
    app: Data<App>,
    form: Multipart,
) -> Result<Json<FileObject>, ChatError> {
    Ok(Json(receive(&app, form).await?))
}

async fn receive(app: &App, mut form: Multipart) -> Result<FileObject, Problem> {
    let mut purpose = None;
    for _ in 0..MOST_FIELDS {
        let Some(field) = form.next().await else { break };
        let mut field = field.map_err(|error| unreadable(&error))?;
        match field.name() {
            Some("purpose") => {
                let bytes = field.bytes(MAX_FIELD).await.map_err(|error| unreadable(&error))?;
                let bytes = bytes.map_err(|error| unreadable(&error))?;
                purpose = Some(String::from_utf8_lossy(&bytes).into_owned());
            }
            Some("file") => {
                // Known before the file is read, as clients send it; otherwise after it.
                check_purpose(purpose.as_deref().unwrap_or("batch"))?;
                let name = field.content_disposition().and_then(|found| found.get_filename());
                let name = name.unwrap_or("calls.jsonl").to_owned();
                let stored = app.batches.files.receive(&name, &mut field).await?;
                return Ok(stored);
            }
            other => {
                let other: String = other.unwrap_or_default().chars().take(60).collect();
                let detail = format!("`{other}` is not supported");
                return Err(
                    Problem::new(ProblemKind::Invalid, "field_unknown", detail).at_field(other)
                );
            }
        }
    }
    Err(Problem::new(ProblemKind::Invalid, "field_missing", "`file` is missing").at_field("file"))
}

fn check_purpose(purpose: &str) -> Result<(), Problem> {
    if purpose == "batch" {
        return Ok(());
    }
    let detail = "`purpose` must be `batch`";
    Err(Problem::new(ProblemKind::Invalid, "file_purpose", detail).at_field("purpose"))
}

fn unreadable(error: &dyn std::fmt::Display) -> Problem {
    let detail = format!("the form cannot be read: {error}");
    Problem::new(ProblemKind::Invalid, "body_invalid", detail)
        .with_way_out("send multipart/form-data with the fields `purpose` and `file`")
}

/// Lists files, the newest first.
#[utoipa::path(
    tag = "batches",
    params(PartOfList),
    responses(
        (status = 200, body = FileList),
        (status = "default", description = "The error", body = ErrorBody),
    )
)]
#[get("/v1/files")]
pub(super) async fn list_files(
    app: Data<App>,
    part: Query<PartOfList>,
) -> Result<Json<FileList>, ChatError> {
    let (after, count) = (part.after(FILE_PREFIX)?, part.count()?);
    let (data, has_more) = app.batches.files.list(after, count).await?;
    Ok(Json(FileList { object: "list".to_owned(), data, has_more }))
}

/// Returns a file's name and size.
#[utoipa::path(
    tag = "batches",
    params(("id" = String, Path)),
    responses(
        (status = 200, body = FileObject),
        (status = "default", description = "The error", body = ErrorBody),
    )
)]
#[get("/v1/files/{id}")]
pub(super) async fn show_file(
    app: Data<App>,
    id: Path<String>,
) -> Result<Json<FileObject>, ChatError> {
    Ok(Json(app.batches.files.find(&id).await?.1))
}

/// Returns a file's content.
#[utoipa::path(
    tag = "batches",
    params(("id" = String, Path)),
    responses(
        (status = 200, description = "The content", body = String, content_type = "application/octet-stream"),
        (status = "default", description = "The error", body = ErrorBody),
    )
)]
#[get("/v1/files/{id}/content")]
pub(super) async fn file_content(
    app: Data<App>,
    id: Path<String>,
) -> Result<HttpResponse, ChatError> {
    let file = app.batches.files.content(&id).await?;
    let content = ReaderStream::new(file);
    Ok(HttpResponse::Ok().content_type("application/octet-stream").streaming(content))
}

/// Deletes a file.
#[utoipa::path(
    tag = "batches",
    params(("id" = String, Path)),
    responses(
        (status = 200, body = FileDeleted),
        (status = "default", description = "The error", body = ErrorBody),
    )
)]
#[delete("/v1/files/{id}")]
pub(super) async fn delete_file(
    app: Data<App>,
    id: Path<String>,
) -> Result<Json<FileDeleted>, ChatError> {
    let id = id.into_inner();
    app.batches.remove_file(&id).await?;
    Ok(Json(FileDeleted { id, object: "file".to_owned(), deleted: true }))
}
