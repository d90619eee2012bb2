//! `deft`: the one binary. Parses, runs one command, turns the outcome into an exit code.
#![forbid(unsafe_code)]

mod arguments;
mod commands;
mod connection;
mod failure;
mod print;

use clap::Parser;

use arguments::Arguments;

fn main() -> std::process::ExitCode {
    let arguments = Arguments::parse();
    match commands::run(arguments) {
        Ok(()) => std::process::ExitCode::SUCCESS,
        Err(failure) => {
            print::failure(&failure);
            failure.exit_code()
        }
    }
}
