//! Parsing of a destination's settings.

use yonder_address::{
    KeyLength, Passphrase, PasteError, Pasted, Repair, ServerAddress, StreamKey, read_backup, read_pasted,
    stream_id,
};
use yonder_api::{KeyKind, Secret};
use yonder_engine::PrivateAuthority;
use yonder_store::KeyKind as StoredKind;

use crate::error::ServiceError;
use crate::time;

/// Default failback delay, in seconds.
pub(crate) const DEFAULT_RETURN_S: u32 = 120;
/// Range of the failback delay, in seconds.
const RETURN_RANGE_S: std::ops::RangeInclusive<u32> = 5..=86_400;
/// Maximum size of a certificate authority: a chain of some certificates.
const MAX_AUTHORITY: usize = 64 * 1024;
/// Maximum length of a watch page address.
const MAX_WATCH_PAGE: usize = 2_048;

/// Parses server and key, pasted together or separately, and returns the corrections.
pub(super) fn parse_server_and_key(
    server: Option<&Secret>,
    key: Option<&Secret>,
) -> Result<(Pasted, Vec<String>), ServiceError> {
    let pasted = read_pasted(server.map(Secret::expose), key.map(Secret::expose));
    let pasted = pasted.map_err(|error| ServiceError::pasted(&error))?;
    if let ServerAddress::Srt(server) = &pasted.server {
        stream_id(server, pasted.key.as_ref()).map_err(|error| ServiceError::Invalid {
            field: "key",
            detail: error.to_string(),
            hint: "Enter the key, or a stream ID without the placeholder {key}.",
        })?;
    }
    let notes = pasted.repairs.iter().map(|repair| note_of("pasted", repair)).collect();
    Ok((pasted, notes))
}

/// Parses the address of a backup server.
pub(super) fn parse_backup_server(
    text: Option<&Secret>,
    main: &ServerAddress,
    key: Option<&StreamKey>,
    repairs: &mut Vec<String>,
) -> Result<Option<ServerAddress>, ServiceError> {
    let field = "backup_server";
    let Some(text) = text.filter(|text| !text.expose().trim().is_empty()) else { return Ok(None) };
    let read = read_backup(text.expose(), main, key);
    let (server, done) = read.map_err(|error| match error {
        PasteError::Server(error) => ServiceError::server(field, &error),
        error => ServiceError::Invalid {
            field,
            detail: error.to_string(),
            hint: "Paste it without the key: both servers use the same key.",
        },
    })?;
    if done.contains(&Repair::StreamIdSealed) {
        return Err(ServiceError::Invalid {
            field,
            detail: "the stream ID of a backup server needs the placeholder {key}".to_owned(),
            hint: "Write {key} in place of the key: both servers use the same key.",
        });
    }
    repairs.extend(done.into_iter().map(|repair| note_of("backup server", &repair)));
    Ok(Some(server))
}

/// Returns the text of a correction.
pub(super) fn note_of(field: &str, repair: &Repair) -> String {
    format!("{field}: {}", repair.sentence())
}

/// Parses the passphrase of an SRT server.
pub(super) fn parse_passphrase(
    text: Option<&Secret>,
    server: &ServerAddress,
) -> Result<Option<Passphrase>, ServiceError> {
    let Some(text) = text else { return Ok(None) };
    if !matches!(server, ServerAddress::Srt(_)) {
        return Err(ServiceError::Invalid {
            field: "passphrase",
            detail: "only SRT has a passphrase; RTMP is encrypted by TLS".to_owned(),
            hint: "Take the rtmps:// address from the platform.",
        });
    }
    Passphrase::parse(text.expose()).map(Some).map_err(ServiceError::passphrase)
}

/// Parses the key length in bits.
pub(super) fn parse_key_length(bits: Option<u16>) -> Result<u16, ServiceError> {
    let bits = bits.unwrap_or_else(|| KeyLength::default().bits());
    KeyLength::from_bits(bits).map(KeyLength::bits).ok_or_else(|| ServiceError::Invalid {
        field: "key_length",
        detail: format!("{bits} bits is not a valid key length"),
        hint: "Choose 128, 192 or 256.",
    })
}

/// Parses the failback delay in seconds.
pub(super) fn parse_failback_delay(seconds: Option<u32>) -> Result<i64, ServiceError> {
    let seconds = seconds.unwrap_or(DEFAULT_RETURN_S);
    if !RETURN_RANGE_S.contains(&seconds) {
        return Err(ServiceError::Invalid {
            field: "return_after_s",
            detail: format!("{seconds} s is not between 5 s and one day"),
            hint: "Two minutes is typical.",
        });
    }
    Ok(i64::from(seconds))
}

/// Parses the address of the watch page; empty for none.
pub(super) fn parse_watch_page(text: Option<&str>) -> Result<Option<String>, ServiceError> {
    let Some(text) = text.map(str::trim).filter(|text| !text.is_empty()) else { return Ok(None) };
    let is_page = ["http://", "https://"].iter().any(|scheme| text.to_ascii_lowercase().starts_with(scheme));
    let is_clean =
        text.len() <= MAX_WATCH_PAGE && !text.contains(|c: char| c.is_whitespace() || c.is_control());
    if is_page && is_clean {
        return Ok(Some(text.to_owned()));
    }
    Err(ServiceError::Invalid {
        field: "watch_page",
        detail: "this is not the address of a web page".to_owned(),
        hint: "Enter an address like https://bramble.example.net/summit.",
    })
}

/// Returns the error for an invalid authority.
pub(super) fn invalid_authority(detail: String) -> ServiceError {
    ServiceError::Invalid {
        field: "authority",
        detail,
        hint: "Enter only the authority's certificate, in PEM format.",
    }
}

/// Parses the certificates of a private authority; empty for none.
pub(super) fn parse_authority(pem: Option<&str>) -> Result<Option<String>, ServiceError> {
    let Some(pem) = pem.map(str::trim).filter(|pem| !pem.is_empty()) else { return Ok(None) };
    if pem.len() > MAX_AUTHORITY {
        return Err(invalid_authority("the authority is larger than 64 KiB".to_owned()));
    }
    if pem.contains("PRIVATE KEY") {
        return Err(invalid_authority("it contains a private key".to_owned()));
    }
    PrivateAuthority::from_pem(pem).map_err(invalid_authority)?;
    Ok(Some(pem.to_owned() + "\n"))
}

/// Parses the expiry of a key, in seconds since 1970; empty for none.
pub(super) fn parse_expiry(text: Option<&str>) -> Result<Option<i64>, ServiceError> {
    let Some(text) = text.map(str::trim).filter(|text| !text.is_empty()) else { return Ok(None) };
    time::read_s(text).map(Some).ok_or_else(|| ServiceError::Invalid {
        field: "key_expires",
        detail: format!("{text:?} is neither a date nor a time"),
        hint: "Enter a date such as 2026-12-31 (valid until the end of the day, UTC) or a time such as 2026-12-31T12:00:00Z.",
    })
}

/// Converts the kind of a key.
pub(super) fn stored_kind(kind: KeyKind) -> StoredKind {
    match kind {
        KeyKind::Reusable => StoredKind::Reusable,
        KeyKind::OneBroadcast => StoredKind::OneBroadcast,
    }
}
