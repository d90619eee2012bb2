//! Settings that had another name or value in the version before. They are read for one version, with a warning.

use figment::value::{Dict, Map, Value};
use figment::{Metadata, Profile, Provider};

/// Former name, name.
const NAMES: &[(&str, &str)] = &[
    ("loading.make_room", "loading.evict"),
    ("loading.gives_way_seconds", "loading.evict_busy_seconds"),
    ("loading.most_instances", "loading.max_instances"),
    ("calls.kept", "calls.max_records"),
    ("calls.status_seconds", "calls.hold_status_seconds"),
    ("fetching.limit", "pull.limit"),
    ("fetching.ca_file", "pull.ca_file"),
    ("fetching.stall_seconds", "pull.stall_seconds"),
];

/// Former environment variable, variable.
pub(super) const VARIABLES: &[(&str, &str)] = &[
    ("DEFT_MAKE_ROOM", "DEFT_EVICT"),
    ("DEFT_GIVES_WAY_SECONDS", "DEFT_EVICT_BUSY_SECONDS"),
    ("DEFT_MOST_INSTANCES", "DEFT_MAX_INSTANCES"),
    ("DEFT_CALLS_KEPT", "DEFT_MAX_RECORDS"),
    ("DEFT_STATUS_SECONDS", "DEFT_HOLD_STATUS_SECONDS"),
    ("DEFT_FETCH_LIMIT", "DEFT_PULL_LIMIT"),
];

/// Setting, former value, value.
const VALUES: &[(&str, &str, &str)] = &[
    ("loading.evict", "kept", "any"),
    ("loading.evict", "never", "none"),
    ("loading.weights_on_nodes", "copied", "replicated"),
];

/// A layer of settings in which former names and values are replaced.
pub(super) struct Renamed {
    metadata: Metadata,
    data: Result<Map<Profile, Dict>, figment::Error>,
}

impl Renamed {
    /// Replaces former names and values of a layer, and adds a warning for each.
    pub(super) fn of(layer: &impl Provider, warnings: &mut Vec<String>) -> Self {
        let metadata = layer.metadata();
        let place = super::layers::origin(&metadata);
        let data = layer.data().map(|profiles| {
            let replaced = profiles.into_iter().map(|(profile, mut settings)| {
                replace(&mut settings, &place, warnings);
                (profile, settings)
            });
            replaced.collect()
        });
        Self { metadata, data }
    }
}

impl Provider for Renamed {
    fn metadata(&self) -> Metadata {
        self.metadata.clone()
    }

    fn data(&self) -> Result<Map<Profile, Dict>, figment::Error> {
        self.data.clone()
    }
}

fn replace(settings: &mut Dict, place: &str, warnings: &mut Vec<String>) {
    for (former, name) in NAMES {
        // Who writes both means the new one.
        let Some(value) = take(settings, former) else { continue };
        warnings.push(format!("`{former}` in {place} is now called `{name}`; the next version no longer reads the old name"));
        let (table, key) = split(name);
        let table = settings.entry(table.to_owned()).or_insert_with(|| Dict::new().into());
        if let Value::Dict(_, table) = table {
            table.entry(key.to_owned()).or_insert(value);
        }
    }
    for (name, former, value) in VALUES {
        let (table, key) = split(name);
        let Some(Value::Dict(_, table)) = settings.get_mut(table) else { continue };
        let Some(Value::String(_, found)) = table.get_mut(key) else { continue };
        if found == former {
            warnings.push(format!("`{name} = \"{former}\"` in {place} is now written `\"{value}\"`; the next version no longer reads the old value"));
            (*value).clone_into(found);
        }
    }
}

/// Removes a setting, and its table if it becomes empty.
fn take(settings: &mut Dict, name: &str) -> Option<Value> {
    let (table_name, key) = split(name);
    let Some(Value::Dict(_, table)) = settings.get_mut(table_name) else { return None };
    let value = table.remove(key)?;
    if table.is_empty() {
        settings.remove(table_name);
    }
    Some(value)
}

fn split(name: &str) -> (&str, &str) {
    name.split_once('.').expect("a setting that was renamed is in a table")
}
