//! `deft`: the one binary. Parses, runs one command, turns the outcome into an exit code.
#![forbid(unsafe_code)]

mod arguments;
mod commands;
mod connection;
mod documents;
mod failure;
mod ids;
mod print;

use std::process::ExitCode;

use clap::Parser;

use arguments::Arguments;
use failure::Failure;

fn main() -> ExitCode {
    arguments::complete();
    let words = || std::env::args().skip(1);
    let arguments = match Arguments::try_parse() {
        Ok(arguments) => arguments,
        Err(error) if error.use_stderr() && words().any(|word| word == "--json") => {
            let failure = Failure::usage(error.to_string().trim_end().to_owned());
            print::failure_as(&failure, true);
            return failure.exit_code();
        }
        Err(error) => error.exit(),
    };
    arguments::note_renamed(words());
    let as_json = arguments.common.json;
    match commands::run(arguments) {
        Ok(()) => ExitCode::SUCCESS,
        Err(failure) => {
            print::failure_as(&failure, as_json);
            failure.exit_code()
        }
    }
}
