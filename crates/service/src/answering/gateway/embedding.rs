//! Embeddings of inputs, and their relevance to a query.

use deft_protocol::chat::CallPriority;
use deft_protocol::engine::{EmbedOrder, EmbedTask, Prompt, ToEngine};
use deft_protocol::manage::{InputRole, ProfileSettings};
use deft_protocol::{Problem, ProblemKind};

use super::{Gateway, caller_of, fits};
use crate::answering::board::Arrived;
use crate::fleet::Seat;
use crate::fleet::engine_link::CallEvent;

/// Most inputs of one call.
const MAX_INPUTS: usize = 2048;

/// Embeddings of all inputs, or what else was computed of each.
pub(crate) struct Embedded<T = Vec<f32>> {
    pub(crate) model: String,
    pub(crate) values: Vec<T>,
    pub(crate) tokens: u32,
}

impl Gateway {
    /// Computes embeddings of all inputs.
    pub(crate) async fn embed(
        &self,
        call: Arrived,
        model: &str,
        mut inputs: Vec<Prompt>,
        (dimensions, role): (Option<u32>, Option<InputRole>),
        user: Option<String>,
    ) -> Result<Embedded, Problem> {
        within("input", inputs.len())?;
        let settings = self.meaning(model);
        let model = &settings.model;
        if let Some(dimensions) = dimensions {
            let width = self.loads.resolve(model)?.facts.width;
            check_dimensions(dimensions, width, &settings)?;
        }
        add_prefix(&mut inputs, role, &settings)?;
        let order = EmbedOrder { call: 0, inputs, task: EmbedTask::Embed { dimensions } };
        self.compute(call, model, order, user).await
    }

    /// Computes the relevance of each document to a query.
    pub(crate) async fn rank(
        &self,
        call: Arrived,
        model: &str,
        query: String,
        documents: Vec<String>,
        user: Option<String>,
    ) -> Result<Embedded<f32>, Problem> {
        within("documents", documents.len())?;
        let ProfileSettings { model, query_prefix, passage_prefix, .. } = &self.meaning(model);
        let query = prefixed(query_prefix.as_deref(), query);
        let prefixed = |text| Prompt::Text(prefixed(passage_prefix.as_deref(), text));
        let inputs = documents.into_iter().map(prefixed).collect();
        let order = EmbedOrder { call: 0, inputs, task: EmbedTask::Rank { query } };
        let Embedded { model, values, tokens } = self.compute(call, model, order, user).await?;
        Ok(Embedded { model, values: values.into_iter().flatten().collect(), tokens })
    }

    async fn compute(
        &self,
        call: Arrived,
        model: &str,
        order: EmbedOrder,
        user: Option<String>,
    ) -> Result<Embedded, Problem> {
        call.asks(caller_of(user), CallPriority::default());
        fits(&ToEngine::Embed(order.clone()))?;
        let send = move |seat: &Seat| seat.link.embed(order.clone());
        let mut call = self.begin(call, model, 1, None, Box::new(send)).await?;
        let mut all = Vec::new();
        loop {
            match call.event().await {
                Some(CallEvent::Embedded { is_last, vectors, tokens }) => {
                    // Some vectors have arrived, so the call cannot be retried.
                    call.again = None;
                    all.extend(vectors);
                    if is_last {
                        call.seat.count(tokens, 0, 0);
                        call.record("stop");
                        let model = call.seat.name.clone();
                        return Ok(Embedded { model, values: all, tokens });
                    }
                }
                other => return Err(call.failed(other)),
            }
        }
    }
}

/// Refuses a call without inputs or with too many.
fn within(field: &str, inputs: usize) -> Result<(), Problem> {
    if (1..=MAX_INPUTS).contains(&inputs) {
        return Ok(());
    }
    let what = format!("`{field}` has {inputs} entries; it must have 1 to {MAX_INPUTS}");
    Err(Problem::new(ProblemKind::Invalid, "field_out_of_range", what).at_field(field))
}

/// Refuses a length of embeddings that the model was not trained for.
fn check_dimensions(
    dimensions: u32,
    width: u32,
    settings: &ProfileSettings,
) -> Result<(), Problem> {
    if dimensions == width || settings.dimensions.contains(&dimensions) {
        return Ok(());
    }
    let detail = format!(
        "`dimensions` is {dimensions}; embeddings of `{}` have {width} values, and no profile says that the model was trained for \
         {dimensions}",
        settings.model
    );
    let way_out =
        "if its makers say so, save it: deft profile save NAME --from MODEL --dimensions NUMBERS";
    let problem = Problem::new(ProblemKind::Invalid, "dimensions_not_trained", detail);
    Err(problem.at_field("dimensions").with_way_out(way_out))
}

/// Puts the prefix of the profile before each input.
fn add_prefix(
    inputs: &mut [Prompt],
    role: Option<InputRole>,
    settings: &ProfileSettings,
) -> Result<(), Problem> {
    if settings.query_prefix.is_none() && settings.passage_prefix.is_none() {
        return match role {
            None => Ok(()),
            Some(_) => {
                let detail = "`input_role` needs a profile with prefixes for queries or passages";
                let problem = Problem::new(ProblemKind::Invalid, "field_out_of_place", detail);
                Err(problem.at_field("input_role"))
            }
        };
    }
    let prefix = match role.or(settings.inputs).unwrap_or(InputRole::Passage) {
        InputRole::Query => settings.query_prefix.as_deref(),
        InputRole::Passage => settings.passage_prefix.as_deref(),
    };
    for input in inputs {
        match input {
            Prompt::Text(text) => *text = prefixed(prefix, std::mem::take(text)),
            _ => {
                let detail = "the profile puts a prefix before each input, so inputs must be texts, not token ids";
                let problem = Problem::new(ProblemKind::Invalid, "field_out_of_place", detail);
                return Err(problem.at_field("input"));
            }
        }
    }
    Ok(())
}

fn prefixed(prefix: Option<&str>, text: String) -> String {
    prefix.map_or(text.clone(), |prefix| format!("{prefix}{text}"))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn prefixes_are_of_the_role_of_the_inputs() {
        let settings = ProfileSettings {
            query_prefix: Some("query: ".to_owned()),
            passage_prefix: Some("passage: ".to_owned()),
            ..ProfileSettings::default()
        };
        let first = |role, settings: &ProfileSettings| {
            let mut inputs = [Prompt::Text("frost".to_owned())];
            add_prefix(&mut inputs, role, settings).unwrap();
            match &inputs[0] {
                Prompt::Text(text) => text.clone(),
                other => panic!("{other:?}"),
            }
        };
        assert_eq!(first(None, &settings), "passage: frost");
        assert_eq!(first(Some(InputRole::Query), &settings), "query: frost");
        let queries = ProfileSettings { inputs: Some(InputRole::Query), ..settings.clone() };
        assert_eq!(first(None, &queries), "query: frost");
        assert_eq!(first(Some(InputRole::Passage), &queries), "passage: frost");
        assert_eq!(first(None, &ProfileSettings::default()), "frost");
        let field = |error: Problem| error.field.unwrap();
        let refused = add_prefix(&mut [], Some(InputRole::Query), &ProfileSettings::default());
        assert_eq!(field(refused.unwrap_err()), "input_role");
        let refused = add_prefix(&mut [Prompt::Tokens(vec![1])], None, &settings);
        assert_eq!(field(refused.unwrap_err()), "input");
    }

    #[test]
    fn only_trained_lengths_are_returned() {
        let settings = ProfileSettings { dimensions: vec![8, 16], ..ProfileSettings::default() };
        for fits in [8, 16, 64] {
            assert!(check_dimensions(fits, 64, &settings).is_ok());
        }
        let refused = check_dimensions(32, 64, &settings).unwrap_err();
        assert_eq!(
            (&*refused.code, refused.field.as_deref()),
            ("dimensions_not_trained", Some("dimensions"))
        );
    }
}
