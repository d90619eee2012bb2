//! A model's files in memory, mapped and never written.

use std::fs::File;
use std::path::PathBuf;

use memmap2::Mmap;

/// The mapped files of a model. Their lengths were checked against the headers before any tensor is
/// looked up.
pub(crate) struct Mapped {
    parts: Vec<Mmap>,
}

impl Mapped {
    /// Maps files for reading.
    pub(crate) fn open(paths: &[PathBuf]) -> std::io::Result<Self> {
        let map = |path: &PathBuf| {
            let file = File::open(path)?;
            // SAFETY: the map is only read. Should another program change the file, values change
            // but nothing depends on them for memory safety: every offset and length in use comes
            // from the header, which was read before and is kept apart. Should the file be cut
            // short, reading beyond its end kills this process, which is an engine process serving
            // this one model.
            unsafe { Mmap::map(&file) }
        };
        Ok(Self { parts: paths.iter().map(map).collect::<Result<_, _>>()? })
    }

    /// Bytes of a part from `offset` on; none if they are not all there.
    pub(crate) fn bytes(&self, part: usize, offset: u64, length: u64) -> Option<&[u8]> {
        let start = usize::try_from(offset).ok()?;
        let end = start.checked_add(usize::try_from(length).ok()?)?;
        self.parts.get(part)?.get(start..end)
    }
}
