//! The computation of a decoder: token embedding, then the stages with its layers, then output norm and logits.

use std::ops::Range;
use std::sync::Arc;
use std::time::Duration;

use deft_kernels::{Device, Host, Norm};
use deft_planning::{LoadSettings, ModelShape};
use smallvec::SmallVec;

use super::blueprint::Blueprint;
use super::buffers::Step;
use super::network::Network;
use super::parts::{Run, Workspace};
use super::stage::{Layers, Stage};
use super::tensors::MatrixPlace;
use crate::cache::PageCopy;
use crate::compute::ComputeSettings;
use crate::layer_memory::{LayerMemory, OutOfMemory};
use crate::load_error::LoadError;
use crate::mapped::Mapped;

/// A decoder whose file is open and whose layers are in memory.
pub(super) struct Transformer {
    host: Host,
    file: Arc<Mapped>,
    shape: ModelShape,
    embedding: MatrixPlace,
    embedding_scale: f32,
    output_norm: Norm<Vec<f32>>,
    output: MatrixPlace,
    logit_cap: Option<f32>,
    stages: Vec<Box<dyn Layers>>,
    /// Activations of the output matrix.
    activations: <Host as Device>::Activations,
}

impl Transformer {
    /// Opens a decoder with all layers in one stage, on the host.
    pub(super) fn new(
        plan: Blueprint,
        file: Mapped,
        layer_memory: &LayerMemory,
        compute: ComputeSettings,
    ) -> Result<Self, LoadError> {
        Self::in_stages(plan, file, compute, |plan, file, host| {
            let (all, home) = (0..plan.layers.len(), Arc::clone(file));
            Ok(vec![Box::new(Stage::new(plan, all, home, file, host, layer_memory)?)])
        })
    }

    /// Opens a decoder with its layers in the stages that `cut` makes.
    pub(super) fn in_stages(
        mut plan: Blueprint,
        file: Mapped,
        compute: ComputeSettings,
        cut: impl FnOnce(&mut Blueprint, &Arc<Mapped>, &Host) -> Result<Vec<Box<dyn Layers>>, LoadError>,
    ) -> Result<Self, LoadError> {
        let (host, file) = (compute.host(), Arc::new(file));
        let stages = cut(&mut plan, &file, &host)?;
        let weight = plan.output_norm.load(&file)?;
        Ok(Self {
            shape: plan.shape,
            embedding: plan.embedding,
            embedding_scale: plan.embedding_scale,
            output_norm: Norm { weight, bias: None, epsilon: plan.epsilon },
            output: plan.output,
            logit_cap: plan.logit_cap,
            stages,
            activations: host.activations(0, 0, false),
            host,
            file,
        })
    }

    /// Writes the embeddings of all tokens of a step to `work.state`.
    fn embed(&self, runs: &[Run<'_>], work: &mut Workspace) {
        let width = self.shape.width as usize;
        work.state.resize(work.positions.len() * width, 0.0);
        let (positions, file) = (&work.positions, &*self.file);
        let (embedding, scale) = (&self.embedding, self.embedding_scale);
        self.host.rows(&mut work.state, width, |row, state| {
            let place = positions[row];
            let run = &runs[place.run];
            let token = run.tokens[place.position - run.sequence.length()];
            embedding.decode_row(file, token as usize, state);
            state.iter_mut().for_each(|value| *value *= scale);
        });
    }

    /// Writes the normed states of the tokens whose logits are wanted to `work.wanted`.
    fn keep_wanted(&self, runs: &[Run<'_>], work: &mut Workspace) {
        let width = self.shape.width as usize;
        let rows: usize = runs.iter().map(Run::wanted_rows).sum();
        work.wanted.resize(rows * width, 0.0);
        let (mut out, mut states) = (&mut work.wanted[..], &work.state[..]);
        for run in runs {
            let (own, after) = states.split_at(run.tokens.len() * width);
            states = after;
            let own = &own[own.len() - run.wanted_rows() * width..];
            let (normed, rest) = out.split_at_mut(own.len());
            self.host.norm_rows(&self.output_norm, own, normed);
            out = rest;
        }
    }
}

impl Network for Transformer {
    fn shape(&self) -> &ModelShape {
        &self.shape
    }

    fn host(&self) -> &Host {
        &self.host
    }

    fn hold(
        &mut self,
        settings: &LoadSettings,
        tokens: u32,
        layer_memory: &mut LayerMemory,
    ) -> Result<(), OutOfMemory> {
        let (rows, width) = (settings.lanes as usize, self.shape.width as usize);
        self.activations = self.host.activations(rows, width, self.shape.floats);
        for stage in &mut self.stages {
            stage.hold(&self.host, settings, tokens, layer_memory)?;
        }
        Ok(())
    }

    fn copy_page(&mut self, copy: PageCopy) {
        for stage in &mut self.stages {
            stage.copy_page(&self.host, copy);
        }
    }

    fn step(&mut self, runs: &[Run<'_>], work: &mut Workspace) {
        work.place(runs);
        self.embed(runs, work);
        let tables: SmallVec<[&[u32]; 32]> = runs.iter().map(|run| run.sequence.pages()).collect();
        let Workspace { positions, baton, state, .. } = work;
        let step = Step { positions, tables: &tables, baton: baton.as_ref() };
        let mut delay = Duration::ZERO;
        for stage in &mut self.stages {
            delay += stage.compute(&self.host, &step, state);
        }
        work.wait(delay);
        self.keep_wanted(runs, work);
    }

    fn logits(&mut self, rows: Range<usize>, work: &mut Workspace) {
        let width = self.shape.width as usize;
        work.logits.resize(rows.len() * self.shape.vocabulary as usize, 0.0);
        let states = &work.wanted[rows.start * width..rows.end * width];
        let product = (self.output.of(&self.file), &mut work.logits[..]);
        self.host.multiply_rows(states, [product], &mut self.activations);
        if let Some(cap) = self.logit_cap {
            self.host.soft_cap(&mut work.logits, cap);
        }
    }

    #[cfg(test)]
    fn page_bytes(&self) -> usize {
        self.stages.iter().map(|stage| stage.page_bytes()).sum()
    }
}
