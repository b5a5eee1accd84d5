//! `/api/v1/logbook` and `/api/v1/report`

use actix_web::get;
use actix_web::web::{Data, Json, Query, ServiceConfig};
use yonder_api::{LogEntry, LogbookRequest, Problem, Report, ReportRequest};

use super::caller::{Caller, reading};
use crate::error::ServiceError;
use crate::service::Service;

pub(super) fn configure(config: &mut ServiceConfig) {
    config.service(logbook).service(report);
}

/// What happened, oldest first.
#[utoipa::path(context_path = "/api/v1", tag = "record", params(LogbookRequest),
    responses((status = 200, body = [LogEntry]), (status = 422, body = Problem)))]
#[get("/logbook")]
async fn logbook(
    service: Data<Service>,
    _caller: Caller,
    request: Query<LogbookRequest>,
) -> Result<Json<Vec<LogEntry>>, ServiceError> {
    reading(&service, move |service| service.logbook(&request)).await.map(Json)
}

/// What was up, what was down, for how long, and whose side it was, over a month.
#[utoipa::path(context_path = "/api/v1", tag = "record", params(ReportRequest),
    responses((status = 200, body = Report), (status = 422, body = Problem)))]
#[get("/report")]
async fn report(
    service: Data<Service>,
    _caller: Caller,
    request: Query<ReportRequest>,
) -> Result<Json<Report>, ServiceError> {
    reading(&service, move |service| service.report(request.month.as_deref())).await.map(Json)
}
