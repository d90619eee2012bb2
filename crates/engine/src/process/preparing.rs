//! Rendering and tokenising prompts, on a separate thread: a long prompt takes seconds, and other answers continue
//! meanwhile.

use std::panic::{AssertUnwindSafe, catch_unwind};
use std::sync::mpsc::{Receiver, Sender};
use std::sync::{Arc, Weak};

use deft_protocol::engine::{CallOrder, EmbedOrder, TokenizeOrder};

use super::Received;
use crate::lane::{CallError, Embedding, Prepared, Tokenized, prepare};
use crate::model::Words;

/// Something to prepare.
#[derive(Debug)]
pub(super) enum Order {
    Call(Box<CallOrder>),
    Embed(EmbedOrder),
    Tokenize(Box<TokenizeOrder>),
}

impl Order {
    pub(super) fn call(&self) -> u64 {
        match self {
            Self::Call(order) => order.call,
            Self::Tokenize(order) => order.of.call,
            Self::Embed(order) => order.call,
        }
    }

    /// Prepares it.
    pub(super) fn prepare(self, words: &Words, context: usize) -> Result<Ready, CallError> {
        match self {
            Self::Call(order) => Ok(Ready::Call(Box::new(prepare(words, *order, context)?))),
            Self::Embed(order) => Ok(Ready::Embed(Embedding::new(words, &order, context)?)),
            Self::Tokenize(order) => Ok(Ready::Tokens(Tokenized::new(words, *order)?)),
        }
    }
}

/// A prepared order.
pub(crate) enum Ready {
    Call(Box<Prepared>),
    Embed(Embedding),
    Tokens(Tokenized),
}

/// Represents a call that is being prepared. Dropping it means that the call is not wanted any more.
#[derive(Debug)]
pub(crate) struct Ticket {
    pub(crate) call: u64,
    _wanted: Arc<()>,
}

impl Ticket {
    /// A ticket, and a reference that shows whether it still exists.
    pub(super) fn new(call: u64) -> (Self, Weak<()>) {
        let wanted = Arc::new(());
        let watched = Arc::downgrade(&wanted);
        (Self { call, _wanted: wanted }, watched)
    }
}

/// An order to prepare, unless its ticket is dropped.
#[derive(Debug)]
pub(super) struct ToPrepare {
    order: Order,
    wanted: Weak<()>,
}

/// An order, with a reference to its ticket.
pub(super) fn ticket(order: Order) -> (Ticket, ToPrepare) {
    let (ticket, wanted) = Ticket::new(order.call());
    (ticket, ToPrepare { order, wanted })
}

/// Runs the work of a thread. A panic is reported to the receiver of messages, because calls would wait for ever.
pub(super) fn or_report(messages: &Sender<Received>, work: impl FnOnce()) {
    if catch_unwind(AssertUnwindSafe(work)).is_err() {
        let _ = messages.send(Received::Broken);
    }
}

/// Prepares orders as they arrive, until there is no sender or no receiver.
pub(super) fn prepare_all(
    words: &Words,
    context: usize,
    orders: &Receiver<ToPrepare>,
    ready: &Sender<Received>,
) {
    for ToPrepare { order, wanted } in orders {
        // Its caller has disconnected.
        if wanted.strong_count() == 0 {
            continue;
        }
        let call = order.call();
        let prepared = order.prepare(words, context);
        if ready.send(Received::Prepared { call, prepared }).is_err() {
            return;
        }
    }
}
