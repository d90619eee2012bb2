//! What an answer of a conversation may be: reasoning, tool calls, constraints.

use std::sync::Arc;

use deft_protocol::engine::{CallOrder, Constraint, Prompt, ToolChoice};
use serde_json::{Map, Value, json};

use super::CallError;
use crate::constraint::{Calls, Constrained, ConstraintError, Grammar, Tool};
use crate::model::Words;
use crate::output::{CallForm, CallShape, Reader};

/// The form of the answers to a call.
pub(crate) struct AnswerForm {
    /// How tools are called, if the call has any.
    form: Option<Arc<CallForm>>,
    tools: Arc<[String]>,
    constraint: Option<Constrained>,
    /// The field of the request that has the constraint.
    constrained_by: &'static str,
    /// Whether the constraint applies to tool calls only, which the model may begin.
    is_in_calls: bool,
    is_chat: bool,
}

impl AnswerForm {
    /// The form of the answers to a call; none if they are plain text.
    ///
    /// # Errors
    /// The model writes no tool calls, or a constraint cannot be used.
    pub(super) fn of(words: &Words, order: &CallOrder) -> Result<Option<Arc<Self>>, CallError> {
        let (tools, is_chat) = match &order.prompt {
            Prompt::Chat { tools, .. } if order.tools.choice != ToolChoice::None => {
                (tools.as_deref().unwrap_or_default(), true)
            }
            Prompt::Chat { .. } => (&[][..], true),
            _ => (&[][..], false),
        };
        let form = form(words, order, !tools.is_empty())?;
        let has_reader = is_chat && (form.is_some() || words.form.reasoning.is_some());
        if !has_reader && order.constraint.is_none() {
            return Ok(None);
        }
        let (constraint, is_in_calls) = match &form {
            Some(form) => constrained_calls(words, order, form, tools)?,
            None => (constrained_answer(words, order)?, false),
        };
        let constrained_by = match (&form, &order.constraint) {
            (None, Some(wanted)) => field_of(wanted),
            _ => "tools",
        };
        let tools = tools.iter().filter_map(name).map(ToOwned::to_owned).collect();
        Ok(Some(Arc::new(Self { form, tools, constraint, constrained_by, is_in_calls, is_chat })))
    }

    /// A reader of an answer; none if the answer is plain text.
    pub(super) fn reader(&self, words: &Words) -> Option<Reader> {
        let markers = words.form.reasoning.clone().filter(|_| self.is_chat);
        if markers.is_none() && self.form.is_none() {
            return None;
        }
        let is_open = markers.as_ref().is_some_and(|markers| markers.begins_open);
        Some(Reader::new(markers, self.form.clone(), self.tools.clone(), is_open))
    }

    /// The constraint of a new answer, or of a call in it.
    pub(super) fn constraint(&self) -> Option<Constrained> {
        self.constraint.as_ref().and_then(Constrained::fork)
    }

    /// The grammar of the constraint, as text.
    pub(super) fn grammar(&self) -> Option<String> {
        self.constraint.as_ref().map(Constrained::grammar)
    }

    /// A tool call as the model writes it, if the call has tools.
    pub(super) fn example(&self) -> Option<String> {
        self.form.as_ref().map(|form| form.example())
    }

    /// The field of the request that has the constraint.
    pub(super) fn constrained_by(&self) -> &'static str {
        self.constrained_by
    }

    pub(super) fn is_in_calls(&self) -> bool {
        self.is_in_calls
    }
}

/// The name of a tool.
fn name(tool: &Value) -> Option<&str> {
    tool["function"]["name"].as_str().or_else(|| tool["name"].as_str())
}

/// The form of tool calls, if the call has tools.
fn form(
    words: &Words,
    order: &CallOrder,
    has_tools: bool,
) -> Result<Option<Arc<CallForm>>, CallError> {
    let given = || given_form(words, order);
    match words.form.calls.clone().or_else(given) {
        _ if !has_tools => Ok(None),
        Some(form) => Ok(Some(Arc::new(form))),
        None => Err(CallError::NoToolCalls),
    }
}

/// The form that the operator gave, if the template has none of its own.
pub(super) fn given_form(words: &Words, order: &CallOrder) -> Option<CallForm> {
    let is_unknown = words.form.calls.is_none();
    order.tools.example.as_deref().filter(|_| is_unknown).and_then(CallForm::of_example)
}

/// The field of the request with a constraint.
fn field_of(constraint: &Constraint) -> &'static str {
    match constraint {
        Constraint::Object | Constraint::Schema(_) => "response_format",
        Constraint::Regex(_) | Constraint::Lark(_) => "must_match",
    }
}

/// The constraint of an answer without tools, if the call has any.
fn constrained_answer(words: &Words, order: &CallOrder) -> Result<Option<Constrained>, CallError> {
    let Some(wanted) = &order.constraint else { return Ok(None) };
    let begun = words.constraints.begin(&words.tokenizer, &Grammar::of(wanted));
    begun.map(Some).map_err(|error| CallError::Constraint { field: field_of(wanted), error })
}

/// The tools as the grammar needs them. Without `strict`, a schema that cannot be used is replaced by any object.
fn grammar_tools(tools: &[Value], any: bool) -> Vec<Tool> {
    let tool = |tool: &Value| {
        let function = tool.get("function").unwrap_or(tool);
        let name = function["name"].as_str()?.to_owned();
        let is_strict = function["strict"].as_bool().unwrap_or(false);
        let arguments = match function.get("parameters") {
            Some(Value::Object(schema)) if !any || is_strict => {
                let mut schema = schema.clone();
                schema.entry("type").or_insert_with(|| json!("object"));
                Value::Object(schema)
            }
            _ => Value::Object(Map::from_iter([("type".to_owned(), json!("object"))])),
        };
        Some(Tool { name, arguments })
    };
    tools.iter().filter_map(tool).collect()
}

/// The constraint of an answer with tools, and whether it applies only to calls that the model begins.
fn constrained_calls(
    words: &Words,
    order: &CallOrder,
    form: &CallForm,
    tools: &[Value],
) -> Result<(Option<Constrained>, bool), CallError> {
    let is_named = |tool: &&Value| match &order.tools.choice {
        ToolChoice::Named(wanted) => name(tool) == Some(wanted),
        _ => true,
    };
    let tools: Vec<Value> = tools.iter().filter(is_named).cloned().collect();
    let is_auto = order.tools.choice == ToolChoice::Auto;
    // An answer that must match a form may be a call instead, if the model decides.
    let otherwise = order.constraint.as_ref().filter(|_| is_auto);
    let otherwise_grammar = otherwise.map(Grammar::of);
    let is_in_calls = is_auto && otherwise.is_none();
    let (marker, _) = form.marker();
    // Without a marker, the beginning of a call is known only when its name is complete.
    if is_in_calls && !marker.chars().any(char::is_alphanumeric) {
        return Ok((None, false));
    }
    let begin = |any: bool| {
        let calls = Calls {
            form,
            tools: &grammar_tools(&tools, any),
            several: order.tools.several,
            begins_after: if is_in_calls { marker } else { "" },
            otherwise: otherwise_grammar.as_ref(),
            markers: &words.markers,
        };
        words.constraints.begin(&words.tokenizer, &calls.grammar()?)
    };
    let is_strict = |tool: &Value| tool["function"]["strict"].as_bool().unwrap_or(false);
    let is_unusable = |error: &ConstraintError| {
        matches!(error, ConstraintError::Invalid(_) | ConstraintError::TooComplex(_))
    };
    let may_be_free = !tools.iter().any(is_strict);
    let begun = match begin(false) {
        // The library knows less of JSON schemas than callers use.
        Err(error) if is_unusable(&error) && may_be_free => match form.call {
            // Arguments that are written one by one cannot be just any object.
            CallShape::Syntax if is_in_calls => return Ok((None, false)),
            CallShape::Syntax => Err(error),
            CallShape::Object { .. } | CallShape::Named { .. } => begin(true),
        },
        other => other,
    };
    let error = match begun {
        Ok(begun) => return Ok((Some(begun), is_in_calls)),
        Err(error) => error,
    };
    let field = match (otherwise, &otherwise_grammar) {
        (Some(wanted @ Constraint::Lark(_)), _) => field_of(wanted),
        (Some(wanted), Some(grammar)) if grammar.check().is_err() => field_of(wanted),
        // Alone, the other form reports its own mistakes with its own field. What was slow is not tried again.
        (Some(_), _) if is_unusable(&error) => constrained_answer(words, order).map(|_| "tools")?,
        _ => "tools",
    };
    Err(CallError::Constraint { field, error })
}

/// Converts the earlier calls of a conversation to the form that the template reads: their arguments as objects or as text.
pub(super) fn convert_calls(words: &Words, messages: &mut [Map<String, Value>]) {
    let as_text = words.form.arguments_as_text;
    let calls =
        messages.iter_mut().filter_map(|message| message.get_mut("tool_calls")?.as_array_mut());
    let functions = calls.flatten().filter_map(|call| call.get_mut("function"));
    for arguments in functions.filter_map(|function| function.get_mut("arguments")) {
        match arguments {
            Value::String(text) if !as_text => {
                if let Ok(object) = serde_json::from_str(text) {
                    *arguments = object;
                }
            }
            Value::Object(fields) if as_text => {
                *arguments = Value::String(crate::template::spaced_json(fields));
            }
            _ => {}
        }
    }
}
