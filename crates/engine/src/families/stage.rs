//! A stage: a range of layers on one device, with their weights, their pages and the buffers of a step. Only the state of
//! the tokens crosses from one stage to the next.

use std::ops::Range;
use std::time::{Duration, Instant};

use deft_kernels::{Device, Host, Norm};
use deft_planning::{LoadSettings, ModelShape};

use super::blueprint::{Blueprint, LayerPlan, Projection};
use super::buffers::{Buffers, Step};
use super::home::Home;
use super::parts::{TokenPosition, View};
use super::rotary::Rotary;
use super::tensors::VectorPlace;
use crate::cache::{PageCopy, Store};
use crate::layer_memory::{AcceleratorDelay, LayerMemory, OutOfMemory};
use crate::load_error::LoadError;
use crate::mapped::Mapped;

/// A stage on any device.
pub(super) trait Layers: Send {
    /// Allocates pages and buffers, for steps of up to `tokens` tokens.
    fn hold(
        &mut self,
        host: &Host,
        settings: &LoadSettings,
        tokens: u32,
        layer_memory: &mut LayerMemory,
    ) -> Result<(), OutOfMemory>;

    /// Copies the beginning of a page.
    fn copy_page(&mut self, host: &Host, copy: PageCopy);

    /// Computes the layers of a step. `state`, `tokens x width`, becomes the input of the next stage. Returns the time for
    /// which a simulated accelerator would still compute.
    fn compute(&mut self, host: &Host, step: &Step<'_>, state: &mut Vec<f32>) -> Duration;

    /// Bytes of its pages.
    #[cfg(test)]
    fn page_bytes(&self) -> usize;
}

/// A range of a decoder's layers.
pub(super) struct Stage<H: Home> {
    home: H,
    layers: Vec<Layer<H::Device>>,
    /// Index of the first layer.
    first: usize,
    shape: ModelShape,
    /// The different rotary embeddings; most models have one for all layers.
    rotaries: Vec<Rotary>,
    /// Angles of the step's tokens for each rotary embedding, and the buffer in which they are transferred.
    angles: Vec<<H::Device as Device>::Numbers>,
    brought: Vec<f32>,
    score_scale: f32,
    score_cap: Option<f32>,
    delay: AcceleratorDelay,
    held: Option<Held<H::Device>>,
}

/// The memory of a stage, besides its weights.
struct Held<D: Device> {
    store: Store<D>,
    buffers: Buffers<D>,
}

/// A layer: its plan, whose matrices stay in the mapped file, and its vectors.
struct Layer<D: Device> {
    plan: LayerPlan,
    /// Index of its rotary embedding.
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
    /// Makes a stage of some of a blueprint's layers.
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

    /// Computes the angles of all tokens of a step.
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
            // Each head is a row.
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

    /// Adds the result of a part to the state, after a norm if the family has one.
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
        // A device may return other memory of the same length.
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
        let mut delay = Duration::ZERO;
        for (at, layer) in self.layers.iter().enumerate() {
            let begun = Instant::now();
            self.attention_part(device, at, &mut held, step);
            self.feed_forward_part(device, layer, step.positions.len(), &mut held.buffers);
            delay += self.delay.remaining(self.first + at, begun);
            step.between_layers();
        }
        device.take(&mut held.buffers.state, state);
        self.held = Some(held);
        delay
    }

    #[cfg(test)]
    fn page_bytes(&self) -> usize {
        self.held.as_ref().map_or(0, |held| held.store.bytes)
    }
}
