//! What the depot has.

use deft_depot::FileRole;
use deft_protocol::manage::Variant;

use crate::records::calls::Use;
use crate::records::variants::Registered;

pub(crate) fn variant(registered: &Registered, loaded: bool, used: Use) -> Variant {
    Variant {
        name: registered.name.to_string(),
        model: registered.name.model.clone(),
        variant: registered.name.variant.clone(),
        path: registered.path.display().to_string(),
        file_bytes: registered.stamp.bytes,
        registered_at: registered.registered_at,
        loaded,
        stored: registered.stored,
        last_used: used.last,
        calls: used.calls,
        facts: registered.facts.clone(),
    }
}

/// What a file is for, in a word.
pub(crate) const fn role(role: FileRole) -> &'static str {
    match role {
        FileRole::Weights => "weights",
        FileRole::Projector => "projector",
        FileRole::Config => "config",
        FileRole::Template => "template",
    }
}
