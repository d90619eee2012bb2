//! The commands, one file each.

mod answer;
mod ask;
mod batch;
mod calls;
mod child;
mod config;
mod console;
mod depot;
mod engine;
mod load;
mod model;
mod offers;
mod profile;
mod read_headers;
mod service;
mod side_by_side;
mod snippet;
mod source;
mod status;
mod talk;
mod trace;
mod transfers;
mod watch;

use std::future::Future;

use clap_complete::Shell;

use crate::arguments::{Arguments, Command, completion_script};
use crate::documents;
use crate::failure::Failure;
use crate::print;

/// Runs one command.
pub(crate) fn run(arguments: Arguments) -> Result<(), Failure> {
    let Arguments { common, command } = arguments;
    match command {
        Command::Engine { parent } => engine::run(parent),
        Command::ReadHeaders { parent } => read_headers::run(parent),
        Command::Config => config::run(&common),
        Command::Console { open } => wait_for(console::run(&common, open)),
        Command::Service(command) => service::run(&common, command),
        Command::Depot(command) => wait_for(depot::run(&common, command)),
        Command::Source(command) => wait_for(source::run(&common, command)),
        Command::Transfers(command) => wait_for(transfers::run(&common, &command)),
        Command::Plan(command) => wait_for(load::plan(&common, &command)),
        Command::Load(command) => wait_for(load::load(&common, &command)),
        Command::Unload(command) => wait_for(load::unload(&common, &command)),
        Command::Limit { pool, limit } => wait_for(load::limit(&common, &pool, &limit)),
        Command::Status { why } => wait_for(status::run(&common, why)),
        Command::Watch => wait_for(watch::run(&common)),
        Command::Ask(command) => wait_for(ask::run(&common, command)),
        Command::Talk(command) => wait_for(talk::run(&common, command)),
        Command::Profile(command) => wait_for(profile::run(&common, command)),
        Command::Trace(command) => wait_for(trace::run(&common, &command)),
        Command::Batch(command) => wait_for(batch::run(&common, &command)),
        Command::Snippet(command) => wait_for(snippet::run(&common, &command)),
        Command::Calls(command) => wait_for(calls::run(&common, &command)),
        Command::Completions { shell } => completions(shell),
        Command::Documents { man: Some(folder), .. } => documents::write_man_pages(&folder),
        Command::Documents { .. } => {
            print::out(&documents::help_page());
            Ok(())
        }
    }
}

/// Prints the script that makes a shell ask this program for completions.
fn completions(shell: Shell) -> Result<(), Failure> {
    print::out(&completion_script(shell)?);
    Ok(())
}

/// Runs a future to its end.
fn wait_for<T>(future: impl Future<Output = Result<T, Failure>>) -> Result<T, Failure> {
    tokio::runtime::Builder::new_multi_thread()
        .worker_threads(2)
        .enable_all()
        .build()
        .map_err(Failure::from)?
        .block_on(future)
}
