//! `/api/v1/logbook`, `/api/v1/report`, `/api/v1/day` and `/api/v1/relays/{name}/rates`

use actix_web::http::header::LINK;
use actix_web::web::{Data, Json, Path, Query, ServiceConfig};
use actix_web::{HttpRequest, HttpResponse, get};
use yonder_api::{
    AuditEntry, AuditRequest, Day, LogEntry, LogbookRequest, Problem, Rates, RatesRequest, Report,
    ReportRequest,
};

use super::caller::{Admin, Caller, run_read};
use crate::error::HttpError;
use crate::page::{checked_limit, next};
use yonder_service::Service;

pub(super) fn configure(config: &mut ServiceConfig) {
    config.service(logbook).service(audit).service(report).service(day).service(rates);
}

/// Returns lines of the logbook, the oldest first.
#[utoipa::path(context_path = "/api/v1", tag = "record", params(LogbookRequest),
    responses((status = 200, body = [LogEntry]), (status = 422, body = Problem)))]
#[get("/logbook")]
async fn logbook(
    service: Data<Service>,
    _caller: Caller,
    request: Query<LogbookRequest>,
) -> Result<Json<Vec<LogEntry>>, HttpError> {
    run_read(&service, move |service| service.history().logbook(&request)).await.map(Json)
}

/// Returns the audit log: every change with author, origin, and state before and after; the latest first.
#[utoipa::path(context_path = "/api/v1", tag = "record", params(AuditRequest),
    responses((status = 200, body = [AuditEntry]), (status = 403, body = Problem), (status = 422, body = Problem)))]
#[get("/audit")]
async fn audit(
    service: Data<Service>,
    _admin: Admin,
    request: Query<AuditRequest>,
) -> Result<Json<Vec<AuditEntry>>, HttpError> {
    run_read(&service, move |service| service.journal().audit_trail(&request)).await.map(Json)
}

/// Returns availability over a month: uptime, outages and their fault domains.
#[utoipa::path(context_path = "/api/v1", tag = "record", params(ReportRequest),
    responses((status = 200, body = Report), (status = 422, body = Problem)))]
#[get("/report")]
async fn report(
    service: Data<Service>,
    _caller: Caller,
    request: Query<ReportRequest>,
    http: HttpRequest,
) -> Result<HttpResponse, HttpError> {
    let (limit, skip) = (checked_limit(request.limit)?, request.skip.unwrap_or_default());
    let mut report =
        run_read(&service, move |service| service.history().report(request.month.as_deref())).await?;
    report.outages = report.outages.into_iter().skip(skip).take(limit).collect();
    let mut response = HttpResponse::Ok();
    let end = skip.saturating_add(report.outages.len());
    if !report.outages.is_empty() && end < report.outage_count {
        let query = format!("month={}&limit={limit}&skip={end}", report.month);
        response.insert_header((LINK, next(&http, &query)));
    }
    Ok(response.json(report))
}

/// Returns the last day of every relay that ran in it, in bands of minutes.
#[utoipa::path(context_path = "/api/v1", tag = "record", responses((status = 200, body = Day)))]
#[get("/day")]
async fn day(service: Data<Service>, _caller: Caller) -> Result<Json<Day>, HttpError> {
    run_read(&service, |service| service.history().day()).await.map(Json)
}

/// Returns the bit rates of a relay's feed and pushes over an hour, a day or a month.
#[utoipa::path(context_path = "/api/v1", tag = "record", params(("name" = String, Path), RatesRequest),
    responses((status = 200, body = Rates), (status = 404, body = Problem), (status = 422, body = Problem)))]
#[get("/relays/{name}/rates")]
async fn rates(
    service: Data<Service>,
    _caller: Caller,
    name: Path<String>,
    request: Query<RatesRequest>,
) -> Result<Json<Rates>, HttpError> {
    run_read(&service, move |service| service.history().relay_rates(&name, request.range.as_deref()))
        .await
        .map(Json)
}
