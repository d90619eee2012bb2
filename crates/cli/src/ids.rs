//! Ids on the command line: their beginnings are enough.

use std::collections::HashSet;

use uuid::Uuid;

use crate::failure::Failure;

/// Finds what the beginning of an id means.
///
/// # Errors
/// No id begins so, or more than one does.
pub(crate) fn by_id<'a, T>(
    all: &'a [T],
    id: impl Fn(&T) -> Uuid,
    begun: &str,
    what: &str,
) -> Result<&'a T, Failure> {
    if begun.is_empty() {
        return Err(Failure::usage(format!("the id of the {what} is empty")));
    }
    let mut found = all.iter().filter(|one| id(one).to_string().starts_with(begun));
    match (found.next(), found.next()) {
        (Some(one), None) => Ok(one),
        (Some(_), Some(_)) => {
            Err(Failure::usage(format!("the id of more than one {what} begins with `{begun}`")))
        }
        (None, _) => Err(Failure::missing(format!("no {what} has the id `{begun}`"))),
    }
}

/// The shortest prefix of ids, of at least 13 characters, that distinguishes them.
pub(crate) fn id_length(ids: &[Uuid]) -> usize {
    const SHORT: usize = 13;
    const WHOLE: usize = 36;
    let short: HashSet<String> = ids.iter().map(|id| id.to_string()[..SHORT].to_owned()).collect();
    if short.len() == ids.len() { SHORT } else { WHOLE }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_beginning_of_an_id_is_enough_where_it_means_one() {
        let ids = ["018f0000-0000-7000-8000-000000000001", "018f0000-0000-7000-8000-000000000002"]
            .map(|id| id.parse::<Uuid>().unwrap());
        let find = |begun: &str| by_id(&ids, |id| *id, begun, "call").map(ToString::to_string);
        assert_eq!(find(&ids[0].to_string()).unwrap(), ids[0].to_string());
        assert!(find("018f").is_err_and(|why| why.to_string().contains("more than one call")));
        assert!(find("9").is_err_and(|why| why.to_string().contains("no call has the id `9`")));
        assert!(find("").is_err_and(|why| why.to_string().contains("is empty")));
        assert!(by_id(&ids[..1], |id| *id, "", "call").is_err(), "also where there is only one");
        assert_eq!((id_length(&ids), id_length(&ids[..1])), (36, 13));
    }
}
