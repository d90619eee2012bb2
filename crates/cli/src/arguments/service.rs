//! `deft service`, as clap parses it.

use std::net::SocketAddr;

use clap::{Args, Subcommand};

#[derive(Debug, Subcommand)]
pub(crate) enum Service {
    /// Start the service, and return when it is ready.
    Start(Start),
    /// Stop the service after its running calls have finished.
    Stop {
        /// Cancel running calls instead of waiting for them.
        #[arg(long)]
        now: bool,
    },
    /// Restart the service with the settings it runs with.
    Restart(Start),
    /// Wait until the service is ready.
    Wait {
        /// Wait until this model is ready too.
        #[arg(long = "for", value_name = "MODEL", add = super::completing::models())]
        model: Option<String>,
        /// Give up after this many seconds.
        #[arg(long, value_name = "SECONDS", default_value_t = 60, alias = "seconds")]
        timeout: u64,
    },
    /// Show whether the service runs, its address, and since when.
    Status,
    /// Show the log of the service.
    Logs {
        /// Keep printing new lines.
        #[arg(long, short = 'f')]
        follow: bool,
        /// Show the last lines, this many.
        #[arg(long, short = 'n', value_name = "COUNT", default_value_t = 40)]
        lines: usize,
    },
    /// Print a systemd unit for the service.
    Unit,
}

#[derive(Debug, Clone, Args)]
pub(crate) struct Start {
    /// Listen on this address and port; port 0 means any free port.
    #[arg(long, value_name = "ADDRESS:PORT")]
    pub(crate) listen: Option<SocketAddr>,
    /// Stay in the foreground, and notify systemd when ready.
    #[arg(long)]
    pub(crate) foreground: bool,
    /// Use the depot folder even if it is not the one in the records; models that are not in it are removed from
    /// the records.
    #[arg(long)]
    pub(crate) accept_depot: bool,
    /// Detach from the terminal and report readiness on standard output.
    #[arg(long, hide = true)]
    pub(crate) detached: bool,
}
