//! The command line, as clap parses it.

mod answering;
mod completing;
mod depot;
mod loading;
mod profile;
mod renamed;
mod service;
mod source;
mod tracing;

use std::path::PathBuf;

use clap::{Args, Parser, Subcommand};
use clap_complete::Shell;

pub(crate) use answering::{Answering, Ask, Batch, Snippet, Talk};
pub(crate) use completing::{complete, completion_script};
pub(crate) use depot::{Depot, DepotOrder};
pub(crate) use loading::{LoadArguments, Reset};
pub(crate) use profile::{Profile, SaveProfile};
pub(crate) use renamed::note_renamed;
pub(crate) use service::{Service, Start};
pub(crate) use source::{AddSource, Source};
pub(crate) use tracing::Trace;

use crate::failure::EXIT_CODES;

/// Heading of the options that every command has.
const GLOBAL: &str = "Global options";

/// Serve language models on your own machine.
#[derive(Debug, Parser)]
#[command(name = "deft", version, after_help = EXIT_CODES, disable_help_subcommand = true)]
pub(crate) struct Arguments {
    #[command(flatten)]
    pub(crate) common: Common,
    #[command(subcommand)]
    pub(crate) command: Command,
}

/// Options that every command has.
#[derive(Debug, Clone, Args)]
pub(crate) struct Common {
    /// Print results as JSON; later versions may add fields.
    #[arg(long, global = true, help_heading = GLOBAL)]
    pub(crate) json: bool,
    /// Use the service at this address.
    #[arg(long, global = true, value_name = "URL", env = "DEFT_SERVICE", help_heading = GLOBAL)]
    pub(crate) service: Option<String>,
    /// Read the operator's key from this file; `DEFT_KEY` holds the key itself.
    #[arg(long, global = true, value_name = "FILE", help_heading = GLOBAL)]
    pub(crate) key_file: Option<PathBuf>,
    /// Read settings from this file.
    #[arg(long, global = true, value_name = "FILE", env = "DEFT_CONFIG", help_heading = GLOBAL)]
    pub(crate) config: Option<PathBuf>,
    /// Use the service with this data directory.
    #[arg(long, global = true, value_name = "DIR", help_heading = GLOBAL)]
    pub(crate) data_dir: Option<PathBuf>,
}

#[derive(Debug, Subcommand)]
pub(crate) enum Command {
    /// Ask one question, to one model or to several side by side.
    Ask(Ask),
    /// Hold a conversation with a model.
    Talk(Talk),
    /// Load a model, or change the settings of a loaded one.
    Load(Load),
    /// Unload models after their running calls have finished.
    Unload(Unload),
    /// Show how much memory models would need, and whether they fit together.
    Plan(Plan),
    /// Show pools and instances.
    Status {
        /// Show the latest decisions about instances, with their reasons.
        #[arg(long)]
        why: bool,
    },
    /// Show pools, instances and calls live, with keys to unload, pin and cancel.
    Watch,
    /// Show running calls and the latest finished ones, or cancel a call.
    Calls(Calls),
    /// Trace calls of a model, to find the fault of a program; off by default.
    #[command(subcommand)]
    Trace(Trace),
    /// Manage profiles: settings for a model, under a name that programs use like a model's.
    #[command(subcommand)]
    Profile(Profile),
    /// Print a program that calls a model of this server.
    Snippet(Snippet),
    /// Answer all calls of a file in the background, and write the answers to a file.
    Batch(Batch),
    /// Manage the model files on this machine.
    #[command(subcommand)]
    Depot(Depot),
    /// Manage the sources that models are pulled from.
    #[command(subcommand)]
    Source(Source),
    /// Show pulls, imports, exports and verifications, or cancel one.
    Transfers(Transfers),
    /// Set the memory limit of a pool until the service stops.
    Limit {
        /// Name of the pool.
        pool: String,
        /// Amount such as `48GiB`, or share of its memory such as `80%`.
        limit: String,
    },
    /// Start, stop and inspect the service.
    #[command(subcommand)]
    Service(Service),
    /// Print a link that gives one browser permission to manage, once.
    Console {
        /// Open the link in the default browser.
        #[arg(long)]
        open: bool,
    },
    /// Show every setting and where its value comes from.
    Config,
    /// Print a completion script for a shell.
    Completions {
        /// Shell that the script is for.
        shell: Shell,
    },
    /// Serve one model over the link on standard input; the service starts this.
    #[command(hide = true)]
    Engine {
        /// Process id of the service.
        #[arg(long)]
        parent: u32,
    },
    /// Read the header of one model file over the link on standard input; the service starts this.
    #[command(hide = true)]
    ReadHeaders {
        /// Process id of the service.
        #[arg(long)]
        parent: u32,
    },
    /// Write the man pages, or the help of all commands on one page.
    #[command(hide = true)]
    Documents {
        /// Write a man page for each command into this folder.
        #[arg(long, value_name = "DIR", conflicts_with = "help_page")]
        man: Option<PathBuf>,
        /// Print the help of all commands as Markdown.
        #[arg(long)]
        help_page: bool,
    },
}

#[derive(Debug, Clone, Args)]
pub(crate) struct Plan {
    /// Models, variants or paths of model files, to plan together in this order.
    #[arg(required = true, value_name = "MODEL", add = completing::models())]
    pub(crate) models: Vec<String>,
    #[command(flatten)]
    pub(crate) instances: Instances,
    #[command(flatten)]
    pub(crate) settings: LoadArguments,
}

#[derive(Debug, Clone, Args)]
pub(crate) struct Load {
    /// Model, variant, path of a model file, or reference to an offer of a source.
    #[arg(add = completing::models())]
    pub(crate) model: String,
    #[command(flatten)]
    pub(crate) instances: Instances,
    #[command(flatten)]
    pub(crate) settings: LoadArguments,
    /// Set these settings of a loaded model back to the model's defaults.
    #[arg(long, value_name = "SETTING", value_delimiter = ',', value_enum)]
    pub(crate) reset: Vec<Reset>,
    /// Pull a model that is not in the depot without asking.
    #[arg(long, short = 'y', alias = "fetch")]
    pub(crate) yes: bool,
}

/// How many instances.
#[derive(Debug, Clone, Args)]
pub(crate) struct Instances {
    /// Run this many instances, which share the weights in host memory.
    #[arg(long = "instances", value_name = "COUNT", alias = "copies")]
    pub(crate) count: Option<u32>,
}

#[derive(Debug, Args)]
pub(crate) struct Unload {
    /// Models, variants, or single instances such as `larkfen-desk/q8_0#2`.
    #[arg(required_unless_present = "all", value_name = "MODEL", add = completing::models())]
    pub(crate) models: Vec<String>,
    /// Unload all models.
    #[arg(long, short = 'a', conflicts_with = "models")]
    pub(crate) all: bool,
    /// Cancel running calls instead of waiting for them.
    #[arg(long)]
    pub(crate) now: bool,
}

#[derive(Debug, Args)]
pub(crate) struct Calls {
    /// Show this many finished calls.
    #[arg(long, short = 'n', default_value_t = 20)]
    pub(crate) count: u32,
    /// Cancel this running call; the beginning of its id is enough.
    #[arg(long, value_name = "ID", alias = "end")]
    pub(crate) cancel: Option<String>,
}

#[derive(Debug, Args)]
pub(crate) struct Transfers {
    /// Keep printing progress until all transfers have finished.
    #[arg(long, short = 'f')]
    pub(crate) follow: bool,
    /// Cancel this transfer; the beginning of its id is enough.
    #[arg(long, value_name = "ID", conflicts_with = "follow")]
    pub(crate) cancel: Option<String>,
}

#[cfg(test)]
mod tests {
    use clap::CommandFactory;

    use super::*;

    #[test]
    fn the_command_line_contradicts_itself_nowhere() {
        Arguments::command().debug_assert();
    }

    /// Each help text is one sentence in the imperative or a noun: it begins with a capital letter and ends without a full
    /// stop, as clap prints it.
    #[test]
    fn every_command_and_option_has_a_help_text() {
        fn look(command: &clap::Command, path: &str) {
            let path = format!("{path} {}", command.get_name());
            assert!(command.get_about().is_some(), "`{path}` has no help text");
            for argument in command.get_arguments().filter(|found| !found.is_hide_set()) {
                let help = argument.get_help().map(ToString::to_string).unwrap_or_default();
                let first = help.chars().next();
                let is_sentence = first.is_some_and(char::is_uppercase) && !help.ends_with('.');
                assert!(is_sentence, "`{path} {}`: {help:?}", argument.get_id());
            }
            command.get_subcommands().for_each(|found| look(found, &path));
        }
        look(&Arguments::command(), "");
    }
}
