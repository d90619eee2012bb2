//! Metadata: keys and typed values, with typed lookups whose errors name the key.

use std::collections::HashMap;

use thiserror::Error;

use super::texts::TextList;

/// A metadata value. Of integers, only the sign is distinguished.
#[derive(Debug, Clone, PartialEq)]
pub enum Value {
    /// Any unsigned integer.
    Unsigned(u64),
    /// Any signed integer.
    Signed(i64),
    /// A float of either width.
    Float(f64),
    /// A boolean.
    Bool(bool),
    /// Text.
    String(String),
    /// A flat array; the reader refuses nested arrays.
    Array(Array),
}

/// A flat array of one kind of value.
#[derive(Debug, Clone, PartialEq)]
pub enum Array {
    /// Integers of any width and sign.
    Integers(Vec<i64>),
    /// Floats of either width.
    Floats(Vec<f64>),
    /// Booleans.
    Bools(Vec<bool>),
    /// Texts.
    Strings(TextList),
}

impl Array {
    /// Number of elements.
    #[must_use]
    pub fn len(&self) -> usize {
        match self {
            Self::Integers(items) => items.len(),
            Self::Floats(items) => items.len(),
            Self::Bools(items) => items.len(),
            Self::Strings(items) => items.len(),
        }
    }

    /// Whether there are no elements.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.len() == 0
    }
}

impl Value {
    /// The kind in words, for messages.
    #[must_use]
    pub fn kind(&self) -> &'static str {
        match self {
            Self::Unsigned(_) | Self::Signed(_) => "an integer",
            Self::Float(_) => "a float",
            Self::Bool(_) => "a boolean",
            Self::String(_) => "a text",
            Self::Array(Array::Integers(_)) => "an array of integers",
            Self::Array(Array::Floats(_)) => "an array of floats",
            Self::Array(Array::Bools(_)) => "an array of booleans",
            Self::Array(Array::Strings(_)) => "an array of strings",
        }
    }
}

/// The error of a missing key, or of a key with an unexpected value.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum MetadataError {
    /// The key is missing.
    #[error("required key `{key}` is missing")]
    Missing {
        /// The key.
        key: String,
    },
    /// The value has another kind.
    #[error("key `{key}` holds {found}, expected {expected}")]
    WrongKind {
        /// The key.
        key: String,
        /// The kind of its value.
        found: &'static str,
        /// The expected kind.
        expected: &'static str,
    },
    /// The value is invalid.
    #[error("key `{key}` is {value}, {reason}")]
    OutOfRange {
        /// The key.
        key: String,
        /// Its value.
        value: String,
        /// The reason.
        reason: String,
    },
}

/// All keys of a file, in file order.
#[derive(Debug, Clone, Default)]
pub struct Metadata {
    entries: Vec<(String, Value)>,
    index: HashMap<String, usize>,
}

impl Metadata {
    /// Adds a key; returns false if it exists already.
    pub(super) fn insert(&mut self, key: String, value: Value) -> bool {
        if self.index.contains_key(&key) {
            return false;
        }
        self.index.insert(key.clone(), self.entries.len());
        self.entries.push((key, value));
        true
    }

    /// Keys and values in file order.
    pub fn iter(&self) -> impl Iterator<Item = (&str, &Value)> {
        self.entries.iter().map(|(key, value)| (key.as_str(), value))
    }

    /// The value of a key.
    #[must_use]
    pub fn get(&self, key: &str) -> Option<&Value> {
        self.index.get(key).map(|&at| &self.entries[at].1)
    }

    fn required<T>(
        &self,
        key: &str,
        found: Result<Option<T>, MetadataError>,
    ) -> Result<T, MetadataError> {
        found?.ok_or_else(|| MetadataError::Missing { key: key.to_owned() })
    }

    fn typed<'a, T>(
        &'a self,
        key: &str,
        expected: &'static str,
        convert: impl FnOnce(&'a Value) -> Option<T>,
    ) -> Result<Option<T>, MetadataError> {
        let Some(value) = self.get(key) else {
            return Ok(None);
        };
        match convert(value) {
            Some(converted) => Ok(Some(converted)),
            None => {
                Err(MetadataError::WrongKind { key: key.to_owned(), found: value.kind(), expected })
            }
        }
    }

    /// An optional text.
    ///
    /// # Errors
    /// The value has another kind.
    pub fn optional_text(&self, key: &str) -> Result<Option<&str>, MetadataError> {
        self.typed(key, "a text", |value| match value {
            Value::String(text) => Some(text.as_str()),
            _ => None,
        })
    }

    /// A required text.
    ///
    /// # Errors
    /// Missing, or another kind.
    pub fn text(&self, key: &str) -> Result<&str, MetadataError> {
        self.required(key, self.optional_text(key))
    }

    /// An optional count from 0 to 2^32-1.
    ///
    /// # Errors
    /// Another kind, negative, or too large.
    pub fn optional_count(&self, key: &str) -> Result<Option<u32>, MetadataError> {
        let Some(value) = self.get(key) else {
            return Ok(None);
        };
        let (narrow, written) = match value {
            Value::Unsigned(count) => (u32::try_from(*count), count.to_string()),
            Value::Signed(count) => (u32::try_from(*count), count.to_string()),
            other => {
                return Err(MetadataError::WrongKind {
                    key: key.to_owned(),
                    found: other.kind(),
                    expected: "an integer",
                });
            }
        };
        narrow.map(Some).map_err(|_| MetadataError::OutOfRange {
            key: key.to_owned(),
            value: written,
            reason: "not a count of 32 bits".to_owned(),
        })
    }

    /// A required count.
    ///
    /// # Errors
    /// Missing, another kind, negative, or too large.
    pub fn count(&self, key: &str) -> Result<u32, MetadataError> {
        self.required(key, self.optional_count(key))
    }

    /// An optional float.
    ///
    /// # Errors
    /// Another kind.
    pub fn optional_float(&self, key: &str) -> Result<Option<f32>, MetadataError> {
        self.typed(key, "a float", |value| match value {
            #[expect(clippy::cast_possible_truncation, reason = "models compute in f32")]
            Value::Float(float) => Some(*float as f32),
            _ => None,
        })
    }

    /// A required float.
    ///
    /// # Errors
    /// Missing, or another kind.
    pub fn float(&self, key: &str) -> Result<f32, MetadataError> {
        self.required(key, self.optional_float(key))
    }

    /// An optional boolean.
    ///
    /// # Errors
    /// Another kind.
    pub fn optional_bool(&self, key: &str) -> Result<Option<bool>, MetadataError> {
        self.typed(key, "a boolean", |value| match value {
            Value::Bool(truth) => Some(*truth),
            _ => None,
        })
    }

    /// An optional array of texts.
    ///
    /// # Errors
    /// Another kind.
    pub fn optional_texts(&self, key: &str) -> Result<Option<&TextList>, MetadataError> {
        self.typed(key, "an array of strings", |value| match value {
            Value::Array(Array::Strings(texts)) => Some(texts),
            _ => None,
        })
    }

    /// A required array of texts.
    ///
    /// # Errors
    /// Missing, or another kind.
    pub fn texts(&self, key: &str) -> Result<&TextList, MetadataError> {
        self.required(key, self.optional_texts(key))
    }

    /// An optional array of integers.
    ///
    /// # Errors
    /// Another kind.
    pub fn optional_integers(&self, key: &str) -> Result<Option<&[i64]>, MetadataError> {
        self.typed(key, "an array of integers", |value| match value {
            Value::Array(Array::Integers(items)) => Some(items.as_slice()),
            _ => None,
        })
    }

    /// An optional array of floats.
    ///
    /// # Errors
    /// Another kind.
    pub fn optional_floats(&self, key: &str) -> Result<Option<&[f64]>, MetadataError> {
        self.typed(key, "an array of floats", |value| match value {
            Value::Array(Array::Floats(items)) => Some(items.as_slice()),
            _ => None,
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn metadata() -> Metadata {
        let mut metadata = Metadata::default();
        let texts = Array::Strings(["bean", "pea"].into_iter().collect());
        for (key, value) in [
            ("count", Value::Unsigned(7)),
            ("signed", Value::Signed(9)),
            ("below", Value::Signed(-1)),
            ("huge", Value::Unsigned(1 << 40)),
            ("share", Value::Float(0.5)),
            ("flag", Value::Bool(true)),
            ("name", Value::String("desk".to_owned())),
            ("texts", Value::Array(texts)),
            ("numbers", Value::Array(Array::Integers(vec![1, -2]))),
            ("floats", Value::Array(Array::Floats(vec![0.5]))),
        ] {
            assert!(metadata.insert(key.to_owned(), value));
        }
        metadata
    }

    #[test]
    fn keys_are_looked_up_by_what_they_hold() {
        let metadata = metadata();
        assert_eq!((metadata.count("count"), metadata.count("signed")), (Ok(7), Ok(9)));
        assert_eq!(metadata.float("share"), Ok(0.5));
        assert_eq!(metadata.optional_bool("flag"), Ok(Some(true)));
        assert_eq!(metadata.text("name"), Ok("desk"));
        assert_eq!(metadata.texts("texts").map(TextList::len), Ok(2));
        assert_eq!(metadata.optional_integers("numbers"), Ok(Some(&[1, -2][..])));
        assert_eq!(metadata.optional_floats("floats"), Ok(Some(&[0.5][..])));
        assert_eq!(metadata.optional_count("none"), Ok(None));
        let keys: Vec<&str> = metadata.iter().map(|(key, _)| key).collect();
        assert_eq!(keys[..3], ["count", "signed", "below"], "in file order");
    }

    #[test]
    fn what_is_missing_or_otherwise_is_named() {
        let metadata = metadata();
        let errors = [
            metadata.count("none").unwrap_err(),
            metadata.text("count").unwrap_err(),
            metadata.count("name").unwrap_err(),
            metadata.texts("numbers").unwrap_err(),
            metadata.float("flag").unwrap_err(),
            metadata.count("below").unwrap_err(),
            metadata.count("huge").unwrap_err(),
        ]
        .map(|error| error.to_string());
        insta::assert_snapshot!(errors.join("\n"));
    }

    #[test]
    fn a_key_stands_once() {
        let mut metadata = metadata();
        assert!(!metadata.insert("count".to_owned(), Value::Bool(false)));
        assert_eq!(metadata.count("count"), Ok(7));
    }
}
