//! Parts that families share: what a step is, what it results in, and what a token sees.

use std::ops::Range;
use std::time::Duration;

use deft_kernels::{Device, Host};
use deft_planning::ModelShape;

use crate::baton::Baton;
use crate::cache::Sequence;

/// Shorter waits are not worth a system call.
const WORTH_WAITING: Duration = Duration::from_micros(50);

/// Which tokens of a run are asked for: their hidden states are kept, for logits or embeddings.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Wanted {
    /// None: more of the prompt follows.
    None,
    /// The last token.
    Last,
    /// Every token.
    All,
}

/// One sequence's share of a step.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Run<'a> {
    /// What it holds so far; there is room for the tokens.
    pub(crate) sequence: &'a Sequence,
    /// The next tokens.
    pub(crate) tokens: &'a [u32],
    /// Which of them are asked for.
    pub(crate) wanted: Wanted,
}

impl Wanted {
    /// How many of so many tokens are asked for.
    pub(crate) fn rows(self, tokens: usize) -> usize {
        match self {
            Self::None => 0,
            Self::Last => 1,
            Self::All => tokens,
        }
    }
}

impl Run<'_> {
    /// Number of tokens asked for.
    pub(super) fn wanted_rows(&self) -> usize {
        self.wanted.rows(self.tokens.len())
    }
}

/// Where a token of a step belongs.
#[derive(Debug, Clone, Copy)]
pub(super) struct TokenPosition {
    pub(super) run: usize,
    pub(super) position: usize,
}

/// What stands between the stages of a step, and what results; reused from step to step.
#[derive(Default)]
pub(crate) struct Workspace {
    /// Logits, `rows asked for x vocabulary`.
    pub(crate) logits: Vec<f32>,
    /// Hidden states of the tokens asked for after the last norm, `tokens x width`, run by run.
    pub(crate) wanted: Vec<f32>,
    pub(super) positions: Vec<TokenPosition>,
    /// The state of all tokens, `tokens x width`, where it is on its way from one stage to the next.
    pub(super) state: Vec<f32>,
    /// The permission to compute, where others compute too.
    pub(crate) baton: Option<Baton>,
}

impl Workspace {
    /// Space for steps of up to `tokens` tokens, of which logits of `rows` are computed at a time; touched now so that its
    /// memory is measured.
    #[must_use]
    pub(crate) fn new(host: &Host, shape: &ModelShape, tokens: u32, rows: u32) -> Self {
        let space = |rows: u32, width: u32| host.room(rows as usize * width as usize);
        Self {
            logits: space(rows, shape.vocabulary),
            wanted: space(tokens, shape.width),
            positions: Vec::with_capacity(tokens as usize),
            state: space(tokens, shape.width),
            baton: None,
        }
    }

    /// Waits for what simulated accelerators are slower than the processor; others may compute meanwhile.
    pub(super) fn wait(&self, owed: Duration) {
        if owed < WORTH_WAITING {
            return;
        }
        match &self.baton {
            Some(baton) => baton.without(|| std::thread::sleep(owed)),
            None => std::thread::sleep(owed),
        }
    }

    /// Notes where each token of the runs belongs.
    pub(super) fn place(&mut self, runs: &[Run<'_>]) {
        self.positions.clear();
        for (run, found) in runs.iter().enumerate() {
            let start = found.sequence.length();
            self.positions.extend(
                (0..found.tokens.len()).map(|at| TokenPosition { run, position: start + at }),
            );
        }
    }
}

/// What a token sees.
#[derive(Debug, Clone, Copy)]
pub(super) enum Sight {
    /// Itself and all before it.
    Back,
    /// Itself and so many minus one before it.
    Window(u32),
    /// All of so many tokens.
    Around(usize),
}

impl Sight {
    /// The window's tokens, where there is one.
    pub(super) fn window(self) -> Option<u32> {
        match self {
            Self::Window(tokens) => Some(tokens),
            Self::Back | Self::Around(_) => None,
        }
    }
}

/// How a layer looks at other tokens.
#[derive(Debug, Clone, Copy)]
pub(super) struct View {
    pub(super) sight: Sight,
    /// Factor on scores.
    pub(super) scale: f32,
    /// Scores are squeezed between plus and minus this.
    pub(super) cap: Option<f32>,
}

impl View {
    /// Positions that a token sees.
    pub(super) fn seen(&self, position: usize) -> Range<usize> {
        let end = position + 1;
        match self.sight {
            Sight::Back => 0..end,
            Sight::Window(tokens) => end.saturating_sub(tokens as usize)..end,
            Sight::Around(tokens) => 0..tokens,
        }
    }
}
