//! Parts that families share: the tokens of a step, its results, and the positions that a token sees.

use std::ops::Range;
use std::time::Duration;

use deft_kernels::{Device, Host};
use deft_planning::ModelShape;

use crate::baton::Baton;
use crate::cache::Sequence;

/// Shorter waits are not worth a system call.
const WORTH_WAITING: Duration = Duration::from_micros(50);

/// The tokens of a run whose hidden states are wanted, for logits or embeddings.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Wanted {
    /// None: more of the prompt follows.
    None,
    /// The last token.
    Last,
    /// Every token.
    All,
}

/// The tokens of one sequence in a step.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Run<'a> {
    /// The sequence so far, with room for the tokens.
    pub(crate) sequence: &'a Sequence,
    /// The next tokens.
    pub(crate) tokens: &'a [u32],
    /// Those whose hidden states are wanted.
    pub(crate) wanted: Wanted,
}

impl Wanted {
    /// Number of wanted tokens of `tokens`.
    pub(crate) fn rows(self, tokens: usize) -> usize {
        match self {
            Self::None => 0,
            Self::Last => 1,
            Self::All => tokens,
        }
    }
}

impl Run<'_> {
    /// Number of wanted tokens.
    pub(super) fn wanted_rows(&self) -> usize {
        self.wanted.rows(self.tokens.len())
    }
}

/// Run and position of a token of a step.
#[derive(Debug, Clone, Copy)]
pub(super) struct TokenPosition {
    pub(super) run: usize,
    pub(super) position: usize,
}

/// State between the stages of a step, and its results; reused from step to step.
#[derive(Default)]
pub(crate) struct Workspace {
    /// Logits, `wanted rows x vocabulary`.
    pub(crate) logits: Vec<f32>,
    /// Hidden states of the wanted tokens after the last norm, `tokens x width`, run by run.
    pub(crate) wanted: Vec<f32>,
    pub(super) positions: Vec<TokenPosition>,
    /// State of all tokens, `tokens x width`, between two stages.
    pub(super) state: Vec<f32>,
    /// The baton, if other processes compute too.
    pub(crate) baton: Option<Baton>,
}

impl Workspace {
    /// Space for steps of up to `tokens` tokens, with logits of `rows` tokens at a time. It is touched now, so that measured
    /// memory includes it.
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

    /// Waits for the time by which simulated accelerators are slower than the processor; others may compute meanwhile.
    pub(super) fn wait(&self, delay: Duration) {
        if delay < WORTH_WAITING {
            return;
        }
        match &self.baton {
            Some(baton) => baton.without(|| std::thread::sleep(delay)),
            None => std::thread::sleep(delay),
        }
    }

    /// Sets run and position of each token.
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

/// The range of positions that a token sees.
#[derive(Debug, Clone, Copy)]
pub(super) enum Sight {
    /// Itself and all earlier ones.
    Back,
    /// A window: itself and the ones before it, this many in all.
    Window(u32),
    /// All tokens of an input of this length.
    Around(usize),
}

impl Sight {
    /// Length of the window, if there is one.
    pub(super) fn window(self) -> Option<u32> {
        match self {
            Self::Window(tokens) => Some(tokens),
            Self::Back | Self::Around(_) => None,
        }
    }
}

/// How a layer attends to other tokens.
#[derive(Debug, Clone, Copy)]
pub(super) struct View {
    pub(super) sight: Sight,
    /// Factor of the scores.
    pub(super) scale: f32,
    /// Scores are softly limited to plus and minus this.
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
