//! Words on the command line that mean a model: a name, the path of a model file, which is registered temporarily, or a
//! reference to an offer of a source.

use std::path::Path;

use deft_client::Client;
use deft_depot::Reference;
use deft_protocol::manage::{PullRequest, RegisterRequest};

use super::depot::whole_path;
use super::{offers, transfers};
use crate::arguments::Common;
use crate::failure::Failure;
use crate::print;

/// File name extension of model files.
const ENDING: &str = ".gguf";

/// What a word on the command line means.
pub(super) struct Meant {
    /// The name the service knows.
    pub(super) name: String,
    /// Whether it is registered temporarily.
    pub(super) temporary: bool,
}

/// Whether a word is a path and not a name: names never begin with a dot or a slash.
fn is_path(word: &str) -> bool {
    word.starts_with(['.', '/']) || (word.ends_with(ENDING) && !Reference::is_meant(word))
}

/// The model that a word means.
pub(super) async fn model(client: &Client, word: &str) -> Result<Meant, Failure> {
    if !is_path(word) {
        return Ok(Meant { name: word.to_owned(), temporary: false });
    }
    let path = whole_path(Path::new(word))?;
    let request = RegisterRequest { path: path.clone(), name: None, temporary: true };
    let found = client.register(&request).await?;
    // A file that is registered already stays registered.
    let listed = client.depot().await?.iter().any(|variant| variant.name == found.name);
    Ok(Meant { name: found.name, temporary: !listed })
}

/// The model that a word means, to be used now: an offer that is not in the depot is shown, and pulled if the operator
/// agrees.
pub(super) async fn usable(
    common: &Common,
    client: &Client,
    word: &str,
    without_asking: bool,
) -> Result<Meant, Failure> {
    if is_path(word) || !Reference::is_meant(word) {
        return model(client, word).await;
    }
    let preview = client.preview(word).await?;
    if let Some(known) = preview.offer.known_as {
        return Ok(Meant { name: known, temporary: false });
    }
    if !common.json {
        print::note(offers::text(&preview).trim_end());
    }
    if let Some(problem) = preview.refused {
        return Err(problem.into());
    }
    if !without_asking && !print::ask_yes("pull it?") {
        return Err(Failure::refused(format!("`{word}` is not in the depot, and was not pulled"))
            .with_way_out(format!(
                "pull it first: deft depot pull {word}; or pull it without asking: --yes"
            )));
    }
    let request = PullRequest { reference: word.to_owned(), name: None, limit: None };
    let pulled = transfers::follow(client, client.pull(&request).await?).await?;
    print::note(pulled.outcome.unwrap_or_default());
    Ok(Meant { name: preview.name, temporary: false })
}

/// Unloads a temporary model, which ends its registration.
pub(super) async fn end(client: &Client, name: &str) -> Result<(), Failure> {
    let (status, _) = client.status().await?;
    for instance in status.instances.iter().filter(|instance| instance.name == name) {
        client.unload(instance.id, false).await?;
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn paths_are_found_by_name() {
        for path in ["./desk.gguf", "../desk.gguf", "/srv/desk.gguf", "desk.gguf", "a/b.gguf"] {
            assert!(is_path(path), "{path}");
        }
        for name in
            ["larkfen-desk", "larkfen-desk/q8_0", "larkfen-desk/q8_0#2", "hub:seeds/desk.gguf"]
        {
            assert!(!is_path(name), "{name}");
        }
    }
}
