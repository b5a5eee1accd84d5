//! `/api/v1/finds`

use actix_web::post;
use actix_web::web::{Data, Json, ServiceConfig};
use yonder_api::{FoundCamera, NewFind, Problem};

use super::caller::Keeper;
use crate::error::HttpError;
use yonder_service::Service;

pub(super) fn configure(config: &mut ServiceConfig) {
    config.service(find);
}

/// Looks for cameras in the local networks, or at one host, and asks each what it streams. Answers when done, after
/// some seconds; nothing is kept.
#[utoipa::path(context_path = "/api/v1", tag = "feeds", request_body = NewFind,
    responses((status = 200, body = [FoundCamera]), (status = 422, body = Problem)))]
#[post("/finds")]
async fn find(
    service: Data<Service>,
    _keeper: Keeper,
    new: Json<NewFind>,
) -> Result<Json<Vec<FoundCamera>>, HttpError> {
    Ok(Json(service.find(new.into_inner()).await?))
}
