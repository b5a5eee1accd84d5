//! `/api/v1/openapi.json`: description of the API.

use actix_web::get;
use actix_web::web::{Json, ServiceConfig};
use utoipa::openapi::security::{ApiKey, ApiKeyValue, HttpAuthScheme, HttpBuilder, SecurityScheme};
use utoipa::{Modify, OpenApi};

use crate::conventions::Conventions;

use super::{
    alerts, book, destinations, discoveries, events, feeds, holding, jobs, maintenance, patterns, people,
    platforms, preview, record, relays, session, signposts, surveys, tokens, tuning, uplinks,
};

#[derive(OpenApi)]
#[openapi(
    info(title = "Yonder Relay", description = "Pulls cameras, pushes to platforms, and keeps both running."),
    paths(
        session::set_up_needed,
        session::set_up,
        session::sign_in,
        session::who,
        session::sign_out,
        session::change_password,
        session::list,
        session::end,
        people::list,
        people::edit,
        people::remove,
        people::invitations,
        people::invite,
        people::show_invitation,
        people::join,
        people::withdraw,
        tokens::list,
        tokens::add,
        tokens::remove,
        feeds::list,
        feeds::add,
        feeds::show,
        feeds::edit,
        feeds::rekey,
        feeds::reveal,
        feeds::remove,
        destinations::list,
        destinations::add,
        destinations::show,
        destinations::edit,
        destinations::rekey,
        destinations::reveal,
        destinations::remove,
        relays::status,
        relays::list,
        relays::add,
        relays::show,
        relays::edit,
        relays::preflight,
        relays::start,
        relays::start_several,
        relays::rehearse,
        relays::stop,
        holding::hold,
        holding::resume,
        holding::show_picture,
        holding::set_picture,
        holding::remove_picture,
        relays::remove,
        record::logbook,
        record::audit,
        record::report,
        record::day,
        record::rates,
        alerts::list,
        alerts::add,
        alerts::show,
        alerts::edit,
        alerts::remove,
        alerts::acknowledge,
        alerts::mute,
        alerts::list_contacts,
        alerts::add_contact,
        alerts::show_contact,
        alerts::edit_contact,
        alerts::remove_contact,
        alerts::test_contact,
        book::show,
        book::apply,
        maintenance::backup,
        maintenance::selfcheck,
        maintenance::rotate_master_key,
        platforms::rules,
        platforms::list,
        platforms::add,
        platforms::show,
        platforms::edit,
        platforms::remove,
        uplinks::list,
        uplinks::add,
        uplinks::show,
        uplinks::edit,
        uplinks::remove,
        uplinks::budget,
        signposts::list,
        signposts::add,
        signposts::show,
        signposts::edit,
        signposts::pause,
        signposts::resume,
        signposts::remove,
        patterns::list,
        patterns::add,
        patterns::show,
        patterns::edit,
        patterns::remove,
        patterns::add_feeds,
        discoveries::find,
        jobs::list,
        jobs::show,
        jobs::download,
        jobs::cancel,
        preview::preview,
        surveys::begin,
        surveys::show,
        surveys::cancel,
        surveys::survey_still,
        surveys::feed_still,
        surveys::push_still,
        tuning::show_tuning,
        tuning::tune,
        events::events,
    ),
    modifiers(&SignIn, &Conventions),
    security(("token" = []), ("session" = []))
)]
pub(super) struct Document;

struct SignIn;

impl Modify for SignIn {
    fn modify(&self, api: &mut utoipa::openapi::OpenApi) {
        let components = api.components.get_or_insert_default();
        let bearer = HttpBuilder::new().scheme(HttpAuthScheme::Bearer).build();
        components.add_security_scheme("token", SecurityScheme::Http(bearer));
        let cookie = ApiKey::Cookie(ApiKeyValue::new(crate::access::COOKIE));
        components.add_security_scheme("session", SecurityScheme::ApiKey(cookie));
    }
}

pub(super) fn configure(config: &mut ServiceConfig) {
    config.service(document);
}

#[get("/openapi.json")]
async fn document() -> Json<utoipa::openapi::OpenApi> {
    Json(Document::openapi())
}

/// Returns the document as text, for the console's build and the reference.
#[must_use]
pub fn openapi() -> String {
    serde_json::to_string_pretty(&Document::openapi()).unwrap_or_default() + "\n"
}
