//! Conversion of a stream of bytes to text, without dividing a character.

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

    /// Adds bytes; returns the complete text. Bytes that cannot become a character are replaced by U+FFFD, one for each
    /// maximal invalid part.
    pub fn push(&mut self, bytes: &[u8]) -> String {
        // One space of the first token that has a text.
        let strips = self.strip_space && !bytes.is_empty();
        self.strip_space &= bytes.is_empty();
        let bytes = match bytes {
            [b' ', rest @ ..] if strips => rest,
            _ => bytes,
        };
        self.pending.extend_from_slice(bytes);
        let complete = self.pending.len() - unfinished(&self.pending);
        let text = String::from_utf8_lossy(&self.pending[..complete]).into_owned();
        self.pending.drain(..complete);
        text
    }

    /// The rest at the end, with invalid bytes replaced.
    pub fn finish(&mut self) -> String {
        String::from_utf8_lossy(&std::mem::take(&mut self.pending)).into_owned()
    }
}

/// Number of bytes at the end that may still become a character or are replaced together: a surrogate (ED A0 to ED BF) is held
/// back until its third byte, like other three-byte characters.
fn unfinished(bytes: &[u8]) -> usize {
    if matches!(bytes, [.., 0xED, 0xA0..=0xBF]) {
        return 2;
    }
    match bytes.utf8_chunks().last().map(|chunk| chunk.invalid()) {
        Some(broken) if std::str::from_utf8(broken).is_err_and(|e| e.error_len().is_none()) => {
            broken.len()
        }
        _ => 0,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn one_space_is_taken_from_the_first_token_that_stands_for_anything() {
        let text = |tokens: &[&str]| {
            let mut stream = TextStream::new(true);
            tokens.iter().map(|token| stream.push(token.as_bytes())).collect::<String>()
        };
        assert_eq!(text(&[" ", " row"]), " row", "the first token was the space");
        assert_eq!(text(&["", " row", " two"]), "row two", "a control token stands for nothing");
        assert_eq!(text(&["row", " two"]), "row two");
    }
}
