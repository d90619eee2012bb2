//! `deft depot`, as clap parses it.

use std::path::PathBuf;

use clap::{Subcommand, ValueEnum};

use super::{LoadArguments, completing};

/// Orders of the list of variants.
#[derive(Debug, Clone, Copy, ValueEnum)]
pub(crate) enum DepotOrder {
    /// Oldest first.
    Age,
    /// By name.
    Name,
    /// Largest first.
    Size,
    /// Most recently used first.
    Used,
}

#[derive(Debug, Subcommand)]
pub(crate) enum Depot {
    /// List the variants in the depot.
    List {
        /// Words that name, family or description must contain.
        words: Vec<String>,
        /// Sort by this.
        #[arg(long, value_enum, default_value_t = DepotOrder::Age)]
        sort: DepotOrder,
    },
    /// Show the facts in a model's file.
    Inspect {
        /// Model, variant or path of a model file.
        #[arg(add = completing::models())]
        model: String,
        /// Show the chat template too.
        #[arg(long)]
        template: bool,
    },
    /// Search the sources, and show whether each offer fits this machine.
    Search {
        /// Words that name, family or description must contain.
        words: Vec<String>,
        /// Search only this source.
        #[arg(long, value_name = "NAME")]
        source: Option<String>,
    },
    /// Show what an offer needs on this machine before pulling it.
    Preview {
        /// Offer `source:model/variant`, or an address.
        reference: String,
    },
    /// Pull a model from a source into the depot.
    Pull {
        /// Offer `source:model/variant`, or an address.
        reference: String,
        /// Name it `model` or `model/variant`.
        #[arg(long = "as", value_name = "NAME")]
        name: Option<String>,
        /// Limit the download rate, for instance to `20MiB/s`.
        #[arg(long, value_name = "RATE")]
        limit: Option<String>,
        /// Return at once instead of waiting for the end.
        #[arg(long, short = 'd')]
        detach: bool,
    },
    /// Import a model file, or all models of a folder, into the depot.
    Import {
        /// File, or folder with models in it or below it.
        path: PathBuf,
        /// Name it `model` or `model/variant`.
        #[arg(long = "as", value_name = "NAME")]
        name: Option<String>,
        /// Move instead of copy; nothing is copied within one file system.
        #[arg(long = "move")]
        moves: bool,
        /// Import this image projector with it.
        #[arg(long, value_name = "FILE")]
        projector: Option<PathBuf>,
        /// Use this chat template instead of the one in the file.
        #[arg(long, value_name = "FILE")]
        template: Option<PathBuf>,
        /// Import all models of a folder without asking.
        #[arg(long, short = 'y', alias = "all")]
        yes: bool,
        #[command(flatten, next_help_heading = "Default load settings")]
        defaults: Box<LoadArguments>,
    },
    /// Register a model file without copying it into the depot.
    Register {
        /// File to register.
        file: PathBuf,
        /// Name it `model` or `model/variant`.
        #[arg(long = "as", value_name = "NAME")]
        name: Option<String>,
    },
    /// Rename a variant.
    Rename {
        /// Variant to rename.
        #[arg(add = completing::models())]
        model: String,
        /// New name: `model` or `model/variant`.
        name: String,
    },
    /// Remove a variant; a file that is only registered is not deleted.
    Remove {
        /// Variant to remove.
        #[arg(add = completing::models())]
        model: String,
        /// Only show how much disk space it would free.
        #[arg(long, short = 'n')]
        dry_run: bool,
    },
    /// Print the path of a model's file, for other programs.
    Path {
        /// Model or variant.
        #[arg(add = completing::models())]
        model: String,
    },
    /// Copy a model's files into a folder.
    Export {
        /// Model or variant.
        #[arg(add = completing::models())]
        model: String,
        /// Target folder; it is created if it does not exist.
        folder: PathBuf,
    },
    /// Test a model: template, tokenizer, numbers, a short answer.
    Check {
        /// Model, variant or path of a model file.
        #[arg(add = completing::models())]
        model: String,
    },
    /// Read stored files and compare their digests.
    Verify {
        /// Models or variants; all stored ones by default.
        #[arg(add = completing::models())]
        models: Vec<String>,
    },
    /// Show disk usage, and how much each removal would free.
    Usage,
    /// Write an index of a folder's models that any web server can host; needs no service.
    Index {
        /// Folder with models in it or below it.
        folder: PathBuf,
        /// Name of the source; the folder's name by default.
        #[arg(long)]
        name: Option<String>,
    },
}
