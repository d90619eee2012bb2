//! Memory of engine processes, as the kernel counts it.

use std::collections::BTreeMap;
use std::path::PathBuf;

use deft_protocol::engine::POOL_MEMORY;

/// What a process holds.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub(crate) struct Measured {
    /// Bytes that are its own: everything private except pages of its model file, and of the program and its
    /// libraries as far as they are as on the disk. Those are there once for all processes.
    pub(crate) private: u64,
    /// Resident bytes of its model's files.
    pub(crate) file: u64,
    /// Bytes in simulated accelerators, by their pools.
    pub(crate) accelerators: BTreeMap<String, u64>,
}

impl Measured {
    /// All of it.
    pub(crate) fn total(&self) -> u64 {
        self.private + self.file + self.accelerators.values().sum::<u64>()
    }
}

/// Whose memory a mapping is.
enum Mapping {
    Private,
    /// The program, or a library.
    Program,
    File,
    Accelerator(String),
}

impl Mapping {
    fn of(path: &str, files: &[PathBuf]) -> Self {
        let name = path.strip_prefix("/memfd:").and_then(|name| name.strip_prefix(POOL_MEMORY));
        match name {
            Some(pool) => Self::Accelerator(pool.trim_end_matches(" (deleted)").to_owned()),
            None if files.iter().any(|file| file.as_os_str() == path) => Self::File,
            None if path.starts_with('/') => Self::Program,
            None => Self::Private,
        }
    }
}

/// Measures a process that maps `files`; none if it is gone.
pub(crate) fn of_process(pid: u32, files: &[PathBuf]) -> Option<Measured> {
    let maps = std::fs::read_to_string(PathBuf::from(format!("/proc/{pid}/smaps"))).ok()?;
    let whole = |file: &PathBuf| std::fs::canonicalize(file).unwrap_or_else(|_| file.clone());
    Some(sum(&maps, &files.iter().map(whole).collect::<Vec<_>>()))
}

/// Adds up the kernel's list of mappings (`smaps`).
fn sum(maps: &str, files: &[PathBuf]) -> Measured {
    let mut measured = Measured::default();
    let mut mapping = Mapping::Private;
    for line in maps.lines() {
        let Some((key, rest)) = line.split_once(' ') else {
            continue;
        };
        if !key.ends_with(':') {
            // "start-end perms offset device inode path": the path may hold spaces.
            let path = rest.split_whitespace().skip(4).collect::<Vec<_>>().join(" ");
            mapping = Mapping::of(&path, files);
            continue;
        }
        let kibibytes =
            || rest.trim().strip_suffix(" kB").and_then(|count| count.parse::<u64>().ok());
        let counter = match (&mapping, key) {
            (Mapping::File, "Rss:") => &mut measured.file,
            (Mapping::Accelerator(pool), "Rss:") => {
                measured.accelerators.entry(pool.clone()).or_default()
            }
            (Mapping::Private, "Private_Clean:" | "Private_Dirty:")
            | (Mapping::Program, "Private_Dirty:") => &mut measured.private,
            _ => continue,
        };
        *counter += kibibytes().unwrap_or(0) << 10;
    }
    measured
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_model_file_is_counted_apart_from_what_is_private() {
        let maps = "\
5600-5700 r-xp 00000000 08:01 12 /usr/bin/deft
Size:               1024 kB
Rss:                 900 kB
Private_Clean:       300 kB
Private_Dirty:         4 kB
7f00-7f10 r--s 00000000 08:01 77 /srv/seed models/larkfen-desk.gguf
Rss:                2000 kB
Private_Clean:      2000 kB
Private_Dirty:         0 kB
7f18-7f20 rw-s 00000000 00:01 9 /memfd:deft-pool-fern (deleted)
Rss:                  64 kB
Private_Dirty:        64 kB
7f20-7f30 rw-p 00000000 00:00 0
Rss:                 128 kB
Private_Dirty:       128 kB
";
        let measured = sum(maps, &["/srv/seed models/larkfen-desk.gguf".into()]);
        let accelerators = BTreeMap::from([("fern".to_owned(), 64 << 10)]);
        assert_eq!(measured, Measured { private: 132 << 10, file: 2000 << 10, accelerators });
    }

    #[test]
    fn this_process_has_private_memory() {
        let measured = of_process(std::process::id(), &[]).unwrap();
        assert!(measured.private > 0);
        assert_eq!(of_process(u32::MAX, &[]), None);
    }
}
