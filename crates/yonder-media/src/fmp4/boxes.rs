//! Boxes (ISO/IEC 14496-12, 4.2).

use bytes::{BufMut, BytesMut};

/// Writes a box with the content that `content` writes.
pub(super) fn put_box(out: &mut BytesMut, kind: &[u8; 4], content: impl FnOnce(&mut BytesMut)) {
    let mut inner = BytesMut::new();
    content(&mut inner);
    out.put_u32(u32::try_from(inner.len() + 8).unwrap_or(u32::MAX));
    out.put_slice(kind);
    out.put_slice(&inner);
}

/// Writes a box with version and flags.
pub(super) fn put_full_box(
    out: &mut BytesMut,
    kind: &[u8; 4],
    version: u8,
    flags: u32,
    content: impl FnOnce(&mut BytesMut),
) {
    put_box(out, kind, |out| {
        out.put_u32(u32::from(version) << 24 | flags);
        content(out);
    });
}
