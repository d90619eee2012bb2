//! A compact list of texts; a vocabulary has hundreds of thousands.

use std::fmt;

/// A list of texts, stored one after the other in one allocation.
#[derive(Clone, Default, PartialEq, Eq)]
pub struct TextList {
    all: String,
    /// End of each text.
    ends: Vec<u32>,
}

impl TextList {
    /// Adds a text. Returns false, and adds nothing, if all texts together would be longer than 4 GiB.
    #[must_use]
    pub fn push(&mut self, text: &str) -> bool {
        let Ok(end) = u32::try_from(self.all.len() + text.len()) else {
            return false;
        };
        self.all.push_str(text);
        self.ends.push(end);
        true
    }

    /// The text at an index.
    #[must_use]
    pub fn get(&self, at: usize) -> Option<&str> {
        let end = *self.ends.get(at)? as usize;
        let start = at.checked_sub(1).map_or(0, |before| self.ends[before] as usize);
        Some(&self.all[start..end])
    }

    /// Number of texts.
    #[must_use]
    pub fn len(&self) -> usize {
        self.ends.len()
    }

    /// Whether there are no texts.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.ends.is_empty()
    }

    /// Bytes of all texts together.
    #[must_use]
    pub fn total_bytes(&self) -> usize {
        self.all.len()
    }

    /// All texts in order.
    pub fn iter(&self) -> impl Iterator<Item = &str> {
        (0..self.len()).filter_map(|at| self.get(at))
    }
}

impl<T: AsRef<str>> FromIterator<T> for TextList {
    /// # Panics
    /// If all texts together are longer than 4 GiB.
    fn from_iter<I: IntoIterator<Item = T>>(texts: I) -> Self {
        let mut list = Self::default();
        for text in texts {
            assert!(list.push(text.as_ref()), "texts of more than 4 GiB");
        }
        list
    }
}

impl fmt::Debug for TextList {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_list().entries(self.iter()).finish()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn texts_return_as_they_were() {
        let list: TextList = ["bean", "", "🌱"].into_iter().collect();
        assert_eq!(list.iter().collect::<Vec<_>>(), ["bean", "", "🌱"]);
        assert_eq!((list.get(2), list.get(3)), (Some("🌱"), None));
        assert_eq!((list.len(), list.total_bytes()), (3, 8));
    }
}
