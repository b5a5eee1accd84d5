//! Pages of a signpost.

use actix_web::http::StatusCode;
use actix_web::http::header::LOCATION;
use actix_web::web::{Data, Path, ServiceConfig};
use actix_web::{HttpRequest, HttpResponse, routes};
use jiff::Timestamp;
use jiff::tz::TimeZoneDatabase;
use maud::{DOCTYPE, Markup, PreEscaped, html};
use serde::Serialize;
use yonder_api::SignpostState;
use yonder_service::{Expected, PublicView, Service};

use crate::respond::{self, Frames};

/// Time for which an answer about a state may be stored.
const STATE_CACHING: &str = "public, max-age=2";

pub(super) fn configure(config: &mut ServiceConfig) {
    config.service(page).service(embed).service(go).service(state).service(poster);
}

/// Kind of a page with a player.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Kind {
    Page,
    Embed,
}

#[routes]
#[get("/w/{alias}")]
#[head("/w/{alias}")]
async fn page(service: Data<Service>, request: HttpRequest, alias: Path<String>) -> HttpResponse {
    match service.sharing().public_view(&alias) {
        Some(view) => respond::page(&request, StatusCode::OK, Frames::None, watch_page(&view, Kind::Page)),
        None => respond::not_found(&request),
    }
}

#[routes]
#[get("/w/{alias}/embed")]
#[head("/w/{alias}/embed")]
async fn embed(service: Data<Service>, request: HttpRequest, alias: Path<String>) -> HttpResponse {
    match service.sharing().public_view(&alias) {
        Some(view) => respond::page(&request, StatusCode::OK, Frames::All, watch_page(&view, Kind::Embed)),
        None => respond::not_found(&request),
    }
}

/// Redirects to the live watch page, else to the own page.
#[routes]
#[get("/w/{alias}/go")]
#[head("/w/{alias}/go")]
async fn go(service: Data<Service>, request: HttpRequest, alias: Path<String>) -> HttpResponse {
    let Some(view) = service.sharing().public_view(&alias) else { return respond::not_found(&request) };
    let to = view.leads_to.unwrap_or_else(|| format!("../{}", view.name));
    respond::response(StatusCode::FOUND, "text/plain; charset=utf-8", STATE_CACHING)
        .insert_header((LOCATION, to))
        .finish()
}

/// State for the script of the page.
#[derive(Debug, Serialize)]
struct State {
    state: SignpostState,
    title: String,
    playlist: Option<&'static str>,
    leads_to: Option<String>,
    expected: Option<String>,
}

#[routes]
#[get("/w/{alias}/state")]
#[head("/w/{alias}/state")]
async fn state(service: Data<Service>, request: HttpRequest, alias: Path<String>) -> HttpResponse {
    let Some(view) = service.sharing().public_view(&alias) else { return respond::no_such_file() };
    let has_stream =
        view.has_player && service.sharing().stream(&alias).is_some_and(|stream| stream.is_ready());
    let state = State {
        state: view.state,
        title: view.title,
        playlist: has_stream.then_some("live.m3u8"),
        leads_to: view.leads_to,
        expected: view.expected.as_ref().and_then(|expected| expected_text(expected, &Timestamp::now())),
    };
    match serde_json::to_string(&state) {
        Ok(json) => respond::open_text(&request, "application/json", STATE_CACHING, json),
        Err(_) => respond::no_such_file(),
    }
}

/// Still picture, shown before the playback begins.
#[routes]
#[get("/w/{alias}/poster.jpg")]
#[head("/w/{alias}/poster.jpg")]
async fn poster(service: Data<Service>, alias: Path<String>) -> HttpResponse {
    let view = service.sharing().public_view(&alias);
    let live = view.filter(|view| view.has_player && view.state == SignpostState::Live);
    let Some(feed) = live.and_then(|view| view.feed) else { return respond::no_such_file() };
    let reader = service.clone();
    let spec = actix_web::web::block(move || reader.previews().stream_spec(&feed, false)).await;
    let Ok(Ok(spec)) = spec else { return respond::no_such_file() };
    match service.previews().still(spec).await {
        Ok(jpeg) => respond::response(StatusCode::OK, "image/jpeg", "public, max-age=5").body(jpeg),
        Err(_) => respond::no_such_file(),
    }
}

/// Returns the head of a page. `up` leads to the folder of the assets.
pub(super) fn head(title: &str, up: &str, is_unlisted: bool) -> Markup {
    html! {
        meta charset="utf-8";
        meta name="viewport" content="width=device-width, initial-scale=1";
        meta name="color-scheme" content="light dark";
        @if is_unlisted { meta name="robots" content="noindex, nofollow"; }
        title { (title) }
        link rel="stylesheet" href={ (up) "assets/watch.css" };
    }
}

fn watch_page(view: &PublicView, kind: Kind) -> String {
    // Relative to the address of the page, so that a proxy may serve it below any path.
    let (up, base) = match kind {
        Kind::Page => ("../", format!("{}/", view.name)),
        Kind::Embed => ("../../", String::new()),
    };
    let class = if kind == Kind::Embed { "embed" } else { "page" };
    let markup = html! {
        (DOCTYPE)
        html lang="en" {
            head {
                (head(&view.title, up, view.is_unlisted))
                script type="module" src={ (up) "assets/watch.js" } {}
            }
            body class=(class) data-base=(base) data-state=(view.state.as_str()) {
                main {
                    h1 { (view.title) }
                    div class="stage" {
                        video id="video" hidden controls muted playsinline
                            aria-label=(view.title) poster={ (base) "poster.jpg" } {}
                        div class="note" {
                            p id="message" role="status" { (first_message(view)) }
                            a id="link" hidden[view.leads_to.is_none()] href=[view.leads_to.as_ref()]
                                target="_top" rel="noopener" { "Watch" }
                            noscript { p { "The picture needs JavaScript." } }
                        }
                    }
                }
            }
        }
    };
    markup.into_string()
}

/// Returns the message before the script runs.
fn first_message(view: &PublicView) -> &'static str {
    match view.state {
        SignpostState::Live => "",
        SignpostState::Interrupted => "The picture is interrupted. It comes back by itself.",
        SignpostState::OffAir => "Nothing is on air at the moment.",
        SignpostState::Paused => "This page is paused.",
    }
}

/// Returns the page for an unknown address.
pub(super) fn unknown_page() -> String {
    let style = "body{font-family:system-ui,sans-serif;margin:3rem auto;max-width:36rem;padding:0 1rem}";
    let markup = html! {
        (DOCTYPE)
        html lang="en" {
            head {
                meta charset="utf-8";
                meta name="viewport" content="width=device-width, initial-scale=1";
                meta name="color-scheme" content="light dark";
                meta name="robots" content="noindex";
                title { "No such page" }
                style { (PreEscaped(style)) }
            }
            body { h1 { "There is no such page" } p { "The link may be old, or mistyped." } }
        }
    };
    markup.into_string()
}

/// Returns the expected begin in words, such as `19:00 (Europe/Lisbon)`, with the day unless it is today.
fn expected_text(expected: &Expected, now: &Timestamp) -> Option<String> {
    let zone = TimeZoneDatabase::bundled().get(&expected.zone).ok()?;
    let at = Timestamp::from_millisecond(expected.at_ms).ok()?.to_zoned_datetime(zone.clone());
    let today = now.to_zoned_datetime(zone);
    let clock = at.strftime("%H:%M");
    let day = match at.date().since(today.date()).map(|span| span.get_days()) {
        Ok(0) => String::new(),
        Ok(1..=6) => at.strftime("%A ").to_string(),
        _ => at.strftime("%-d %B, ").to_string(),
    };
    Some(format!("{day}{clock} ({})", expected.zone))
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case::today("2026-12-01T19:00:00Z", "19:00 (Europe/Lisbon)")]
    #[case::this_week("2026-12-03T06:30:00Z", "Thursday 06:30 (Europe/Lisbon)")]
    #[case::later("2026-12-12T06:30:00Z", "12 December, 06:30 (Europe/Lisbon)")]
    fn viewers_read_when_the_picture_is_expected(#[case] at: &str, #[case] text: &str) {
        let now = "2026-12-01T12:00:00Z".parse().unwrap();
        let at: Timestamp = at.parse().unwrap();
        let expected = Expected { at_ms: at.as_millisecond(), zone: "Europe/Lisbon".into() };
        assert_eq!(expected_text(&expected, &now).as_deref(), Some(text));
    }

    #[test]
    fn titles_are_escaped_and_unlisted_pages_say_so() {
        let view = PublicView {
            name: "summit".into(),
            title: "<script>alert(\"1\")</script>".into(),
            state: SignpostState::OffAir,
            has_player: true,
            is_unlisted: true,
            has_status_page: false,
            relay: "Line".into(),
            feed: None,
            leads_to: None,
            expected: None,
        };
        let html = watch_page(&view, Kind::Page);
        assert!(!html.contains("<script>alert") && html.contains("&lt;script&gt;"), "{html}");
        assert!(html.contains("noindex") && html.contains("data-base=\"summit/\""), "{html}");
        let html = watch_page(&PublicView { is_unlisted: false, ..view }, Kind::Embed);
        assert!(!html.contains("noindex") && html.contains("../../assets/watch.js"), "{html}");
    }
}
