//! Which of a source's offers a path means.

use super::group::looks_like_a_type;
use super::{Offer, Source, SourceError};
use crate::name::most_alike;
use crate::remote::RemoteError;

/// The offer that a path means: `model/variant`, a model with one variant, a variant of a source with one
/// model, or a file's name.
pub(super) fn choose(source: &Source, offers: &[Offer], path: &str) -> Result<Offer, SourceError> {
    let exact = |offer: &&Offer| offer.path() == path;
    let by_file = |offer: &&Offer| offer.files.iter().any(|file| file.name == path);
    let is_type = |offer: &Offer| {
        let words = [Some(&offer.variant), offer.about.quantisation.as_ref()];
        words.into_iter().flatten().any(|word| word.eq_ignore_ascii_case(path))
    };
    let found: Vec<&Offer> = match offers.iter().find(exact).or_else(|| offers.iter().find(by_file))
    {
        Some(one) => vec![one],
        None => offers
            .iter()
            .filter(|offer| path.is_empty() || offer.model == path || is_type(offer))
            .collect(),
    };
    match &found[..] {
        [one] => Ok((*one).clone()),
        [] => Err(SourceError::NoModel {
            source_name: source.name.clone(),
            path: path.to_owned(),
            nearest: nearest(offers, path).map(|near| format!("{}:{near}", source.name)),
        }),
        several => Err(SourceError::Several {
            source_name: source.name.clone(),
            path: path.to_owned(),
            choices: several.iter().map(|offer| offer.path()).collect(),
        }),
    }
}

fn nearest(offers: &[Offer], path: &str) -> Option<String> {
    let names = offers.iter().flat_map(|offer| {
        let (whole, model, variant) = (offer.path(), offer.model.clone(), offer.variant.clone());
        [(whole.clone(), whole.clone()), (model.clone(), model), (variant, whole)]
    });
    most_alike(path, names)
}

/// Resolves a path that begins with a repository's name of unknown length: the last part may be the variant.
pub(super) async fn in_repository<F>(
    source: &Source,
    path: &str,
    ask: impl Fn(String) -> F,
) -> Result<Offer, SourceError>
where
    F: Future<Output = Result<Vec<Offer>, SourceError>>,
{
    let whole = (path.to_owned(), String::new());
    let parted = path.rsplit_once('/').map(|(repo, last)| (repo.to_owned(), last.to_owned()));
    let is_variant = |last: &str| looks_like_a_type(last) || last.contains('.');
    let readings = match parted {
        None => vec![whole],
        Some(parted) if is_variant(&parted.1) => vec![parted, whole],
        Some(parted) => vec![whole, parted],
    };
    let mut refused = None;
    for (repo, variant) in readings {
        match ask(repo.clone()).await {
            Ok(offers) if variant.is_empty() => return choose(source, &offers, &repo),
            Ok(offers) => return choose(source, &offers, &variant),
            Err(error) if is_absent(&error) => refused = refused.or(Some(error)),
            Err(error) => return Err(error),
        }
    }
    Err(refused.unwrap_or_else(|| SourceError::NoModel {
        source_name: source.name.clone(),
        path: path.to_owned(),
        nearest: None,
    }))
}

/// Whether an error may mean that the repository does not exist: many hubs answer the same for private
/// repositories.
fn is_absent(error: &SourceError) -> bool {
    matches!(
        error,
        SourceError::Git { .. }
            | SourceError::Remote(
                RemoteError::NotFound { .. }
                    | RemoteError::Unauthorized { .. }
                    | RemoteError::Forbidden { .. }
            )
    )
}
