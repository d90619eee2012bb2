//! A map from the texts of tokens to their ids, without a copy of the texts.

use std::hash::{BuildHasher, RandomState};
use std::sync::Arc;

use deft_formats::gguf::TextList;
use hashbrown::HashTable;

/// Ids by text; the first id if several tokens have the same text.
pub(super) struct Lookup {
    texts: Arc<TextList>,
    ids: HashTable<u32>,
    hasher: RandomState,
}

impl Lookup {
    /// A map of these ids.
    pub(super) fn new(texts: &Arc<TextList>, ids: impl Iterator<Item = u32>) -> Self {
        let hasher = RandomState::new();
        let text = |id: u32| texts.get(id as usize).unwrap_or_default();
        let mut table = HashTable::with_capacity(texts.len());
        for id in ids {
            let entry = table.entry(
                hasher.hash_one(text(id)),
                |&other| text(other) == text(id),
                |&other| hasher.hash_one(text(other)),
            );
            entry.or_insert(id);
        }
        Self { texts: Arc::clone(texts), ids: table, hasher }
    }

    pub(super) fn id(&self, text: &str) -> Option<u32> {
        let is_it = |&id: &u32| self.texts.get(id as usize) == Some(text);
        self.ids.find(self.hasher.hash_one(text), is_it).copied()
    }

    /// The texts of the map.
    pub(super) fn texts(&self) -> impl Iterator<Item = &str> {
        self.ids.iter().filter_map(|&id| self.texts.get(id as usize))
    }
}
