//! `deft profile`, as clap parses it.

use clap::{Args, Subcommand, ValueEnum};
use deft_protocol::manage::InputRole;

use super::completing;

/// Arguments of `deft profile`.
#[derive(Debug, Subcommand)]
pub(crate) enum Profile {
    /// Save a profile, in place of one of the same name.
    Save(SaveProfile),
    /// List the profiles.
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
    /// How the model shall write tool calls, if its chat template writes none: a call of a tool `find` with the argument `text`,
    /// whose value is "Moonhook".
    #[arg(long, value_name = "CALL")]
    pub(crate) call_example: Option<String>,
    /// Text before each query that is embedded or compared.
    #[arg(long, value_name = "TEXT")]
    pub(crate) query_prefix: Option<String>,
    /// Text before each passage that is embedded or compared.
    #[arg(long, value_name = "TEXT")]
    pub(crate) passage_prefix: Option<String>,
    /// What the inputs of a request for embeddings are if the request does not say it; passages by default.
    #[arg(long, value_enum)]
    pub(crate) inputs: Option<Role>,
    /// Lengths, besides the whole one, that embeddings of the model were trained for, separated by commas.
    #[arg(long, value_name = "NUMBERS", value_delimiter = ',')]
    pub(crate) dimensions: Vec<u32>,
}

/// What inputs are.
#[derive(Debug, Clone, Copy, ValueEnum)]
pub(crate) enum Role {
    /// What is searched.
    Query,
    /// What is found.
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
