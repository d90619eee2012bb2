//! The processors that this process may use, their speeds and memory nodes, and the assignment of threads to them.

use std::cell::Cell;
use std::collections::BTreeMap;
use std::hint::black_box;
use std::io;
use std::path::Path;
use std::sync::{LazyLock, OnceLock};
use std::time::Duration;

use rustix::thread::{CpuSet, sched_getaffinity, sched_setaffinity};
use rustix::time::{ClockId, clock_gettime};

/// Speed, relative to the fastest of a kind, below which a processor is of another kind.
pub const SLOWER: f64 = 0.75;
/// Number of measurements of a processor, alternating with the others. The best counts, because the machine has other
/// work too.
const MEASUREMENTS: usize = 8;
/// Length of the measured loop: about half a millisecond.
const LOOP_STEPS: u32 = 400_000;
/// Memory policy: pages from all nodes in turn. Source: Linux, `set_mempolicy(2)`.
const INTERLEAVE: libc::c_int = 3;
/// Memory policy: pages from one node, and from others if it has none left. Source: Linux, `mbind(2)`.
const PREFERRED: libc::c_int = 1;
/// Most memory nodes.
const MOST_NODES: usize = 1024;
/// Length of the list of nodes in bits as Linux expects it; it reads one bit less.
const TOLD_BITS: libc::c_ulong = MOST_NODES as libc::c_ulong + 1;

/// The process's processors, read before any thread is bound to one: threads would inherit the binding.
static MINE: LazyLock<Vec<usize>> = LazyLock::new(|| {
    let Ok(set) = sched_getaffinity(None) else {
        return Vec::new();
    };
    (0..CpuSet::MAX_CPU).filter(|&processor| set.is_set(processor)).collect()
});

/// The assigned processors in order, if there is an assignment: each with its number and the index of its memory node.
static ORDERED: OnceLock<Vec<(usize, usize)>> = OnceLock::new();

thread_local! {
    /// Index of the calling thread's memory node.
    static OWN_NODE: Cell<usize> = const { Cell::new(0) };
}

/// Index of the calling thread's memory node; 0 if it was not set.
pub(crate) fn own_node() -> usize {
    OWN_NODE.get()
}

/// Sets that index.
pub(crate) fn say_node(place: usize) {
    OWN_NODE.set(place);
}

/// A processor.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Processor {
    /// Its number in the system.
    pub number: usize,
    /// Its memory node.
    pub node: usize,
    /// Its speed, relative to the fastest.
    pub speed: f64,
}

/// The processors that this process may use, with equal speeds. Their nodes are read from the system's files below `root`
/// (`/`, except in tests).
#[must_use]
pub fn found(root: &Path) -> Vec<Processor> {
    of_nodes(&nodes(root), mine())
}

fn of_nodes(nodes: &BTreeMap<usize, usize>, numbers: &[usize]) -> Vec<Processor> {
    let node = |number: &usize| nodes.get(number).copied().unwrap_or(0);
    numbers
        .iter()
        .map(|number| Processor { number: *number, node: node(number), speed: 1.0 })
        .collect()
}

/// The node of each processor.
fn nodes(root: &Path) -> BTreeMap<usize, usize> {
    let mut nodes = BTreeMap::new();
    let folder = root.join("sys/devices/system/node");
    for entry in std::fs::read_dir(folder).into_iter().flatten().flatten() {
        let name = entry.file_name();
        let number = name.to_str().and_then(|name| name.strip_prefix("node")?.parse().ok());
        let Some(node) = number.filter(|node| *node < MOST_NODES) else { continue };
        let text = std::fs::read_to_string(entry.path().join("cpulist")).unwrap_or_default();
        nodes.extend(listed(&text).into_iter().map(|processor| (processor, node)));
    }
    nodes
}

/// Parses the system's lists of numbers: `0-3,8`. Skips invalid parts.
fn listed(text: &str) -> Vec<usize> {
    let ranges = text.trim().split(',').filter_map(|part| {
        let (first, last) = part.split_once('-').unwrap_or((part, part));
        let (first, last) = (first.trim().parse().ok()?, last.trim().parse::<usize>().ok()?);
        Some(first..=last.min(CpuSet::MAX_CPU))
    });
    ranges.flatten().collect()
}

/// Whether the system's files below `root` list processors of different capacity or highest frequency. Only then their
/// speeds are measured, because differences between equal processors come from other work.
#[must_use]
pub fn are_of_kinds(root: &Path, processors: &[Processor]) -> bool {
    ["cpu_capacity", "cpufreq/cpuinfo_max_freq"].iter().any(|file| {
        let values = processors.iter().filter_map(|processor| {
            let folder = root.join(format!("sys/devices/system/cpu/cpu{}", processor.number));
            std::fs::read_to_string(folder.join(file)).ok()?.trim().parse::<u32>().ok()
        });
        let (least, most) =
            values.fold((u32::MAX, 0), |(least, most), one| (least.min(one), most.max(one)));
        least < most && f64::from(least) < f64::from(most) * 0.9
    })
}

/// Measures the speed of each processor, for some milliseconds each. Only the loop's own processor time counts, so a
/// processor that is busy with other work does not appear slow.
pub fn measure(processors: &mut [Processor]) {
    let mut times = vec![f64::INFINITY; processors.len()];
    for _ in 0..MEASUREMENTS {
        for (time, processor) in times.iter_mut().zip(&*processors) {
            *time = time.min(seconds_on(processor.number));
        }
    }
    let least = times.iter().copied().fold(f64::INFINITY, f64::min);
    for (processor, time) in processors.iter_mut().zip(times) {
        processor.speed = if time.is_finite() && least > 0.0 { least / time } else { 1.0 };
    }
}

/// Time of the loop on a processor; infinite if no thread may be bound to it.
fn seconds_on(number: usize) -> f64 {
    let measured = std::thread::scope(|scope| {
        let thread = scope.spawn(|| {
            let mut set = CpuSet::new();
            set.set(number);
            if sched_setaffinity(None, &set).is_err() {
                return f64::INFINITY;
            }
            loop_seconds()
        });
        thread.join()
    });
    measured.unwrap_or(f64::INFINITY)
}

fn loop_seconds() -> f64 {
    let began = computed();
    let mut sums = [1_u32; 8];
    for step in 0..LOOP_STEPS {
        for sum in &mut sums {
            *sum = sum.wrapping_mul(0x9E37_79B1).rotate_left(5) ^ step;
        }
        black_box(&mut sums);
    }
    computed().saturating_sub(began).as_secs_f64()
}

/// Processor time of the calling thread.
fn computed() -> Duration {
    let time = clock_gettime(ClockId::ThreadCPUTime);
    let nanoseconds = u32::try_from(time.tv_nsec).unwrap_or(0);
    Duration::new(u64::try_from(time.tv_sec).unwrap_or(0), nanoseconds)
}

/// The order in which threads use processors: the fastest first, and equally fast ones of all nodes in turn, so that a
/// few threads use the memory of all nodes. The last `spare` processors are left out, as long as one remains, and at
/// most `most` are used.
#[must_use]
pub fn arranged(processors: &[Processor], spare: usize, most: usize) -> Vec<Processor> {
    let mut sorted = processors.to_vec();
    sorted.sort_by(|a, b| b.speed.total_cmp(&a.speed).then(a.number.cmp(&b.number)));
    let mut kinds: Vec<Vec<Processor>> = Vec::new();
    for processor in sorted {
        match kinds.last_mut() {
            Some(kind) if processor.speed >= kind[0].speed * SLOWER => kind.push(processor),
            _ => kinds.push(vec![processor]),
        }
    }
    let mut all: Vec<Processor> = kinds.into_iter().flat_map(in_turn).collect();
    let left = all.len().saturating_sub(spare).clamp(1, most.max(1));
    all.truncate(left);
    all
}

/// Processors of all nodes in turn, by number.
fn in_turn(mut kind: Vec<Processor>) -> Vec<Processor> {
    kind.sort_by_key(|processor| processor.number);
    let mut counts = BTreeMap::<usize, usize>::new();
    let mut placed: Vec<(usize, Processor)> = kind
        .into_iter()
        .map(|processor| {
            let count = counts.entry(processor.node).or_default();
            *count += 1;
            (*count, processor)
        })
        .collect();
    placed.sort_by_key(|(turn, processor)| (*turn, processor.node, processor.number));
    placed.into_iter().map(|(_, processor)| processor).collect()
}

/// Whether the processors differ in speed or node, so that their order matters.
#[must_use]
pub fn are_uneven(processors: &[Processor]) -> bool {
    let first = processors.first().map(|first| (first.node, first.speed));
    let differs = |(node, speed): (usize, f64), other: &Processor| {
        other.node != node || other.speed < speed * SLOWER
    };
    first.is_some_and(|first| processors.iter().any(|other| differs(first, other)))
}

/// Assigns processors to the calling thread and to threads that it starts. A team with as many threads binds each to one
/// of them, in order; the system places the threads of a smaller team. Only the first assignment counts; processors that
/// the process may not use are ignored.
///
/// Each processor comes with the index of its memory node, if there are several nodes.
pub fn compute_on(numbers: &[usize], nodes: &[usize]) {
    let known = mine();
    if numbers.is_empty() || !numbers.iter().all(|number| known.contains(number)) {
        return;
    }
    LazyLock::force(&QUOTA);
    let node = |at: usize| nodes.get(at).copied().unwrap_or(0);
    let ordered = numbers.iter().enumerate().map(|(at, number)| (*number, node(at)));
    if ORDERED.set(ordered.collect()).is_ok() {
        let mut set = CpuSet::new();
        numbers.iter().for_each(|number| set.set(*number));
        let _ = sched_setaffinity(None, &set);
    }
}

/// From now on, memory of this thread and of threads that it starts comes from all these nodes in turn, as do pages of
/// files that are not in memory yet.
///
/// # Errors
/// The system does not have these nodes, or refuses.
pub fn interleave(nodes: &[usize]) -> io::Result<()> {
    let mut bits = [0_u64; MOST_NODES / 64];
    for node in nodes.iter().filter(|node| **node < MOST_NODES) {
        bits[node / 64] |= 1 << (node % 64);
    }
    // SAFETY: the call reads that many bits, all of which are in the list.
    let result =
        unsafe { libc::syscall(libc::SYS_set_mempolicy, INTERLEAVE, bits.as_ptr(), TOLD_BITS) };
    if result == 0 { Ok(()) } else { Err(io::Error::last_os_error()) }
}

/// Memory that has not been written yet will come from one node, as long as it has any.
///
/// # Errors
/// The system does not have this node, or refuses.
pub fn take_from_node(memory: &mut [u8], node: usize) -> io::Result<()> {
    let mut bits = [0_u64; MOST_NODES / 64];
    let word = bits.get_mut(node / 64).ok_or(io::ErrorKind::InvalidInput)?;
    *word |= 1 << (node % 64);
    // SAFETY: the call changes which node pages of this memory come from, and not their contents; it reads that many bits,
    // all of which are in the list.
    let result = unsafe {
        libc::syscall(
            libc::SYS_mbind,
            memory.as_mut_ptr(),
            memory.len(),
            PREFERRED,
            bits.as_ptr(),
            TOLD_BITS,
            0,
        )
    };
    if result == 0 { Ok(()) } else { Err(io::Error::last_os_error()) }
}

/// Numbers of the processors that this process may use; empty if unknown.
pub(crate) fn mine() -> &'static [usize] {
    &MINE
}

/// Default number of compute threads: one for each processor that this process may use, and no more than the quota of its
/// control group (the standard library reads that).
#[must_use]
pub fn count() -> usize {
    let mine = ORDERED.get().map_or(mine().len(), Vec::len);
    if mine == 0 { *QUOTA } else { mine.min(*QUOTA) }
}

/// Read before any thread is bound to a processor.
static QUOTA: LazyLock<usize> = LazyLock::new(|| {
    LazyLock::force(&MINE);
    std::thread::available_parallelism().map_or(1, usize::from)
});

/// Binds the calling thread to a processor of its own, if there are enough processors for the team. If the system refuses,
/// the thread runs anywhere.
pub(crate) fn stay_on(thread: usize, threads: usize) {
    LazyLock::force(&QUOTA);
    let processor = match ORDERED.get() {
        Some(ordered) if threads == ordered.len() => {
            say_node(ordered[thread].1);
            ordered[thread].0
        }
        None if threads == mine().len() => mine()[thread],
        _ => return,
    };
    let mut set = CpuSet::new();
    set.set(processor);
    let _ = sched_setaffinity(None, &set);
}

#[cfg(test)]
mod tests {
    use super::*;

    /// A root with the system's files of these nodes.
    fn root(nodes: &[(&str, &str)]) -> tempfile::TempDir {
        let root = tempfile::tempdir().unwrap();
        for (name, list) in nodes {
            let folder = root.path().join("sys/devices/system/node").join(name);
            std::fs::create_dir_all(&folder).unwrap();
            std::fs::write(folder.join("cpulist"), list).unwrap();
        }
        root
    }

    fn processor(number: usize, node: usize, speed: f64) -> Processor {
        Processor { number, node, speed }
    }

    fn numbers(processors: &[Processor]) -> Vec<usize> {
        processors.iter().map(|processor| processor.number).collect()
    }

    #[test]
    fn nodes_are_read_as_the_system_lists_them() {
        let root = root(&[
            ("node0", "0-2,8\n"),
            ("node1", "3-5, 9"),
            ("node7", ""),
            ("node2x", "1"),
            ("memory", "0-9"),
            ("node99999", "0"),
            ("node3", "beans,6-5,4-,-,18446744073709551615-18446744073709551616"),
        ]);
        let nodes = nodes(root.path());
        let found = of_nodes(&nodes, &[0, 3, 8, 9, 50]);
        let places: Vec<(usize, usize)> = found.iter().map(|one| (one.number, one.node)).collect();
        assert_eq!(places, [(0, 0), (3, 1), (8, 0), (9, 1), (50, 0)]);
        assert!(super::nodes(Path::new("/nowhere")).is_empty());
    }

    #[test]
    fn kinds_of_processors_are_listed_by_the_system() {
        let two = [processor(0, 0, 1.0), processor(1, 0, 1.0)];
        let are_of_kinds_with = |file: &str, values: [&str; 2]| {
            let root = tempfile::tempdir().unwrap();
            for (number, value) in values.iter().enumerate() {
                let path = root.path().join(format!("sys/devices/system/cpu/cpu{number}/{file}"));
                std::fs::create_dir_all(path.parent().unwrap()).unwrap();
                std::fs::write(path, value).unwrap();
            }
            are_of_kinds(root.path(), &two)
        };
        assert!(are_of_kinds_with("cpu_capacity", ["1024\n", "512\n"]));
        assert!(are_of_kinds_with("cpufreq/cpuinfo_max_freq", ["3800000", "5200000"]));
        assert!(
            !are_of_kinds_with("cpufreq/cpuinfo_max_freq", ["5000000", "5200000"]),
            "one is favoured a little"
        );
        assert!(!are_of_kinds_with("cpu_capacity", ["1024", "beans"]));
        assert!(!are_of_kinds(Path::new("/nowhere"), &two));
    }

    #[test]
    fn a_list_without_end_takes_no_memory_without_bound() {
        assert!(listed("0-18446744073709551615").len() <= CpuSet::MAX_CPU + 1);
    }

    #[test]
    fn the_fastest_come_first_and_nodes_in_turn() {
        // Two kinds on two nodes; measurements of one kind differ a little.
        let processors = [
            processor(0, 0, 0.55),
            processor(1, 0, 0.97),
            processor(2, 0, 1.0),
            processor(3, 1, 0.5),
            processor(4, 1, 0.9),
            processor(5, 1, 0.99),
        ];
        let all = arranged(&processors, 0, usize::MAX);
        assert_eq!(numbers(&all), [1, 4, 2, 5, 0, 3]);
        assert_eq!(
            numbers(&arranged(&processors, 2, usize::MAX)),
            [1, 4, 2, 5],
            "slow ones are spared"
        );
        assert_eq!(numbers(&arranged(&processors, 0, 2)), [1, 4], "a quota");
        assert_eq!(numbers(&arranged(&processors, 9, 9)), [1], "one remains");
        assert!(arranged(&[], 1, 4).is_empty());
        assert!(are_uneven(&all) && are_uneven(&all[..2]));
        assert!(!are_uneven(&all[..1]) && !are_uneven(&[all[0], all[2]]) && !are_uneven(&[]));
    }

    #[test]
    fn memory_of_nodes_that_are_not_there_is_refused() {
        assert!(interleave(&[MOST_NODES - 2]).is_err());
        assert!(interleave(&[]).is_err() && interleave(&[usize::MAX]).is_err());
    }

    #[test]
    fn memory_is_taken_from_a_node_that_is_there() {
        let mut memory = memmap2::MmapMut::map_anon(1 << 20).unwrap();
        let node = found(Path::new("/"))[0].node;
        match take_from_node(&mut memory, node) {
            Ok(()) => {
                memory.fill(7);
                assert!(memory.iter().all(|byte| *byte == 7));
            }
            // Systems that are built for one node do not have this call.
            Err(error) => assert_eq!(error.raw_os_error(), Some(libc::ENOSYS), "{error}"),
        }
        assert!(take_from_node(&mut memory, MOST_NODES - 1).is_err());
        assert!(take_from_node(&mut memory, usize::MAX).is_err());
    }

    #[test]
    fn the_processors_of_this_machine_are_measured_one_by_one() {
        let mut processors = found(Path::new("/"));
        assert!(!processors.is_empty());
        measure(&mut processors);
        let fastest = processors.iter().map(|one| one.speed).fold(0.0, f64::max);
        assert!((fastest - 1.0).abs() < 1e-9, "{processors:?}");
        assert!(processors.iter().all(|one| one.speed > 0.0), "{processors:?}");
        // A missing processor must not appear fast.
        assert!(seconds_on(CpuSet::MAX_CPU - 1).is_infinite());
    }
}
