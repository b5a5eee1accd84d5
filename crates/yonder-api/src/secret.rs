//! Secrets in API messages.

use std::fmt;

use secrecy::{ExposeSecret as _, SecretString};
use serde::{Deserialize, Deserializer, Serialize, Serializer};
use utoipa::ToSchema;

/// Secret text: never shown by `Debug`, never repeated by the service. Only requests and the response to `reveal` contain it.
#[derive(Clone, Default, ToSchema)]
#[schema(value_type = String, format = Password)]
pub struct Secret(SecretString);

impl Secret {
    /// Returns true if there is no text.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.expose().is_empty()
    }

    /// Returns the text.
    #[must_use]
    pub fn expose(&self) -> &str {
        self.0.expose_secret()
    }

    /// Returns the secret for lower layers.
    #[must_use]
    pub fn into_inner(self) -> SecretString {
        self.0
    }
}

impl From<SecretString> for Secret {
    fn from(secret: SecretString) -> Self {
        Self(secret)
    }
}

impl From<String> for Secret {
    fn from(text: String) -> Self {
        Self(text.into())
    }
}

impl fmt::Debug for Secret {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("Secret")
    }
}

impl Serialize for Secret {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.serialize_str(self.expose())
    }
}

impl<'de> Deserialize<'de> for Secret {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        String::deserialize(deserializer).map(Self::from)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn secret_is_serialized_but_not_displayed() {
        let secret: Secret = serde_json::from_str("\"planted\"").unwrap();
        assert_eq!(secret.expose(), "planted");
        assert_eq!(format!("{secret:?}"), "Secret");
    }
}
