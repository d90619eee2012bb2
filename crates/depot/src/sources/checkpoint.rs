//! Looking at a checkpoint of a source: its settings, and the headers of its weights.

use super::look::{Looked, OfferedFiles};
use super::{Content, Finder, Offer, SourceError};
use crate::checkpoint::{CONFIG, missing_part};
use crate::headers::{HeaderAnswer, HeaderTask};
use crate::store::FileRole;

pub(super) async fn look(finder: &Finder, offer: &Offer) -> Result<Looked, SourceError> {
    let (finder, offer) = (finder.clone(), offer.clone());
    let looked = tokio::task::spawn_blocking(move || read(&finder, &offer)).await;
    looked.unwrap_or_else(|error| Err(SourceError::Wrong(error.to_string())))
}

fn read(finder: &Finder, offer: &Offer) -> Result<Looked, SourceError> {
    let numbered = || (0..).zip(&offer.files);
    let weights = || numbered().filter(|(_, file)| file.role == FileRole::Weights);
    if let Some(missing) = missing_part(weights().map(|(_, file)| &file.name[..])) {
        let what = format!("`{}` is incomplete: `{missing}` is missing", offer.path());
        return Err(SourceError::Wrong(what));
    }
    let config = numbered().find(|(_, file)| file.name == CONFIG).map(|(number, _)| number);
    // Weights that are in a repository itself come as a whole only.
    let elsewhere = weights().filter(|(_, file)| !matches!(file.content, Content::Git(_)));
    let weights = elsewhere.map(|(number, _)| number).collect();
    let task = HeaderTask::Checkpoint { weights, config, config_may_fail: true };
    let mut files = OfferedFiles::new(finder.web.clone(), offer.files.clone());
    match (finder.reader.read(&task, &mut files), files.trouble.take()) {
        (Ok(HeaderAnswer::Checkpoint(facts)), _) => {
            let notes = facts.warnings.clone();
            Ok(Looked { facts: Some(*facts), shape: None, notes, read: files.read() })
        }
        (Ok(_), _) => Err(SourceError::Wrong(format!("`{}` cannot be read", offer.path()))),
        (Err(_), Some(trouble)) => Err(trouble),
        (Err(error), None) => {
            let name = offer.files.get(error.file as usize).map_or("", |file| &file.name);
            Err(SourceError::Wrong(format!("`{name}`: {error}")))
        }
    }
}
