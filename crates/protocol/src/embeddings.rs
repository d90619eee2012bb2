//! Embeddings.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::engine::Prompt;
use crate::manage::InputRole;

/// `POST /v1/embeddings`.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct EmbeddingRequest {
    /// Model or variant.
    pub model: String,
    /// What to embed.
    pub input: EmbeddingInput,
    /// How the numbers are written; `float` where absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub encoding_format: Option<EmbeddingFormat>,
    /// Number of the values of each embedding; all by default. The profile of a model names the numbers that the model was
    /// trained for.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub dimensions: Option<u32>,
    /// What the inputs are, for a profile with prefixes.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub input_role: Option<InputRole>,
    /// The caller, as for answers.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub user: Option<String>,
}

/// One input or several.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(untagged, expecting = "expected a text, a list of token ids, or a list of either")]
pub enum EmbeddingInput {
    /// One text.
    Text(String),
    /// The tokens of one text.
    Tokens(Vec<u32>),
    /// Several texts.
    Texts(Vec<String>),
    /// The tokens of several texts.
    TokenLists(Vec<Vec<u32>>),
}

impl EmbeddingInput {
    /// The inputs as a list.
    #[must_use]
    pub fn into_list(self) -> Vec<Prompt> {
        match self {
            Self::Text(text) => vec![Prompt::Text(text)],
            Self::Tokens(ids) => vec![Prompt::Tokens(ids)],
            Self::Texts(texts) => texts.into_iter().map(Prompt::Text).collect(),
            Self::TokenLists(lists) => lists.into_iter().map(Prompt::Tokens).collect(),
        }
    }
}

/// How embeddings are written.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum EmbeddingFormat {
    /// Lists of numbers.
    #[default]
    Float,
    /// Little-endian 32-bit floats in base64.
    Base64,
}

/// Embeddings of all inputs.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct EmbeddingResponse {
    /// `list`.
    pub object: String,
    /// In the order of the inputs.
    pub data: Vec<EmbeddingEntry>,
    /// The variant that made them.
    pub model: String,
    /// Token counts.
    pub usage: EmbeddingUsage,
}

/// One embedding.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct EmbeddingEntry {
    /// `embedding`.
    pub object: String,
    /// Which input.
    pub index: u32,
    /// The numbers; together they have length 1.
    pub embedding: EmbeddingValues,
}

/// The numbers of an embedding.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(untagged)]
pub enum EmbeddingValues {
    /// As a list.
    Float(Vec<f32>),
    /// In base64.
    Base64(String),
}

/// Token counts of embeddings.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct EmbeddingUsage {
    /// Tokens of all inputs.
    pub prompt_tokens: u32,
    /// The same.
    pub total_tokens: u32,
}

#[cfg(test)]
mod tests {
    use serde_json::json;

    use super::*;

    #[test]
    fn one_input_or_many_as_text_or_tokens() {
        let list =
            |value| serde_json::from_value::<EmbeddingInput>(value).map(EmbeddingInput::into_list);
        let text = |text: &str| Prompt::Text(text.to_owned());
        assert_eq!(list(json!("frost")).unwrap(), [text("frost")]);
        assert_eq!(list(json!(["frost", "May"])).unwrap(), [text("frost"), text("May")]);
        assert_eq!(list(json!([4, 5])).unwrap(), [Prompt::Tokens(vec![4, 5])]);
        assert_eq!(
            list(json!([[4], [5, 6]])).unwrap(),
            [Prompt::Tokens(vec![4]), Prompt::Tokens(vec![5, 6])]
        );
        assert!(list(json!([4, "frost"])).is_err());
        assert!(list(json!({"text": "frost"})).is_err());
    }

    #[test]
    fn formats_are_named_as_the_protocol_names_them() {
        let request =
            json!({"model": "larkfen-find", "input": "frost", "encoding_format": "base64"});
        let request: EmbeddingRequest = serde_json::from_value(request).unwrap();
        assert_eq!(request.encoding_format, Some(EmbeddingFormat::Base64));
        let wrong = json!({"model": "larkfen-find", "input": "frost", "encoding_format": "hex"});
        assert!(serde_json::from_value::<EmbeddingRequest>(wrong).is_err());
        assert_eq!(json!(EmbeddingValues::Float(vec![0.5])), json!([0.5]));
        assert_eq!(json!(EmbeddingValues::Base64("AAAA".to_owned())), json!("AAAA"));
    }
}
