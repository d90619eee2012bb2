//! Issues tokens for a registry: JSON web tokens (RFC 7519) signed with a key of its own, in the form of the registry's token
//! scheme.

use std::time::{SystemTime, UNIX_EPOCH};

use anyhow::anyhow;
use base64::Engine;
use base64::engine::general_purpose::{STANDARD, URL_SAFE_NO_PAD};
use ring::rand::SystemRandom;
use ring::signature::{ECDSA_P256_SHA256_FIXED_SIGNING, EcdsaKeyPair};
use serde_json::{Value, json};

/// Seconds for which a token is valid.
const GOOD_FOR: u64 = 300;

/// Signs tokens.
#[derive(Debug)]
pub struct Issuer {
    key: EcdsaKeyPair,
    /// The certificate as PEM and as DER.
    certificate: (String, Vec<u8>),
}

impl Issuer {
    /// Makes an issuer with a new key.
    ///
    /// # Errors
    /// The key cannot be made.
    pub fn new() -> anyhow::Result<Self> {
        let made = rcgen::generate_simple_self_signed(vec!["larkfen".to_owned()])?;
        let key = made.signing_key.serialize_der();
        let key =
            EcdsaKeyPair::from_pkcs8(&ECDSA_P256_SHA256_FIXED_SIGNING, &key, &SystemRandom::new());
        let certificate = (made.cert.pem(), made.cert.der().to_vec());
        Ok(Self { key: key.map_err(|error| anyhow!("{error}"))?, certificate })
    }

    /// The certificate that a registry must trust (PEM).
    #[must_use]
    pub fn certificate(&self) -> &str {
        &self.certificate.0
    }

    /// Issues a token for `scope` (`repository:NAME:pull`), or without a scope.
    pub(crate) fn token(&self, user: &str, scope: Option<&str>) -> anyhow::Result<Value> {
        let now = SystemTime::now().duration_since(UNIX_EPOCH)?.as_secs();
        let access: Vec<Value> = scope
            .and_then(|scope| {
                let (kind, rest) = scope.split_once(':')?;
                let (name, actions) = rest.rsplit_once(':')?;
                let actions: Vec<&str> = actions.split(',').collect();
                Some(json!({"type": kind, "name": name, "actions": actions}))
            })
            .into_iter()
            .collect();
        let header =
            json!({"typ": "JWT", "alg": "ES256", "x5c": [STANDARD.encode(&self.certificate.1)]});
        let claims = json!({
            "iss": "larkfen", "sub": user, "aud": "larkfen", "jti": now.to_string(),
            "iat": now, "nbf": now - 5, "exp": now + GOOD_FOR, "access": access,
        });
        let part = |value: &Value| URL_SAFE_NO_PAD.encode(value.to_string());
        let signed = format!("{}.{}", part(&header), part(&claims));
        let signature = self.key.sign(&SystemRandom::new(), signed.as_bytes());
        let signature = signature.map_err(|error| anyhow!("{error}"))?;
        let token = format!("{signed}.{}", URL_SAFE_NO_PAD.encode(signature));
        Ok(json!({"token": token, "access_token": token, "expires_in": GOOD_FOR}))
    }
}
