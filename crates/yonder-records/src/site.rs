//! Names of sites.

/// Returns a normalized site name; `None` for an empty one.
pub(crate) fn read_site(text: &str) -> Option<String> {
    let site = text.split_whitespace().collect::<Vec<_>>().join(" ");
    Some(site).filter(|site| !site.is_empty())
}
