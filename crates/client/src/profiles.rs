//! Profiles.

use deft_protocol::manage::{Profile, ProfileSettings};
use reqwest::{Method, Url};

use super::{Client, ClientError};

impl Client {
    /// All profiles, by name.
    ///
    /// # Errors
    /// As all calls.
    pub async fn profiles(&self) -> Result<Vec<Profile>, ClientError> {
        self.get("/manage/v1/profiles").await
    }

    /// A profile.
    ///
    /// # Errors
    /// As all calls; there may be no such profile.
    pub async fn profile(&self, name: &str) -> Result<Profile, ClientError> {
        self.get(&place(name)).await
    }

    /// Saves a profile, in place of one of the same name.
    ///
    /// # Errors
    /// As all calls; the model may not be able to use a setting.
    pub async fn save_profile(
        &self,
        name: &str,
        settings: &ProfileSettings,
    ) -> Result<Profile, ClientError> {
        let request = self.request(Method::PUT, &place(name))?.json(settings);
        self.json(self.send(request).await?).await
    }

    /// Removes a profile; its model stays.
    ///
    /// # Errors
    /// As all calls; there may be no such profile.
    pub async fn remove_profile(&self, name: &str) -> Result<Profile, ClientError> {
        let request = self.request(Method::DELETE, &place(name))?;
        self.json(self.send(request).await?).await
    }
}

/// The path of a profile, whatever letters its name has.
fn place(name: &str) -> String {
    let mut path = Url::parse("http://localhost/manage/v1/profiles").expect("it is an address");
    if let Ok(mut parts) = path.path_segments_mut() {
        parts.push(name);
    }
    path.path().to_owned()
}
