//! Memory of engine processes, as the kernel counts it.

use std::path::PathBuf;

/// What a process holds.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub(crate) struct Measured {
    /// Bytes that are its own: everything private except pages of its model file.
    pub(crate) private: u64,
    /// Resident bytes of its model's files.
    pub(crate) file: u64,
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
    let mut of_file = false;
    for line in maps.lines() {
        let Some((key, rest)) = line.split_once(' ') else {
            continue;
        };
        if !key.ends_with(':') {
            // "start-end perms offset device inode path": the path may hold spaces.
            let path = rest.split_whitespace().skip(4).collect::<Vec<_>>().join(" ");
            of_file = files.iter().any(|file| file.as_os_str() == path.as_str());
            continue;
        }
        let kibibytes =
            || rest.trim().strip_suffix(" kB").and_then(|count| count.parse::<u64>().ok());
        match key {
            "Rss:" if of_file => measured.file += kibibytes().unwrap_or(0) << 10,
            "Private_Clean:" | "Private_Dirty:" if !of_file => {
                measured.private += kibibytes().unwrap_or(0) << 10;
            }
            _ => {}
        }
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
7f20-7f30 rw-p 00000000 00:00 0
Rss:                 128 kB
Private_Dirty:       128 kB
";
        let measured = sum(maps, &["/srv/seed models/larkfen-desk.gguf".into()]);
        assert_eq!(measured, Measured { private: 432 << 10, file: 2000 << 10 });
    }

    #[test]
    fn this_process_has_private_memory() {
        let measured = of_process(std::process::id(), &[]).unwrap();
        assert!(measured.private > 0);
        assert_eq!(of_process(u32::MAX, &[]), None);
    }
}
