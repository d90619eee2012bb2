//! A stage: a range of layers on one device, with their weights, their pages and the buffers of a step. Only the state of
//! the tokens crosses from one stage to the next.

use std::ops::Range;
use std::sync::Arc;
use std::time::{Duration, Instant};

use deft_kernels::{Device, Host, HostPages, Look, Looks, Norm, Routing, Stored};
use deft_planning::{LoadSettings, ModelShape};

use super::blueprint::{Blueprint, LayerPlan, Projection};
use super::parts::{TokenPosition, View};
use super::rotary::Rotary;
use super::tensors::VectorPlace;
use crate::baton::Baton;
use crate::cache::{PageCopy, Store};
use crate::layer_memory::{AcceleratorDelay, LayerMemory, OutOfMemory};
use crate::mapped::Mapped;
use crate::model::LoadError;

/// Where a stage has its weights and its pages.
pub(super) trait Home: Send {
    /// What computes there.
    type Device: Device;

    /// What computes there; the host is lent to all stages, for its threads are the same.
    fn device<'a>(&'a self, host: &'a Host) -> &'a Self::Device;

    /// Stored weights, by their place in the files.
    fn stored(&self, part: usize, offset: u64, bytes: u64) -> <Self::Device as Device>::Stored<'_>;

    /// Memory for pages of a layer.
    fn pages(
        &self,
        layer: usize,
        bytes: usize,
        layer_memory: &mut LayerMemory,
    ) -> Result<<Self::Device as Device>::Pages, OutOfMemory>;
}

/// Files mapped into the host's memory. Layers that are placed in simulated accelerators are there too.
impl Home for Arc<Mapped> {
    type Device = Host;

    fn device<'a>(&'a self, host: &'a Host) -> &'a Host {
        host
    }

    fn stored(&self, part: usize, offset: u64, bytes: u64) -> Stored<'_> {
        self.weights(part, offset, bytes)
    }

    fn pages(
        &self,
        layer: usize,
        bytes: usize,
        layer_memory: &mut LayerMemory,
    ) -> Result<HostPages, OutOfMemory> {
        // All ones is a NaN in every form: a row that is read before it was written shows.
        Ok(Box::new(layer_memory.filled(layer, bytes, 0xFF)?))
    }
}

/// What a step is, for every stage.
pub(super) struct Step<'a> {
    /// Where each token belongs.
    pub(super) positions: &'a [TokenPosition],
    /// The pages of each run's sequence.
    pub(super) tables: &'a [&'a [u32]],
    /// The permission to compute, where others compute too.
    pub(super) baton: Option<&'a Baton>,
}

impl Step<'_> {
    /// Between two layers others may compute.
    pub(super) fn between_layers(&self) {
        if let Some(baton) = self.baton {
            baton.between_layers();
        }
    }
}

/// A stage, on whatever device.
pub(super) trait Layers: Send {
    /// Takes the memory of pages and buffers, for steps of so many tokens.
    fn hold(
        &mut self,
        host: &Host,
        settings: &LoadSettings,
        tokens: u32,
        layer_memory: &mut LayerMemory,
    ) -> Result<(), OutOfMemory>;

    /// Copies the beginning of a page.
    fn copy_page(&mut self, host: &Host, copy: PageCopy);

    /// Computes the layers of a step: `state`, `tokens x width`, becomes what the next stage begins with. Returns for how
    /// long a simulated accelerator would still compute.
    fn compute(&mut self, host: &Host, step: &Step<'_>, state: &mut Vec<f32>) -> Duration;

    /// Bytes of pages that it holds.
    #[cfg(test)]
    fn page_bytes(&self) -> usize;
}

/// Working space of a stage, reused from step to step.
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
    /// Sums of spans that threads share out.
    pub(super) sums: D::Sums,
    /// What each token of a step looks at.
    looks: Vec<Look>,
}

impl<D: Device> Buffers<D> {
    /// For steps of so many tokens; the state comes with its memory.
    pub(super) fn new(
        device: &D,
        shape: &ModelShape,
        settings: &LoadSettings,
        tokens: u32,
    ) -> Self {
        let room = |width: u32| device.room(tokens as usize * width as usize);
        let outputs = shape.heads * shape.value_length;
        let widest = shape.feed_forward.max(outputs).max(shape.width);
        // Encoders have many tokens, or short inputs.
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

    /// Attention of a step's tokens over what their sequences hold: from queries to heads.
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

/// A range of a decoder's layers.
pub(super) struct Stage<H: Home> {
    home: H,
    layers: Vec<Layer<H::Device>>,
    /// The number of the first one.
    first: usize,
    shape: ModelShape,
    /// The different ones; most models have one for all layers.
    rotaries: Vec<Rotary>,
    /// How far heads are turned, for each of them; and what they are brought in.
    angles: Vec<<H::Device as Device>::Numbers>,
    brought: Vec<f32>,
    score_scale: f32,
    score_cap: Option<f32>,
    delay: AcceleratorDelay,
    held: Option<Held<H::Device>>,
}

/// The memory of a stage beside its weights.
struct Held<D: Device> {
    store: Store<D>,
    buffers: Buffers<D>,
}

/// A layer: its plan, whose matrices stay where they are stored, and its vectors.
struct Layer<D: Device> {
    plan: LayerPlan,
    /// Which of the rotary embeddings.
    rotary: usize,
    attention_norm: Norm<D::Numbers>,
    query_bias: Option<D::Numbers>,
    key_bias: Option<D::Numbers>,
    value_bias: Option<D::Numbers>,
    head_norms: Option<[Norm<D::Numbers>; 2]>,
    attention_post_norm: Option<Norm<D::Numbers>>,
    feed_forward_norm: Norm<D::Numbers>,
    feed_forward_post_norm: Option<Norm<D::Numbers>>,
}

impl<D: Device> Layer<D> {
    fn new(
        plan: LayerPlan,
        rotary: usize,
        epsilon: f32,
        file: &Mapped,
        device: &D,
    ) -> Result<Self, LoadError> {
        let norm = |place: &VectorPlace| -> Result<_, LoadError> {
            Ok(Norm { weight: place.load_to(file, device)?, bias: None, epsilon })
        };
        let maybe = |place: Option<&VectorPlace>| place.map(norm).transpose();
        let bias = |projection: &Projection| {
            projection.bias.as_ref().map(|bias| bias.load_to(file, device)).transpose()
        };
        let head_norms = match &plan.head_norms {
            Some((query, key)) => Some([norm(query)?, norm(key)?]),
            None => None,
        };
        Ok(Self {
            rotary,
            attention_norm: norm(&plan.attention_norm)?,
            query_bias: bias(&plan.query)?,
            key_bias: bias(&plan.key)?,
            value_bias: bias(&plan.value)?,
            head_norms,
            attention_post_norm: maybe(plan.attention_post_norm.as_ref())?,
            feed_forward_norm: norm(&plan.feed_forward_norm)?,
            feed_forward_post_norm: maybe(plan.feed_forward_post_norm.as_ref())?,
            plan,
        })
    }
}

impl<H: Home> Stage<H> {
    /// Some of a blueprint's layers, which are taken out of it.
    pub(super) fn new(
        blueprint: &mut Blueprint,
        range: Range<usize>,
        home: H,
        file: &Mapped,
        host: &Host,
        layer_memory: &LayerMemory,
    ) -> Result<Self, LoadError> {
        let factors =
            blueprint.rotary_factors.as_ref().map(|place| place.load(file)).transpose()?;
        let (pairs, epsilon) = (blueprint.pairs, blueprint.epsilon);
        let (mut rotaries, mut layers) = (Vec::<Rotary>::new(), Vec::new());
        for plan in blueprint.layers.drain(..range.len()) {
            let own = Rotary::new(pairs, plan.rotary, factors.as_deref());
            let known = rotaries.iter().position(|known| *known == own);
            let rotary = known.unwrap_or(rotaries.len());
            if known.is_none() {
                rotaries.push(own);
            }
            layers.push(Layer::new(plan, rotary, epsilon, file, home.device(host))?);
        }
        Ok(Self {
            layers,
            first: range.start,
            shape: blueprint.shape.clone(),
            rotaries,
            angles: Vec::new(),
            brought: Vec::new(),
            score_scale: blueprint.score_scale,
            score_cap: blueprint.score_cap,
            delay: layer_memory.delay(&blueprint.shape.layer_weights),
            held: None,
            home,
        })
    }

    /// Brings the angles of all tokens of a step.
    fn set_angles(&mut self, host: &Host, positions: &[TokenPosition]) {
        let device = self.home.device(host);
        for (rotary, angles) in self.rotaries.iter().zip(&mut self.angles) {
            let own = 2 * rotary.pairs();
            self.brought.resize(positions.len() * own, 0.0);
            for (place, angles) in positions.iter().zip(self.brought.chunks_mut(own.max(1))) {
                rotary.angles(place.position, angles);
            }
            device.put(&mut self.brought, angles);
        }
    }

    fn attention_part(
        &self,
        device: &H::Device,
        at: usize,
        held: &mut Held<H::Device>,
        step: &Step<'_>,
    ) {
        let (shape, layer) = (&self.shape, &self.layers[at]);
        let (plan, tokens) = (&layer.plan, step.positions.len());
        let Held { store, buffers } = held;
        let Buffers { state, normed, queries, keys, values, activations, .. } = buffers;
        device.size(normed, tokens * shape.width as usize);
        device.norm(&layer.attention_norm, state, normed);
        let rows = |heads: u32, length: u32| tokens * heads as usize * length as usize;
        device.size(queries, rows(shape.heads, shape.key_length));
        device.size(keys, rows(shape.kv_heads, shape.key_length));
        device.size(values, rows(shape.kv_heads, shape.value_length));
        let products = [
            (plan.query.matrix.of(&self.home), (&mut *queries).into()),
            (plan.key.matrix.of(&self.home), (&mut *keys).into()),
            (plan.value.matrix.of(&self.home), (&mut *values).into()),
        ];
        device.multiply(normed, products, activations);
        for (bias, rows) in [
            (&layer.query_bias, &mut *queries),
            (&layer.key_bias, &mut *keys),
            (&layer.value_bias, &mut *values),
        ] {
            if let Some(bias) = bias {
                device.add_to_rows(rows, bias);
            }
        }
        if let Some([query_norm, key_norm]) = &layer.head_norms {
            // Every head is a row of its own.
            device.norm_in_place(query_norm, queries);
            device.norm_in_place(key_norm, keys);
        }
        let head = shape.key_length as usize;
        let (pairs, angles) = (self.rotaries[layer.rotary].kind(), &self.angles[layer.rotary]);
        device.turn(queries, head, pairs, angles, tokens);
        device.turn(keys, head, pairs, angles, tokens);
        store.write(device, at, (keys, values), |token| {
            let TokenPosition { run, position } = step.positions[token];
            (step.tables[run], position)
        });
        device.size(&mut buffers.heads, rows(shape.heads, shape.value_length));
        let view = View { sight: plan.sight, scale: self.score_scale, cap: self.score_cap };
        buffers.attend(device, shape.heads, store, at, view, step);
        let Buffers { heads, normed, activations, .. } = &mut *buffers;
        device.multiply(heads, [(plan.output.of(&self.home), normed.into())], activations);
        self.add_to_state(device, layer.attention_post_norm.as_ref(), buffers);
    }

    fn feed_forward_part(
        &self,
        device: &H::Device,
        layer: &Layer<H::Device>,
        tokens: usize,
        buffers: &mut Buffers<H::Device>,
    ) {
        device.norm(&layer.feed_forward_norm, &buffers.state, &mut buffers.normed);
        let LayerPlan { feed_forward, gate, .. } = &layer.plan;
        feed_forward.compute(&self.home, device, *gate, (tokens, buffers));
        self.add_to_state(device, layer.feed_forward_post_norm.as_ref(), buffers);
    }

    /// Adds what a part computed to the state, normed where the family says so.
    fn add_to_state(
        &self,
        device: &H::Device,
        norm: Option<&Norm<<H::Device as Device>::Numbers>>,
        buffers: &mut Buffers<H::Device>,
    ) {
        if let Some(norm) = norm {
            device.norm_in_place(norm, &mut buffers.normed);
        }
        device.add(&mut buffers.state, &buffers.normed, self.shape.width as usize);
    }
}

impl<H: Home> Layers for Stage<H> {
    fn hold(
        &mut self,
        host: &Host,
        settings: &LoadSettings,
        tokens: u32,
        layer_memory: &mut LayerMemory,
    ) -> Result<(), OutOfMemory> {
        let range = self.first..self.first + self.layers.len();
        let take = |layer, bytes| self.home.pages(layer, bytes, layer_memory);
        let store = Store::new(&self.shape, settings, range, take)?;
        let device = self.home.device(host);
        let buffers = Buffers::new(device, &self.shape, settings, tokens);
        self.held = Some(Held { store, buffers });
        // A device may give other memory in return for what is brought: then all are as long.
        let widest = self.rotaries.iter().map(|rotary| 2 * rotary.pairs()).max().unwrap_or(0);
        let most = widest * tokens as usize;
        self.brought = Vec::with_capacity(most);
        self.angles = self.rotaries.iter().map(|_| device.room(most)).collect();
        Ok(())
    }

    fn copy_page(&mut self, host: &Host, copy: PageCopy) {
        if let Some(held) = &mut self.held {
            held.store.copy(self.home.device(host), copy);
        }
    }

    fn compute(&mut self, host: &Host, step: &Step<'_>, state: &mut Vec<f32>) -> Duration {
        self.set_angles(host, step.positions);
        let mut held = self.held.take().expect("memory is taken before the first step");
        let device = self.home.device(host);
        device.put(state, &mut held.buffers.state);
        let mut owed = Duration::ZERO;
        for (at, layer) in self.layers.iter().enumerate() {
            let begun = Instant::now();
            self.attention_part(device, at, &mut held, step);
            self.feed_forward_part(device, layer, step.positions.len(), &mut held.buffers);
            owed += self.delay.owed(self.first + at, begun);
            step.between_layers();
        }
        device.take(&mut held.buffers.state, state);
        self.held = Some(held);
        owed
    }

    #[cfg(test)]
    fn page_bytes(&self) -> usize {
        self.held.as_ref().map_or(0, |held| held.store.bytes)
    }
}
