//! End to end: the real program, a real PostgreSQL, real engine processes, the real client, and the
//! console in a real browser. Each test has a service of its own, in a folder of its own.
#![expect(
    clippy::unwrap_used,
    clippy::print_stderr,
    reason = "a test that panics has failed, and what it prints helps to see why"
)]

mod access;
mod accuracy;
mod answers;
mod batches;
mod browser;
mod calls;
mod changes;
mod clients;
mod command_line;
mod console;
mod conversations;
mod crashes;
mod database;
mod depot;
mod depot_safety;
mod documents;
mod fetching;
mod finding;
mod guard;
mod headers;
mod keeping;
mod killed;
mod loads;
mod permission;
mod pools;
mod processes;
mod profiles;
mod protocol;
mod queue;
mod record_faults;
mod restored;
mod room;
mod service;
mod snippets;
mod sources;
mod strangers;
mod talk;
mod tokens;
mod tools;
mod tracing;
mod watching;
mod world;
