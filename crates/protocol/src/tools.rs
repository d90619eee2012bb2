//! Tools, structured output and reasoning in the chat-completions protocol.

use serde::{Deserialize, Serialize};
use serde_json::{Map, Value};
use utoipa::ToSchema;

/// Which tool calls an answer has.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(untagged, expecting = "expected `auto`, `none`, `required` or a named function")]
pub enum ToolChoiceField {
    /// `auto`, `none` or `required`.
    Mode(ToolMode),
    /// A call of this tool.
    Named(NamedTool),
}

/// Which tool calls an answer has, without a name.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum ToolMode {
    /// The model decides.
    Auto,
    /// None.
    None,
    /// At least one.
    Required,
}

/// A choice of one tool.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct NamedTool {
    /// `function`.
    #[serde(rename = "type")]
    pub kind: FunctionKind,
    /// The tool.
    pub function: FunctionName,
}

/// The kind of all tools.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum FunctionKind {
    /// A function.
    #[default]
    Function,
}

/// A function by its name.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct FunctionName {
    /// The name.
    pub name: String,
}

/// The form of an answer.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(tag = "type", rename_all = "snake_case")]
pub enum ResponseFormat {
    /// Any text.
    Text,
    /// A JSON object.
    JsonObject,
    /// JSON that matches a schema.
    JsonSchema {
        /// The schema.
        json_schema: NamedSchema,
    },
}

/// A schema with its name.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct NamedSchema {
    /// The name; it does not change the answer.
    #[serde(default)]
    pub name: String,
    /// The purpose; it does not change the answer.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub description: Option<String>,
    /// The JSON schema.
    #[serde(default)]
    #[schema(value_type = Option<Object>)]
    pub schema: Option<Value>,
    /// Answers match the schema in any case.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub strict: Option<bool>,
}

/// Text that an answer must match: an extension of the protocol.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum MustMatch {
    /// A regular expression for the whole answer.
    Regex(String),
    /// A grammar in the Lark language, whose first rule is `start`.
    Lark(String),
}

/// A tool call of an answer.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct ToolCall {
    /// Its id; the message with the result repeats it.
    pub id: String,
    /// `function`.
    #[serde(rename = "type")]
    pub kind: FunctionKind,
    /// The call.
    pub function: FunctionCall,
}

/// A function with its arguments.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct FunctionCall {
    /// The name.
    pub name: String,
    /// The arguments as JSON text.
    pub arguments: String,
}

/// A piece of a tool call in a stream.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct ToolCallPiece {
    /// Number of the call in the answer.
    pub index: u32,
    /// The id, in the first piece.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub id: Option<String>,
    /// `function`; only in the first piece.
    #[serde(rename = "type", default, skip_serializing_if = "Option::is_none")]
    pub kind: Option<FunctionKind>,
    /// The new part.
    pub function: FunctionPiece,
}

/// A piece of a function call.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct FunctionPiece {
    /// The name, in the first piece.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub name: Option<String>,
    /// The next part of the arguments.
    #[serde(default)]
    pub arguments: String,
}

/// How an answer may use tools, must be formed, and may think.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct AnswerForm {
    /// Tools that the model may call.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(value_type = Option<Vec<Object>>)]
    pub tools: Option<Vec<Value>>,
    /// Which tools are called; `auto` by default.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub tool_choice: Option<ToolChoiceField>,
    /// Whether an answer may have several calls; true by default.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub parallel_tool_calls: Option<bool>,
    /// The form of the answer.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub response_format: Option<ResponseFormat>,
    /// A regular expression or grammar that the answer must match: an extension of the protocol.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub must_match: Option<MustMatch>,
    /// How much the model thinks, in the words of its chat template; refused if the template does not read it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub reasoning_effort: Option<String>,
    /// Most tokens of the reasoning: an extension of the protocol.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub max_reasoning_tokens: Option<u32>,
    /// Further arguments of the chat template; refused if the template does not read them.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(value_type = Option<Object>)]
    pub chat_template_kwargs: Option<Map<String, Value>>,
}
