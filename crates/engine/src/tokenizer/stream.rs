//! Bytes to text as they come, never breaking a character.

/// Holds back the bytes of an unfinished character.
#[derive(Debug, Clone)]
pub struct TextStream {
    pending: Vec<u8>,
    strip_space: bool,
}

impl TextStream {
    pub(super) fn new(strip_space: bool) -> Self {
        Self { pending: Vec::new(), strip_space }
    }

    /// Adds bytes; returns the text that is complete. Bytes that can never become a character are
    /// replaced by U+FFFD, one for each maximal broken part.
    pub fn push(&mut self, bytes: &[u8]) -> String {
        let bytes = match bytes {
            [b' ', rest @ ..] if self.strip_space => rest,
            _ => bytes,
        };
        self.strip_space &= bytes.is_empty() && self.pending.is_empty();
        self.pending.extend_from_slice(bytes);
        let complete = self.pending.len() - unfinished(&self.pending);
        let text = String::from_utf8_lossy(&self.pending[..complete]).into_owned();
        self.pending.drain(..complete);
        text
    }

    /// What is left at the end, replaced where it is broken.
    pub fn finish(&mut self) -> String {
        String::from_utf8_lossy(&std::mem::take(&mut self.pending)).into_owned()
    }
}

/// How many bytes at the end belong to a character whose lead byte promises more of them.
fn unfinished(bytes: &[u8]) -> usize {
    for back in 1..=bytes.len().min(3) {
        let promised = match bytes[bytes.len() - back] {
            0x80..=0xBF => continue,
            0xC0..=0xDF => 2,
            0xE0..=0xEF => 3,
            0xF0..=0xF7 => 4,
            _ => 1,
        };
        return if promised > back { back } else { 0 };
    }
    0
}
