//! The tokens of a step, and the buffers of a stage.

use deft_kernels::{Device, Look, Looks, Routing};
use deft_planning::{LoadSettings, ModelShape};

use super::parts::{TokenPosition, View};
use crate::baton::Baton;
use crate::cache::Store;

/// A step, as every stage sees it.
pub(super) struct Step<'a> {
    /// Run and position of each token.
    pub(super) positions: &'a [TokenPosition],
    /// Page numbers of each run's sequence.
    pub(super) tables: &'a [&'a [u32]],
    /// The baton, if other processes compute too.
    pub(super) baton: Option<&'a Baton>,
}

impl Step<'_> {
    /// Lets others compute between two layers.
    pub(super) fn between_layers(&self) {
        if let Some(baton) = self.baton {
            baton.between_layers();
        }
    }
}

/// Buffers of a stage, reused from step to step.
pub(super) struct Buffers<D: Device> {
    pub(super) state: D::Numbers,
    pub(super) normed: D::Numbers,
    pub(super) queries: D::Numbers,
    pub(super) keys: D::Numbers,
    pub(super) values: D::Numbers,
    pub(super) heads: D::Numbers,
    pub(super) gate: D::Numbers,
    pub(super) up: D::Numbers,
    /// Tokens of an expert.
    pub(super) gathered: D::Numbers,
    pub(super) activations: D::Activations,
    pub(super) routing: Routing<D::Numbers>,
    /// Sums of spans that threads compute separately.
    pub(super) sums: D::Sums,
    /// The positions that each token of a step sees.
    looks: Vec<Look>,
}

impl<D: Device> Buffers<D> {
    /// Buffers for steps of up to `tokens` tokens. The state brings its own memory.
    pub(super) fn new(
        device: &D,
        shape: &ModelShape,
        settings: &LoadSettings,
        tokens: u32,
    ) -> Self {
        let room = |width: u32| device.room(tokens as usize * width as usize);
        let outputs = shape.heads * shape.value_length;
        let widest = shape.feed_forward.max(outputs).max(shape.width);
        // Encoders need no sums of spans: they have many tokens or short inputs.
        let rows = if shape.encoder { 0 } else { settings.lanes * shape.heads };
        let (value_length, context) = (shape.value_length as usize, settings.context as usize);
        let (experts, used) = (shape.experts, shape.experts_used);
        let results = used * shape.width;
        Self {
            state: device.room(0),
            normed: room(shape.width),
            queries: room(shape.heads * shape.key_length),
            keys: room(shape.kv_heads * shape.key_length),
            values: room(shape.kv_heads * shape.value_length),
            heads: room(outputs),
            gate: room(shape.feed_forward),
            up: room(shape.feed_forward),
            gathered: room(if experts > 0 { shape.width } else { 0 }),
            activations: device.activations(tokens as usize, widest as usize, shape.floats),
            routing: Routing {
                used: used as usize,
                chosen: Vec::with_capacity((tokens * used) as usize),
                router: device.room(0),
                shares: room(experts),
                results: room(results),
                starts: Vec::with_capacity(experts as usize + 1),
                rows: Vec::with_capacity((tokens * used) as usize),
            },
            sums: device.sums(rows as usize, context, value_length),
            looks: Vec::with_capacity(tokens as usize),
        }
    }

    /// Computes the attention of a step's tokens over their sequences: from queries to heads.
    pub(super) fn attend(
        &mut self,
        device: &D,
        heads: u32,
        store: &Store<D>,
        layer: usize,
        view: View,
        step: &Step<'_>,
    ) {
        self.looks.clear();
        self.looks.extend(step.positions.iter().map(|place| {
            let seen = view.seen(place.position);
            Look { sequence: place.run, first: seen.start, end: seen.end }
        }));
        let (each, heads) = (&self.looks[..], heads as usize);
        let View { scale, cap, .. } = view;
        let looks = Looks { pages: step.tables, each, heads, scale, cap };
        let Self { queries, heads, sums, .. } = self;
        device.attend(store.rows(layer), &looks, queries, heads, sums);
    }
}
