//! Web indexes, and files at an address.

use reqwest::header::HeaderMap;
use url::Url;

use super::group::{Found, group};
use super::{About, Content, Offer, OfferedFile, SourceError};
use crate::index::{INDEX_FILE, Index, IndexedFile, IndexedModel, IndexedVariant};
use crate::remote::{Access, Address, Web};

/// All that an index offers.
pub(super) async fn offers(
    web: &Web,
    base: &Url,
    access: &Access,
) -> Result<Vec<Offer>, SourceError> {
    let headers = access.headers();
    let address = Address { url: below(base, INDEX_FILE)?, headers: headers.clone() };
    let index = Index::read(&web.document(&address).await?)?;
    let mut offers = Vec::new();
    for model in &index.models {
        for variant in &model.variants {
            offers.push(offer(base, &headers, model, variant)?);
        }
    }
    Ok(offers)
}

/// An address below another; the path's own characters stay what they are.
pub(super) fn below(base: &Url, path: &str) -> Result<Url, SourceError> {
    let mut url = base.clone();
    let whole = || SourceError::Wrong(format!("`{base}` has no paths below it"));
    url.path_segments_mut().map_err(|()| whole())?.pop_if_empty().extend(path.split('/'));
    Ok(url)
}

fn offer(
    base: &Url,
    headers: &HeaderMap,
    model: &IndexedModel,
    variant: &IndexedVariant,
) -> Result<Offer, SourceError> {
    let file = |file: &IndexedFile| {
        let address = Address { url: below(base, &file.path)?, headers: headers.clone() };
        Ok(OfferedFile {
            role: file.role,
            name: file.path.rsplit('/').next().unwrap_or(&file.path).to_owned(),
            bytes: Some(file.bytes),
            sha256: Some(file.sha256),
            content: Content::Web(address),
        })
    };
    Ok(Offer {
        model: model.name.clone(),
        variant: variant.name.clone(),
        revision: None,
        about: About {
            description: model.description.clone(),
            licence: model.licence.clone(),
            serves: model.serves.clone(),
            family: Some(variant.family.clone()),
            quantisation: Some(variant.quantisation.clone()),
            parameters: Some(variant.parameters),
            context_length: Some(variant.context_length),
        },
        shape: variant.model_shape(),
        files: variant.files.iter().map(file).collect::<Result<_, SourceError>>()?,
    })
}

/// The offer at an address. For a model in parts it is the first part; the others are beside it.
pub(super) fn at(address: &Url) -> Result<Offer, SourceError> {
    let name = address.path_segments().and_then(|mut parts| parts.next_back()).unwrap_or_default();
    let name = percent_decoded(name);
    if !name.ends_with(".gguf") {
        return Err(SourceError::Wrong(format!(
            "`{}` names no file that ends in .gguf",
            crate::remote::shown(address)
        )));
    }
    let mut files = Vec::new();
    for name in crate::name::all_parts(&name) {
        let mut url = address.clone();
        if let Ok(mut parts) = url.path_segments_mut() {
            parts.pop().push(&name);
        }
        let content = Content::Web(Address::new(url));
        files.push(Found { path: name, bytes: None, sha256: None, content });
    }
    let stem = crate::name::without_part(name.trim_end_matches(".gguf")).to_owned();
    let mut offers = group(&stem, None, files);
    let mut offer =
        offers.pop().ok_or_else(|| SourceError::Wrong(format!("`{name}` is not a model")))?;
    let ending = format!("-{}", offer.variant);
    if let Some(model) = stem.to_lowercase().strip_suffix(&ending) {
        model.clone_into(&mut offer.model);
    }
    Ok(offer)
}

fn percent_decoded(text: &str) -> String {
    let pairs = format!("x={}", text.replace('+', "%2B"));
    let mut decoded = url::form_urlencoded::parse(pairs.as_bytes());
    decoded.next().map(|(_, value)| value.into_owned()).unwrap_or_default()
}
