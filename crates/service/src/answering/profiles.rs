//! Profiles: settings for models, under names that callers use like a model's.

use std::collections::BTreeSet;
use std::sync::Arc;

use chrono::Utc;
use deft_depot::most_alike;
use deft_protocol::manage::{ModelFacts, Profile, ProfileSettings};
use deft_protocol::{Problem, ProblemKind};
use parking_lot::RwLock;
use sqlx::PgPool;
use uuid::Uuid;

use crate::depot::catalogue::{Catalogue, database_problem};
use crate::records::profiles as records;
use crate::wire::name_taken;

/// Longest name of a profile, in bytes.
const LONGEST_NAME: usize = 64;
/// Longest prefix or example, in bytes.
const LONGEST_TEXT: usize = 4096;
/// Most profiles.
const MOST: usize = 1000;
/// Most lengths of embeddings.
const MOST_DIMENSIONS: usize = 64;

/// The profiles of this node.
pub(crate) struct Profiles {
    database: PgPool,
    node: Uuid,
    catalogue: Arc<Catalogue>,
    /// By name.
    all: RwLock<Vec<Profile>>,
    /// Names whose records this version does not understand; the records stay as they are.
    unread: BTreeSet<String>,
}

fn invalid(field: &str, code: &str, detail: impl Into<String>) -> Problem {
    Problem::new(ProblemKind::Invalid, code, detail).at_field(field)
}

impl Profiles {
    pub(crate) async fn open(
        database: PgPool,
        node: Uuid,
        catalogue: Arc<Catalogue>,
    ) -> sqlx::Result<Self> {
        let (all, unread) = records::all(&database, node).await?;
        for Profile { name, .. } in &all {
            // Both were stored before one was refused, as in a directory that was restored.
            if catalogue.resolve(name, |_| false).is_ok() {
                tracing::warn!(
                    "the profile `{name}` hides the model `{name}`: rename or remove one"
                );
            }
        }
        let profiles = Self { database, node, catalogue, all: RwLock::new(all), unread };
        profiles.tell_names();
        Ok(profiles)
    }

    /// All profiles, by name.
    pub(crate) fn all(&self) -> Vec<Profile> {
        self.all.read().clone()
    }

    /// The profile with this name, if there is one.
    pub(crate) fn find(&self, name: &str) -> Option<Profile> {
        self.all.read().iter().find(|profile| profile.name == name).cloned()
    }

    /// The profile with this name.
    ///
    /// # Errors
    /// There is none; the nearest name is told. Or this version does not understand it.
    pub(crate) fn get(&self, name: &str) -> Result<Profile, Problem> {
        self.refuse_unread(name)?;
        self.find(name).ok_or_else(|| {
            let all = self.all.read();
            let names = all.iter().map(|profile| (profile.name.clone(), &profile.name));
            let way_out = match most_alike(name, names) {
                Some(nearest) => {
                    format!("did you mean `{nearest}`? List all profiles: deft profile list")
                }
                None => "list all profiles: deft profile list".to_owned(),
            };
            let detail = format!("no profile `{name}`");
            Problem::new(ProblemKind::Missing, "no_profile", detail).with_way_out(way_out)
        })
    }

    /// Saves a profile, in place of one of the same name.
    ///
    /// # Errors
    /// The name or a setting cannot be used with the model.
    pub(crate) async fn save(
        &self,
        name: &str,
        settings: ProfileSettings,
    ) -> Result<Profile, Problem> {
        self.check_name(name)?;
        if self.find(&settings.model).is_some() {
            let detail = format!("`{}` is a profile; name the model of it", settings.model);
            return Err(invalid("model", "model_is_profile", detail));
        }
        if self.find(name).is_none() && self.all.read().len() >= MOST {
            let detail = format!("there are {MOST} profiles already, and no more are allowed");
            let problem = Problem::new(ProblemKind::Refused, "too_many_profiles", detail);
            return Err(problem.with_way_out("remove one: deft profile remove NAME"));
        }
        let registered = self.catalogue.resolve(&settings.model, |_| false)?;
        check(&settings, &registered.facts)?;
        let profile = Profile { name: name.to_owned(), settings, saved_at: Utc::now() };
        let stored = records::store(&self.database, self.node, &profile).await;
        stored.map_err(|error| database_problem(&error))?;
        let mut all = self.all.write();
        all.retain(|known| known.name != name);
        all.push(profile.clone());
        all.sort_by(|a, b| a.name.cmp(&b.name));
        drop(all);
        self.tell_names();
        Ok(profile)
    }

    /// Removes a profile; its model stays.
    pub(crate) async fn remove(&self, name: &str) -> Result<Profile, Problem> {
        let profile = self.get(name)?;
        let removed = records::remove(&self.database, self.node, name).await;
        removed.map_err(|error| database_problem(&error))?;
        self.all.write().retain(|known| known.name != name);
        self.tell_names();
        Ok(profile)
    }

    /// Tells the catalogue which names no model may get.
    fn tell_names(&self) {
        let all = self.all.read();
        let names = all.iter().map(|profile| &profile.name).chain(&self.unread);
        self.catalogue.set_profiles(names.cloned().collect());
    }

    /// Refuses a name whose record is not understood: it would be overwritten or removed.
    fn refuse_unread(&self, name: &str) -> Result<(), Problem> {
        if !self.unread.contains(name) {
            return Ok(());
        }
        let detail = format!("the profile `{name}` exists and cannot be read");
        Err(Problem::new(ProblemKind::Refused, "not_understood", detail)
            .with_way_out("run the version that saved it, or use another name"))
    }

    fn check_name(&self, name: &str) -> Result<(), Problem> {
        self.refuse_unread(name)?;
        let is_usable =
            |character: char| character.is_ascii_alphanumeric() || "-_.".contains(character);
        let begins = name.starts_with(|first: char| first.is_ascii_alphanumeric());
        if !begins || name.len() > LONGEST_NAME || !name.chars().all(is_usable) {
            let detail = format!(
                "a profile's name has up to {LONGEST_NAME} letters, digits, dashes, dots and underscores, and begins with a \
                 letter or digit"
            );
            return Err(invalid("name", "name_unusable", detail));
        }
        if self.catalogue.resolve(name, |_| false).is_ok() {
            let detail = format!("`{name}` is the name of a model");
            return Err(name_taken(detail, "choose another name for the profile".to_owned()));
        }
        Ok(())
    }
}

/// Refuses settings that the model cannot use.
fn check(settings: &ProfileSettings, facts: &ModelFacts) -> Result<(), Problem> {
    let ProfileSettings { model, call_example, query_prefix, passage_prefix, inputs, dimensions } =
        settings;
    let serves = |what: &str| facts.serves.iter().any(|served| served == what);
    let texts = [
        ("call_example", call_example),
        ("query_prefix", query_prefix),
        ("passage_prefix", passage_prefix),
    ];
    for (field, text) in texts {
        if text.as_ref().is_some_and(|text| text.len() > LONGEST_TEXT) {
            let detail = format!("`{field}` has at most {LONGEST_TEXT} bytes");
            return Err(invalid(field, "field_out_of_range", detail));
        }
    }
    if let Some(example) = call_example {
        check_example(example, model, facts)?;
    }
    let of_embeddings = [
        ("query_prefix", query_prefix.is_some()),
        ("passage_prefix", passage_prefix.is_some()),
        ("inputs", inputs.is_some()),
        ("dimensions", !dimensions.is_empty()),
    ];
    let used = of_embeddings.into_iter().find(|(_, is_set)| *is_set);
    if let Some((field, _)) = used.filter(|_| !serves("embeddings")) {
        let detail = format!("`{field}` needs a model that makes embeddings; `{model}` makes none");
        return Err(invalid(field, "no_embeddings", detail));
    }
    if inputs.is_some() && query_prefix.is_none() && passage_prefix.is_none() {
        let detail = "`inputs` chooses between prefixes, and there is none; set `query_prefix` or `passage_prefix` too";
        return Err(invalid("inputs", "field_out_of_place", detail));
    }
    let is_wrong = |&&count: &&u32| count == 0 || count > facts.width;
    if let Some(wrong) = dimensions.iter().find(is_wrong) {
        let detail =
            format!("`dimensions` has {wrong}; embeddings of `{model}` have {}", facts.width);
        return Err(invalid("dimensions", "field_out_of_range", detail));
    }
    if dimensions.len() > MOST_DIMENSIONS {
        let detail = format!("`dimensions` has at most {MOST_DIMENSIONS} entries");
        return Err(invalid("dimensions", "field_out_of_range", detail));
    }
    Ok(())
}

fn check_example(example: &str, model: &str, facts: &ModelFacts) -> Result<(), Problem> {
    let field = "call_example";
    if let Some(known) = &facts.tool_calls {
        let detail = format!(
            "the chat template of `{model}` writes calls itself, as {}: {}",
            known.form, known.example
        );
        let way_out =
            "save the profile without `call_example`: tools work with this model as it is";
        return Err(invalid(field, "call_form_known", detail).with_way_out(way_out));
    }
    if !facts.serves.iter().any(|what| what == "chat") {
        let detail = format!("`{field}` needs a model that chats; `{model}` does not");
        return Err(invalid(field, "no_chat", detail));
    }
    if deft_engine::output::is_example(example) {
        return Ok(());
    }
    let detail = format!(
        "`{field}` has none of the known forms. It is a call of a tool `find` with the argument `text`, whose value is \
         \"Moonhook\", such as {{\"name\": \"find\", \"arguments\": {{\"text\": \"Moonhook\"}}}}"
    );
    Err(invalid(field, "call_form_unknown", detail))
}

#[cfg(test)]
mod tests {
    use deft_protocol::manage::{InputRole, ToolCallFacts};
    use serde_json::json;

    use super::*;

    fn facts(serves: &[&str]) -> ModelFacts {
        serde_json::from_value(json!({
            "family": "llama", "name": null, "parameters": 5, "mix": [], "quantisation": "q8_0",
            "context_length": 64, "layers": 1, "heads": 2, "kv_heads": 1, "width": 16,
            "vocabulary": 300, "tokenizer": "sentencepiece", "has_template": false,
            "licence": null, "description": null, "serves": serves,
        }))
        .unwrap()
    }

    fn code(settings: ProfileSettings, facts: &ModelFacts) -> String {
        let settings = ProfileSettings { model: "larkfen-desk".to_owned(), ..settings };
        check(&settings, facts)
            .map_or_else(|problem| problem.code.to_string(), |()| "fits".to_owned())
    }

    #[test]
    fn settings_that_a_model_cannot_use_are_refused() {
        let (chats, finds) = (facts(&["chat"]), facts(&["embeddings", "rerank"]));
        let example = |text: &str| ProfileSettings {
            call_example: Some(text.to_owned()),
            ..ProfileSettings::default()
        };
        let call = "<call>{\"name\": \"find\", \"arguments\": {\"text\": \"Moonhook\"}}</call>";
        assert_eq!(code(example(call), &chats), "fits");
        assert_eq!(code(example(call), &finds), "no_chat");
        assert_eq!(code(example("find Moonhook"), &chats), "call_form_unknown");
        assert_eq!(code(example(&"x".repeat(5000)), &chats), "field_out_of_range");
        let tool_calls =
            Some(ToolCallFacts { form: "list".into(), example: "[]".into(), several: true });
        let knows = ModelFacts { tool_calls, ..chats.clone() };
        assert_eq!(code(example(call), &knows), "call_form_known");

        let prefix = ProfileSettings { query_prefix: Some("query: ".into()), ..Default::default() };
        assert_eq!(code(prefix.clone(), &finds), "fits");
        assert_eq!(code(prefix, &chats), "no_embeddings");
        let inputs = ProfileSettings { inputs: Some(InputRole::Query), ..Default::default() };
        assert_eq!(code(inputs, &finds), "field_out_of_place");
        for (dimensions, wanted) in [
            (vec![4, 16], "fits"),
            (vec![17], "field_out_of_range"),
            (vec![0], "field_out_of_range"),
            (vec![4; 65], "field_out_of_range"),
        ] {
            assert_eq!(code(ProfileSettings { dimensions, ..Default::default() }, &finds), wanted);
        }
    }
}
