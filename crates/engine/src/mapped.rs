//! A model's weights in memory: its files, mapped read-only, and copies of the layers that are in accelerators.

use std::ffi::CString;
use std::fs::File;
use std::io;
use std::ops::Range;
use std::os::fd::AsRawFd;
use std::os::unix::fs::FileExt;
use std::path::PathBuf;
use std::sync::atomic::{AtomicU64, AtomicUsize, Ordering};

use deft_formats::gguf::Header;
use deft_kernels::processors::take_from_node;
use deft_kernels::{HostMemory, Stored};
use deft_planning::{Bytes, Weights};
use memmap2::{Advice, Mmap, MmapMut, MmapOptions, MmapRaw};
use rustix::fs::{MemfdFlags, ftruncate, memfd_create};
use rustix::process::{Resource, Rlimit, getrlimit, setrlimit};

use crate::baton::Table;
use crate::layer_memory::LayerMemory;
use crate::layers::layer_of;
use crate::load_error::LoadError;

/// Size of a memory page.
const PAGE: usize = 4096;
/// Bytes that a thread reads ahead at a time, whole pages.
const STRETCH: usize = 16 << 20;

/// A stretch of a file that is in an accelerator.
struct Moved {
    part: usize,
    /// Range in the file.
    bytes: Range<u64>,
    accelerator: usize,
    /// Offset in the accelerator's memory.
    at: usize,
}

/// The weights of a model. Lengths were checked against the headers before any tensor is looked up.
pub(crate) struct Mapped {
    parts: Vec<Mmap>,
    /// A copy of each part in the memory of each node, if replicas were requested; then the map is not read. Stretches that
    /// are in accelerators are not in the copies.
    copies: Vec<Vec<HostMemory>>,
    /// Stretches in accelerators, in the order of the files, without overlaps.
    moved: Vec<Moved>,
    accelerators: Vec<MmapMut>,
}

impl Mapped {
    /// Maps the files, copies the layers that are placed in accelerators, and reads the rest ahead, so that it is in memory
    /// from the start. Reports the progress in bytes now and then.
    ///
    /// # Errors
    /// A file cannot be mapped or read, an accelerator is out of memory, or the limit of locked memory is too low.
    pub(crate) fn open(
        paths: &[PathBuf],
        header: &Header,
        layer_memory: &mut LayerMemory,
        weights: Weights,
        report: &mut dyn FnMut(u64, u64),
    ) -> Result<Self, LoadError> {
        let mut files = Vec::new();
        for path in paths {
            let cannot_open = |source| LoadError::Open { path: path.clone(), source };
            let file = File::open(path).map_err(cannot_open)?;
            files.push((map(&file).map_err(cannot_open)?, file));
        }
        let moved = moved(header, layer_memory);
        let mut accelerators = Vec::new();
        for at in 0..layer_memory.accelerator_count() {
            let mine = || moved.iter().filter(|moved| moved.accelerator == at);
            let whole = mine().map(|moved| length(&moved.bytes)).sum();
            let mut memory = layer_memory.take(at, whole)?;
            for moved in mine() {
                let target = &mut memory[moved.at..moved.at + length(&moved.bytes)];
                let read = files[moved.part].1.read_exact_at(target, moved.bytes.start);
                read.map_err(|source| LoadError::Open { path: paths[moved.part].clone(), source })?;
            }
            accelerators.push(memory);
        }
        let (parts, files): (Vec<Mmap>, Vec<File>) = files.into_iter().unzip();
        let mut mapped = Self { parts, copies: Vec::new(), moved, accelerators };
        if !layer_memory.nodes().is_empty() {
            mapped.copy(paths, &files, layer_memory.nodes(), weights, report)?;
            return Ok(mapped);
        }
        match weights {
            Weights::Mapped => mapped.read_ahead(report),
            Weights::Resident => mapped.lock(report)?,
        }
        Ok(mapped)
    }

    /// Bytes of a part from `offset` on; none if the part is shorter.
    pub(crate) fn bytes(&self, part: usize, offset: u64, length: u64) -> Option<&[u8]> {
        if !self.moved.is_empty()
            && let Some(bytes) = self.moved_bytes(part, offset, length)
        {
            return Some(bytes);
        }
        let start = usize::try_from(offset).ok()?;
        let end = start.checked_add(usize::try_from(length).ok()?)?;
        match self.copies.get(part) {
            Some(copies) => copies.first()?.get(start..end),
            None => self.parts.get(part)?.get(start..end),
        }
    }

    /// Stored weights, from the copy of each thread's node. Lengths were checked against the header when the files were
    /// opened.
    pub(crate) fn weights(&self, part: usize, offset: u64, length: u64) -> Stored<'_> {
        let bytes = self.bytes(part, offset, length);
        let bytes = bytes.expect("checked against the file when it was opened");
        match self.copies.get(part) {
            Some(copies) if self.moved_bytes(part, offset, length).is_none() => {
                Stored::copied(copies, usize::try_from(offset).unwrap_or(usize::MAX), bytes.len())
            }
            _ => bytes.into(),
        }
    }

    /// Copies the weights in host memory to each node.
    fn copy(
        &mut self,
        paths: &[PathBuf],
        files: &[File],
        nodes: &[usize],
        weights: Weights,
        report: &mut dyn FnMut(u64, u64),
    ) -> Result<(), LoadError> {
        let (all, bytes) = self.all_stretches();
        let (mut done, whole) = (0, bytes * nodes.len() as u64);
        let limit = raise_lock_limit();
        for (part, (path, file)) in paths.iter().zip(files).enumerate() {
            let failed = |source| LoadError::Open { path: path.clone(), source };
            let mut copies: Vec<HostMemory> = Vec::new();
            for &node in nodes {
                let mut memory = MmapMut::map_anon(self.parts[part].len()).map_err(failed)?;
                if let Err(error) = take_from_node(&mut memory, node) {
                    tracing::warn!("the weights cannot be replicated on NUMA node {node}: {error}");
                }
                // Requested before anything is written. Without large pages, small ones are used.
                #[cfg(target_os = "linux")]
                let _ = memory.advise(Advice::HugePage);
                for (_, range) in all.iter().filter(|(of, _)| *of == part) {
                    let place = &mut memory[range.clone()];
                    match copies.first() {
                        Some(first) => place.copy_from_slice(&first[range.clone()]),
                        None => file.read_exact_at(place, range.start as u64).map_err(failed)?,
                    }
                    done += range.len() as u64;
                    report(done, whole);
                }
                if weights == Weights::Resident {
                    let bytes = Bytes(whole);
                    memory.lock().map_err(|source| LoadError::Lock { bytes, limit, source })?;
                }
                copies.push(Box::new(memory));
            }
            self.copies.push(copies);
        }
        Ok(())
    }

    fn moved_bytes(&self, part: usize, offset: u64, length: u64) -> Option<&[u8]> {
        let after =
            self.moved.partition_point(|moved| (moved.part, moved.bytes.start) <= (part, offset));
        let moved = &self.moved[after.checked_sub(1)?];
        let end = offset.checked_add(length)?;
        let inside = moved.part == part && end <= moved.bytes.end;
        let start = moved.at + usize::try_from(offset.checked_sub(moved.bytes.start)?).ok()?;
        let memory = self.accelerators.get(moved.accelerator)?;
        inside.then(|| memory.get(start..start + usize::try_from(length).ok()?)).flatten()
    }

    /// The stretches of a part that are in host memory, without the gaps between tensors.
    fn staying(&self, part: usize) -> Vec<Range<usize>> {
        let mut staying = Vec::new();
        let mut from = 0;
        for moved in self.moved.iter().filter(|moved| moved.part == part) {
            // Within the file, because it is mapped as a whole.
            let start = usize::try_from(moved.bytes.start).unwrap_or(usize::MAX);
            staying.push(from..start);
            from = start + length(&moved.bytes);
        }
        staying.push(from..self.parts[part].len());
        staying.retain(|range| range.len() >= PAGE);
        staying
    }

    /// The stretches to read into host memory, with the sum of their bytes.
    fn all_stretches(&self) -> (Vec<(usize, Range<usize>)>, u64) {
        let all: Vec<(usize, Range<usize>)> = (0..self.parts.len())
            .flat_map(|part| self.staying(part).into_iter().map(move |range| (part, range)))
            .flat_map(|(part, range)| stretches(range).map(move |range| (part, range)))
            .collect();
        let bytes = all.iter().map(|(_, range)| range.len() as u64).sum();
        (all, bytes)
    }

    /// Lets the kernel read the weights in host memory ahead, with several threads.
    fn read_ahead(&self, report: &mut dyn FnMut(u64, u64)) {
        let threads = std::thread::available_parallelism().map_or(1, usize::from);
        let (all, bytes) = self.all_stretches();
        let (next, done) = (AtomicUsize::new(0), AtomicU64::new(0));
        let read = |report: &mut dyn FnMut(u64, u64)| {
            while let Some((part, range)) = all.get(next.fetch_add(1, Ordering::Relaxed)) {
                // If the kernel does not support this, pages are read when they are needed.
                let map = &self.parts[*part];
                let _ = map.advise_range(Advice::PopulateRead, range.start, range.len());
                let own = range.len() as u64;
                report(done.fetch_add(own, Ordering::Relaxed) + own, bytes);
            }
        };
        std::thread::scope(|scope| {
            (1..threads).for_each(|_| drop(scope.spawn(|| read(&mut |_, _| {}))));
            read(report);
        });
        // Another thread may have finished last.
        report(done.into_inner(), bytes);
    }

    /// Locks the weights in host memory.
    fn lock(&self, report: &mut dyn FnMut(u64, u64)) -> Result<(), LoadError> {
        let limit = raise_lock_limit();
        let (all, bytes) = self.all_stretches();
        let mut done = 0;
        // Some file systems support large pages on request.
        #[cfg(target_os = "linux")]
        self.parts.iter().for_each(|part| drop(part.advise(Advice::HugePage)));
        for (part, range) in all {
            let start = self.parts[part][range.clone()].as_ptr().cast_mut().cast();
            // SAFETY: the range lies in the mapping, which lives as long as `self`; locking changes
            // nothing but whether the kernel may reclaim its pages.
            let locked = unsafe { rustix::mm::mlock(start, range.len()) };
            locked.map_err(|error| LoadError::Lock {
                bytes: Bytes(bytes),
                limit,
                source: error.into(),
            })?;
            done += range.len() as u64;
            report(done, bytes);
        }
        Ok(())
    }
}

/// Raises this process's limit of locked memory as far as permitted; returns the limit, if there is one. If it is too low,
/// locking fails with an error.
fn raise_lock_limit() -> Option<Bytes> {
    let Rlimit { maximum, .. } = getrlimit(Resource::Memlock);
    let _ = setrlimit(Resource::Memlock, Rlimit { current: maximum, maximum });
    maximum.map(Bytes)
}

/// Divides a range into stretches that begin at pages.
fn stretches(range: Range<usize>) -> impl Iterator<Item = Range<usize>> {
    let first = range.start / STRETCH;
    (first..range.end.div_ceil(STRETCH))
        .map(move |at| range.start.max(at * STRETCH)..range.end.min((at + 1) * STRETCH))
}

fn length(range: &Range<u64>) -> usize {
    usize::try_from(range.end - range.start).unwrap_or(usize::MAX)
}

fn map(file: &File) -> io::Result<Mmap> {
    // SAFETY: the map is only read. Should another program change the file, values change but nothing
    // depends on them for memory safety: every offset and length in use comes from the header, which
    // was read before and is kept apart. Should the file be cut short, reading beyond its end kills
    // this process, which is an engine process serving this one model.
    unsafe { Mmap::map(file) }
}

/// Memory of a simulated accelerator, which the kernel lists with the pool's name.
pub(crate) fn accelerator_memory(pool: &str, length: usize) -> io::Result<MmapMut> {
    let name = CString::new(format!("{}{pool}", deft_protocol::engine::POOL_MEMORY))?;
    let file = memfd_create(name, MemfdFlags::CLOEXEC)?;
    // A mapping has at least one page.
    ftruncate(&file, length.max(1) as u64)?;
    // SAFETY: the file has no name in any directory and is known to this process only, so nobody else
    // changes its bytes or its length.
    unsafe { MmapMut::map_mut(&File::from(file)) }
}

/// Memory that several processes share, without a name in any directory.
pub(crate) struct SharedMemory {
    file: File,
    memory: MmapRaw,
}

impl SharedMemory {
    /// Maps a file that has at least `length` bytes.
    pub(crate) fn of(file: File, length: usize) -> io::Result<Self> {
        if file.metadata()?.len() < length as u64 {
            return Err(io::Error::other("the shared memory is too short"));
        }
        let memory = MmapOptions::new().len(length).map_raw(&file)?;
        Ok(Self { file, memory })
    }

    /// Path by which other processes of the same user open it.
    pub(crate) fn path(&self) -> PathBuf {
        format!("/proc/{}/fd/{}", std::process::id(), self.file.as_raw_fd()).into()
    }

    /// The memory as the baton's table.
    pub(crate) fn table(&self) -> &Table {
        assert!(self.memory.len() >= size_of::<Table>(), "the memory holds a table");
        // SAFETY: the mapping lives as long as `self`, begins at a page and is long enough. A table
        // consists of atomic numbers only, for which every pattern of bits is a value, and no code uses
        // these bytes in another way: other processes use them as a table too.
        unsafe { &*self.memory.as_ptr().cast::<Table>() }
    }
}

/// New shared memory of `length` bytes, all zero.
pub(crate) fn shared_memory(length: usize) -> io::Result<SharedMemory> {
    let file = File::from(memfd_create(c"deft-baton", MemfdFlags::CLOEXEC)?);
    file.set_len(length as u64)?;
    SharedMemory::of(file, length)
}

/// The stretches of the files that go to accelerators: the tensors of the layers that are placed there.
fn moved(header: &Header, layer_memory: &LayerMemory) -> Vec<Moved> {
    let mut used = vec![0; layer_memory.accelerator_count()];
    let mut moved: Vec<Moved> = header
        .tensors
        .iter()
        .filter_map(|tensor| {
            let accelerator = layer_memory.accelerator_of(layer_of(&tensor.name)?)?;
            let bytes = tensor.offset..tensor.offset + tensor.bytes;
            let at = used[accelerator];
            used[accelerator] += length(&bytes);
            Some(Moved { part: tensor.part, bytes, accelerator, at })
        })
        .collect();
    moved.sort_by_key(|moved| (moved.part, moved.bytes.start));
    moved
}

#[cfg(test)]
mod tests {
    use std::path::Path;

    use deft_formats::gguf::StoredModel;

    use super::*;
    use crate::{ComputeSettings, Model};

    /// The test uses two copies on the first node in place of two nodes.
    #[test]
    fn copies_hold_what_the_file_holds_and_are_read_instead() {
        let file =
            concat!(env!("CARGO_MANIFEST_DIR"), "/../../demo/larkfen-desk/larkfen-desk-q8_0.gguf");
        let StoredModel { header, parts } = StoredModel::read(Path::new(file)).unwrap();
        let open = |layer_memory: LayerMemory, weights| {
            let (mut layer_memory, mut reports) = (layer_memory, Vec::new());
            let report = &mut |done, all| reports.push((done, all));
            let mapped = Mapped::open(&parts, &header, &mut layer_memory, weights, report).unwrap();
            (mapped, reports)
        };
        let bytes = std::fs::metadata(file).unwrap().len();
        let (plain, _) = open(LayerMemory::host(), Weights::Mapped);
        for weights in [Weights::Mapped, Weights::Resident] {
            let (copied, reports) = open(LayerMemory::host().with_copies_on(&[0, 0]), weights);
            assert_eq!(reports.last(), Some(&(2 * bytes, 2 * bytes)));
            assert!(reports.is_sorted());
            for tensor in &header.tensors {
                let of = |mapped: &Mapped| {
                    mapped.weights(tensor.part, tensor.offset, tensor.bytes).near().to_vec()
                };
                assert!(of(&copied) == of(&plain), "{}", tensor.name);
                let [first, second] = [0, 1].map(|node| &copied.copies[tensor.part][node][..]);
                let own = usize::try_from(tensor.offset).unwrap()..;
                assert!(first[own.clone()] == second[own], "{}", tensor.name);
            }
            assert!(plain.copies.is_empty());
        }
    }

    #[test]
    fn loading_tells_how_far_it_is() {
        let file =
            concat!(env!("CARGO_MANIFEST_DIR"), "/../../demo/larkfen-desk/larkfen-desk-q8_0.gguf");
        let bytes = std::fs::metadata(file).unwrap().len();
        for weights in [Weights::Mapped, Weights::Resident] {
            let (layer_memory, compute) = (&mut LayerMemory::host(), ComputeSettings::default());
            let mut reports = Vec::new();
            let report = &mut |done, all| reports.push((done, all));
            Model::open_in(Path::new(file), 256, layer_memory, weights, compute, report).unwrap();
            assert!(
                reports.is_sorted()
                    && reports.iter().all(|&(done, all)| done <= all && all == bytes)
            );
            assert_eq!(reports.last(), Some(&(bytes, bytes)));
        }
    }
}
