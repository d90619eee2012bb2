//! Prompts are rendered and cut into tokens on a thread of their own: a long one takes seconds, in which the
//! others' answers go on.

use std::panic::{AssertUnwindSafe, catch_unwind};
use std::sync::mpsc::{Receiver, Sender};
use std::sync::{Arc, Weak};

use deft_protocol::engine::{CallOrder, EmbedOrder};

use super::Received;
use crate::lane::{CallError, Embedding, Prepared, prepare};
use crate::model::Words;

/// Something to be prepared.
#[derive(Debug)]
pub(super) enum Order {
    Call(Box<CallOrder>),
    Embed(EmbedOrder),
}

impl Order {
    pub(super) fn call(&self) -> u64 {
        match self {
            Self::Call(order) => order.call,
            Self::Embed(order) => order.call,
        }
    }

    /// Does it.
    pub(super) fn prepare(self, words: &Words, context: usize) -> Result<Ready, CallError> {
        match self {
            Self::Call(order) => Ok(Ready::Call(Box::new(prepare(words, *order, context)?))),
            Self::Embed(order) => Ok(Ready::Embed(Embedding::new(words, &order, context)?)),
        }
    }
}

/// What was prepared.
pub(crate) enum Ready {
    Call(Box<Prepared>),
    Embed(Embedding),
}

/// Keeps the place of a call that is being prepared. When it is dropped, nobody waits for the call any more.
#[derive(Debug)]
pub(crate) struct Ticket {
    pub(crate) call: u64,
    _wanted: Arc<()>,
}

impl Ticket {
    /// A ticket, and what tells whether it is still there.
    pub(super) fn new(call: u64) -> (Self, Weak<()>) {
        let wanted = Arc::new(());
        let watched = Arc::downgrade(&wanted);
        (Self { call, _wanted: wanted }, watched)
    }
}

/// What is to be prepared, as long as somebody waits for it.
#[derive(Debug)]
pub(super) struct ToPrepare {
    order: Order,
    wanted: Weak<()>,
}

/// An order, and the ticket of whoever waits for it.
pub(super) fn ticket(order: Order) -> (Ticket, ToPrepare) {
    let (ticket, wanted) = Ticket::new(order.call());
    (ticket, ToPrepare { order, wanted })
}

/// Does the work of a thread; should it panic, whoever takes messages is told, for calls would wait for ever.
pub(super) fn or_tell(messages: &Sender<Received>, work: impl FnOnce()) {
    if catch_unwind(AssertUnwindSafe(work)).is_err() {
        let _ = messages.send(Received::Broken);
    }
}

/// Prepares orders as they come, until nobody sends any or takes what is ready.
pub(super) fn prepare_all(
    words: &Words,
    context: usize,
    orders: &Receiver<ToPrepare>,
    ready: &Sender<Received>,
) {
    for ToPrepare { order, wanted } in orders {
        // Its caller left before its turn came.
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
