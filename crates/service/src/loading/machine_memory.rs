//! How much memory this service may use: the machine's, or what its control group allows.
//!
//! Source: the kernel's documents on control groups, versions 1 and 2. A limit of any group above
//! counts too, so the way up to the root is walked.

use std::io;
use std::path::{Path, PathBuf};

/// Memory in bytes.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct Memory {
    /// What the machine has.
    pub(crate) machine: u64,
    /// Smallest limit of this process's control groups, if there is one.
    pub(crate) group: Option<u64>,
}

impl Memory {
    /// Read from the kernel's files below `root` (`/`, except in tests).
    ///
    /// # Errors
    /// The kernel's files do not say how much memory there is.
    pub(crate) fn read(root: &Path) -> io::Result<Self> {
        let text = std::fs::read_to_string(root.join("proc/meminfo"))?;
        let total = text.lines().find_map(|line| line.strip_prefix("MemTotal:"));
        let kibibytes = total.and_then(|rest| rest.trim().strip_suffix(" kB")?.parse::<u64>().ok());
        let machine = kibibytes
            .map(|kibibytes| kibibytes << 10)
            .ok_or_else(|| io::Error::other("/proc/meminfo has no MemTotal"))?;
        let groups = std::fs::read_to_string(root.join("proc/self/cgroup")).unwrap_or_default();
        let limits = groups.lines().filter_map(|line| limit_of(root, line));
        // A limit beyond the machine's memory is how version 1 says that there is none.
        let group = limits.min().filter(|&limit| limit < machine);
        Ok(Self { machine, group })
    }

    /// What may be used.
    pub(crate) fn usable(self) -> u64 {
        self.group.unwrap_or(self.machine)
    }
}

/// The least limit on the way up from the group that a line of `/proc/self/cgroup` names.
fn limit_of(root: &Path, line: &str) -> Option<u64> {
    let mut fields = line.splitn(3, ':');
    let (hierarchy, controllers, path) = (fields.next()?, fields.next()?, fields.next()?);
    let (mount, file) = match (hierarchy, controllers) {
        ("0", "") => ("sys/fs/cgroup", "memory.max"),
        (_, names) if names.split(',').any(|name| name == "memory") => {
            ("sys/fs/cgroup/memory", "memory.limit_in_bytes")
        }
        _ => return None,
    };
    let mount = root.join(mount);
    let group: PathBuf = mount.join(path.trim_start_matches('/'));
    let way_up = group.ancestors().take_while(|folder| folder.starts_with(&mount));
    way_up
        .filter_map(|folder| std::fs::read_to_string(folder.join(file)).ok()?.trim().parse().ok())
        .min()
}

#[cfg(test)]
mod tests {
    use super::*;

    const MACHINE: u64 = 24 << 30;

    /// A root with these files.
    fn root(files: &[(&str, &str)]) -> tempfile::TempDir {
        let root = tempfile::tempdir().unwrap();
        let meminfo = ("proc/meminfo", "MemTotal:       25165824 kB\nMemFree: 1 kB\n");
        for (path, text) in files.iter().chain([&meminfo]) {
            let path = root.path().join(path);
            std::fs::create_dir_all(path.parent().unwrap()).unwrap();
            std::fs::write(path, text).unwrap();
        }
        root
    }

    fn group(files: &[(&str, &str)]) -> Option<u64> {
        let memory = Memory::read(root(files).path()).unwrap();
        assert_eq!(memory.machine, MACHINE);
        memory.group
    }

    #[test]
    fn without_a_group_the_machine_counts() {
        assert_eq!(group(&[]), None);
        let none = [("proc/self/cgroup", "0::/user\n"), ("sys/fs/cgroup/user/memory.max", "max\n")];
        assert_eq!(group(&none), None);
        let memory = Memory::read(root(&none).path()).unwrap();
        assert_eq!(memory.usable(), MACHINE);
    }

    #[test]
    fn version_2_counts_the_least_limit_on_the_way_up() {
        let files = [
            ("proc/self/cgroup", "0::/seeds/deft\n"),
            ("sys/fs/cgroup/seeds/deft/memory.max", "8589934592\n"),
            ("sys/fs/cgroup/seeds/memory.max", "4294967296\n"),
        ];
        assert_eq!(group(&files), Some(4 << 30));
    }

    #[test]
    fn version_1_is_read_from_its_memory_hierarchy() {
        let files = [
            ("proc/self/cgroup", "5:cpu,cpuacct:/seeds\n4:memory:/seeds\n0::/\n"),
            ("sys/fs/cgroup/memory/seeds/memory.limit_in_bytes", "2147483648\n"),
            ("sys/fs/cgroup/memory/memory.limit_in_bytes", "9223372036854771712\n"),
        ];
        assert_eq!(group(&files), Some(2 << 30));
        let unlimited = [
            ("proc/self/cgroup", "4:memory:/\n"),
            ("sys/fs/cgroup/memory/memory.limit_in_bytes", "9223372036854771712\n"),
        ];
        assert_eq!(group(&unlimited), None);
    }

    #[test]
    fn in_a_container_the_group_may_be_the_root_itself() {
        let files = [("proc/self/cgroup", "0::/\n"), ("sys/fs/cgroup/memory.max", "1073741824\n")];
        assert_eq!(group(&files), Some(1 << 30));
    }

    #[test]
    fn this_machine_tells() {
        let memory = Memory::read(Path::new("/")).unwrap();
        assert!(memory.usable() > 1 << 28 && memory.usable() <= memory.machine);
        assert!(Memory::read(Path::new("/nowhere")).is_err());
    }
}
