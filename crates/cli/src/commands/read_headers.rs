//! `deft read-headers`: a process that reads the headers of one model. It has no files: it requests their
//! bytes over the link that is its standard input.

use std::io::BufReader;

use deft_depot::headers::link;
use deft_engine::confine::{self, Allowed};

use super::child;
use crate::failure::Failure;

/// Most address space in bytes: four times what a header may take.
const MEMORY: u64 = 1 << 30;
/// Longest time on a processor, in seconds.
const SECONDS: u64 = 30;

pub(super) fn run(parent: u32) -> Result<(), Failure> {
    let stream = child::link_to(parent)?;
    let allowed = Allowed { files: Vec::new(), memory: Some(MEMORY), seconds: Some(SECONDS) };
    // What a kernel does not offer is left out, as with an engine process, whose log says so.
    confine::confine(&allowed).map_err(Failure::fault)?;
    let from = BufReader::new(stream.try_clone()?);
    Ok(link::serve(from, stream)?)
}
