//! Addresses of the public pages of a signpost.

use url::Url;
use yonder_api::SignpostLinks;
use yonder_store::Signpost as StoredSignpost;

/// Returns the addresses of a signpost below `base`.
pub(super) fn links(base: &Url, signpost: &StoredSignpost) -> SignpostLinks {
    let page = format!("{}/w/{}", base.as_str().trim_end_matches('/'), signpost.name);
    let embed = format!("{page}/embed");
    SignpostLinks {
        go: format!("{page}/go"),
        playlist: signpost.has_player.then(|| format!("{page}/live.m3u8")),
        status: signpost.has_status_page.then(|| format!("{page}/status")),
        snippet: snippet(&embed, &signpost.title),
        embed,
        page,
    }
}

/// Returns HTML for a website: it keeps the shape of the picture at any width.
fn snippet(embed: &str, title: &str) -> String {
    format!(
        "<iframe src=\"{embed}\" title=\"{}\" style=\"width: 100%; aspect-ratio: 16 / 9; border: 0\" \
         allow=\"autoplay; fullscreen\" allowfullscreen loading=\"lazy\" \
         referrerpolicy=\"strict-origin-when-cross-origin\"></iframe>",
        escape(title)
    )
}

/// Escapes text for an attribute in double quotes.
fn escape(text: &str) -> String {
    text.replace('&', "&amp;").replace('"', "&quot;").replace('<', "&lt;").replace('>', "&gt;")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn snippets_keep_the_shape_and_escape_the_title() {
        let signpost = StoredSignpost {
            name: "summit".into(),
            title: "\"Summit\" & <Fell>".into(),
            relay: "Line".into(),
            has_player: true,
            to: Vec::new(),
            is_paused: false,
            is_unlisted: false,
            has_status_page: false,
            max_viewers: 500,
            daily_bytes: None,
        };
        let base = "https://watch.example.net/railway/".parse().unwrap();
        let made = links(&base, &signpost);
        assert_eq!(made.page, "https://watch.example.net/railway/w/summit");
        assert_eq!(made.playlist.as_deref(), Some("https://watch.example.net/railway/w/summit/live.m3u8"));
        assert_eq!(made.status, None);
        assert!(made.snippet.contains("title=\"&quot;Summit&quot; &amp; &lt;Fell&gt;\""), "{}", made.snippet);
        assert!(made.snippet.contains("aspect-ratio: 16 / 9") && made.snippet.contains("allowfullscreen"));
        let without = StoredSignpost { has_player: false, has_status_page: true, ..signpost };
        let made = links(&base, &without);
        assert!(made.playlist.is_none() && made.status.unwrap().ends_with("/w/summit/status"));
    }
}
