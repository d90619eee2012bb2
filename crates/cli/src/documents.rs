//! Documents made from the command line itself: man pages, and one page with the help of all commands.

use std::fmt::Write as _;
use std::path::Path;

use clap::{Command, CommandFactory};

use crate::arguments::Arguments;
use crate::failure::Failure;

/// Width of help texts on the page.
const WIDTH: usize = 100;

/// Writes a man page for each command into a folder.
pub(crate) fn write_man_pages(folder: &Path) -> Result<(), Failure> {
    std::fs::create_dir_all(folder)?;
    Ok(clap_mangen::generate_to(Arguments::command(), folder)?)
}

/// The help of all commands, as Markdown.
pub(crate) fn help_page() -> String {
    let mut page = String::from(
        "# Command line\n\nMade from `deft --help` of each command by `cargo xtask reference`.\n",
    );
    let mut command = Arguments::command().term_width(WIDTH);
    command.build();
    add(&command, 2, &mut page);
    page
}

fn add(command: &Command, level: usize, page: &mut String) {
    let name = command.get_bin_name().unwrap_or_else(|| command.get_name()).to_owned();
    let help = command.clone().render_help().to_string();
    let lines: Vec<&str> = help.lines().map(str::trim_end).collect();
    let lines = lines.join("\n");
    let help = without_global_options(&lines, level);
    let _ = writeln!(page, "\n{} `{name}`\n\n```text\n{}\n```", "#".repeat(level), help.trim_end());
    for command in command.get_subcommands().filter(|found| !found.is_hide_set()) {
        add(command, level + 1, page);
    }
}

/// Global options are shown once, for `deft` itself.
fn without_global_options(help: &str, level: usize) -> &str {
    if level == 2 { help } else { help.split("\nGlobal options:").next().unwrap_or(help) }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_page_has_every_command_and_the_pages_of_man_too() {
        let page = help_page();
        for command in
            ["`deft load`", "`deft depot pull`", "`deft service logs`", "`deft source add`"]
        {
            assert!(page.contains(command), "{command}");
        }
        assert!(!page.contains("read-headers"), "hidden commands are not shown");
        assert_eq!(page.matches("Global options:").count(), 1);
        let folder = tempfile::tempdir().unwrap();
        write_man_pages(folder.path()).unwrap();
        let load = std::fs::read_to_string(folder.path().join("deft-load.1")).unwrap();
        assert!(load.contains("\\-\\-lanes"), "{load}");
    }

    #[test]
    fn help_texts_read_well() {
        insta::assert_snapshot!("help", help_page());
    }
}
