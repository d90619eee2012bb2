//! Figures for programs that collect them, in the OpenMetrics text format.
//!
//! Events are counted when they happen, from the calls' records. Gauges are written from the status on each request.

use std::sync::Arc;
use std::sync::atomic::AtomicU64;

use deft_protocol::manage::{
    CallRecord, InstanceReport, InstanceState, InstanceWork, Pool, ServiceStatus,
};
use prometheus_client::encoding::text::{encode_eof, encode_registry};
use prometheus_client::encoding::{EncodeLabelSet, LabelSetEncoder};
use prometheus_client::metrics::counter::Counter;
use prometheus_client::metrics::family::Family;
use prometheus_client::metrics::gauge::Gauge;
use prometheus_client::metrics::histogram::Histogram;
use prometheus_client::registry::Registry;

/// As the format asks.
pub(crate) const CONTENT_TYPE: &str = "application/openmetrics-text; version=1.0.0; charset=utf-8";

/// Bounds of waiting times, in seconds.
const SECONDS: [f64; 14] =
    [0.005, 0.01, 0.025, 0.05, 0.1, 0.25, 0.5, 1.0, 2.5, 5.0, 10.0, 30.0, 60.0, 300.0];

/// Names with values, as labels of a figure.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
struct Labels<const COUNT: usize>([(&'static str, String); COUNT]);

impl<const COUNT: usize> EncodeLabelSet for Labels<COUNT> {
    fn encode(&self, encoder: &mut LabelSetEncoder<'_>) -> Result<(), std::fmt::Error> {
        use prometheus_client::encoding::EncodeLabel;
        self.0
            .iter()
            .try_for_each(|(name, value)| (*name, value.as_str()).encode(encoder.encode_label()))
    }
}

type Model = Labels<1>;
type Waits = Family<Model, Histogram, fn() -> Histogram>;

fn waits() -> Waits {
    Family::new_with_constructor(|| Histogram::new(SECONDS))
}

fn model(name: &str) -> Model {
    Labels([("model", name.to_owned())])
}

/// All counters; cheap to clone.
#[derive(Clone)]
pub(crate) struct Metrics {
    registry: Arc<Registry>,
    calls: Family<Labels<2>, Counter>,
    tokens: Family<Labels<2>, Counter>,
    first_token: Waits,
    queue_wait: Waits,
    total: Waits,
}

impl Metrics {
    pub(crate) fn new() -> Self {
        let mut registry = Registry::with_prefix("deft");
        let (calls, tokens) = (Family::default(), Family::default());
        let (first_token, queue_wait, total) = (waits(), waits(), waits());
        registry.register("calls", "Finished calls by result", calls.clone());
        registry.register(
            "tokens",
            "Tokens of finished calls: prompt, cached, answer",
            tokens.clone(),
        );
        registry.register(
            "first_token_seconds",
            "Seconds from the arrival of a call to its first text",
            first_token.clone(),
        );
        registry.register(
            "queue_wait_seconds",
            "Seconds a call waited for a lane",
            queue_wait.clone(),
        );
        registry.register(
            "call_seconds",
            "Seconds from the arrival of a call to its end",
            total.clone(),
        );
        Self { registry: Arc::new(registry), calls, tokens, first_token, queue_wait, total }
    }

    /// Counts a call that ended.
    pub(crate) fn count(&self, call: &CallRecord) {
        let labels =
            |name, value: &str| Labels([("model", call.name.clone()), (name, value.into())]);
        self.calls.get_or_create(&labels("outcome", &call.outcome)).inc();
        let kinds = [
            ("prompt", call.prompt_tokens),
            ("cached", call.cached_tokens),
            ("answer", call.answer_tokens),
        ];
        for (kind, tokens) in kinds {
            self.tokens.get_or_create(&labels("kind", kind)).inc_by(tokens.into());
        }
        let model = model(&call.name);
        self.queue_wait.get_or_create(&model).observe(call.queue_seconds);
        self.total.get_or_create(&model).observe(call.total_seconds);
        if let Some(seconds) = call.first_token_seconds {
            self.first_token.get_or_create(&model).observe(seconds);
        }
    }

    /// All of it.
    pub(crate) fn text(&self, status: &ServiceStatus) -> String {
        let mut text = String::new();
        // Writing to a String does not fail.
        let _ = encode_registry(&mut text, &self.registry);
        let _ = encode_registry(&mut text, &standing(status));
        let _ = encode_eof(&mut text);
        text
    }
}

/// Gauges of the present state.
#[derive(Default)]
struct Figures(Registry);

impl Figures {
    fn add<const COUNT: usize>(
        &mut self,
        name: &str,
        help: &str,
        values: impl IntoIterator<Item = ([(&'static str, String); COUNT], f64)>,
    ) {
        let family = Family::<Labels<COUNT>, Gauge<f64, AtomicU64>>::default();
        for (labels, value) in values {
            family.get_or_create(&Labels(labels)).set(value);
        }
        self.0.register(name, help, family);
    }

    /// Sums that only grow, as long as an instance is loaded.
    fn add_sum(
        &mut self,
        name: &str,
        help: &str,
        instances: &[InstanceReport],
        of: fn(&InstanceReport) -> Option<f64>,
    ) {
        let family = Family::<Labels<1>, Counter<f64, AtomicU64>>::default();
        for instance in instances {
            if let Some(value) = of(instance) {
                family.get_or_create(&Labels([("instance", instance.title())])).inc_by(value);
            }
        }
        self.0.register(name, help, family);
    }
}

fn standing(status: &ServiceStatus) -> Registry {
    let mut figures = Figures(Registry::with_prefix("deft"));
    pools(&mut figures, &status.pools);
    instances(&mut figures, &status.instances);
    work(&mut figures, &status.instances);
    machine(&mut figures, status);
    figures.0
}

#[expect(clippy::cast_precision_loss, reason = "the format's numbers are such")]
fn pools(figures: &mut Figures, pools: &[Pool]) {
    let each = |of: fn(&Pool) -> u64| {
        pools.iter().map(move |pool| ([("pool", pool.name.clone())], of(pool) as f64))
    };
    figures.add("pool_limit_bytes", "Limit of the pool in bytes", each(|pool| pool.limit));
    figures.add("pool_reserved_bytes", "Bytes reserved by instances", each(|pool| pool.reserved));
    figures.add("pool_measured_bytes", "Bytes measured", each(|pool| pool.measured));
}

/// Of every instance that has it, its figure.
fn each(
    instances: &[InstanceReport],
    of: fn(&InstanceReport) -> Option<f64>,
) -> impl Iterator<Item = ([(&'static str, String); 1], f64)> {
    let sample = move |found: &InstanceReport| Some(([("instance", found.title())], of(found)?));
    instances.iter().filter_map(sample)
}

/// Of every instance that computes, a figure of its work.
fn of_work(
    instances: &[InstanceReport],
    of: fn(&InstanceWork) -> u32,
) -> impl Iterator<Item = ([(&'static str, String); 1], f64)> {
    let sample = move |found: &InstanceReport| {
        Some(([("instance", found.title())], of(found.work.as_ref()?).into()))
    };
    instances.iter().filter_map(sample)
}

fn instances(figures: &mut Figures, instances: &[InstanceReport]) {
    let ready =
        |found: &InstanceReport| Some(f64::from(u8::from(found.state == InstanceState::Ready)));
    figures.add("instance_ready", "Whether the instance takes calls", each(instances, ready));
    let calls = |found: &InstanceReport| Some(found.calls.into());
    figures.add("instance_calls", "Running calls", each(instances, calls));
    let busy = of_work(instances, |work| work.lanes_busy);
    figures.add("lanes_busy", "Busy lanes", busy);
    let paused = of_work(instances, |work| work.lanes_paused);
    figures.add(
        "lanes_paused",
        "Lanes that are paused because older ones need their pages",
        paused,
    );
    figures.add("pages", "Pages of the KV cache", of_work(instances, |work| work.pages));
    let used = of_work(instances, |work| work.pages_used);
    figures.add("pages_used", "Pages in use by lanes", used);
    let cached = of_work(instances, |work| work.pages_cached);
    figures.add("pages_cached", "Cached pages of earlier calls", cached);
    let queues =
        instances.iter().map(|found| ([("model", found.name.clone())], found.queued.into()));
    figures.add("queue_calls", "Calls that wait for a lane", queues);
}

#[expect(clippy::cast_precision_loss, reason = "the format's numbers are such")]
fn work(figures: &mut Figures, instances: &[InstanceReport]) {
    figures.add_sum(
        "baton_wait_seconds",
        "Seconds of waiting for the processor",
        instances,
        |found| Some(found.work.as_ref()?.waited_seconds),
    );
    figures.add_sum("computed_seconds", "Seconds of computing", instances, |found| {
        Some(found.work.as_ref()?.computed_seconds)
    });
    figures.add_sum("steps", "Steps computed", instances, |found| {
        Some(found.work.as_ref()?.steps as f64)
    });
    figures.add_sum("crashes", "Unexpected ends of its engine process", instances, |found| {
        Some(found.crashes.into())
    });
}

#[expect(clippy::cast_precision_loss, reason = "the format's numbers are such")]
fn machine(figures: &mut Figures, status: &ServiceStatus) {
    let one = |value: f64| [([], value)];
    let machine = &status.machine;
    let up = status.database.up;
    figures.add("database_up", "Whether the records database answers", one(up.into()));
    figures.add("processors_busy", "Processor utilisation from 0 to 1", one(machine.busy));
    figures.add("load_average", "Load average of one minute", one(machine.load));
    let degrees = machine.temperature.map(|degrees| ([], degrees));
    figures.add(
        "temperature_celsius",
        "Temperature of the hottest sensor in degrees Celsius",
        degrees,
    );
    figures.add(
        "memory_available_bytes",
        "Memory available without swapping",
        one(machine.memory_available as f64),
    );
}
