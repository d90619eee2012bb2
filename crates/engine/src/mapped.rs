//! A model file in memory, mapped and never written.

use std::fs::File;
use std::path::Path;

use memmap2::Mmap;

/// A mapped file. Its length was checked against the header before any tensor is looked up.
pub(crate) struct MappedFile {
    map: Mmap,
}

impl MappedFile {
    /// Maps a file for reading.
    pub(crate) fn open(path: &Path) -> std::io::Result<(File, Self)> {
        let file = File::open(path)?;
        // SAFETY: the map is only read. Should another program change the file, values change but
        // nothing depends on them for memory safety: every offset and length in use comes from the
        // header, which was read before and is kept apart. Should the file be cut short, reading
        // beyond its end kills this process, which is an engine process serving this one model.
        let map = unsafe { Mmap::map(&file)? };
        Ok((file, Self { map }))
    }

    /// Bytes from `offset` on; none if they are not all there.
    pub(crate) fn bytes(&self, offset: u64, length: u64) -> Option<&[u8]> {
        let start = usize::try_from(offset).ok()?;
        let end = start.checked_add(usize::try_from(length).ok()?)?;
        self.map.get(start..end)
    }
}
