//! Errors of the depot and of sources as problems, each with its kind and code, and a way out where there is one.

use std::time::Duration;

use deft_depot::{DepotError, NamedFileError, RemoteError, Source, SourceError, StoreError};
use deft_protocol::{Problem, ProblemKind};

use crate::loading::refusals;

/// A name that belongs to something else already.
pub(crate) fn name_taken(detail: String, way_out: String) -> Problem {
    Problem::new(ProblemKind::Refused, "name_taken", detail).with_way_out(way_out)
}

pub(crate) fn depot_problem(error: &DepotError) -> Problem {
    let (kind, code) = match error {
        DepotError::NoFile { .. } => (ProblemKind::Missing, "file_missing"),
        DepotError::NotAFile { .. } => (ProblemKind::Invalid, "not_a_file"),
        DepotError::Read { .. } => (ProblemKind::Invalid, "file_unreadable"),
        DepotError::Refused { .. } => (ProblemKind::Refused, "file_refused"),
        DepotError::Changed { .. } => (ProblemKind::Refused, refusals::FILE_CHANGED),
        DepotError::Checkpoint { .. } => (ProblemKind::Refused, "file_refused"),
        DepotError::Unconverted { .. } => (ProblemKind::Refused, "not_converted"),
        DepotError::Link(_) => (ProblemKind::Refused, "link_refused"),
        DepotError::NotAProjector { .. } => (ProblemKind::Refused, "projector_unusable"),
        DepotError::NotATemplate { .. } => (ProblemKind::Refused, "template_unusable"),
    };
    Problem::new(kind, code, error.to_string())
}

pub(crate) fn store_problem(error: &StoreError) -> Problem {
    let (kind, code) = match error {
        StoreError::Locked(_) => (ProblemKind::Refused, "depot_locked"),
        StoreError::Io { .. } => (ProblemKind::Fault, "depot_io"),
        StoreError::NoSpace { .. } => (ProblemKind::Refused, "disk_full"),
        StoreError::Cancelled => (ProblemKind::Refused, "cancelled"),
        StoreError::Taken(_) => (ProblemKind::Refused, "name_taken"),
        StoreError::NoVariant(_) => (ProblemKind::Missing, "not_stored"),
        StoreError::FileThere(_) => (ProblemKind::Refused, "file_there"),
        StoreError::Named(NamedFileError::Absent(_)) => (ProblemKind::Missing, "file_missing"),
        StoreError::Named(NamedFileError::Link { .. }) => (ProblemKind::Refused, "link_refused"),
        StoreError::Named(_) => (ProblemKind::Invalid, "file_unreadable"),
        StoreError::NotUnderstood { .. }
        | StoreError::OtherForm { .. }
        | StoreError::MarkerUnusable { .. } => (ProblemKind::Refused, "not_understood"),
    };
    Problem::new(kind, code, error.to_string())
}

/// The problem of a source's error, with the way out.
pub(crate) fn source_problem(error: &SourceError, source: Option<&Source>) -> Problem {
    let problem = |kind, code: &str| Problem::new(kind, code, error.to_string());
    match error {
        SourceError::Remote(error) => remote_problem(error, source),
        SourceError::Index(_) => problem(ProblemKind::Refused, "index_unusable"),
        SourceError::Folder(error) => depot_problem(error),
        SourceError::NoModel { .. } => problem(ProblemKind::Missing, "no_offer")
            .with_way_out("search the sources: deft depot search WORDS"),
        SourceError::Several { .. } => problem(ProblemKind::Invalid, "offer_ambiguous")
            .with_way_out("name the variant too: SOURCE:MODEL/VARIANT"),
        SourceError::NotListed { source_name } => problem(ProblemKind::Refused, "not_listed")
            .with_way_out(format!(
                "name a repository: deft depot preview {source_name}:REPOSITORY"
            )),
        SourceError::Git { .. } => problem(ProblemKind::Fault, "git_failed"),
        SourceError::GitSentOn { .. } => problem(ProblemKind::Refused, "source_sends_on"),
        SourceError::Registry { .. } => problem(ProblemKind::Refused, "registry_unusable"),
        SourceError::Wrong(_) => problem(ProblemKind::Refused, "offer_unusable"),
    }
}

/// Why another machine's file cannot be had, with the way out.
pub(crate) fn remote_problem(error: &RemoteError, source: Option<&Source>) -> Problem {
    let problem = |kind, code: &str| Problem::new(kind, code, error.to_string());
    let token = || match source {
        Some(Source { name, address, .. }) => {
            format!("set a token: deft source add {name} '{address}' --ask-token")
        }
        None => {
            "add the address as a source with a token: deft source add NAME ADDRESS --ask-token"
                .to_owned()
        }
    };
    let later = |problem: Problem, later: Option<Duration>| match later {
        None => problem,
        Some(later) => {
            let seconds = u32::try_from(later.as_secs()).unwrap_or(u32::MAX);
            problem.retry_after(seconds)
        }
    };
    match error {
        RemoteError::Unauthorized { .. } => {
            problem(ProblemKind::Refused, "token_refused").with_way_out(token())
        }
        RemoteError::Forbidden { .. } => {
            problem(ProblemKind::Refused, "access_refused").with_way_out(token())
        }
        RemoteError::NotFound { .. } => problem(ProblemKind::Missing, "not_there"),
        RemoteError::TooMany { later: when, .. } => {
            later(problem(ProblemKind::Busy, "asked_too_often"), *when)
        }
        RemoteError::Status { later: when, .. } => {
            later(problem(ProblemKind::Busy, "place_troubled"), *when)
        }
        RemoteError::Unreachable { .. } => problem(ProblemKind::Down, "place_unreachable")
            .with_way_out("what was downloaded is kept; retry when the address can be reached"),
        RemoteError::Store(error) => store_problem(error),
        RemoteError::Cancelled => problem(ProblemKind::Refused, "cancelled"),
        RemoteError::SecretUnusable => problem(ProblemKind::Invalid, "token_unusable"),
        RemoteError::CaFile { .. } | RemoteError::Setup(_) => {
            problem(ProblemKind::Fault, "connections_impossible")
        }
        RemoteError::WrongDigest { .. } => problem(ProblemKind::Refused, "digest_wrong")
            .with_way_out("retry; if it fails again, tell the operator of that source"),
        RemoteError::RangeRefused { .. } | RemoteError::Changed { .. } => {
            problem(ProblemKind::Refused, "content_changing").with_way_out("retry later")
        }
        RemoteError::RedirectLoop { .. }
        | RemoteError::Downgrade { .. }
        | RemoteError::Page { .. }
        | RemoteError::Confused { .. }
        | RemoteError::WrongLength { .. }
        | RemoteError::Empty { .. } => problem(ProblemKind::Refused, "content_unusable"),
    }
}
