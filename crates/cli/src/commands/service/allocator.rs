//! Limits of free memory that the C library's allocator may keep. By default it keeps several times what the service
//! needs once many large requests came at the same time.

use std::os::unix::process::CommandExt;
use std::process::Command;

use deft_service::own_program;

/// What glibc reads when a program starts: two pools of memory for all threads, and whatever is larger than
/// 128 KiB goes back to the system at once. Other libraries have no such names.
const SETTINGS: [(&str, &str); 3] = [
    ("MALLOC_ARENA_MAX", "2"),
    ("MALLOC_MMAP_THRESHOLD_", "131072"),
    ("MALLOC_TRIM_THRESHOLD_", "131072"),
];

/// Begins this program once more with those settings. Where the operator gave some, those count.
pub(super) fn settle() {
    if SETTINGS.iter().any(|(name, _)| std::env::var_os(name).is_some()) {
        return;
    }
    // It only returns when it failed, and the service runs without as well.
    let _ = Command::new(own_program()).args(std::env::args_os().skip(1)).envs(SETTINGS).exec();
}
