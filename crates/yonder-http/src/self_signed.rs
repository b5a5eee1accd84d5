//! Self-signed certificate, for a listener without one of an authority.

use std::fs::{self, OpenOptions};
use std::io::{self, Write as _};
use std::os::unix::fs::OpenOptionsExt as _;
use std::path::Path;

use crate::tls::{TlsError, TlsFiles};

/// Returns the files of the self-signed certificate in a folder, which is generated once: clients may have pinned it.
///
/// # Errors
/// [`TlsError::Unreadable`] if the files cannot be written.
pub fn self_signed(folder: &Path, host: &str) -> Result<TlsFiles, TlsError> {
    let files = TlsFiles { certificate: folder.join("ingest-cert.pem"), key: folder.join("ingest-key.pem") };
    if files.certificate.exists() && files.key.exists() {
        return Ok(files);
    }
    let at = |path: &Path| {
        let path = path.display().to_string();
        move |source| TlsError::Unreadable { path, source }
    };
    let made = rcgen::generate_simple_self_signed([host.to_owned()])
        .map_err(|error| at(&files.certificate)(io::Error::other(error)))?;
    // The key first: a certificate without its key is generated again.
    write(&files.key, &made.signing_key.serialize_pem()).map_err(at(&files.key))?;
    write(&files.certificate, &made.cert.pem()).map_err(at(&files.certificate))?;
    Ok(files)
}

/// Writes a file that only its owner can read. A power cut leaves either no file or a complete one.
fn write(path: &Path, text: &str) -> io::Result<()> {
    let draft = path.with_extension("draft");
    let mut options = OpenOptions::new();
    let mut file = options.write(true).create(true).truncate(true).mode(0o600).open(&draft)?;
    file.write_all(text.as_bytes())?;
    file.sync_all()?;
    fs::rename(&draft, path)
}

#[cfg(test)]
mod tests {
    use std::os::unix::fs::PermissionsExt as _;

    use super::*;
    use crate::tls::Certificate;

    #[test]
    fn certificate_is_generated_once_and_its_key_is_private() {
        let folder = tempfile::tempdir().unwrap();
        let files = self_signed(folder.path(), "relay.example.net").unwrap();
        let first = Certificate::load(files.clone()).unwrap().der();
        let again = self_signed(folder.path(), "relay.example.net").unwrap();
        assert_eq!(Certificate::load(again).unwrap().der(), first);
        let mode = fs::metadata(&files.key).unwrap().permissions().mode();
        assert_eq!(mode & 0o077, 0, "{mode:o}");
    }
}
