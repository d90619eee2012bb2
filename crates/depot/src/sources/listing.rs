//! Hubs that list a repository's files as JSON: the operator says where the list is, where in it names,
//! lengths and digests stand, and where the files are.

use serde::{Deserialize, Serialize};
use serde_json::Value;
use url::Url;

use super::group::{Found, group};
use super::{Content, Offer, SourceError};
use crate::name::is_plain_path;
use crate::remote::{Access, Address, Web};
use crate::store::Digest;

/// The default state.
const USUAL_REVISION: &str = "main";

/// How a hub is asked: templates of addresses with `{repo}`, `{revision}` and `{path}`, and JSON pointers
/// (RFC 6901).
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Listing {
    /// Where the list of files of a repository is.
    pub files: String,
    /// Where a file is.
    pub download: String,
    /// Where in the list's document the entries are; the document itself where it is empty.
    #[serde(default)]
    pub entries: String,
    /// Where in an entry the path is.
    pub path: String,
    /// Where in an entry the length is.
    #[serde(default)]
    pub bytes: Option<String>,
    /// Where in an entry the SHA-256 is, with or without `sha256:` before it.
    #[serde(default)]
    pub sha256: Option<String>,
}

impl Listing {
    /// Checks the settings before any request is sent.
    ///
    /// # Errors
    /// A template lacks what it needs or is no address, or a pointer is none.
    pub fn check(&self) -> Result<(), SourceError> {
        let wrong = |what: String| Err(SourceError::Wrong(what));
        if !self.files.contains("{repo}") {
            return wrong(format!("the template `{}` has no {{repo}}", self.files));
        }
        if !self.download.contains("{path}") {
            return wrong(format!("the template `{}` has no {{path}}", self.download));
        }
        for template in [&self.files, &self.download] {
            filled(template, "a", "b", "c")?;
        }
        let pointers =
            [Some(&self.entries), Some(&self.path), self.bytes.as_ref(), self.sha256.as_ref()];
        match pointers.into_iter().flatten().find(|text| !text.is_empty() && !text.starts_with('/'))
        {
            Some(text) => wrong(format!("the JSON pointer `{text}` does not begin with `/`")),
            None => Ok(()),
        }
    }

    /// The variants of a repository.
    pub(super) async fn offers(
        &self,
        web: &Web,
        access: &Access,
        repo: &str,
        revision: Option<&str>,
    ) -> Result<Vec<Offer>, SourceError> {
        let state = revision.unwrap_or(USUAL_REVISION);
        let headers = access.headers();
        let list = Address { url: filled(&self.files, repo, state, "")?, headers: headers.clone() };
        let document: Value =
            serde_json::from_slice(&web.document(&list).await?).map_err(|error| {
                self.wrong(&list, &format!("its list of files is not JSON: {error}"))
            })?;
        let entries = document.pointer(&self.entries).and_then(Value::as_array);
        let Some(entries) = entries else {
            return Err(self.wrong(&list, &format!("it has no list at `{}`", self.entries)));
        };
        let host = list.url.origin();
        let mut files = Vec::new();
        for entry in entries {
            // Entries without a path are folders, or something else that is no file.
            let Some(path) = entry.pointer(&self.path).and_then(Value::as_str) else {
                continue;
            };
            if !is_plain_path(path) {
                return Err(
                    self.wrong(&list, &format!("the path `{path}` leads outside the folder"))
                );
            }
            let url = filled(&self.download, repo, state, path)?;
            let headers = if url.origin() == host { headers.clone() } else { Default::default() };
            let at = |pointer: &Option<String>| entry.pointer(pointer.as_deref()?);
            let digest = match at(&self.sha256) {
                None | Some(Value::Null) => None,
                Some(text) => Some(digest_of(text).ok_or_else(|| {
                    self.wrong(&list, &format!("the digest of `{path}` is not valid"))
                })?),
            };
            files.push(Found {
                path: path.to_owned(),
                bytes: at(&self.bytes).and_then(Value::as_u64),
                sha256: digest,
                content: Content::Web(Address { url, headers }),
            });
        }
        Ok(group(repo, revision, files))
    }

    fn wrong(&self, address: &Address, what: &str) -> SourceError {
        SourceError::Wrong(format!("{} cannot be used: {what}", address.shown()))
    }
}

/// A digest in a listing. An invalid digest is an error, not a missing digest.
fn digest_of(text: &Value) -> Option<Digest> {
    text.as_str()?.trim_start_matches("sha256:").parse().ok()
}

/// Fills a template. Inserted values cannot leave their path segment.
fn filled(template: &str, repo: &str, revision: &str, path: &str) -> Result<Url, SourceError> {
    let part = |text: &str| {
        let parts: Vec<String> = text
            .split('/')
            .map(|part| url::form_urlencoded::byte_serialize(part.as_bytes()).collect::<String>())
            .collect();
        parts.join("/").replace('+', "%20")
    };
    let text = template
        .replace("{repo}", &part(repo))
        .replace("{revision}", &part(revision))
        .replace("{path}", &part(path));
    let url: Result<Url, _> = text.parse();
    url.ok()
        .filter(|url| matches!(url.scheme(), "http" | "https"))
        .ok_or_else(|| SourceError::Wrong(format!("the template `{template}` is not an address")))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn listing() -> Listing {
        Listing {
            files: "https://hub.example/list/{repo}/{revision}".to_owned(),
            download: "https://hub.example/get/{repo}/{revision}/{path}".to_owned(),
            entries: "/files".to_owned(),
            path: "/name".to_owned(),
            bytes: Some("/size".to_owned()),
            sha256: None,
        }
    }

    #[test]
    fn templates_are_filled_and_lead_nowhere_else() {
        let url = filled(&listing().download, "seeds/desk", "v 1", "a#b/c?d.gguf").unwrap();
        assert_eq!(url.as_str(), "https://hub.example/get/seeds/desk/v%201/a%23b/c%3Fd.gguf");
    }

    #[test]
    fn rules_that_cannot_work_are_refused() {
        listing().check().unwrap();
        let error = |change: fn(&mut Listing)| {
            let mut listing = listing();
            change(&mut listing);
            listing.check().unwrap_err().to_string()
        };
        assert!(error(|l| l.files = "https://hub.example/".into()).contains("has no {repo}"));
        assert!(error(|l| l.download = "https://hub.example/".into()).contains("has no {path}"));
        assert!(error(|l| l.download = "file:///{path}".into()).contains("is not an address"));
        assert!(error(|l| l.path = "name".into()).contains("does not begin with `/`"));
    }
}
