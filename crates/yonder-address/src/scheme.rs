//! Pasted addresses, split after their scheme.

use crate::authority::AuthorityError;
use crate::error::{AddressError, MAX_ADDRESS};
use crate::protocol::Protocol;
use crate::repair::{Repair, bare, note};

/// Pasted address without surroundings, split after its scheme.
pub(crate) struct SplitAddress<'a> {
    pub(crate) protocol: Protocol,
    /// Host and port.
    pub(crate) authority: &'a str,
    /// Rest, beginning with its slash or question mark.
    pub(crate) rest: &'a str,
    pub(crate) repairs: Vec<Repair>,
}

/// Removes quotes and blanks around an address and parses its scheme.
pub(crate) fn split_scheme(text: &str) -> Result<SplitAddress<'_>, AddressError> {
    let mut repairs = Vec::new();
    let text = bare(text, &mut repairs);
    if text.len() > MAX_ADDRESS {
        return Err(AddressError::TooLong);
    }
    let (scheme, rest) = text.split_once(':').ok_or(AddressError::Scheme)?;
    let protocol = match scheme.to_ascii_lowercase().as_str() {
        "http" | "https" => return Err(AddressError::WebPage),
        "rtsp" | "rtsps" => return Err(AddressError::Camera),
        scheme => Protocol::from_name(scheme).ok_or(AddressError::Scheme)?,
    };
    if let Some(at) = text.chars().position(|c| c.is_whitespace() || c.is_control()) {
        return Err(AddressError::Blank(at + 1));
    }
    let bare_rest = rest.trim_start_matches('/');
    match rest.len() - bare_rest.len() {
        2 => {}
        0 | 1 => note(&mut repairs, Repair::SchemeSlash),
        // Three slashes mean an empty host, not a repeated slash.
        _ => return Err(AuthorityError::NoHost.into()),
    }
    let end = bare_rest.find(['/', '?']).unwrap_or(bare_rest.len());
    let (authority, rest) = bare_rest.split_at_checked(end).unwrap_or((bare_rest, ""));
    if authority.contains('@') {
        return Err(AddressError::Credentials);
    }
    Ok(SplitAddress { protocol, authority, rest, repairs })
}
