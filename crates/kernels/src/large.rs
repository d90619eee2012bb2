//! Memory in large pages, if the system has them: address translation is cheaper.

use rustix::mm::{Advice, madvise};

/// Bytes of a large page.
const LARGE: usize = 2 << 20;

/// A vector of `count` equal values, all of them written. Large pages are requested for the part that they fill
/// completely, so no more memory is used than without.
#[must_use]
pub(crate) fn in_large_pages<T: Clone>(count: usize, value: T) -> Vec<T> {
    let mut values = Vec::with_capacity(count);
    let room = values.spare_capacity_mut();
    ask_for_large_pages(room.as_mut_ptr().cast(), size_of_val(room));
    values.resize(count, value);
    values
}

/// Of memory that was not written yet.
#[cfg(target_os = "linux")]
fn ask_for_large_pages(start: *mut u8, length: usize) {
    let Some((offset, length)) = whole_pages(start.addr(), length) else {
        return;
    };
    // SAFETY: the range lies within memory that is ours; the advice changes neither what is in it nor who may use it.
    // If the system has no large pages, the request fails and small pages are used.
    let _ = unsafe { madvise(start.wrapping_add(offset).cast(), length, Advice::LinuxHugepage) };
}

#[cfg(not(target_os = "linux"))]
fn ask_for_large_pages(_: *mut u8, _: usize) {}

/// Start and length of the complete large pages within a stretch of memory; none if there is none.
fn whole_pages(start: usize, length: usize) -> Option<(usize, usize)> {
    let offset = start.next_multiple_of(LARGE) - start;
    let whole = length.checked_sub(offset)? / LARGE * LARGE;
    (whole > 0).then_some((offset, whole))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_whole_large_pages_within_are_asked_for() {
        assert_eq!(whole_pages(0, LARGE), Some((0, LARGE)));
        assert_eq!(whole_pages(0, LARGE - 1), None);
        assert_eq!(whole_pages(16, LARGE), None, "a page that begins later would end beyond");
        assert_eq!(whole_pages(16, 2 * LARGE - 16), Some((LARGE - 16, LARGE)));
        assert_eq!(whole_pages(LARGE, 3 * LARGE + 5), Some((0, 3 * LARGE)));
        assert_eq!(whole_pages(5, 0), None);
    }

    #[test]
    fn values_are_there_whatever_their_number() {
        for count in [0, 1, 3 * LARGE / 4] {
            assert_eq!(in_large_pages(count, 2.5_f32), vec![2.5; count]);
        }
    }

    /// Kibibytes in large pages of the mapping that an address lies in, as the system tells.
    fn large_at(address: usize) -> Option<usize> {
        let text = std::fs::read_to_string("/proc/self/smaps").ok()?;
        let mut lines = text.lines();
        lines.find(|line| {
            let range = line.split_whitespace().next().and_then(|word| word.split_once('-'));
            let number = |text: &str| usize::from_str_radix(text, 16).ok();
            range.is_some_and(|(first, end)| {
                number(first).is_some_and(|first| first <= address)
                    && number(end).is_some_and(|end| address < end)
            })
        })?;
        let large = lines.find_map(|line| line.strip_prefix("AnonHugePages:"))?;
        large.trim().strip_suffix(" kB")?.parse().ok()
    }

    #[test]
    fn large_pages_are_used_where_the_system_gives_them() {
        let setting = std::fs::read_to_string("/sys/kernel/mm/transparent_hugepage/enabled");
        if !setting.is_ok_and(|setting| setting.contains("[madvise]")) {
            return eprintln!("skipped: the system does not give large pages to those who ask");
        }
        let (asked, not_asked) = (in_large_pages(32 << 20, 1_u8), vec![1_u8; 32 << 20]);
        let found =
            [&asked, &not_asked].map(|values| large_at(values.as_ptr().addr() + (16 << 20)));
        let [Some(asked), Some(not_asked)] = found else {
            return eprintln!("skipped: the system does not report large pages");
        };
        // It may have none left. Where it merged both mappings, both are in the same one.
        assert!(asked >= not_asked, "{asked} and {not_asked} KiB");
        println!("{asked} KiB where they were asked for, {not_asked} KiB else");
    }
}
