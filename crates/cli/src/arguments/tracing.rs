//! `deft trace`, as clap parses it.

use clap::Subcommand;

use super::completing;

/// Arguments of `deft trace`.
#[derive(Debug, Subcommand)]
pub(crate) enum Trace {
    /// Keep prompt, output and constraint of all calls of a model, in memory, for a limited time.
    On {
        /// Model or variant.
        #[arg(long, add = completing::models())]
        model: String,
        /// How long calls are traced, such as `90s`, `10m` or `1h`; at most a day.
        #[arg(long = "for", value_name = "TIME", value_parser = seconds)]
        duration: u64,
        /// How long a trace is kept after its call ended; an hour by default, at most a week.
        #[arg(long, value_name = "TIME", value_parser = seconds)]
        keep: Option<u64>,
    },
    /// Stop tracing; the traces stay until their time is over.
    Off {
        /// Model or variant; by default all.
        #[arg(long)]
        model: Option<String>,
    },
    /// List the traces, the newest first.
    List,
    /// Show the trace of a call.
    Show {
        /// Beginning of the call's id.
        call: String,
    },
    /// Delete all traces now.
    Delete,
}

/// Seconds of a time such as `10m`.
fn seconds(text: &str) -> Result<u64, String> {
    match humantime::parse_duration(text).map(|time| time.as_secs()) {
        Ok(seconds) if seconds > 0 => Ok(seconds),
        _ => Err(format!("`{text}` is not a time; write `90s`, `10m` or `2h`")),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn times_have_a_unit() {
        assert_eq!(
            (seconds("90s"), seconds("10m"), seconds("1h 30m")),
            (Ok(90), Ok(600), Ok(5400))
        );
        for wrong in ["", "10", "0s", "-1m", "soon"] {
            assert!(seconds(wrong).unwrap_err().contains("write `90s`"), "{wrong}");
        }
    }
}
