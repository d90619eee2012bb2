//! Options that had another name in the version before. They are read for one version, with a warning.

use crate::print;

/// Former option, option.
const RENAMED: &[(&str, &str)] = &[
    ("--copies", "--instances"),
    ("--fetch", "--yes"),
    ("--end", "--cancel"),
    ("--release", "--unload-after"),
    ("--in-turn", "--sequential"),
    ("--export", "--output"),
    ("--seconds", "--timeout"),
];

/// Warns of options with their former names.
pub(crate) fn note_renamed(arguments: impl Iterator<Item = String>) {
    for word in arguments.take_while(|word| word != "--") {
        let option = word.split('=').next().unwrap_or_default();
        if let Some((former, now)) = RENAMED.iter().find(|(former, _)| *former == option) {
            print::note(format!(
                "note: `{former}` is now called `{now}`; the next version no longer reads the old name"
            ));
        }
    }
}
