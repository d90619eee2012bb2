//! Looking at a checkpoint of a source: its settings, and the headers of its weights.

use std::sync::atomic::Ordering;

use deft_formats::safetensors::{SafetensorsError, tensors};
use serde_json::Value;
use tokio::runtime::Handle;

use super::look::Looked;
use super::{Content, Finder, Offer, OfferedFile, SourceError};
use crate::checkpoint::{CONFIG, facts, missing_part};
use crate::remote::{RemoteError, RemoteFile, Web};
use crate::store::FileRole;

pub(super) async fn look(finder: &Finder, offer: &Offer) -> Result<Looked, SourceError> {
    let (web, offer) = (finder.web.clone(), offer.clone());
    let looked = tokio::task::spawn_blocking(move || read(&web, &offer)).await;
    looked.unwrap_or_else(|error| Err(SourceError::Wrong(error.to_string())))
}

fn read(web: &Web, offer: &Offer) -> Result<Looked, SourceError> {
    let weights = || offer.files.iter().filter(|file| file.role == FileRole::Weights);
    if let Some(missing) = missing_part(weights().map(|file| &file.name[..])) {
        let what = format!("`{}` is not whole: `{missing}` is missing", offer.path());
        return Err(SourceError::Wrong(what));
    }
    let (mut all, mut count, mut read) = (Vec::new(), 0, 0);
    for file in weights() {
        let (found, bytes) = header(web, file)?;
        all.extend(found);
        count += 1;
        read += bytes;
    }
    let config = offer.files.iter().find(|file| file.name == CONFIG);
    let config = config.and_then(|file| settings(web, file)).unwrap_or(Value::Null);
    let facts = facts(&config, &all, count);
    let notes = facts.warnings.clone();
    Ok(Looked { facts: Some(facts), shape: None, notes, read })
}

type Tensors = Vec<deft_formats::safetensors::SafeTensor>;

fn header(web: &Web, file: &OfferedFile) -> Result<(Tensors, u64), SourceError> {
    let wrong = |error: SafetensorsError| match error {
        SafetensorsError::Io(error) => match error.downcast::<RemoteError>() {
            Ok(error) => SourceError::Remote(error),
            Err(error) => SourceError::Wrong(format!("`{}`: {error}", file.name)),
        },
        other => SourceError::Wrong(format!("`{}`: {other}", file.name)),
    };
    match &file.content {
        Content::Web(address) => {
            let mut remote = Handle::current().block_on(RemoteFile::open(web, address))?;
            let (bytes, fetched) = (remote.bytes(), remote.fetched());
            let found = tensors(&mut remote, bytes).map_err(wrong)?;
            Ok((found, fetched.load(Ordering::Relaxed)))
        }
        Content::Here(path) => {
            let open = std::fs::File::open(path).map_err(|error| wrong(error.into()))?;
            let bytes = open.metadata().map_err(|error| wrong(error.into()))?.len();
            Ok((tensors(open, bytes).map_err(wrong)?, 0))
        }
        Content::Git(_) => Ok((Vec::new(), 0)),
    }
}

/// Settings that cannot be read leave gaps in the facts, and stop nobody.
fn settings(web: &Web, file: &OfferedFile) -> Option<Value> {
    match &file.content {
        Content::Web(address) => {
            let text = Handle::current().block_on(web.document(address)).ok()?;
            serde_json::from_slice(&text).ok()
        }
        Content::Here(path) => serde_json::from_slice(&std::fs::read(path).ok()?).ok(),
        Content::Git(blob) => {
            let text = Handle::current().block_on(blob.read()).ok()?;
            serde_json::from_slice(&text).ok()
        }
    }
}
