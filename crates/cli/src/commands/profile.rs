//! `deft profile`.

use deft_protocol::manage::{InputRole, Profile, ProfileSettings};

use crate::arguments::{Common, Profile as Command, SaveProfile};
use crate::connection;
use crate::failure::Failure;
use crate::print;

pub(super) async fn run(common: &Common, command: Command) -> Result<(), Failure> {
    let client = connection::connect(common).await?;
    match command {
        Command::Save(save) => {
            let name = save.name.clone();
            let saved = client.save_profile(&name, &settings(save)).await?;
            show(common, &saved, || {
                format!("profile `{name}` saved; callers use its name as model")
            });
        }
        Command::List => list(common, &client.profiles().await?),
        Command::Show { name } => {
            let profile = client.profile(&name).await?;
            show(common, &profile, || text(&profile));
        }
        Command::Remove { name } => {
            let removed = client.remove_profile(&name).await?;
            show(common, &removed, || {
                format!("profile `{name}` removed; the model `{}` stays", removed.settings.model)
            });
        }
    }
    Ok(())
}

fn show<T: serde::Serialize>(common: &Common, what: &T, text: impl FnOnce() -> String) {
    if common.json { print::json(what) } else { print::line(text()) }
}

fn settings(save: SaveProfile) -> ProfileSettings {
    ProfileSettings {
        model: save.from,
        call_example: save.call_example,
        query_prefix: save.query_prefix,
        passage_prefix: save.passage_prefix,
        inputs: save.inputs.map(InputRole::from),
        dimensions: save.dimensions,
    }
}

fn list(common: &Common, all: &[Profile]) {
    if common.json {
        print::json(&all);
        return;
    }
    if all.is_empty() {
        print::note("no profiles; save one: deft profile save NAME --from MODEL");
        return;
    }
    let row = |profile: &Profile| {
        let set: Vec<&str> = rows(&profile.settings).into_iter().map(|(what, _)| what).collect();
        vec![profile.name.clone(), profile.settings.model.clone(), set.join(", ")]
    };
    print::line(print::table(&["profile", "model", "sets"], all.iter().map(row).collect(), &[]));
}

/// What a profile sets, with its name for people.
fn rows(settings: &ProfileSettings) -> Vec<(&'static str, String)> {
    let shown = |text: &String| text.escape_debug().to_string().replace("\\\"", "\"");
    let quoted = |text: &Option<String>| text.as_ref().map(|text| format!("\"{}\"", shown(text)));
    let inputs = settings.inputs.map(|role| match role {
        InputRole::Query => "queries".to_owned(),
        InputRole::Passage => "passages".to_owned(),
    });
    let numbers: Vec<String> = settings.dimensions.iter().map(u32::to_string).collect();
    let rows = [
        ("tool calls", settings.call_example.as_ref().map(shown)),
        ("query prefix", quoted(&settings.query_prefix)),
        ("passage prefix", quoted(&settings.passage_prefix)),
        ("inputs", inputs),
        ("dimensions", (!numbers.is_empty()).then(|| numbers.join(", "))),
    ];
    rows.into_iter().filter_map(|(what, value)| Some((what, value?))).collect()
}

fn text(profile: &Profile) -> String {
    let first = ("model", profile.settings.model.clone());
    let rows = std::iter::once(first).chain(rows(&profile.settings));
    let rows = rows.map(|(what, value)| vec![what.to_owned(), value]).collect();
    format!("profile `{}`\n{}", profile.name, print::table(&[], rows, &[]))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_set_is_told_for_people() {
        let settings = ProfileSettings {
            model: "larkfen-find".to_owned(),
            query_prefix: Some("query: ".to_owned()),
            inputs: Some(InputRole::Query),
            dimensions: vec![64, 128],
            ..ProfileSettings::default()
        };
        assert_eq!(
            rows(&settings),
            [
                ("query prefix", "\"query: \"".to_owned()),
                ("inputs", "queries".to_owned()),
                ("dimensions", "64, 128".to_owned()),
            ]
        );
    }
}
