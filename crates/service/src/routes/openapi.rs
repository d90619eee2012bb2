//! `GET /manage/v1/openapi.json`.

use actix_web::{HttpResponse, get};
use serde_json::Value;
use utoipa::openapi::{Content, Ref, ResponseBuilder};
use utoipa::{Modify, OpenApi};

#[derive(OpenApi)]
#[openapi(
    info(title = "Deft Harbor", description = "Answers and management of a Deft Harbor service"),
    paths(
        super::chat::complete_chat,
        super::text::continue_text,
        super::embeddings::embed,
        super::rerank::rerank,
        super::responses::create_response,
        super::responses::show_response,
        super::responses::input_items,
        super::responses::delete_response,
        super::messages::create_message,
        super::messages::count_message_tokens,
        super::files::upload_file,
        super::files::list_files,
        super::files::show_file,
        super::files::file_content,
        super::files::delete_file,
        super::batches::create_batch,
        super::batches::list_batches,
        super::batches::show_batch,
        super::batches::cancel_batch,
        super::tokens::tokenize,
        super::tokens::detokenize,
        super::models::list_models,
        super::models::describe_model,
        super::depot::list_depot,
        super::depot::not_understood,
        super::depot::register,
        super::depot::rename,
        super::depot::remove,
        super::profiles::list_profiles,
        super::profiles::show_profile,
        super::profiles::save_profile,
        super::profiles::remove_profile,
        super::sources::list_sources,
        super::sources::add_source,
        super::sources::check_source,
        super::sources::remove_source,
        super::sources::search,
        super::sources::preview,
        super::sources::pull,
        super::transfers::import,
        super::transfers::export,
        super::transfers::verify,
        super::transfers::scan,
        super::transfers::usage,
        super::transfers::list_transfers,
        super::transfers::transfer,
        super::transfers::cancel,
        super::depot::inspect_model,
        super::depot::inspect_variant,
        super::snippets::list_snippets,
        super::checks::check,
        super::plans::plan,
        super::instances::list_instances,
        super::instances::load,
        super::instances::retry,
        super::instances::again,
        super::instances::unload,
        super::pools::list_pools,
        super::pools::limit,
        super::instances::wait,
        super::status::status,
        super::console_access::link,
        super::console_access::enter,
        super::events::events,
        super::history::history,
        super::metrics::metrics,
        super::calls::latest,
        super::calls::running,
        super::calls::end,
        super::traces::list_tracing,
        super::traces::begin_tracing,
        super::traces::stop_tracing,
        super::traces::list_traces,
        super::traces::delete_traces,
        super::traces::trace,
        super::health::live,
        super::health::ready,
        serve,
    ),
    components(schemas(deft_protocol::chat::ChatChunk)),
    modifiers(&EveryRefusal)
)]
struct Document;

/// Adds the refusals that every request may get, of permission or of the page that sends it.
struct EveryRefusal;

impl Modify for EveryRefusal {
    fn modify(&self, document: &mut utoipa::openapi::OpenApi) {
        for (path, item) in &mut document.paths.paths {
            let (schema, content_type) = match path.starts_with("/v1/") {
                true => ("ErrorBody", "application/json"),
                false => ("Problem", "application/problem+json"),
            };
            let operations = [&mut item.get, &mut item.post, &mut item.put, &mut item.delete];
            for operation in operations.into_iter().flatten() {
                let content = Content::new(Some(Ref::from_schema_name(schema)));
                let refusal = ResponseBuilder::new()
                    .description("The error")
                    .content(content_type, content)
                    .build();
                let responses = &mut operation.responses.responses;
                responses.entry("default".to_owned()).or_insert_with(|| refusal.into());
            }
        }
    }
}

/// The descriptions of requests and replies, by their names.
pub(super) fn schemas() -> Value {
    let document = serde_json::to_value(Document::openapi()).expect("the document is plain data");
    document["components"]["schemas"].clone()
}

/// The OpenAPI document as JSON text, a line for each value.
#[must_use]
pub fn document() -> String {
    let mut text = Document::openapi().to_pretty_json().expect("the document is plain data");
    text.push('\n');
    text
}

/// Returns this description.
#[utoipa::path(tag = "service", responses((status = 200, description = "The OpenAPI document")))]
#[get("/manage/v1/openapi.json")]
pub(super) async fn serve() -> HttpResponse {
    HttpResponse::Ok().content_type("application/json").body(document())
}

#[cfg(test)]
mod tests {
    use super::*;

    /// The routes as they are registered, read from the sources: a route that is not described
    /// would be missing from the console's types and from every client made of the document.
    #[test]
    fn every_route_is_described() {
        let document: serde_json::Value = serde_json::from_str(&document()).unwrap();
        let described = document["paths"].as_object().unwrap();
        let folder = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("src/routes");
        let mut routes = 0;
        for entry in std::fs::read_dir(folder).unwrap() {
            let path = entry.unwrap().path();
            if path.is_dir() {
                continue;
            }
            let source = std::fs::read_to_string(path).unwrap();
            for line in source.lines().filter(|line| line.starts_with("#[")) {
                let methods = ["get", "post", "delete", "put"];
                let route = methods.into_iter().find_map(|method| {
                    let path =
                        line.strip_prefix(&format!("#[{method}(\""))?.strip_suffix("\")]")?;
                    Some((method, path))
                });
                let Some((method, path)) = route else {
                    continue;
                };
                // What a part of the path may contain is not described.
                let path = &path.replace(":.+}", "}");
                assert!(described[path][method].is_object(), "{method} {path} is not described");
                routes += 1;
            }
        }
        assert_eq!(
            routes,
            described.values().map(|path| path.as_object().unwrap().len()).sum::<usize>()
        );
    }

    #[test]
    fn every_operation_has_an_id_of_its_own() {
        let document: serde_json::Value = serde_json::from_str(&document()).unwrap();
        let paths = document["paths"].as_object().unwrap().values();
        let operations = paths.flat_map(|path| path.as_object().unwrap().values());
        let mut ids: Vec<&str> =
            operations.map(|operation| operation["operationId"].as_str().unwrap()).collect();
        let count = ids.len();
        ids.sort_unstable();
        ids.dedup();
        assert_eq!(ids.len(), count, "two operations have the same id");
    }

    #[test]
    fn the_consoles_copy_is_fresh() {
        let path =
            std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("../../console/openapi.json");
        let copy = std::fs::read_to_string(path).unwrap_or_default();
        assert!(copy == document(), "console/openapi.json is stale: run `cargo xtask openapi`");
    }
}
