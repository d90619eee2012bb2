//! Errors of calls whose engine process or caller fails.

use deft_protocol::engine::FrameError;
use deft_protocol::{Problem, ProblemKind};

use super::unread::{MOST_UNREAD, MOST_UNREAD_BYTES};

/// The error of a call that is too large for the link.
pub(crate) fn too_large(error: &FrameError) -> Problem {
    Problem::new(ProblemKind::Invalid, "request_too_large", format!("the call is refused: {error}"))
        .with_way_out("send fewer messages, tools or inputs at once")
}

/// The error of a call for which the engine process sent an invalid message.
pub(super) fn odd() -> Problem {
    let detail = "the reply of the engine process cannot be read";
    Problem::new(ProblemKind::Fault, "engine_odd", detail)
        .with_way_out("read the reason in the log: deft service logs")
}

/// The error of a call whose caller does not read its answer.
pub(super) fn unread() -> Problem {
    let detail = format!(
        "more than {MOST_UNREAD} pieces or {} MiB of the answer were not read; the call is ended",
        MOST_UNREAD_BYTES >> 20
    );
    Problem::new(ProblemKind::Refused, "answer_unread", detail)
        .with_way_out("read the answer while it is streamed, or limit it with `max_tokens`")
}

/// The error of a call whose engine process ended.
pub(crate) fn engine_lost(name: &str) -> Problem {
    Problem::new(
        ProblemKind::Fault,
        "engine_ended",
        format!("the engine process of `{name}` ended during the answer"),
    )
    .with_way_out(
        "it is being restarted; send the request again. Read the reason in the log: deft service logs",
    )
}
