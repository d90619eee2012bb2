//! Commands in documents: each block of kind `console` in the README and the guides is run unchanged, and each program
//! of the guide for programs.
//!
//! Lines that begin with `$ ` are commands; the lines below them are what they print, standard output and standard error
//! together. Figures may differ: numbers with their units count as equal. A line `...` matches any lines, `[..]` matches
//! any text in a line.

use std::path::Path;
use std::process::Command;

use crate::sources::Shelf;
use crate::world::{ANSWER, Said, World, project};

/// Where documents look for the service; the services of tests listen elsewhere.
const USUAL_ADDRESS: &str = "http://127.0.0.1:8471";

/// A command with what it prints.
struct Step {
    command: String,
    printed: Vec<String>,
}

/// Blocks of a kind in a document.
fn blocks(document: &str, kind: &str) -> Vec<String> {
    let text = std::fs::read_to_string(project(document)).unwrap();
    let fence = format!("```{kind}\n");
    text.split(&fence).skip(1).map(|rest| rest.split("```").next().unwrap().to_owned()).collect()
}

fn steps(document: &str) -> Vec<Step> {
    let mut steps: Vec<Step> = Vec::new();
    for line in blocks(document, "console").iter().flat_map(|block| block.lines()) {
        match (line.strip_prefix("$ "), steps.last_mut()) {
            (Some(command), _) => {
                steps.push(Step { command: command.to_owned(), printed: Vec::new() })
            }
            (None, Some(step)) => step.printed.push(line.to_owned()),
            (None, None) => panic!("{document}: `{line}` belongs to no command"),
        }
    }
    steps
}

/// A line with its figures, bars and paddings made equal.
fn shape(line: &str) -> String {
    let mut out = String::new();
    for word in line.split_whitespace() {
        let word = word.trim_start_matches('(');
        let is_figure = word.starts_with(|c: char| c.is_ascii_digit() || c == '-')
            && word.chars().all(|c| c.is_ascii_digit() || "-.,:/".contains(c));
        let is_unit =
            ["B", "KiB", "MiB", "GiB", "s", "ms"].contains(&word.trim_end_matches([',', ';', ')']));
        let is_bar = word.starts_with('[')
            && word.ends_with(']')
            && word.trim_matches(['[', ']', '#', '.']).is_empty()
            && word.len() > 6;
        let word = match (is_figure, is_unit, is_bar) {
            (true, ..) => "#",
            (_, true, _) => "unit",
            (.., true) => "bar",
            _ => word,
        };
        out.push_str(word);
        out.push(' ');
    }
    out.trim_end().to_owned()
}

fn line_matches(expected: &str, found: &str) -> bool {
    if !expected.contains("[..]") {
        return shape(expected) == shape(found);
    }
    let mut rest = found.trim();
    for (at, part) in expected.trim().split("[..]").enumerate() {
        match rest.find(part) {
            Some(place) if at > 0 || place == 0 => rest = &rest[place + part.len()..],
            _ => return false,
        }
    }
    expected.trim().ends_with("[..]") || rest.is_empty()
}

fn matches(expected: &[String], found: &[&str]) -> bool {
    match (expected.split_first(), found.split_first()) {
        (None, None) => true,
        (Some((first, rest)), _) if first.trim() == "..." => {
            (0..=found.len()).any(|skipped| matches(rest, &found[skipped..]))
        }
        (Some((first, rest)), Some((line, others))) => {
            line_matches(first, line) && matches(rest, others)
        }
        _ => false,
    }
}

/// Runs the steps of a document in a folder with the demo's models.
fn run(document: &str, world: &World) {
    let folder = tempfile::tempdir().unwrap();
    for name in ["larkfen-desk", "larkfen-desk-mini"] {
        let file = format!("{name}-q8_0.gguf");
        std::fs::copy(project(&format!("demo/{name}/{file}")), folder.path().join(file)).unwrap();
    }
    for Step { command, printed } in steps(document) {
        let said = run_in(folder.path(), world, &command);
        let (out, err): (Vec<&str>, Vec<&str>) =
            (said.out.lines().collect(), said.err.lines().collect());
        let is_empty = |line: &&str| !line.trim().is_empty();
        let orders = [[err.clone(), out.clone()].concat(), [out, err].concat()];
        let printed: Vec<String> =
            printed.into_iter().filter(|line| !line.trim().is_empty()).collect();
        let fits = orders.iter().any(|order| {
            let order: Vec<&str> = order.iter().copied().filter(is_empty).collect();
            matches(&printed, &order)
        });
        assert!(fits, "{document}: `{command}` prints otherwise: {printed:#?}\n{said:#?}");
    }
}

fn run_in(folder: &Path, world: &World, command: &str) -> Said {
    let mut deft = world.command(&[]);
    let program = deft.get_program().to_owned();
    let path = std::path::PathBuf::from(program);
    let variables: Vec<_> =
        deft.get_envs().map(|(k, v)| (k.to_owned(), v.map(ToOwned::to_owned))).collect();
    deft = Command::new("bash");
    let command = command.replace(USUAL_ADDRESS, &world.address());
    deft.args(["-c", &command]).current_dir(folder).stdin(std::process::Stdio::null());
    for (name, value) in variables {
        match value {
            Some(value) => deft.env(name, value),
            None => deft.env_remove(name),
        };
    }
    let own = path.parent().unwrap().to_string_lossy().into_owned();
    let others = std::env::var("PATH").unwrap_or_default();
    Said::from(deft.env("PATH", format!("{own}:{others}")).output().unwrap())
}

#[test]
fn commands_of_the_guides_print_what_the_guides_show() {
    let fresh = World::new().start();
    run("docs/guide/install.md", &fresh);
    let world = World::stocked();
    for page in [
        "several-models",
        "long-prompts",
        "troubleshooting",
        "measuring",
        "backup",
        "system-service",
        "container",
    ] {
        run(&format!("docs/guide/{page}.md"), &world);
    }
}

/// A shelf that also offers the demo's labels, as the demo's own web index does.
fn shelf_with_labels() -> Shelf {
    let shelf = Shelf::new();
    let labels = "larkfen-labels-q8_0.gguf";
    std::fs::copy(
        project(&format!("demo/larkfen-labels/{labels}")),
        shelf.file("index").join(labels),
    )
    .unwrap();
    shelf.describe();
    shelf
}

#[test]
fn commands_of_the_readme_print_what_it_shows() {
    let shelf = shelf_with_labels();
    let settings = std::fs::read_to_string(project("demo/deft.toml")).unwrap();
    let world = shelf.known_to(World::configured(&settings).start()).stock();
    for file in ["larkfen-desk/larkfen-desk-f16.gguf", "larkfen-find/larkfen-find-q8_0.gguf"] {
        world.ok(&["depot", "register", &project("demo").join(file).to_string_lossy()]);
    }
    for model in ["larkfen-desk/q8_0", "larkfen-desk-mini/q8_0"] {
        world.ok(&["load", model]);
    }
    run("README.md", &world);
}

#[test]
fn commands_of_the_guide_for_sources_print_what_it_shows() {
    let shelf = shelf_with_labels();
    run("docs/guide/sources.md", &shelf.world());
}

#[test]
fn programs_of_the_guide_get_the_answer() {
    let world = World::stocked();
    let find = project("demo/larkfen-find/larkfen-find-q8_0.gguf");
    world.ok(&["depot", "register", &find.to_string_lossy()]);
    let page = "docs/guide/programs.md";
    let programs = Path::new(env!("CARGO_BIN_EXE_deft")).parent().unwrap();
    let path = format!("{}:{}", programs.display(), std::env::var("PATH").unwrap());
    let at_home = |text: &str| text.replace(USUAL_ADDRESS, &world.address());
    for (kind, program, flag) in
        [("sh", "bash", "-c"), ("python", "python3", "-c"), ("js", "node", "-e")]
    {
        for block in blocks(page, kind) {
            let mut text = at_home(&block);
            if kind == "js" {
                text = format!("(async () => {{{text}}})()");
            }
            let mut command = Command::new(program);
            command.args([flag, &text]).env("PATH", &path).env("DEFT_SERVICE", world.address());
            let said = Said::from(command.output().unwrap());
            assert!(said.code == 0, "{kind}: {said:?}");
            let expected = [ANSWER, "Ember chard", "\"count\":", "relevance_score", "` saved"];
            let is_answered = expected.into_iter().any(|text| said.out.contains(text));
            assert!(is_answered, "{kind}: {said:?}");
        }
    }
}

/// The `deft` commands of a document's shell blocks, with continued lines joined: words up to a redirection or pipe.
fn shell_commands(document: &str) -> Vec<Vec<String>> {
    let text = blocks(document, "sh").join("\n").replace("\\\n", " ");
    let commands = text.split(['\n', '(', '|', ';']).filter_map(|part| {
        let words: Vec<String> = part.split_whitespace().map(ToOwned::to_owned).collect();
        (words.first()? == "deft").then_some(words)
    });
    let ends = |word: &String| word.starts_with(['>', '<', ')', '#']);
    commands
        .map(|words| words.into_iter().skip(1).take_while(|word| !ends(word)).collect())
        .collect()
}

/// Blocks of kind `sh` need root, a system service or other hosts, so they are not run here; their options are checked.
#[test]
fn commands_of_shell_blocks_exist_with_their_options() {
    let world = World::new();
    let pages = std::fs::read_dir(project("docs/guide")).unwrap();
    let pages = pages.map(|page| format!("docs/guide/{}", page.unwrap().file_name().display()));
    let mut checked = 0;
    for document in pages.chain(["README.md".to_owned()]) {
        for words in shell_commands(&document) {
            let is_name = |word: &&String| word.chars().all(|c| c.is_ascii_lowercase());
            let names: Vec<&str> = words.iter().take_while(is_name).map(String::as_str).collect();
            let help = world.command(&[&names[..], &["--help"]].concat()).output().unwrap();
            let help = Said::from(help);
            assert!(help.code == 0, "{document}: no command `deft {words:?}`: {help:?}");
            for option in words.iter().filter(|word| word.starts_with("--")) {
                let name = option.split('=').next().unwrap();
                assert!(help.out.contains(name), "{document}: `deft {words:?}` has no `{name}`");
            }
            checked += 1;
        }
    }
    assert!(checked > 5, "only {checked} commands were found");
}
