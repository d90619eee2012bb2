//! `deft console`.

use std::process::{Command, Stdio};

use crate::arguments::Common;
use crate::connection;
use crate::failure::Failure;
use crate::print;

/// What opens an address on a desktop.
const OPENER: &str = "xdg-open";

pub(super) async fn run(common: &Common, open: bool) -> Result<(), Failure> {
    let client = connection::connect(common).await?;
    // Other users see what programs are started with: such a link is of no use to them.
    let link = client.console_link(open).await?;
    if common.json {
        print::json(&link);
    } else {
        print::line(&link.address);
        print::note(format!("valid once, for {} minutes", link.valid_seconds / 60));
    }
    if !open {
        return Ok(());
    }
    let mut opener = Command::new(OPENER);
    opener.arg(&link.address).stdin(Stdio::null()).stdout(Stdio::null()).stderr(Stdio::null());
    let opened = opener.status();
    if opened.is_ok_and(|status| status.success()) {
        return Ok(());
    }
    Err(Failure::fault(format!("no browser could be opened with `{OPENER}`"))
        .with_way_out("open this link yourself: deft console"))
}
