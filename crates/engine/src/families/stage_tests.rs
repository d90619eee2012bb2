//! A decoder in several stages, one of them on a device whose memory the host does not access.

use std::num::NonZero;
use std::sync::Arc;

use deft_formats::gguf::StoredModel;
use deft_kernels::{
    CacheRows, Destination, Device, GateCurve, Host, HostPages, Looks, Matrix, Norm, Pairs,
    Product, Routing, Stored,
};
use deft_planning::{CacheType, Weights};

use super::home::Home;
use super::stage::{Layers, Stage};
use super::tests::{cases, golden, ids, run};
use super::transformer::Transformer;
use crate::compute::ComputeSettings;
use crate::layer_memory::{LayerMemory, OutOfMemory};
use crate::mapped::Mapped;
use crate::model::Model;

/// Another device: its numbers are copied from and to the host. It computes with the host's operations.
struct Elsewhere(Host);

/// Numbers that only the device's operations access.
#[derive(Default)]
struct Far(Vec<f32>);

fn near(norm: &Norm<Far>) -> Norm<Vec<f32>> {
    let bias = norm.bias.as_ref().map(|bias| bias.0.clone());
    Norm { weight: norm.weight.0.clone(), bias, epsilon: norm.epsilon }
}

impl Elsewhere {
    /// Runs an operation on the host's form of a routing.
    fn routed(routing: &mut Routing<Far>, work: impl FnOnce(&mut Routing<Vec<f32>>)) {
        let Routing { used, chosen, router, shares, results, starts, rows } =
            std::mem::take(routing);
        let (router, shares, results) = (router.0, shares.0, results.0);
        let mut own = Routing { used, chosen, router, shares, results, starts, rows };
        work(&mut own);
        let Routing { used, chosen, router, shares, results, starts, rows } = own;
        let (router, shares, results) = (Far(router), Far(shares), Far(results));
        *routing = Routing { used, chosen, router, shares, results, starts, rows };
    }
}

impl Device for Elsewhere {
    type Numbers = Far;
    type Stored<'a> = Stored<'a>;
    type Pages = HostPages;
    type Activations = <Host as Device>::Activations;
    type Sums = <Host as Device>::Sums;

    fn room(&self, count: usize) -> Far {
        Far(self.0.room(count))
    }

    fn size(&self, numbers: &mut Far, count: usize) {
        self.0.size(&mut numbers.0, count);
    }

    fn put(&self, values: &mut Vec<f32>, numbers: &mut Far) {
        numbers.0.clear();
        numbers.0.extend_from_slice(values);
        values.fill(f32::NAN);
    }

    fn take(&self, numbers: &mut Far, values: &mut Vec<f32>) {
        values.clear();
        values.extend_from_slice(&numbers.0);
        numbers.0.fill(f32::NAN);
    }

    fn activations(&self, rows: usize, width: usize, floats: bool) -> Self::Activations {
        self.0.activations(rows, width, floats)
    }

    fn sums(&self, rows: usize, positions: usize, value_length: usize) -> Self::Sums {
        self.0.sums(rows, positions, value_length)
    }

    fn multiply<const COUNT: usize>(
        &self,
        x: &Far,
        products: [Product<'_, Self>; COUNT],
        activations: &mut Self::Activations,
    ) {
        let products = products.map(|(matrix, Destination { numbers, from })| {
            (matrix, Destination { numbers: &mut numbers.0, from })
        });
        self.0.multiply(&x.0, products, activations);
    }

    fn write_cache(
        &self,
        cache: &mut CacheRows<HostPages>,
        rows: &Far,
        place: impl Fn(usize) -> (u32, usize) + Sync,
    ) {
        self.0.write_cache(cache, &rows.0, place);
    }

    fn copy_page(&self, cache: &mut CacheRows<HostPages>, from: u32, to: u32, positions: usize) {
        self.0.copy_page(cache, from, to, positions);
    }

    fn attend(
        &self,
        cache: [&CacheRows<HostPages>; 2],
        looks: &Looks<'_>,
        queries: &Far,
        out: &mut Far,
        sums: &mut Self::Sums,
    ) {
        self.0.attend(cache, looks, &queries.0, &mut out.0, sums);
    }

    fn norm(&self, norm: &Norm<Far>, x: &Far, out: &mut Far) {
        self.0.norm(&near(norm), &x.0, &mut out.0);
    }

    fn norm_in_place(&self, norm: &Norm<Far>, rows: &mut Far) {
        self.0.norm_in_place(&near(norm), &mut rows.0);
    }

    fn turn(&self, rows: &mut Far, head_length: usize, pairs: Pairs, angles: &Far, tokens: usize) {
        self.0.turn(&mut rows.0, head_length, pairs, &angles.0, tokens);
    }

    fn gate(&self, curve: GateCurve, gate: &mut Far, up: &Far, width: usize) {
        self.0.gate(curve, &mut gate.0, &up.0, width);
    }

    fn gelu(&self, rows: &mut Far, width: usize) {
        self.0.gelu(&mut rows.0, width);
    }

    fn add(&self, sum: &mut Far, x: &Far, width: usize) {
        self.0.add(&mut sum.0, &x.0, width);
    }

    fn add_to_rows(&self, rows: &mut Far, values: &Far) {
        self.0.add_to_rows(&mut rows.0, &values.0);
    }

    fn choose(
        &self,
        x: &Far,
        router: Matrix<Stored<'_>>,
        routing: &mut Routing<Far>,
        activations: &mut Self::Activations,
    ) {
        Self::routed(routing, |routing| self.0.choose(&x.0, router, routing, activations));
    }

    fn gather(&self, x: &Far, rows: &[u32], width: usize, out: &mut Far) {
        self.0.gather(&x.0, rows, width, &mut out.0);
    }

    fn combine(&self, routing: &mut Routing<Far>, width: usize, out: &mut Far) {
        Self::routed(routing, |routing| self.0.combine(routing, width, &mut out.0));
    }
}

/// Weights in the memory of the other device.
struct Away(Arc<Mapped>, Elsewhere);

impl Home for Away {
    type Device = Elsewhere;

    fn device<'a>(&'a self, _: &'a Host) -> &'a Elsewhere {
        &self.1
    }

    fn stored(&self, part: usize, offset: u64, bytes: u64) -> Stored<'_> {
        self.0.weights(part, offset, bytes)
    }

    fn pages(
        &self,
        layer: usize,
        bytes: usize,
        layer_memory: &mut LayerMemory,
    ) -> Result<HostPages, OutOfMemory> {
        self.0.pages(layer, bytes, layer_memory)
    }
}

#[test]
fn weights_that_each_node_has_give_the_same_bits() {
    let file = golden("models/qwen3moe-q8_0.gguf");
    let compute = ComputeSettings { threads: NonZero::new(3), ..ComputeSettings::default() };
    let prompt: Vec<u32> = (3..40).collect();
    let logits = |layer_memory: LayerMemory| {
        let (mut layer_memory, held) = (layer_memory, Weights::Mapped);
        let model = Model::open_in(&file, 256, &mut layer_memory, held, compute, &mut |_, _| {});
        run(&mut model.unwrap(), &prompt, 7, CacheType::F16).0
    };
    // Two copies on the first node, in place of two nodes.
    assert!(logits(LayerMemory::host()) == logits(LayerMemory::host().with_copies_on(&[0, 0])));
}

#[test]
fn layers_on_several_devices_give_the_bits_of_one() {
    let compute = ComputeSettings::default();
    let mut tried = 0;
    for case in cases(compute.path) {
        let file = golden(&format!("models/{}.gguf", case.name));
        let prompt = ids(&case.facts["prompts"][0]["ids"]);
        let mut model = case.model;
        let (whole, _) = run(&mut model, &prompt, 7, CacheType::F16);
        let StoredModel { header, parts } = StoredModel::read(&file).unwrap();
        let open = || {
            let mut layer_memory = LayerMemory::host();
            Mapped::open(&parts, &header, &mut layer_memory, Weights::Mapped, &mut |_, _| {})
                .unwrap()
        };
        let plan = super::blueprint(&header, 4096).unwrap();
        let layers = plan.layers.len();
        assert!(layers > 1, "{}: a model of one layer shows nothing", case.name);
        let cut = Transformer::in_stages(plan, open(), compute, |plan, file, host| {
            let (layer_memory, home) = (LayerMemory::host(), Arc::clone(file));
            let first = Stage::new(plan, 0..1, home, file, host, &layer_memory)?;
            let away = Away(Arc::clone(file), Elsewhere(compute.host()));
            let second = Stage::new(plan, 1..layers, away, file, host, &layer_memory)?;
            let stages: Vec<Box<dyn Layers>> = vec![Box::new(first), Box::new(second)];
            Ok(stages)
        });
        model.network = Box::new(cut.unwrap());
        let (found, _) = run(&mut model, &prompt, 7, CacheType::F16);
        assert!(found == whole, "{}", case.name);
        tried += 1;
    }
    assert!(tried > 20, "only {tried} models");
}
