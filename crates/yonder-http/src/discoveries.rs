//! `/api/v1/discoveries`

use actix_web::web::{Data, Json, ServiceConfig};
use actix_web::{HttpResponse, post};
use yonder_api::{FoundCamera, Job, JobKind, NewDiscovery, Problem};
use yonder_store::RecordKind;

use super::caller::{Admin, Authorized as _};
use super::jobs::{self, Preference};
use crate::error::HttpError;
use yonder_service::Service;

pub(super) fn configure(config: &mut ServiceConfig) {
    config.service(find);
}

/// Formats a list of hosts as the first one and the number of others.
fn shortened(hosts: &str) -> String {
    match hosts.split_once(',') {
        Some((first, others)) => format!("{} and {} more", first.trim(), others.split(',').count()),
        None => hosts.to_owned(),
    }
}

/// Discovers cameras in the local networks, or at the given hosts, and requests their streams. Takes some seconds; only
/// an audit entry is stored.
#[utoipa::path(context_path = "/api/v1", tag = "feeds", request_body = NewDiscovery,
    responses((status = 200, body = [FoundCamera]), (status = 202, body = Job), (status = 422, body = Problem)))]
#[post("/discoveries")]
async fn find(
    service: Data<Service>,
    admin: Admin,
    preference: Preference,
    new: Json<NewDiscovery>,
) -> Result<HttpResponse, HttpError> {
    let new = new.into_inner();
    let about = new.at.clone().filter(|at| !at.trim().is_empty());
    let account = new.user.as_deref().filter(|user| !user.is_empty()).map(|user| format!(" as {user}"));
    let what = format!("{}{}", about.as_deref().unwrap_or("local networks"), account.unwrap_or_default());
    let act = admin.change("searched", RecordKind::Service, &what);
    let about = about.as_deref().map(shortened);
    jobs::run(
        &service,
        preference,
        &admin.0,
        (JobKind::Find, about.as_deref()),
        |service, context| async move {
            service.journal().audit_in_background(act).await;
            service.planner().find(new, &context).await
        },
    )
    .await
}
