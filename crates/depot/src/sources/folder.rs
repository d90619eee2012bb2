//! Folders of this machine as sources.

use std::path::{Path, PathBuf};
use std::sync::Arc;

use super::{About, Content, Offer, OfferedFile, SourceError};
use crate::examine::{files_of, shape_of};
use crate::find::find_models;
use crate::headers::HeaderReader;
use crate::name::VariantName;
use crate::store::FileRole;

/// All models in a folder and below it.
pub(super) async fn offers(
    folder: &Path,
    reader: Arc<dyn HeaderReader>,
) -> Result<Vec<Offer>, SourceError> {
    let folder = folder.to_owned();
    let found = tokio::task::spawn_blocking(move || find(&folder, &*reader)).await;
    found.unwrap_or_else(|error| Err(SourceError::Wrong(error.to_string())))
}

fn find(folder: &Path, reader: &dyn HeaderReader) -> Result<Vec<Offer>, SourceError> {
    let mut offers: Vec<Offer> = Vec::new();
    for found in find_models(folder, reader)? {
        let Ok(examined) = &found.examined else {
            continue;
        };
        let facts = &examined.facts;
        let Ok(name) = VariantName::from_file(&found.path, &facts.quantisation) else {
            continue;
        };
        let Ok(files) = files_of(examined, &found.path) else {
            continue;
        };
        let projector = found.projector.iter().map(|path| (FileRole::Projector, path.clone()));
        let file = |(role, path): (FileRole, PathBuf)| OfferedFile {
            role,
            name: path.file_name().unwrap_or_default().to_string_lossy().into_owned(),
            bytes: path.metadata().ok().map(|found| found.len()),
            sha256: None,
            content: Content::Here(path),
        };
        offers.push(Offer {
            model: name.model,
            variant: name.variant,
            revision: None,
            about: About {
                description: facts.description.clone(),
                licence: facts.licence.clone(),
                serves: facts.serves.clone(),
                family: Some(facts.family.clone()),
                quantisation: Some(facts.quantisation.clone()),
                parameters: Some(facts.parameters),
                context_length: Some(facts.context_length),
            },
            shape: shape_of(&found.path, &examined.stamp, false, reader)
                .ok()
                .map(|(shape, _)| shape),
            files: files.into_iter().chain(projector).map(file).collect(),
        });
    }
    Ok(offers)
}
