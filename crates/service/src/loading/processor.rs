//! What engines compute with: which processors, and which of their instructions are the fastest. The latter is
//! measured once, and stored for the next start.

use std::collections::BTreeSet;
use std::fs;
use std::io::{self, Read};
use std::path::Path;

use deft_kernels::Instructions;
use deft_kernels::processors::{self, Processor};
use deft_kernels::{choice, limits};
use deft_protocol::manage::ComputingReport;
use serde::{Deserialize, Serialize};

use crate::config::{Config, WeightsOnNodes};
use crate::process::private_files::write_whole;

/// The file in the data directory.
const FILE: &str = "processor.json";
/// Its form; another version's file is neither used nor replaced.
const VERSION: u32 = 1;
/// It is no longer than this.
const MOST_BYTES: u64 = 64 << 10;

/// The measurements, and the machine that they belong to.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
struct Kept {
    version: u32,
    /// What measuring again would not change.
    machine: String,
    /// The fastest, by name.
    kernels: String,
}

/// From this number of processors on, one is reserved for the service by default.
const MANY: usize = 8;

/// What engines compute with.
#[derive(Debug, Clone, Default)]
pub(crate) struct Computing {
    /// Instructions that the operator wants.
    pub(crate) forced: Option<String>,
    /// Where he leaves that open: those that were measured to be the fastest, if that had to be measured.
    pub(crate) fastest: Option<String>,
    /// Processors that threads stay on, the best first; empty leaves that to the system.
    processors: Vec<usize>,
    /// Some of them are slower, or further from some memory.
    are_uneven: bool,
    /// Of each of these processors the place of its memory node among all.
    processor_nodes: Vec<usize>,
    /// Memory nodes, if there are several.
    pub(crate) nodes: Vec<usize>,
    /// Whether each of them gets a copy of the weights.
    pub(crate) replicated: bool,
    /// The same for people.
    pub(crate) report: ComputingReport,
}

impl Computing {
    /// Measures what is not known yet: some milliseconds for each processor, where there are several kinds, and some tenths of a second where
    /// there are instructions to choose from.
    pub(crate) async fn found(config: &Config) -> Self {
        let forced = config.loading.forced_kernels().map(str::to_owned);
        let (spare, folder) = (config.loading.spare_processors, config.data_dir.clone());
        let on_nodes = config.loading.weights_on_nodes;
        let found = tokio::task::spawn_blocking(move || {
            let root = Path::new("/");
            let mut processors = processors::found(root);
            if processors::are_of_kinds(root, &processors) {
                processors::measure(&mut processors);
            }
            let fastest = if forced.is_none() { fastest(&folder) } else { None };
            Self::of(&processors, spare, forced, fastest).with_weights(on_nodes)
        });
        found.await.unwrap_or_else(|error| {
            tracing::error!(
                "the processors cannot be examined, so threads are not pinned: {error}"
            );
            Self::default()
        })
    }

    fn of(
        found: &[Processor],
        spare: Option<usize>,
        forced: Option<String>,
        fastest: Option<String>,
    ) -> Self {
        let spare = spare.unwrap_or(usize::from(found.len() >= MANY));
        let taken = processors::arranged(found, spare, usize::MAX);
        let nodes: BTreeSet<usize> = taken.iter().map(|processor| processor.node).collect();
        let top = taken.first().map_or(1.0, |processor| processor.speed);
        let slower = taken.iter().filter(|other| other.speed < top * processors::SLOWER).count();
        let count = |count: usize| u32::try_from(count).unwrap_or(u32::MAX);
        let named = forced.as_deref().or(fastest.as_deref()).and_then(Instructions::named);
        let report = ComputingReport {
            kernels: named.unwrap_or_else(Instructions::best).to_string(),
            processors: count(processors::count().min(taken.len())),
            slower: count(slower),
            spare: count(found.len() - taken.len()),
            nodes: count(nodes.len().max(1)),
            replicated: false,
        };
        let are_uneven = processors::are_uneven(&taken);
        // Otherwise the system places the threads well enough.
        let matters = taken.len() < found.len() || are_uneven;
        let bound = || taken.iter().filter(|_| matters);
        let processors = bound().map(|one| one.number).collect();
        let nodes: Vec<usize> =
            if nodes.len() > 1 { nodes.into_iter().collect() } else { Vec::new() };
        let place = |one: &Processor| nodes.iter().position(|node| *node == one.node).unwrap_or(0);
        let processor_nodes = bound().map(place).collect();
        let replicated = false;
        Self { forced, fastest, processors, are_uneven, processor_nodes, nodes, replicated, report }
    }

    /// With weights interleaved over several nodes, or replicated to each.
    fn with_weights(mut self, on_nodes: WeightsOnNodes) -> Self {
        self.replicated = on_nodes == WeightsOnNodes::Replicated && self.nodes.len() > 1;
        self.report.replicated = self.replicated;
        self
    }

    /// Copies of the weights that an instance has; none where the file is mapped instead.
    pub(crate) fn replicas(&self) -> u32 {
        if self.replicated { self.report.nodes } else { 0 }
    }

    /// Of each of [`Self::processors_of`] the place of its memory node among all.
    pub(crate) fn nodes_of(&self, threads: Option<u32>) -> Vec<usize> {
        let count = self.processors_of(threads).len();
        self.processor_nodes.iter().copied().take(count).collect()
    }

    /// The processors of an instance with so many threads. Of equal ones it may use all, wherever the system puts its
    /// threads; of unequal ones the best.
    pub(crate) fn processors_of(&self, threads: Option<u32>) -> Vec<usize> {
        let most = threads.filter(|_| self.are_uneven).map_or(usize::MAX, |count| count as usize);
        self.processors.iter().copied().take(most).collect()
    }
}

/// The fastest measured instructions, if measuring decides.
fn fastest(folder: &Path) -> Option<String> {
    let candidates = choice::candidates();
    if candidates.is_empty() {
        return None;
    }
    let machine = machine(Path::new("/"), &candidates);
    Some(decided(folder, machine, &candidates, || measured(&candidates)))
}

/// The stored measurements, or new ones.
fn decided(
    folder: &Path,
    machine: String,
    candidates: &[Instructions],
    measure: impl FnOnce() -> Instructions,
) -> String {
    let path = folder.join(FILE);
    let kept = read(&path);
    if let Ok(Some(kept)) = &kept
        && kept.machine == machine
        && candidates.iter().any(|path| path.name() == kept.kernels)
    {
        return kept.kernels.clone();
    }
    let kernels = measure().name().to_owned();
    let found = Kept { version: VERSION, machine, kernels: kernels.clone() };
    // Plain data becomes JSON.
    let bytes = serde_json::to_vec_pretty(&found).unwrap_or_default();
    let written = kept.and_then(|_| write_whole(&path, &bytes));
    if let Err(error) = written {
        let path = path.display();
        tracing::warn!(
            "`{path}` was left unchanged, so instructions are measured at every start: {error}"
        );
    }
    kernels
}

/// Reads the stored measurements, if they are of this version.
fn read(path: &Path) -> io::Result<Option<Kept>> {
    let mut text = String::new();
    match fs::File::open(path) {
        Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(None),
        opened => opened?.take(MOST_BYTES).read_to_string(&mut text)?,
    };
    let kept: Kept = serde_json::from_str(&text).map_err(io::Error::other)?;
    if kept.version != VERSION {
        return Err(io::Error::other(format!(
            "version {} of this program's measurements is not known",
            kept.version
        )));
    }
    Ok(Some(kept))
}

/// The processor's name and what it offers, below `root` (`/`, but for tests).
fn machine(root: &Path, candidates: &[Instructions]) -> String {
    let text = fs::read_to_string(root.join("proc/cpuinfo")).unwrap_or_default();
    let name = text
        .lines()
        .find_map(|line| line.strip_prefix("model name")?.split_once(':'))
        .map_or("a processor", |(_, name)| name.trim());
    let threads = std::thread::available_parallelism().map_or(1, std::num::NonZero::get);
    let names: Vec<&str> = candidates.iter().map(|path| path.name()).collect();
    format!("{name}, {threads} threads, {}, deft {}", names.join(" or "), env!("CARGO_PKG_VERSION"))
}

/// Measures, after each was seen to compute what it should.
fn measured(candidates: &[Instructions]) -> Instructions {
    let (sound, odd): (Vec<_>, Vec<_>) =
        candidates.iter().copied().partition(|path| choice::keeps_its_word(*path));
    for path in odd {
        tracing::error!(
            "{path} instructions give wrong results on this processor, so they are not used"
        );
    }
    let found = limits::with_all(|team| choice::measure(&sound, team));
    for choice::Measured { path, one, many } in &found {
        let (one, many) = (one * 1e3, many * 1e3);
        tracing::info!("{path}: {one:.1} ms for one token, {many:.1} ms for 256 (measured)");
    }
    choice::chosen(&found).unwrap_or_else(Instructions::best)
}

#[cfg(test)]
mod tests {
    use std::cell::Cell;

    use super::*;

    const CANDIDATES: [Instructions; 2] = [Instructions::Scalar, Instructions::Amx];

    #[test]
    fn a_machine_is_measured_once_and_another_one_again() {
        let folder = tempfile::tempdir().unwrap();
        let times = Cell::new(0);
        let ask = |machine: &str, fastest: Instructions| {
            decided(folder.path(), machine.to_owned(), &CANDIDATES, || {
                times.set(times.get() + 1);
                fastest
            })
        };
        assert_eq!(ask("fern", Instructions::Amx), "amx");
        assert_eq!(ask("fern", Instructions::Scalar), "amx", "it is known");
        assert_eq!(times.get(), 1);
        assert_eq!(ask("moss", Instructions::Scalar), "scalar", "another machine");
        assert_eq!(ask("moss", Instructions::Amx), "scalar");
        assert_eq!(times.get(), 2);
    }

    #[test]
    fn a_file_of_another_version_or_of_somebody_else_is_left_as_it_is() {
        let newer = r#"{"version": 2, "machine": "fern", "kernels": "amx", "more": []}"#;
        let more = r#"{"version": 1, "machine": "moss", "kernels": "amx", "more": []}"#;
        for text in [newer, "beans", "", r#"{"version": 1}"#, "\u{0}\u{1}", more] {
            let folder = tempfile::tempdir().unwrap();
            let path = folder.path().join(FILE);
            fs::write(&path, text).unwrap();
            let found =
                decided(folder.path(), "fern".to_owned(), &CANDIDATES, || Instructions::Scalar);
            assert_eq!((found, fs::read_to_string(&path).unwrap()), ("scalar".into(), text.into()));
        }
    }

    #[test]
    fn instructions_that_are_no_candidates_are_measured_again() {
        for name in ["abacus", "amx-simulated"] {
            let folder = tempfile::tempdir().unwrap();
            let text = format!(r#"{{"version": 1, "machine": "fern", "kernels": "{name}"}}"#);
            fs::write(folder.path().join(FILE), text).unwrap();
            let fern = "fern".to_owned();
            let found = decided(folder.path(), fern, &CANDIDATES, || Instructions::Scalar);
            let kept = read(&folder.path().join(FILE)).unwrap().unwrap();
            assert_eq!((&found[..], &kept.kernels[..]), ("scalar", "scalar"), "{name}");
        }
    }

    fn processor(number: usize, node: usize, speed: f64) -> Processor {
        Processor { number, node, speed }
    }

    #[test]
    fn equal_processors_are_left_to_the_system() {
        let two = [processor(0, 0, 1.0), processor(1, 0, 0.95)];
        let found = Computing::of(&two, None, None, None);
        assert!(found.processors.is_empty() && found.nodes.is_empty());
        let report = found.report;
        assert_eq!((report.spare, report.slower, report.nodes), (0, 0, 1));
        assert_eq!(report.kernels, Instructions::best().to_string());
    }

    #[test]
    fn of_many_processors_one_is_spared_unless_the_operator_says_otherwise() {
        let many: Vec<Processor> = (0..8).map(|number| processor(number, 0, 1.0)).collect();
        let found = Computing::of(&many, None, Some("scalar".to_owned()), None);
        assert_eq!((found.processors.len(), found.report.spare), (7, 1));
        assert_eq!(
            found.processors_of(Some(2)).len(),
            7,
            "the system places two threads of equals"
        );
        assert_eq!(found.report.kernels, "scalar");
        assert!(Computing::of(&many, Some(0), None, None).processors.is_empty());
        let three = Computing::of(&many[..4], Some(3), None, Some("amx".to_owned()));
        assert_eq!((&three.processors[..], three.report.spare), (&[0][..], 3));
        assert_eq!(three.report.kernels, "AMX");
    }

    #[test]
    fn slower_processors_and_memory_nodes_are_reported_and_arranged() {
        let hybrid = [
            processor(0, 0, 0.5),
            processor(1, 1, 0.6),
            processor(2, 0, 1.0),
            processor(3, 1, 0.9),
        ];
        let found = Computing::of(&hybrid, None, None, None);
        assert_eq!((&found.processors[..], &found.nodes[..]), (&[2, 3, 0, 1][..], &[0, 1][..]));
        assert_eq!((found.report.slower, found.report.nodes), (2, 2));
        assert_eq!(found.processors_of(Some(2)), [2, 3], "few threads get the fast ones");
        assert_eq!(found.processors_of(None).len(), 4);
    }

    #[test]
    fn weights_are_copied_to_nodes_where_there_are_several_and_the_operator_wants_it() {
        let two = [processor(0, 3, 1.0), processor(1, 5, 1.0), processor(2, 5, 1.0)];
        let of = |found: &[Processor], weights| {
            Computing::of(found, Some(0), None, None).with_weights(weights)
        };
        let replicated = of(&two, WeightsOnNodes::Replicated);
        assert_eq!((replicated.replicas(), replicated.report.replicated), (2, true));
        assert_eq!(
            (&replicated.processors[..], &replicated.nodes[..]),
            (&[0, 1, 2][..], &[3, 5][..])
        );
        assert_eq!(replicated.nodes_of(None), [0, 1, 1]);
        assert_eq!(replicated.nodes_of(Some(2)), [0, 1]);
        let interleaved = of(&two, WeightsOnNodes::Interleaved);
        assert_eq!((interleaved.replicas(), interleaved.report.replicated), (0, false));
        let one = of(&two[1..], WeightsOnNodes::Replicated);
        assert_eq!((one.replicas(), one.report.replicated), (0, false), "one node has them anyhow");
    }

    #[test]
    fn a_machine_is_recognised_by_its_processor_and_what_it_offers() {
        let root = tempfile::tempdir().unwrap();
        fs::create_dir(root.path().join("proc")).unwrap();
        let text = "processor\t: 0\nmodel name\t: Fern 9 @ 2 GHz\nmodel name\t: Moss\n";
        fs::write(root.path().join("proc/cpuinfo"), text).unwrap();
        let text = machine(root.path(), &[Instructions::Avx512, Instructions::Amx]);
        assert!(text.starts_with("Fern 9 @ 2 GHz, "), "{text}");
        assert!(text.contains("avx512-vnni or amx"), "{text}");
        assert!(machine(Path::new("/nowhere"), &[]).starts_with("a processor, "));
    }
}
