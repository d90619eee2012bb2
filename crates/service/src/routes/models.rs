//! `GET /v1/models`.

use actix_web::{HttpResponse, get, web};
use deft_protocol::chat::{ModelEntry, ModelList};

use super::App;

/// Lists the variants that can answer.
#[utoipa::path(tag = "answers", responses((status = 200, body = ModelList)))]
#[get("/v1/models")]
pub(super) async fn list_models(app: web::Data<App>) -> HttpResponse {
    let loaded = super::depot::loaded_names(&app);
    let entry = |registered: &crate::records::variants::Registered| {
        let id = registered.name.to_string();
        ModelEntry {
            loaded: loaded.contains(&id),
            id,
            object: "model".to_owned(),
            created: registered.registered_at.timestamp(),
            owned_by: "deft".to_owned(),
        }
    };
    let data = app.catalogue.listed().iter().map(|registered| entry(registered)).collect();
    HttpResponse::Ok().json(ModelList { object: "list".to_owned(), data })
}
