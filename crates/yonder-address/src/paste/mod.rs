//! Parsing of a pasted server address and stream key, together or separate.

use crate::error::AddressError;
use crate::key::{KeyError, StreamKey};
use crate::passphrase::{KeyLength, Passphrase};
use crate::protocol::Protocol;
use crate::repair::{Repair, bare, note};
use crate::rtmp::RtmpServer;
use crate::scheme::split_scheme;
use crate::server::ServerAddress;
use crate::srt::{SrtExtras, SrtServer, check_stream_id};

/// Error for pasted input. Never contains the key.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum PasteError {
    /// Invalid server address.
    #[error(transparent)]
    Server(#[from] AddressError),
    /// Invalid stream key.
    #[error(transparent)]
    Key(#[from] KeyError),
    /// Neither field contains an address.
    #[error("the server address is missing")]
    NoServer,
    /// RTMP requires a key, which is missing.
    #[error("the stream key is missing: it is neither given nor at the end of the server address")]
    NoKey,
    /// The backup server's address ends with a different key.
    #[error("the address ends with another stream key than the one of this destination")]
    OtherKey,
    /// A stream ID and a key are given without a placeholder.
    #[error(
        "the address has a stream ID and a key is given as well; write {{key}} where the key belongs in the stream ID"
    )]
    StreamIdAndKey,
}

/// Parsed and corrected input.
#[derive(Debug, Clone)]
pub struct Pasted {
    /// Server, without any secret.
    pub server: ServerAddress,
    /// Stream key; optional for SRT.
    pub key: Option<StreamKey>,
    /// Passphrase from an SRT address.
    pub passphrase: Option<Passphrase>,
    /// Key length from an SRT address.
    pub key_length: Option<KeyLength>,
    /// Corrections.
    pub repairs: Vec<Repair>,
}

/// Parses a server address without a key.
///
/// # Errors
/// [`AddressError`] for the first fault.
pub fn read_server(text: &str) -> Result<(ServerAddress, Vec<Repair>), AddressError> {
    let (server, extras, mut repairs) = read_address(text)?;
    if extras.passphrase.is_some() {
        return Err(AddressError::PassphraseInAddress);
    }
    if extras.stream_id.is_some() {
        note(&mut repairs, Repair::StreamIdSealed);
    }
    if extras.key_length.is_some() {
        note(&mut repairs, Repair::ParameterDropped("pbkeylen".to_owned()));
    }
    Ok((server, repairs))
}

/// Parses the address of a backup server with the same stream key. A key at its end is removed, since platforms often
/// show both in one.
///
/// # Errors
/// [`PasteError::OtherKey`] if it ends with a different key, or the fault of the address.
pub fn read_backup(
    text: &str,
    main: &ServerAddress,
    key: Option<&StreamKey>,
) -> Result<(ServerAddress, Vec<Repair>), PasteError> {
    let (backup, mut repairs) = read_server(text)?;
    let (ServerAddress::Rtmp(server), ServerAddress::Rtmp(main)) = (&backup, main) else {
        return Ok((backup, repairs));
    };
    match server.split_last() {
        Some((shorter, last)) if key.is_some_and(|key| key.expose() == last) => {
            note(&mut repairs, Repair::KeyTwice);
            Ok((ServerAddress::Rtmp(shorter), repairs))
        }
        Some((shorter, last)) if shorter.app == main.app && is_key_like(&last) => Err(PasteError::OtherKey),
        _ => Ok((backup, repairs)),
    }
}

/// Returns true for a segment that is more likely a stream key than part of an application path: long, and with a digit.
fn is_key_like(text: &str) -> bool {
    const MIN_LENGTH: usize = 8;
    text.chars().count() >= MIN_LENGTH && text.contains(|c: char| c.is_ascii_digit())
}

fn read_address(text: &str) -> Result<(ServerAddress, SrtExtras, Vec<Repair>), AddressError> {
    let opened = split_scheme(text)?;
    if opened.protocol == Protocol::Srt {
        let (server, extras, repairs) = SrtServer::read(opened)?;
        Ok((ServerAddress::Srt(server), extras, repairs))
    } else {
        let (server, repairs) = RtmpServer::read(opened)?;
        Ok((ServerAddress::Rtmp(server), SrtExtras::default(), repairs))
    }
}

impl Pasted {
    fn new(
        server: ServerAddress,
        key: Option<StreamKey>,
        extras: SrtExtras,
        mut repairs: Vec<Repair>,
    ) -> Self {
        let SrtExtras { passphrase, key_length, .. } = extras;
        if passphrase.is_some() {
            note(&mut repairs, Repair::PassphraseSealed);
        }
        Self { server, key, passphrase, key_length, repairs }
    }
}

/// Parses server address and key from two fields, either of which may be empty or contain both.
///
/// # Errors
/// [`PasteError`] for the first fault.
pub fn read_pasted(server: Option<&str>, key: Option<&str>) -> Result<Pasted, PasteError> {
    let given = |text: Option<&str>| text.filter(|text| !text.trim().is_empty()).map(str::to_owned);
    match (given(server), given(key)) {
        (Some(server), Some(key)) => read_apart(&server, &key),
        (Some(both), None) => read_together(&both),
        (None, Some(both)) if is_address(&both) => read_together(&both),
        (None, _) => Err(PasteError::NoServer),
    }
}

fn is_address(text: &str) -> bool {
    bare(text, &mut Vec::new()).contains("://")
}

fn read_apart(server: &str, key: &str) -> Result<Pasted, PasteError> {
    let (server, extras, mut repairs) = read_address(server)?;
    match server {
        ServerAddress::Rtmp(server) => {
            let (server, key) = read_rtmp_key(server, key, &mut repairs)?;
            Ok(Pasted::new(ServerAddress::Rtmp(server), Some(key), extras, repairs))
        }
        ServerAddress::Srt(server) => {
            if extras.stream_id.is_some() {
                return Err(PasteError::StreamIdAndKey);
            }
            let key = StreamKey::read(key, &mut repairs)?;
            if server.stream_id.is_none() {
                check_stream_id(key.expose(), &mut repairs);
            }
            Ok(Pasted::new(ServerAddress::Srt(server), Some(key), extras, repairs))
        }
    }
}

fn read_rtmp_key(
    server: RtmpServer,
    key: &str,
    repairs: &mut Vec<Repair>,
) -> Result<(RtmpServer, StreamKey), PasteError> {
    let text = bare(key, repairs);
    if text.contains("://") {
        // The key field contains a complete address of this server, with the key at its end.
        let whole = RtmpServer::read(split_scheme(text)?)?.0;
        let prefix = format!("{}/", server.app);
        let behind = Some(&whole).filter(|whole| whole.has_same_socket(&server));
        let (server, key) = match behind.and_then(|whole| whole.app.strip_prefix(&prefix)) {
            Some(key) => (server, key.to_owned()),
            // The same complete address in both fields.
            None if whole.has_same_socket(&server) && whole.app == server.app => {
                server.split_last().ok_or(PasteError::NoKey)?
            }
            None => return Err(KeyError::OtherAddress.into()),
        };
        note(repairs, Repair::KeyInAddress);
        return Ok((server, StreamKey::read(&key, repairs)?));
    }
    let key = StreamKey::read(text, repairs)?;
    match server.split_last() {
        Some((shorter, last)) if last == key.expose() => {
            note(repairs, Repair::KeyTwice);
            Ok((shorter, key))
        }
        _ => Ok((server, key)),
    }
}

fn read_together(text: &str) -> Result<Pasted, PasteError> {
    let (server, extras, mut repairs) = read_address(text)?;
    match server {
        ServerAddress::Rtmp(server) => {
            let (server, key) = server.split_last().ok_or(PasteError::NoKey)?;
            note(&mut repairs, Repair::KeySplitOff);
            let key = StreamKey::read(&key, &mut repairs)?;
            Ok(Pasted::new(ServerAddress::Rtmp(server), Some(key), extras, repairs))
        }
        ServerAddress::Srt(server) => {
            let key = extras.stream_id.as_deref().map(|id| StreamKey::read(id, &mut repairs)).transpose()?;
            if key.is_some() {
                note(&mut repairs, Repair::StreamIdSealed);
            } else if server.stream_id.is_some() {
                return Err(PasteError::NoKey);
            }
            Ok(Pasted::new(ServerAddress::Srt(server), key, extras, repairs))
        }
    }
}

#[cfg(test)]
mod tests;
