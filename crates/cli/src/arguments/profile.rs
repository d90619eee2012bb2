//! `deft profile`, as clap parses it.

use clap::{Args, Subcommand, ValueEnum};
use deft_protocol::manage::InputRole;

use super::completing;

/// Arguments of `deft profile`.
#[derive(Debug, Subcommand)]
pub(crate) enum Profile {
    /// Save a profile, and replace one of the same name.
    Save(SaveProfile),
    /// List all profiles.
    List,
    /// Show a profile.
    Show {
        /// Profile to show.
        name: String,
    },
    /// Remove a profile; its model stays.
    Remove {
        /// Profile to remove.
        name: String,
    },
}

#[derive(Debug, Args)]
pub(crate) struct SaveProfile {
    /// Name, which callers use as model: letters, digits, dashes, dots and underscores.
    pub(crate) name: String,
    /// Model or variant.
    #[arg(long, value_name = "MODEL", add = completing::models())]
    pub(crate) from: String,
    /// For a model whose chat template writes no tool calls: an example of a call in the form that it shall write. The example
    /// must call the tool `find` with the argument `text`, whose value is "Moonhook".
    #[arg(long, value_name = "CALL")]
    pub(crate) call_example: Option<String>,
    /// Text to put before each query.
    #[arg(long, value_name = "TEXT")]
    pub(crate) query_prefix: Option<String>,
    /// Text to put before each passage.
    #[arg(long, value_name = "TEXT")]
    pub(crate) passage_prefix: Option<String>,
    /// What inputs of `/v1/embeddings` are if a request does not say it; by default passages.
    #[arg(long, value_enum)]
    pub(crate) inputs: Option<Role>,
    /// Shorter lengths of embeddings that the model was trained for, separated by commas.
    #[arg(long, value_name = "NUMBERS", value_delimiter = ',')]
    pub(crate) dimensions: Vec<u32>,
}

/// What inputs are.
#[derive(Debug, Clone, Copy, ValueEnum)]
pub(crate) enum Role {
    /// Questions: texts that are searched for.
    Query,
    /// Texts that can be found.
    Passage,
}

impl From<Role> for InputRole {
    fn from(role: Role) -> Self {
        match role {
            Role::Query => Self::Query,
            Role::Passage => Self::Passage,
        }
    }
}
