//! Pooling: the states of an input's tokens become one embedding.

use deft_formats::gguf::{Header, TextList};

use super::named::{self, ENCODER};
use crate::load_error::LoadError;

/// The pooling of a file (`pooling_type`).
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Pooling {
    /// The mean of all tokens, including the markers.
    Mean,
    /// The first token, which marks the beginning.
    First,
    /// The last token.
    Last,
    /// None: a head computes scores of a pair of texts from the first token (a cross-encoder).
    Rank {
        /// Scores of each pair.
        scores: u32,
    },
}

impl Pooling {
    /// The pooling of a file; none if the model makes neither embeddings nor scores. The default of encoders is the mean.
    ///
    /// # Errors
    /// The pooling is not supported.
    pub(crate) fn of(header: &Header) -> Result<Option<Self>, LoadError> {
        let family = named::name(header)?;
        let usual = (family == ENCODER).then_some(Self::Mean);
        let key = format!("{family}.pooling_type");
        Ok(match header.metadata.optional_count(&key)? {
            None | Some(0) => usual,
            Some(1) => Some(Self::Mean),
            Some(2) => Some(Self::First),
            Some(3) => Some(Self::Last),
            Some(4) if family == ENCODER => Some(Self::Rank { scores: scores(header)? }),
            Some(other) => {
                let most = if family == ENCODER { 4 } else { 3 };
                return Err(LoadError::Unsupported {
                    what: format!("key `{key}` is {other}; 0 to {most} are supported"),
                });
            }
        })
    }

    /// The name that operators see.
    pub(crate) const fn name(self) -> &'static str {
        match self {
            Self::Mean => "mean",
            Self::First => "first token",
            Self::Last => "last token",
            Self::Rank { .. } => "none, a head scores pairs of texts",
        }
    }

    /// Pools states (`tokens x width`) into one vector of length 1, with the first `dimensions` values only if they are given.
    #[must_use]
    #[expect(
        clippy::cast_precision_loss,
        clippy::cast_possible_truncation,
        reason = "sums are wide"
    )]
    pub(crate) fn embedding(
        self,
        states: &[f32],
        width: usize,
        dimensions: Option<usize>,
    ) -> Vec<f32> {
        let mut pooled: Vec<f64> = match self {
            Self::First | Self::Rank { .. } => {
                states[..width].iter().copied().map(f64::from).collect()
            }
            Self::Last => states[states.len() - width..].iter().copied().map(f64::from).collect(),
            Self::Mean => {
                let mut sums = vec![0.0; width];
                for state in states.chunks(width) {
                    sums.iter_mut().zip(state).for_each(|(sum, value)| *sum += f64::from(*value));
                }
                let tokens = (states.len() / width) as f64;
                sums.iter().map(|sum| sum / tokens).collect()
            }
        };
        pooled.truncate(dimensions.unwrap_or(width));
        let length = pooled.iter().map(|value| value * value).sum::<f64>().sqrt();
        let length = if length == 0.0 { 1.0 } else { length };
        pooled.iter().map(|value| (value / length) as f32).collect()
    }
}

/// The number of scores of a cross-encoder: one, or one for each class.
fn scores(header: &Header) -> Result<u32, LoadError> {
    let key = format!("{}.classifier.output_labels", named::name(header)?);
    let labels = header.metadata.optional_texts(&key)?.map_or(1, TextList::len);
    u32::try_from(labels).ok().filter(|&labels| labels > 0).ok_or_else(|| LoadError::Unsupported {
        what: format!("key `{key}` names {labels} classes"),
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn each_way_of_pooling_gives_a_vector_of_length_one() {
        let states = [3.0, 0.0, 0.0, 4.0, 9.0, 12.0];
        assert_eq!(Pooling::First.embedding(&states, 2, None), [1.0, 0.0]);
        assert_eq!(Pooling::Last.embedding(&states, 2, None), [0.6, 0.8]);
        let mean = Pooling::Mean.embedding(&states, 2, None);
        let length = (4.0f32 * 4.0 + (16.0 / 3.0f32).powi(2)).sqrt();
        assert!((mean[0] - 4.0 / length).abs() < 1e-6);
        assert!((mean[1] - 16.0 / 3.0 / length).abs() < 1e-6);
    }

    #[test]
    fn fewer_dimensions_are_the_first_ones_of_length_one() {
        let states = [3.0, 4.0, 12.0];
        assert_eq!(Pooling::First.embedding(&states, 3, Some(2)), [0.6, 0.8]);
        assert_eq!(Pooling::First.embedding(&states, 3, Some(9)).len(), 3);
    }

    #[test]
    fn nothing_stays_nothing_and_what_is_no_number_shows() {
        assert_eq!(Pooling::Mean.embedding(&[0.0; 4], 2, None), [0.0, 0.0]);
        assert!(Pooling::Last.embedding(&[f32::NAN, 1.0], 2, None)[0].is_nan());
    }
}
