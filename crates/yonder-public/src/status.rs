//! Status page of a signpost for the client: today's availability, and nothing else.

use actix_web::http::StatusCode;
use actix_web::web::{Data, Path, ServiceConfig, block};
use actix_web::{HttpRequest, HttpResponse, routes};
use maud::{DOCTYPE, html};
use yonder_api::{Band, Day};
use yonder_core::record::DayLevel;
use yonder_service::{PublicView, Service};

use crate::pages::head;
use crate::respond::{self, Frames};

pub(super) fn configure(config: &mut ServiceConfig) {
    config.service(status);
}

#[routes]
#[get("/w/{alias}/status")]
#[head("/w/{alias}/status")]
async fn status(service: Data<Service>, request: HttpRequest, alias: Path<String>) -> HttpResponse {
    let view = service.sharing().public_view(&alias).filter(|view| view.has_status_page);
    let Some(view) = view else { return respond::not_found(&request) };
    let reader = service.clone();
    let Ok(Ok(day)) = block(move || reader.history().day()).await else { return respond::no_such_file() };
    respond::page(&request, StatusCode::OK, Frames::All, status_page(&view, &day))
}

/// Levels with what they mean to viewers.
const LEGEND: [(DayLevel, &str); 4] = [
    (DayLevel::Flowing, "on air"),
    (DayLevel::Holding, "holding picture or delay"),
    (DayLevel::Down, "interrupted"),
    (DayLevel::Off, "off"),
];

/// Returns the class of a state in the style sheet.
fn class_of(level: DayLevel) -> &'static str {
    match level {
        DayLevel::Off => "off",
        DayLevel::Flowing => "good",
        DayLevel::Holding | DayLevel::Lagging => "warn",
        DayLevel::Down => "bad",
    }
}

/// Returns the share of the time on air in which the picture was there, in percent with two decimals.
fn availability(bands: &[Band]) -> Option<String> {
    let steps = |wanted: &[&str]| -> u64 {
        let fitting = bands.iter().filter(|band| wanted.contains(&class_of(band.state)));
        fitting.map(|band| u64::from(band.steps)).sum()
    };
    let (up, all) = (steps(&["good", "warn"]), steps(&["good", "warn", "bad"]));
    let hundredths = (up * 10_000).checked_div(all)?;
    Some(format!("{}.{:02} %", hundredths / 100, hundredths % 100))
}

fn status_page(view: &PublicView, day: &Day) -> String {
    let bands = day.relays.iter().find(|relay| relay.name == view.relay).map(|relay| &relay.bands[..]);
    let bands = bands.unwrap_or_default();
    let markup = html! {
        (DOCTYPE)
        html lang="en" {
            head { (head(&view.title, "../../", view.is_unlisted)) }
            body {
                main {
                    h1 { (view.title) }
                    @match availability(bands) {
                        Some(share) => p { span class="share" { (share) } " available in the last 24 hours" },
                        None => p { "Not on air in the last 24 hours." },
                    }
                    div class="strip" role="img" aria-label="The last 24 hours" {
                        svg width="100%" height="100%" viewBox="0 0 1440 1" preserveAspectRatio="none" {
                            @for (begin, band) in with_begins(bands) {
                                rect class=(class_of(band.state)) x=(begin) y="0" width=(band.steps) height="1" {}
                            }
                        }
                    }
                    p class="hours" { span { "24 hours ago" } span { "now" } }
                    p class="legend" {
                        @for (level, meaning) in LEGEND {
                            svg viewBox="0 0 1 1" aria-hidden="true" {
                                rect class=(class_of(level)) width="1" height="1" {}
                            }
                            (meaning)
                        }
                    }
                }
            }
        }
    };
    markup.into_string()
}

/// Returns bands with the step at which each begins.
fn with_begins(bands: &[Band]) -> impl Iterator<Item = (u32, &Band)> {
    bands.iter().scan(0, |begin, band| {
        let at = *begin;
        *begin += band.steps;
        Some((at, band))
    })
}
