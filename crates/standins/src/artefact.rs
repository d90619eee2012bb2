//! Pushes models to a registry, in the open layout for models.

use std::collections::BTreeMap;
use std::path::Path;

use anyhow::Context;
use oci_client::client::{Client, ClientConfig, ClientProtocol, Config, ImageLayer};
use oci_client::manifest::OciImageManifest;
use oci_client::secrets::RegistryAuth;
use serde_json::json;

/// Media types of the open layout.
const ARTEFACT: &str = "application/vnd.cncf.model.manifest.v1+json";
const CONFIG: &str = "application/vnd.cncf.model.config.v1+json";
const WEIGHTS: &str = "application/vnd.cncf.model.weight.v1.raw";
const PATH: &str = "org.cncf.model.filepath";

/// The metadata of an artefact.
#[derive(Debug, Clone, Default)]
pub struct Description<'a> {
    /// Description in a sentence.
    pub text: &'a str,
    /// The licence.
    pub licence: &'a str,
    /// The family.
    pub family: &'a str,
    /// Short name of the quantisation.
    pub quantisation: &'a str,
    /// Whether to use the layout for models; otherwise a plain artefact with a title.
    pub plain: bool,
}

/// Pushes a model file to an unencrypted registry, as `host:port/repository:tag`.
///
/// # Errors
/// The file cannot be read, or the registry refuses.
pub async fn push(
    image: &str,
    file: &Path,
    about: &Description<'_>,
    login: Option<(&str, &str)>,
) -> anyhow::Result<()> {
    // The client needs the process's TLS provider even for unencrypted connections.
    let _ = rustls::crypto::ring::default_provider().install_default();
    let protocol = ClientProtocol::Http;
    let client = Client::new(ClientConfig { protocol, ..ClientConfig::default() });
    let image = image.parse().context("the name cannot be one of an artefact")?;
    let content = std::fs::read(file).with_context(|| file.display().to_string())?;
    let name = file.file_name().unwrap_or_default().to_string_lossy().into_owned();
    let (kind, note) = match about.plain {
        false => (WEIGHTS, PATH),
        true => ("application/octet-stream", "org.opencontainers.image.title"),
    };
    let notes = BTreeMap::from([(note.to_owned(), name)]);
    let layers = vec![ImageLayer::new(content, kind.to_owned(), Some(notes))];
    let settings = match about.plain {
        true => json!({}),
        false => json!({
            "descriptor": {"description": about.text, "licenses": [about.licence]},
            "config": {"architecture": about.family, "quantization": about.quantisation, "format": "gguf"},
            "modelfs": {"type": "layers", "diffIds": []},
        }),
    };
    let kind = if about.plain { "application/vnd.oci.empty.v1+json" } else { CONFIG };
    let config = Config::new(serde_json::to_vec(&settings)?, kind.to_owned(), None);
    let mut manifest = OciImageManifest::build(&layers, &config, None);
    manifest.artifact_type = (!about.plain).then(|| ARTEFACT.to_owned());
    let auth = login.map_or(RegistryAuth::Anonymous, |(user, password)| {
        RegistryAuth::Basic(user.to_owned(), password.to_owned())
    });
    client.push(&image, &layers, config, &auth, Some(manifest)).await?;
    Ok(())
}
