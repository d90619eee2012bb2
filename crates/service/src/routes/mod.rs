//! The routes, one file each. A route parses, asks one function, and maps the outcome.

pub(crate) mod batched;
mod batches;
pub(crate) mod caller;
mod calls;
mod chat;
mod checks;
mod console_access;
pub(crate) mod console_files;
mod conversation;
mod depot;
mod embeddings;
pub(crate) mod events;
pub(crate) mod fields;
mod files;
mod health;
mod history;
mod instances;
mod messages;
mod metrics;
mod models;
mod openapi;
mod plans;
mod pools;
mod profiles;
mod renamed;
mod rerank;
pub(crate) mod respond;
mod responses;
mod segments;
mod snippets;
mod sources;
mod status;
mod streaming;
mod text;
mod tokens;
mod traces;
mod transfers;

use std::sync::Arc;
use std::time::Duration;

use actix_web::web::{self, ServiceConfig};
use chrono::{DateTime, Utc};
use deft_protocol::Problem;
use deft_protocol::chat::AnswerOptions;
use deft_protocol::manage::{ComputingReport, DatabaseReport, MachineReport, ServiceStatus};
use sqlx::PgPool;
use tokio::sync::watch;
use uuid::Uuid;

use crate::answering::board::{Arrived, Board};
use crate::answering::gateway::{self, Gateway, Question};
use crate::answering::kept_answers::KeptAnswers;
use crate::answering::profiles::Profiles;
use crate::batches::Batches;
use crate::depot::catalogue::Catalogue;
use crate::depot::files::DepotFiles;
use crate::depot::pulling::Pulling;
use crate::fleet::Fleet;
use crate::loading::loads::Loads;
use crate::observing::metrics::Metrics;
use crate::observing::traces::Traces;
use crate::permission::Permission;
use crate::process::changes::Changes;

use caller::Caller;
pub(crate) use caller::readable;
use events::Events;
use streaming::{Begun, Patience};

pub use openapi::document as openapi_document;

/// Longest body of a request in bytes: what the engine takes, for nothing longer could be answered.
pub(crate) const MAX_BODY: usize = deft_protocol::engine::MAX_FRAME;

/// A call that was checked and begun, with its options.
type Beginning = (Begun, Patience, AnswerOptions);

/// What the routes share.
pub(crate) struct App {
    pub(crate) catalogue: Arc<Catalogue>,
    pub(crate) profiles: Arc<Profiles>,
    pub(crate) fleet: Fleet,
    pub(crate) loads: Arc<Loads>,
    pub(crate) gateway: Gateway,
    pub(crate) permission: Permission,
    pub(crate) board: Board,
    pub(crate) kept_answers: Arc<KeptAnswers>,
    pub(crate) batches: Batches,
    pub(crate) events: Events,
    pub(crate) metrics: Metrics,
    pub(crate) traces: Arc<Traces>,
    pub(crate) machine: watch::Receiver<MachineReport>,
    /// What engines compute with.
    pub(crate) computing: ComputingReport,
    /// Longest silence before a waiting caller gets a comment with its call's stage.
    pub(crate) heartbeat: Duration,
    pub(crate) status_held: Duration,
    pub(crate) changes: Changes,
    pub(crate) depot_files: DepotFiles,
    pub(crate) pulling: Pulling,
    pub(crate) database: PgPool,
    pub(crate) database_up: watch::Receiver<bool>,
    pub(crate) database_kind: &'static str,
    pub(crate) node: Uuid,
    pub(crate) node_name: String,
    pub(crate) address: String,
    pub(crate) started_at: DateTime<Utc>,
}

/// Makes a change with all that the routes share: it runs to its end, also where its caller leaves.
async fn change<T, F>(
    app: &web::Data<App>,
    change: impl FnOnce(Arc<App>) -> F,
) -> Result<T, Problem>
where
    T: Send + 'static,
    F: Future<Output = Result<T, Problem>> + Send + 'static,
{
    app.changes.make(change(Arc::clone(app))).await
}

impl App {
    /// Puts a call on the board.
    fn arrive(&self, model: &str, caller: &Caller) -> (Arrived, Patience) {
        let call = self.enter(caller.request, model, caller);
        let (watched, reports) = (call.watched(), self.fleet.reports());
        let standing = Box::new(move || watched.report(&reports.borrow().instances).standing());
        (call, Patience { status: self.status_held, every: self.heartbeat, standing })
    }

    /// Puts a call with this id on the board.
    fn enter(&self, id: Uuid, model: &str, caller: &Caller) -> Arrived {
        let call = self.board.arrive(id, model, &caller.name);
        if caller.is_background {
            call.stays_in_background();
        }
        call
    }

    /// Begins to answer, without waiting for it.
    fn begin(
        self: &Arc<Self>,
        call: Arrived,
        model: String,
        question: Question,
        options: &AnswerOptions,
    ) -> gateway::Begun {
        let (app, options) = (Arc::clone(self), options.clone());
        Box::pin(async move { app.gateway.answer(call, &model, question, options).await })
    }

    fn status(&self) -> ServiceStatus {
        let up = *self.database_up.borrow();
        let report = self.fleet.reports().borrow().clone();
        ServiceStatus {
            version: deft_protocol::VERSION.to_owned(),
            pid: std::process::id(),
            address: self.address.clone(),
            started_at: self.started_at,
            node: self.node_name.clone(),
            database: DatabaseReport { kind: self.database_kind.to_owned(), up },
            machine: self.machine.borrow().clone(),
            computing: self.computing.clone(),
            pools: report.pools,
            calls: self.board.all(&report.instances),
            instances: report.instances,
            decisions: report.decisions,
            transfers: self.depot_files.transfers.all(),
            tracing: self.traces.on(),
        }
    }
}

/// All routes. The OpenAPI document is checked against this list by a test.
pub(crate) fn configure(config: &mut ServiceConfig) {
    config
        .app_data(web::PayloadConfig::new(MAX_BODY))
        .app_data(respond::query_config())
        .app_data(respond::path_config())
        .service(chat::complete_chat)
        .service(text::continue_text)
        .service(embeddings::embed)
        .service(rerank::rerank)
        .service(responses::create_response)
        .service(responses::show_response)
        .service(responses::input_items)
        .service(responses::delete_response)
        .service(messages::create_message)
        .service(messages::count_message_tokens)
        .service(files::upload_file)
        .service(files::list_files)
        .service(files::show_file)
        .service(files::file_content)
        .service(files::delete_file)
        .service(batches::create_batch)
        .service(batches::list_batches)
        .service(batches::show_batch)
        .service(batches::cancel_batch)
        .service(tokens::tokenize)
        .service(tokens::detokenize)
        .service(models::list_models)
        .service(models::describe_model)
        .service(depot::list_depot)
        .service(depot::not_understood)
        .service(depot::register)
        .service(depot::rename)
        .service(depot::remove)
        .service(profiles::list_profiles)
        .service(profiles::show_profile)
        .service(profiles::save_profile)
        .service(profiles::remove_profile)
        .service(sources::list_sources)
        .service(sources::add_source)
        .service(sources::check_source)
        .service(sources::remove_source)
        .service(sources::search)
        .service(sources::preview)
        .service(sources::pull)
        .service(transfers::import)
        .service(transfers::export)
        .service(transfers::verify)
        .service(transfers::scan)
        .service(transfers::usage)
        .service(transfers::list_transfers)
        .service(transfers::transfer)
        .service(transfers::cancel)
        .service(depot::inspect_model)
        .service(depot::inspect_variant)
        .service(snippets::list_snippets)
        .service(checks::check)
        .service(plans::plan)
        .service(instances::list_instances)
        .service(instances::load)
        .service(instances::retry)
        .service(instances::again)
        .service(instances::unload)
        .service(pools::list_pools)
        .service(pools::limit)
        .service(instances::wait)
        .service(status::status)
        .service(console_access::link)
        .service(console_access::enter)
        .service(events::events)
        .service(history::history)
        .service(metrics::metrics)
        .service(calls::latest)
        .service(calls::running)
        .service(calls::end)
        .service(traces::list_tracing)
        .service(traces::begin_tracing)
        .service(traces::stop_tracing)
        .service(traces::list_traces)
        .service(traces::delete_traces)
        .service(traces::trace)
        .service(openapi::serve)
        .service(health::live)
        .service(health::ready)
        .route("/v1/{rest:.*}", web::to(respond::unknown_path))
        .route("/manage/{rest:.*}", web::to(respond::unknown_path))
        .route("/{path:.*}", web::get().to(console_files::file));
}
