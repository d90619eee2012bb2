//! `GET /v1/models` and `GET /v1/models/{id}`.

use actix_web::{HttpResponse, get, web};
use deft_protocol::Problem;
use deft_protocol::chat::{ErrorBody, ModelEntry, ModelList};
use deft_protocol::manage::{InstanceReport, InstanceState, Profile};

use super::App;
use super::respond::ChatError;
use crate::records::variants::Registered;

/// Lists the variants that can answer, and the profiles.
#[utoipa::path(tag = "answers", responses((status = 200, body = ModelList)))]
#[get("/v1/models")]
pub(super) async fn list_models(app: web::Data<App>) -> HttpResponse {
    let of_variants = app.catalogue.listed();
    let of_variants = of_variants.iter().map(|registered| entry(&app, registered));
    // A profile whose model was removed cannot answer.
    let of_profiles = app.profiles.all().into_iter().filter_map(|one| of_profile(&app, one).ok());
    let data = of_variants.chain(of_profiles).collect();
    HttpResponse::Ok().json(ModelList { object: "list".to_owned(), data })
}

/// Describes one variant or profile. The `/` of its id may be encoded or not.
#[utoipa::path(
    tag = "answers",
    params(("id" = String, Path, description = "Name of a model, variant or profile")),
    responses(
        (status = 200, body = ModelEntry),
        (status = "default", description = "The error", body = ErrorBody),
    )
)]
#[get("/v1/models/{id:.+}")]
pub(super) async fn describe_model(
    app: web::Data<App>,
    id: web::Path<String>,
) -> Result<HttpResponse, ChatError> {
    let entry = match app.profiles.find(&id) {
        Some(profile) => of_profile(&app, profile)?,
        None => entry(&app, &*app.loads.resolve(&id)?),
    };
    Ok(HttpResponse::Ok().json(entry))
}

fn of_profile(app: &App, profile: Profile) -> Result<ModelEntry, Problem> {
    let registered = app.loads.resolve(&profile.settings.model)?;
    let mut entry = entry(app, &registered);
    entry.created = profile.saved_at.timestamp();
    entry.id = profile.name;
    if profile.settings.call_example.is_some() {
        entry.serves.push("tool calls".to_owned());
    }
    Ok(entry)
}

fn entry(app: &App, registered: &Registered) -> ModelEntry {
    let id = registered.name.to_string();
    let reports = app.fleet.reports();
    let reports = reports.borrow();
    let ready =
        |instance: &&InstanceReport| instance.name == id && instance.state == InstanceState::Ready;
    let instance = reports.instances.iter().find(ready);
    let context = instance.map(|instance| instance.settings.context);
    ModelEntry {
        loaded: instance.is_some(),
        context: context.unwrap_or(registered.facts.context_length),
        serves: registered.facts.serves.clone(),
        object: "model".to_owned(),
        created: registered.registered_at.timestamp(),
        owned_by: "deft".to_owned(),
        id,
    }
}
