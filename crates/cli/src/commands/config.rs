//! `deft config`.

use deft_service::Flags;
use serde_json::json;

use crate::arguments::Common;
use crate::connection;
use crate::failure::Failure;
use crate::print;

pub(super) fn run(common: &Common) -> Result<(), Failure> {
    let loaded = connection::settings(common, Flags::default())?;
    if common.json {
        let entries: Vec<_> = loaded
            .origins
            .iter()
            .map(|(name, value, origin)| json!({"name": name, "value": value, "from": origin}))
            .collect();
        print::json(&entries);
        return Ok(());
    }
    loaded.warnings.iter().for_each(|warning| print::note(format!("note: {warning}")));
    let rows = loaded.origins.into_iter().map(|(name, value, origin)| vec![name, value, origin]);
    print::line(print::table(&["setting", "value", "from"], rows.collect(), &[]));
    Ok(())
}
