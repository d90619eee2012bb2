//! Long drills, run by hand.

use std::path::Path;

use anyhow::Context;

use crate::steps::{self, root};

/// Fuzz targets, with what they begin from and how long an input may be.
const FUZZ: [(&str, &[&str], u32); 3] = [
    ("gguf", &["golden/bad", "golden/tokenizers"], 60_000),
    ("tokenizers", &[], 4_096),
    ("templates", &[], 4_096),
];
/// More changes than there are writes to fail: a drill ends when every write has.
const ROUNDS: u32 = 500;
/// Most memory of a fuzzed process, and of one allocation in it, in MiB.
const FUZZ_MEMORY: [u32; 2] = [1024, 64];

/// Kills the service at random moments of a pull and of each other kind of change. Each time the state must be that before or after
/// the change.
pub fn kills(points: u32) -> anyhow::Result<()> {
    let which = ["fetching::killed", "killed::", "--nocapture"];
    let arguments = [&["test", "--package", "deft", "--test", "e2e", "--"], &which[..]].concat();
    steps::run_with("cargo", &arguments, ".", &[("KILL_POINTS", points.to_string())])?;
    println!(
        "{points} kills of fetches and {points} of other changes: nothing lost, nothing half listed"
    );
    Ok(())
}

/// Sends generated requests to every operation of the API: each response must have a documented status, content type and form.
pub fn schema() -> anyhow::Result<()> {
    let which = ["clients::every_operation_answers_as_its_description_says", "--nocapture"];
    let arguments = [&["test", "--package", "deft", "--test", "e2e", "--"], &which[..]].concat();
    let phases = "examples,coverage,fuzzing,stateful".to_owned();
    steps::run_with("cargo", &arguments, ".", &[("SCHEMA_PHASES", phases)])
}

/// Makes every change of the depot's files, and every write of the records that changes of the depot and loads
/// make, fail in turn: once, and with all that come after it.
pub fn disk() -> anyhow::Result<()> {
    let arguments =
        ["test", "--package", "deft-depot", "--lib", "store::tests::faults", "--", "--nocapture"];
    steps::run("cargo", &arguments, ".")?;
    let arguments =
        ["test", "--package", "deft", "--test", "e2e", "--", "record_faults", "--nocapture"];
    steps::run_with("cargo", &arguments, ".", &[("FAULT_ROUNDS", ROUNDS.to_string())])
}

/// Fuzzes each target for some minutes. Needs the nightly compiler and `cargo-fuzz`.
pub fn fuzz(minutes: u64, only: Option<&str>) -> anyhow::Result<()> {
    for (target, seeds, longest) in FUZZ {
        if only.is_some_and(|only| only != target) {
            continue;
        }
        let corpus = root().join("fuzz/corpus").join(target);
        std::fs::create_dir_all(&corpus)?;
        for folder in seeds {
            copy_seeds(&root().join(folder), &corpus, longest.into())?;
        }
        if target == "templates" {
            seed_templates(&corpus)?;
        }
        let [process, allocation] = FUZZ_MEMORY;
        let limits = [
            format!("-max_total_time={}", minutes * 60),
            format!("-max_len={longest}"),
            format!("-rss_limit_mb={process}"),
            format!("-malloc_limit_mb={allocation}"),
        ];
        let mut arguments = vec!["+nightly", "fuzz", "run", target, "--"];
        arguments.extend(limits.iter().map(String::as_str));
        arguments.extend(["-timeout=20", "-print_final_stats=1"]);
        steps::run("cargo", &arguments, ".")?;
    }
    Ok(())
}

fn copy_seeds(from: &Path, to: &Path, longest: u64) -> anyhow::Result<()> {
    for entry in std::fs::read_dir(from).with_context(|| from.display().to_string())? {
        let entry = entry?;
        if entry.metadata()?.len() <= longest {
            std::fs::copy(entry.path(), to.join(entry.file_name()))?;
        }
    }
    Ok(())
}

/// The golden templates, each as a file.
fn seed_templates(corpus: &Path) -> anyhow::Result<()> {
    let cases = std::fs::read(root().join("golden/templates/cases.json"))?;
    let cases: serde_json::Value = serde_json::from_slice(&cases)?;
    let whole = cases["templates"].as_object().into_iter().flat_map(|all| all.values());
    let snippets = cases["snippets"].as_array().into_iter().flatten();
    let sources = whole.chain(snippets.map(|snippet| &snippet["template"]));
    for (at, source) in sources.filter_map(|source| source.as_str()).enumerate() {
        std::fs::write(corpus.join(format!("golden-{at}")), source)?;
    }
    Ok(())
}
