//! OCI registries: artefacts in the open layout for models, and any artefact whose layers are model
//! files.
//!
//! Sources: the OCI Distribution and Image specifications 1.1; the CNCF model format specification
//! (media types `application/vnd.cncf.model.*`, annotation `org.cncf.model.filepath`).

use std::path::Path;

use oci_client::client::{Certificate, CertificateEncoding, ClientConfig, ClientProtocol};
use oci_client::errors::OciDistributionError;
use oci_client::manifest::{OciDescriptor, OciImageManifest, OciManifest};
use oci_client::secrets::RegistryAuth;
use oci_client::{Client, Reference as Image, RegistryOperation};
use serde::Deserialize;
use url::{Host, Url};

use super::group::{Found, group, looks_like_a_type};
use super::{Content, Finder, Offer, Source, SourceError};
use crate::name::is_plain_path;
use crate::remote::{Access, Address, RemoteError, certificates_apart};

/// Annotation with a layer's file name.
const NAMES: [&str; 2] = ["org.cncf.model.filepath", "org.opencontainers.image.title"];
/// What an artefact says of itself.
const DESCRIPTION: &str = "org.opencontainers.image.description";
const LICENCES: &str = "org.opencontainers.image.licenses";
/// Layers that are weights, whatever their name.
const WEIGHTS: &str = "application/vnd.cncf.model.weight.v1.raw";
/// Kind of a model's own settings.
const MODEL_CONFIG: &str = "application/vnd.cncf.model.config.v1+json";
/// Longest settings that are read, in bytes.
const LONGEST_CONFIG: i64 = 1 << 20;
/// Most repositories of a registry, and tags of each, that are listed.
const MOST_REPOSITORIES: usize = 200;
const MOST_TAGS: usize = 50;

/// A registry that is asked.
pub(super) struct Registry<'a> {
    finder: &'a Finder,
    client: Client,
    host: String,
    /// Repositories below this are meant.
    prefix: String,
    scheme: String,
    auth: RegistryAuth,
    access: &'a Access,
}

/// A model's settings in the open layout.
#[derive(Debug, Default, Deserialize)]
struct ModelConfig {
    #[serde(default)]
    descriptor: ModelDescriptor,
    #[serde(default)]
    config: ModelSettings,
}

#[derive(Debug, Default, Deserialize)]
struct ModelDescriptor {
    family: Option<String>,
    title: Option<String>,
    description: Option<String>,
    #[serde(default)]
    licenses: Vec<String>,
}

#[derive(Debug, Default, Deserialize)]
struct ModelSettings {
    architecture: Option<String>,
    quantization: Option<String>,
}

impl<'a> Registry<'a> {
    pub(super) fn new(
        finder: &'a Finder,
        address: &Url,
        access: &'a Access,
    ) -> Result<Self, SourceError> {
        let extra = match &finder.ca_file {
            None => Vec::new(),
            Some(file) => authorities(file)?,
        };
        let scheme = address.scheme().to_owned();
        let config = ClientConfig {
            protocol: match &scheme[..] {
                "http" => ClientProtocol::Http,
                _ => ClientProtocol::Https,
            },
            extra_root_certificates: extra,
            connect_timeout: Some(finder.web.stall()),
            read_timeout: Some(finder.web.stall()),
            user_agent: concat!("deft-harbor/", env!("CARGO_PKG_VERSION")),
            ..ClientConfig::default()
        };
        let auth = match (&access.token, &access.user) {
            (None, _) => RegistryAuth::Anonymous,
            (Some(token), None) => RegistryAuth::Bearer(token.expose().to_owned()),
            (Some(token), Some(user)) => {
                RegistryAuth::Basic(user.clone(), token.expose().to_owned())
            }
        };
        let host = address.host_str().unwrap_or_default();
        Ok(Self {
            finder,
            client: Client::new(config),
            host: match address.port() {
                Some(port) => format!("{host}:{port}"),
                None => host.to_owned(),
            },
            prefix: address.path().trim_matches('/').to_owned(),
            scheme,
            auth,
            access,
        })
    }

    fn image(&self, repository: &str, state: &str) -> Result<Image, SourceError> {
        let repository = self.whole(repository);
        let separator = if state.starts_with("sha256:") { '@' } else { ':' };
        let text = format!("{}/{repository}{separator}{state}", self.host);
        text.parse().map_err(|_| self.error(&repository, "the name is not valid for a repository"))
    }

    fn whole(&self, repository: &str) -> String {
        [&self.prefix[..], repository]
            .into_iter()
            .filter(|part| !part.is_empty())
            .collect::<Vec<_>>()
            .join("/")
    }

    fn place(&self, repository: &str) -> String {
        format!("{}://{}/{}", self.scheme, self.host, self.whole(repository))
    }

    fn error(&self, repository: &str, what: impl Into<String>) -> SourceError {
        SourceError::Registry { place: self.place(repository), what: what.into() }
    }

    fn refusal(&self, repository: &str, error: &OciDistributionError) -> SourceError {
        use OciDistributionError as E;
        let place = self.place(repository);
        let (code, text) = match error {
            E::ServerError { code, .. } => (*code, String::new()),
            E::UnauthorizedError { .. } | E::AuthenticationFailure(_) => (401, String::new()),
            E::ImageManifestNotFoundError(_) => (404, String::new()),
            E::RegistryError { envelope, .. } => (0, envelope.to_string()),
            E::RequestError(error) => {
                let code = error.status().map_or(1, |status| status.as_u16());
                (code, root_cause(error))
            }
            other => (0, other.to_string()),
        };
        let says = |word: &str| text.to_lowercase().replace([' ', '_'], "").contains(word);
        match code {
            401 => RemoteError::Unauthorized { place }.into(),
            403 => RemoteError::Forbidden { place }.into(),
            404 => RemoteError::NotFound { place }.into(),
            429 => RemoteError::TooMany { place, later: None }.into(),
            1 => RemoteError::Unreachable { place, what: text }.into(),
            0 if says("unauthorized") => RemoteError::Unauthorized { place }.into(),
            0 if says("denied") => RemoteError::Forbidden { place }.into(),
            0 if says("unknown") || says("notfound") => RemoteError::NotFound { place }.into(),
            0 => self.error(repository, text),
            code => RemoteError::Status { place, code, later: None }.into(),
        }
    }

    async fn tags(&self, repository: &str) -> Result<Vec<String>, SourceError> {
        let image = self.image(repository, "latest")?;
        let tags = self.client.list_tags(&image, &self.auth, None, None).await;
        Ok(tags.map_err(|error| self.refusal(repository, &error))?.tags)
    }

    /// Refuses a registry that would have its credentials sent to somebody else: the place that it names for
    /// that must be its own host, or one of the same owner.
    async fn keep_credentials(&self) -> Result<(), SourceError> {
        if self.access.token.is_none() {
            return Ok(());
        }
        let url = format!("{}://{}/v2/", self.scheme, self.host);
        let url: Url = url.parse().map_err(|_| self.error("", "its address is not valid"))?;
        let Some(challenge) = self.finder.web.challenge(&url).await? else {
            return Ok(());
        };
        let realm = challenge.split_once("realm=\"").and_then(|(_, rest)| rest.split('"').next());
        let is_bearer = challenge.trim_start().to_lowercase().starts_with("bearer");
        let Some(realm) = realm.filter(|_| is_bearer) else {
            return Ok(());
        };
        let to: Result<Url, _> = realm.parse();
        match to {
            Ok(to) if may_have_credentials(&url, &to) => Ok(()),
            _ => {
                let realm: String = realm.chars().take(200).collect();
                Err(self.error("", format!(
                    "it wants the token sent to `{realm}`, which belongs to another owner; use a token without \
                     a user name, or add that address as a source"
                )))
            }
        }
    }

    /// All artefacts with model files, of registries that list what they have.
    pub(super) async fn catalogue(&self) -> Result<Vec<Offer>, SourceError> {
        self.keep_credentials().await?;
        let image = self.image("catalogue", "latest")?;
        let listed = self.client.catalog(&image, &self.auth, Some(MOST_REPOSITORIES), None).await;
        let listed = listed.map_err(|error| self.refusal("", &error))?;
        let below = |name: &String| match &self.prefix[..] {
            "" => Some(name.clone()),
            prefix => name.strip_prefix(prefix)?.strip_prefix('/').map(str::to_owned),
        };
        let mut offers = Vec::new();
        for repository in listed.repositories.iter().filter_map(below) {
            for tag in self.tags(&repository).await?.into_iter().take(MOST_TAGS) {
                // Artefacts that are not models are skipped.
                offers.extend(self.offer(&repository, &tag).await.ok());
            }
        }
        Ok(offers)
    }

    /// The artefact that a path means: the last part may be its tag.
    pub(super) async fn resolve(
        &self,
        source: &Source,
        path: &str,
        revision: Option<&str>,
    ) -> Result<Offer, SourceError> {
        self.keep_credentials().await?;
        if let Some(revision) = revision {
            return self.offer(path, revision).await;
        }
        let parted = path.rsplit_once('/');
        if let Some((repository, tag)) = parted.filter(|(_, tag)| looks_like_a_type(tag)) {
            return self.offer(repository, tag).await;
        }
        let tags = match self.tags(path).await {
            Ok(tags) => tags,
            Err(error) => match parted {
                Some((repository, tag)) => return self.offer(repository, tag).await,
                None => return Err(error),
            },
        };
        match &tags[..] {
            [tag] => self.offer(path, tag).await,
            tags if tags.iter().any(|tag| tag == "latest") => self.offer(path, "latest").await,
            tags => Err(SourceError::Several {
                source_name: source.name.clone(),
                path: path.to_owned(),
                choices: tags.iter().map(|tag| format!("{path}/{tag}")).collect(),
            }),
        }
    }

    async fn offer(&self, repository: &str, state: &str) -> Result<Offer, SourceError> {
        let image = self.image(repository, state)?;
        let pulled = self.client.pull_manifest(&image, &self.auth).await;
        let (manifest, digest) = pulled.map_err(|error| self.refusal(repository, &error))?;
        let OciManifest::Image(manifest) = manifest else {
            return Err(self.error(repository, "it is an index of artefacts; name an artefact"));
        };
        let headers = self.blob_headers(repository, &image).await?;
        let mut files = Vec::new();
        for layer in &manifest.layers {
            files.extend(self.found(repository, layer, &headers)?);
        }
        let mut offers = group(repository, Some(&digest), files);
        let mut offer = match offers.len() {
            1 => offers.remove(0),
            0 => return Err(self.error(repository, format!("`{state}` has no model file"))),
            count => {
                let what = format!("`{state}` has {count} models in one artefact");
                return Err(self.error(repository, what));
            }
        };
        let tag = if state.starts_with("sha256:") { &offer.variant[..] } else { state };
        offer.variant = tag.to_owned();
        self.describe(&mut offer, repository, &manifest, &headers).await;
        Ok(offer)
    }

    /// What a blob is asked with: the token that the registry gave for this repository.
    async fn blob_headers(&self, repository: &str, image: &Image) -> Result<Address, SourceError> {
        let url: Url = format!("{}://{}/", self.scheme, self.host)
            .parse()
            .map_err(|_| self.error(repository, "its address is not valid"))?;
        let token = self.client.auth(image, &self.auth, RegistryOperation::Pull).await;
        let token = token.map_err(|error| self.refusal(repository, &error))?;
        let bare = Address::new(url.clone());
        Ok(match token {
            Some(token) => bare.with([("authorization".to_owned(), format!("Bearer {token}"))]),
            None => Address { url, headers: self.access.headers() },
        })
    }

    fn blob(&self, repository: &str, digest: &str, base: &Address) -> Result<Address, SourceError> {
        let path = format!("/v2/{}/blobs/{digest}", self.whole(repository));
        let url = base.url.join(&path);
        let url = url.map_err(|_| self.error(repository, "the address of a layer is not valid"))?;
        Ok(Address { url, headers: base.headers.clone() })
    }

    fn found(
        &self,
        repository: &str,
        layer: &OciDescriptor,
        base: &Address,
    ) -> Result<Option<Found>, SourceError> {
        let noted = |name: &&str| layer.annotations.as_ref()?.get(*name).cloned();
        let path = match NAMES.iter().find_map(noted) {
            Some(path) => path,
            // Weights without a file name are recognised by their media type, and examined before they are used.
            None if layer.media_type == WEIGHTS || layer.media_type.contains("gguf") => {
                format!("{}.gguf", repository.rsplit('/').next().unwrap_or(repository))
            }
            None => return Ok(None),
        };
        if !is_plain_path(&path) {
            return Err(self.error(
                repository,
                format!("the path `{path}` of a layer leads outside the folder"),
            ));
        }
        let digest = layer.digest.strip_prefix("sha256:").and_then(|text| text.parse().ok());
        let digest = digest.ok_or_else(|| {
            self.error(repository, format!("the digest of `{path}` is not SHA-256"))
        })?;
        Ok(Some(Found {
            path,
            bytes: u64::try_from(layer.size).ok(),
            sha256: Some(digest),
            content: Content::Web(self.blob(repository, &layer.digest, base)?),
        }))
    }

    async fn describe(
        &self,
        offer: &mut Offer,
        repository: &str,
        manifest: &OciImageManifest,
        base: &Address,
    ) {
        let notes = manifest.annotations.clone().unwrap_or_default();
        let mut config = ModelConfig::default();
        if manifest.config.media_type == MODEL_CONFIG
            && manifest.config.size <= LONGEST_CONFIG
            && let Ok(address) = self.blob(repository, &manifest.config.digest, base)
            && let Ok(text) = self.finder.web.document(&address).await
        {
            config = serde_json::from_slice(&text).unwrap_or_default();
        }
        let about = &mut offer.about;
        let ModelDescriptor { family, title, description, licenses } = config.descriptor;
        about.description = description.or(title).or_else(|| notes.get(DESCRIPTION).cloned());
        let licences = (!licenses.is_empty()).then(|| licenses.join(" AND "));
        about.licence = licences.or_else(|| notes.get(LICENCES).cloned());
        about.family = config.config.architecture.or(family);
        let quantisation = config.config.quantization.map(|word| word.to_lowercase());
        about.quantisation = quantisation.or_else(|| about.quantisation.take());
    }
}

/// Whether a registry's credentials may go to a place that it names: as encrypted as itself, and on its own
/// host or one with the same last two names.
fn may_have_credentials(registry: &Url, to: &Url) -> bool {
    if registry.scheme() == "https" && to.scheme() != "https" {
        return false;
    }
    let owner = |host: &str| host.rsplit('.').take(2).map(str::to_lowercase).collect::<Vec<_>>();
    match (registry.host(), to.host()) {
        (Some(Host::Domain(own)), Some(Host::Domain(to))) => own == to || owner(own) == owner(to),
        (own, to) => own.is_some() && own == to,
    }
}

/// Certificates as the registry's client takes them.
fn authorities(file: &Path) -> Result<Vec<Certificate>, SourceError> {
    let pem = certificates_apart(file)?.into_iter();
    Ok(pem.map(|data| Certificate { encoding: CertificateEncoding::Pem, data }).collect())
}

fn root_cause(error: &dyn std::error::Error) -> String {
    let mut innermost = error;
    while let Some(source) = innermost.source() {
        innermost = source;
    }
    innermost.to_string()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn credentials_go_to_the_registrys_own_owner_only() {
        let may = |from: &str, to: &str| {
            may_have_credentials(&from.parse().unwrap(), &to.parse().unwrap())
        };
        assert!(may("https://registry.example/v2/", "https://auth.registry.example/token"));
        assert!(may("https://images.seeds.example/v2/", "https://auth.seeds.example/token"));
        assert!(!may("https://registry.example/v2/", "https://collector.test/token"));
        assert!(!may("https://registry.example/v2/", "http://registry.example/token"));
        assert!(may("http://127.0.0.1:5000/v2/", "http://127.0.0.1:5001/token"));
        assert!(!may("http://127.0.0.1:5000/v2/", "http://127.0.0.2:5001/token"));
    }
}
