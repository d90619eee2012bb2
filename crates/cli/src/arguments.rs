//! The command line as it is written.

mod answering;
mod loading;

use std::net::SocketAddr;
use std::path::PathBuf;

use clap::{Args, Parser, Subcommand, ValueEnum};
use deft_protocol::manage::SourceKind;
use uuid::Uuid;

pub(crate) use answering::{Answering, Ask, Talk};
pub(crate) use loading::LoadArguments;

use crate::failure::EXIT_CODES;

/// A model server for your own machine.
#[derive(Debug, Parser)]
#[command(name = "deft", version, after_help = EXIT_CODES, disable_help_subcommand = true)]
pub(crate) struct Arguments {
    #[command(flatten)]
    pub(crate) common: Common,
    #[command(subcommand)]
    pub(crate) command: Command,
}

/// What every command understands.
#[derive(Debug, Clone, Args)]
pub(crate) struct Common {
    /// Talk to the service at this address.
    #[arg(
        long,
        global = true,
        value_name = "URL",
        env = "DEFT_SERVICE",
        help_heading = "Everywhere"
    )]
    pub(crate) service: Option<String>,
    /// Keep everything of the service in this directory.
    #[arg(long, global = true, value_name = "DIR", help_heading = "Everywhere")]
    pub(crate) data_dir: Option<PathBuf>,
    /// Read settings from this file.
    #[arg(
        long,
        global = true,
        value_name = "FILE",
        env = "DEFT_CONFIG",
        help_heading = "Everywhere"
    )]
    pub(crate) config: Option<PathBuf>,
    /// Show the operator's key in this file, which only you can read; DEFT_KEY has the key itself.
    #[arg(long, global = true, value_name = "FILE", help_heading = "Everywhere")]
    pub(crate) key_file: Option<PathBuf>,
    /// Write results as JSON; fields may be added in later versions.
    #[arg(long, global = true, help_heading = "Everywhere")]
    pub(crate) json: bool,
}

#[derive(Debug, Subcommand)]
pub(crate) enum Command {
    /// Start, stop and watch over the service.
    #[command(subcommand)]
    Service(Service),
    /// Take model files in, list them, look into them.
    #[command(subcommand)]
    Depot(Depot),
    /// Say where models come from.
    #[command(subcommand)]
    Source(Source),
    /// Show what is being fetched, taken in, written out or read again, and how far it is.
    Transfers {
        /// Go on as they go on.
        #[arg(long)]
        follow: bool,
        /// Tell this one to stop.
        #[arg(long, value_name = "ID", conflicts_with = "follow")]
        cancel: Option<Uuid>,
    },
    /// Tell what loading models would need, and whether they fit together.
    Plan(Plan),
    /// Load a model and keep it loaded.
    Load(Load),
    /// Unload a model; running calls are answered first.
    Unload(Unload),
    /// Change a pool's limit until the service stops; what is loaded stays.
    Limit {
        /// The pool.
        pool: String,
        /// An amount such as `48GiB`, or a share of its memory such as `80%`.
        limit: String,
    },
    /// Show pools and instances.
    Status {
        /// Show the latest decisions about what is loaded, with their reasons.
        #[arg(long)]
        why: bool,
    },
    /// Watch pools, instances, lanes and calls as they change; unload, pin and end with a key.
    Watch,
    /// Ask a model one question, or several models the same.
    Ask(Ask),
    /// Talk with a model.
    Talk(Talk),
    /// List calls under way, with how far each is, and the latest that ended.
    Calls {
        /// How many of those that ended.
        #[arg(long, default_value_t = 20)]
        count: u32,
        /// End a call that is under way, by its id or the beginning of it.
        #[arg(long, value_name = "ID")]
        end: Option<String>,
    },
    /// Print a link that opens the console in a browser, once; the browser may manage then.
    Console {
        /// Open the link in your own browser.
        #[arg(long)]
        open: bool,
    },
    /// Show each setting and where it comes from.
    Config,
    /// Serve one model over the link on standard input; started by the service.
    #[command(hide = true)]
    Engine {
        /// The process that must live as long as this one.
        #[arg(long)]
        parent: u32,
    },
    /// Read the header of one model file over the link on standard input; the service starts this.
    #[command(hide = true)]
    ReadHeaders {
        /// The process that must live as long as this one.
        #[arg(long)]
        parent: u32,
    },
}

#[derive(Debug, Subcommand)]
pub(crate) enum Service {
    /// Start the service; returns when it is ready to answer.
    Start(Start),
    /// Stop the service; running calls are answered first.
    Stop {
        /// End running calls.
        #[arg(long)]
        now: bool,
    },
    /// Stop the service and start it again where it was.
    Restart(Start),
    /// Wait until the service answers.
    Wait {
        /// Wait until this model is ready as well.
        #[arg(long = "for", value_name = "MODEL")]
        model: Option<String>,
        /// Give up after so many seconds.
        #[arg(long, default_value_t = 60)]
        seconds: u64,
    },
    /// Tell whether the service runs, where, and since when.
    Status,
    /// Show the service's log.
    Logs {
        /// Go on as the log grows.
        #[arg(long)]
        follow: bool,
        /// Begin so many lines before the end.
        #[arg(long, default_value_t = 40)]
        lines: usize,
    },
    /// Print a systemd unit for the service.
    Unit,
}

#[derive(Debug, Clone, Args)]
pub(crate) struct Start {
    /// Listen on this address and port; port 0 takes any free one.
    #[arg(long, value_name = "ADDRESS:PORT")]
    pub(crate) listen: Option<SocketAddr>,
    /// Stay in the foreground, for supervisors; tells systemd when it is ready.
    #[arg(long)]
    pub(crate) foreground: bool,
    /// Use the depot's folder as it is, also where it is not the one that the records know; models that are
    /// not in it are forgotten.
    #[arg(long)]
    pub(crate) accept_depot: bool,
    /// Detach from the terminal and tell readiness on standard output.
    #[arg(long, hide = true)]
    pub(crate) detached: bool,
}

/// Orders of the depot's list.
#[derive(Debug, Clone, Copy, ValueEnum)]
pub(crate) enum DepotOrder {
    /// The oldest first.
    Age,
    /// By name.
    Name,
    /// The largest first.
    Size,
    /// The one asked last first.
    Used,
}

#[derive(Debug, Subcommand)]
pub(crate) enum Source {
    /// Add a source, or give one that is there another token.
    Add(AddSource),
    /// List the sources.
    List,
    /// Look whether sources can be asked, and how much they offer.
    Check {
        /// The source; all of them where there is none.
        name: Option<String>,
    },
    /// Forget a source and its token; what came from it stays.
    Remove {
        /// The source.
        name: String,
    },
}

/// Kinds of sources.
#[derive(Debug, Clone, Copy, ValueEnum)]
pub(crate) enum Kind {
    /// A folder of a web server with a depot index.
    Index,
    /// An OCI registry.
    Registry,
    /// A git repository, or many where the address has `{repo}`.
    Git,
    /// A hub that lists files as JSON.
    Listing,
    /// A folder of the service's machine.
    Folder,
}

impl From<Kind> for SourceKind {
    fn from(kind: Kind) -> Self {
        match kind {
            Kind::Index => Self::Index,
            Kind::Registry => Self::Registry,
            Kind::Git => Self::Git,
            Kind::Listing => Self::Listing,
            Kind::Folder => Self::Folder,
        }
    }
}

#[derive(Debug, Args)]
pub(crate) struct AddSource {
    /// Its name: letters, digits and dashes.
    pub(crate) name: String,
    /// An address, or a folder; of a listing the template of the list of files, with `{repo}` and
    /// `{revision}`.
    pub(crate) address: String,
    /// What kind of place it is; told by the address where it is not said.
    #[arg(long, value_enum)]
    pub(crate) kind: Option<Kind>,
    /// The name a token belongs to, where the place wants one.
    #[arg(long, value_name = "NAME")]
    pub(crate) user: Option<String>,
    /// Ask for a token; it is kept in a file that only the service's user may read.
    #[arg(long, conflicts_with = "token_file")]
    pub(crate) ask_token: bool,
    /// Read the token from this file whenever it is needed.
    #[arg(long, value_name = "FILE")]
    pub(crate) token_file: Option<PathBuf>,
    /// Of a listing: where a file is, with `{repo}`, `{revision}` and `{path}`.
    #[arg(long, value_name = "TEMPLATE", help_heading = "Listings")]
    pub(crate) download: Option<String>,
    /// Where in the list the entries are, as a JSON pointer.
    #[arg(long, value_name = "POINTER", default_value = "", help_heading = "Listings")]
    pub(crate) entries: String,
    /// Where in an entry the path is.
    #[arg(long, value_name = "POINTER", default_value = "/path", help_heading = "Listings")]
    pub(crate) path: String,
    /// Where in an entry the length is.
    #[arg(long, value_name = "POINTER", help_heading = "Listings")]
    pub(crate) bytes: Option<String>,
    /// Where in an entry the SHA-256 is.
    #[arg(long, value_name = "POINTER", help_heading = "Listings")]
    pub(crate) sha256: Option<String>,
}

#[derive(Debug, Subcommand)]
pub(crate) enum Depot {
    /// Look through what sources offer, and whether it fits this machine.
    Search {
        /// Only offers whose name, family or description has these words.
        words: Vec<String>,
        /// Look into this source only.
        #[arg(long, value_name = "NAME")]
        source: Option<String>,
    },
    /// Tell what an offer would mean here, before its weights are fetched.
    Preview {
        /// `source:model/variant`, or an address.
        reference: String,
    },
    /// Fetch a model into the depot's own files.
    Pull {
        /// `source:model/variant`, or an address.
        reference: String,
        /// Its name: `model` or `model/variant`.
        #[arg(long = "as", value_name = "NAME")]
        name: Option<String>,
        /// Fetch no more in a second, such as `20MiB/s`.
        #[arg(long, value_name = "RATE")]
        limit: Option<String>,
        /// Do not wait for its end.
        #[arg(long)]
        detach: bool,
    },
    /// Take a model file into the depot; the file stays where it is.
    Register {
        /// The file.
        file: PathBuf,
        /// Its name: `model` or `model/variant`.
        #[arg(long = "as", value_name = "NAME")]
        name: Option<String>,
    },
    /// Take a model file, or all models of a folder, into the depot's own files.
    Import {
        /// The file, or a folder with models in it or below it.
        path: PathBuf,
        /// Its name: `model` or `model/variant`.
        #[arg(long = "as", value_name = "NAME")]
        name: Option<String>,
        /// Have it in the depot only; where the disk is the same, not a byte is copied.
        #[arg(long = "move")]
        move_it: bool,
        /// An image projector that belongs to it.
        #[arg(long, value_name = "FILE")]
        projector: Option<PathBuf>,
        /// A chat template that stands in for the file's own.
        #[arg(long, value_name = "FILE")]
        template: Option<PathBuf>,
        /// Take all models of a folder without asking.
        #[arg(long)]
        all: bool,
        #[command(flatten, next_help_heading = "Loading it, where nothing else is said")]
        defaults: Box<LoadArguments>,
    },
    /// List the models.
    List {
        /// Only those whose name, family or description has these words.
        words: Vec<String>,
        /// In which order.
        #[arg(long, value_enum, default_value_t = DepotOrder::Age)]
        sort: DepotOrder,
    },
    /// Tell where a model's file is, for other programs.
    Path {
        /// Model or variant.
        model: String,
    },
    /// Write a model's files into a folder.
    Export {
        /// Model or variant.
        model: String,
        /// The folder; made where it is not there.
        folder: PathBuf,
    },
    /// Describe the models of a folder in a file that any web server can host; needs no service.
    Index {
        /// The folder.
        folder: PathBuf,
        /// What the place is called; the folder's own name where nothing is said.
        #[arg(long)]
        name: Option<String>,
    },
    /// Tell what takes how much of the disk, and what could be freed.
    Usage,
    /// Read everything again and compare digests.
    Verify {
        /// Models or variants; everything that is kept where there is none.
        models: Vec<String>,
    },
    /// Give a variant another name.
    Rename {
        /// The variant.
        model: String,
        /// Its new name: `model` or `model/variant`.
        name: String,
    },
    /// Remove a variant; a file that is only registered stays where it is.
    Remove {
        /// The variant.
        model: String,
        /// Only tell what would be freed.
        #[arg(long)]
        dry_run: bool,
    },
    /// Try whether a model is well: its template, its tokens, its numbers, an answer.
    Check {
        /// Model or variant.
        model: String,
    },
    /// Show what a model's file says of itself.
    Inspect {
        /// Model or variant.
        model: String,
        /// Show the chat template too.
        #[arg(long)]
        template: bool,
    },
}

#[derive(Debug, Clone, Args)]
pub(crate) struct Plan {
    /// Models, variants or paths to model files, planned one after the other.
    #[arg(required = true, value_name = "MODEL")]
    pub(crate) models: Vec<String>,
    /// Plan for so many instances of each, sharing its weights.
    #[arg(long, value_name = "COUNT")]
    pub(crate) copies: Option<u32>,
    #[command(flatten)]
    pub(crate) settings: LoadArguments,
}

#[derive(Debug, Clone, Args)]
pub(crate) struct Load {
    /// Model or variant, a path to a model file, or a reference to one that a source offers.
    pub(crate) model: String,
    /// Have so many instances of it, sharing its weights.
    #[arg(long, value_name = "COUNT")]
    pub(crate) copies: Option<u32>,
    #[command(flatten)]
    pub(crate) settings: LoadArguments,
    /// Fetch a model that is not in the depot without asking.
    #[arg(long)]
    pub(crate) fetch: bool,
}

#[derive(Debug, Args)]
pub(crate) struct Unload {
    /// Models, variants, or one of several instances (`larkfen-desk/q8_0#2`).
    #[arg(required_unless_present = "all", value_name = "MODEL")]
    pub(crate) models: Vec<String>,
    /// Unload everything.
    #[arg(long, conflicts_with = "models")]
    pub(crate) all: bool,
    /// Do not wait for running calls.
    #[arg(long)]
    pub(crate) now: bool,
}

#[cfg(test)]
mod tests {
    use clap::CommandFactory;

    use super::*;

    #[test]
    fn the_command_line_contradicts_itself_nowhere() {
        Arguments::command().debug_assert();
    }

    #[test]
    fn help_texts_read_well() {
        let mut command = Arguments::command();
        insta::assert_snapshot!("help", command.render_help().to_string());
        let service = command.find_subcommand_mut("service").unwrap();
        insta::assert_snapshot!("help_service", service.render_help().to_string());
        let ask = command.find_subcommand_mut("ask").unwrap();
        insta::assert_snapshot!("help_ask", ask.render_help().to_string());
    }
}
