//! The layers that settings come from, and from which of them each came.

use deft_depot::most_alike;
use figment::providers::Serialized;
use figment::value::{Dict, Map as ProfileMap};
use figment::{Figment, Metadata, Profile, Provider};
use serde_json::Value;

use super::{Config, ConfigError, DEFAULT_ORIGIN, Flags, NUMBERS};

/// One environment variable as a layer.
pub(super) struct Variable<'a> {
    pub(super) name: &'a str,
    pub(super) key: &'a str,
    pub(super) value: String,
}

impl Provider for Variable<'_> {
    fn metadata(&self) -> Metadata {
        Metadata::named(format!("environment variable {}", self.name))
    }

    fn data(&self) -> Result<ProfileMap<Profile, Dict>, figment::Error> {
        let value = match self.value.as_str() {
            "true" => true.into(),
            "false" => false.into(),
            text => match text.parse::<u64>() {
                Ok(number) if NUMBERS.contains(&self.key) => number.into(),
                _ => text.into(),
            },
        };
        let nested = figment::util::nest(self.key, value);
        let dict = nested.into_dict().unwrap_or_default();
        Ok(ProfileMap::from([(Profile::Default, dict)]))
    }
}

pub(super) struct FlagLayer<'a>(pub(super) &'a Flags);

impl Provider for FlagLayer<'_> {
    fn metadata(&self) -> Metadata {
        Metadata::named("command line")
    }

    fn data(&self) -> Result<ProfileMap<Profile, Dict>, figment::Error> {
        Serialized::defaults(self.0).data()
    }
}

/// Defaults of absent settings.
const ABSENT: [(&str, &str); 7] = [
    ("database.url", "private"),
    ("pools.simulated", "none"),
    ("loading.max_instances", "no limit"),
    ("loading.kernels", "auto"),
    ("loading.spare_processors", "1 of 8 or more"),
    ("pull.ca_file", "none"),
    ("pull.limit", "no limit"),
];

/// Each setting with its value and where that came from, whatever settings there are.
pub(super) fn origins(figment: &Figment, config: &Config) -> Vec<(String, String, String)> {
    let mut found = Vec::new();
    // Settings are plain data.
    flatten("", &serde_json::to_value(config).unwrap_or_default(), &mut found);
    for (key, value) in ABSENT {
        if found.iter().all(|(known, _)| known != key) {
            // Beside those of its kind.
            let kind = &key[..=key.find('.').unwrap_or(0)];
            let at = found.iter().rposition(|(known, _)| known.starts_with(kind));
            found.insert(at.map_or(found.len(), |at| at + 1), (key.to_owned(), value.to_owned()));
        }
    }
    found
        .into_iter()
        .map(|(key, value)| {
            let origin =
                figment.find_metadata(&key).map_or_else(|| DEFAULT_ORIGIN.to_owned(), origin);
            (key, value, origin)
        })
        .collect()
}

fn flatten(path: &str, value: &Value, found: &mut Vec<(String, String)>) {
    let name = |key: &str| if path.is_empty() { key.to_owned() } else { format!("{path}.{key}") };
    match value {
        Value::Object(fields) => {
            fields.iter().for_each(|(key, value)| flatten(&name(key), value, found));
        }
        // It may hold a password.
        Value::String(_) if path == "database.url" => {
            found.push((path.to_owned(), "(set)".to_owned()));
        }
        Value::String(text) => found.push((path.to_owned(), text.clone())),
        Value::Null => {}
        Value::Array(pools) => {
            let of =
                |pool: &Value, field: &str| pool[field].as_str().unwrap_or_default().to_owned();
            let pools =
                pools.iter().map(|pool| format!("{} {}", of(pool, "name"), of(pool, "size")));
            let list = pools.collect::<Vec<_>>().join(", ");
            if !list.is_empty() {
                found.push((path.to_owned(), list));
            }
        }
        plain => found.push((path.to_owned(), plain.to_string())),
    }
}

pub(super) fn origin(metadata: &Metadata) -> String {
    match (&metadata.source, metadata.name.as_ref()) {
        (Some(figment::Source::File(path)), _) => path.display().to_string(),
        (_, name) if name.contains("Config") => DEFAULT_ORIGIN.to_owned(),
        (_, name) => name.to_owned(),
    }
}

/// All errors at once, each with its place and, for unknown names, the nearest known one.
pub(super) fn in_words(error: &figment::Error) -> ConfigError {
    let lines: Vec<String> = error
        .clone()
        .into_iter()
        .map(|error| {
            let place = error
                .metadata
                .as_ref()
                .map_or_else(String::new, |metadata| format!(" in {}", origin(metadata)));
            let path = error.path.join(".");
            match &error.kind {
                figment::error::Kind::UnknownField(name, known) => {
                    let nearest = most_alike(name, known.iter().map(|known| (known, known)))
                        .map_or_else(String::new, |nearest| format!("; did you mean `{nearest}`?"));
                    let within = if path.is_empty() || path == *name {
                        String::new()
                    } else {
                        format!(" under `{path}`")
                    };
                    format!("unknown setting `{name}`{within}{place}{nearest}")
                }
                other => format!("setting `{path}`{place}: {other}"),
            }
        })
        .collect();
    ConfigError(lines.join("\n"))
}
