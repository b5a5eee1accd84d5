//! Conventions of the OpenAPI document: operation IDs, roles, and problem responses of each operation.

use utoipa::Modify;
use utoipa::openapi::extensions::ExtensionsBuilder;
use utoipa::openapi::path::{Operation, PathItem};
use utoipa::openapi::{Content, Ref, RefOr, ResponseBuilder, Server};
use yonder_core::Role;

/// Name of the shared response.
const PROBLEM: &str = "Problem";
/// Media type of problem documents (RFC 9457).
const PROBLEM_JSON: &str = "application/problem+json";

/// Returns the required role of an operation; `None` for a public one. A test calls all operations with each role.
pub(super) fn role_of(method: &str, path: &str) -> Option<Role> {
    let path = path.trim_start_matches("/api/v1");
    match (method, path) {
        ("get" | "post", "/setup") | ("post", "/session" | "/invitations/look" | "/invitations/join") => None,
        ("get", "/people" | "/invitations" | "/tokens" | "/audit" | "/jobs/{id}/file") => Some(Role::Admin),
        ("get", "/feeds/{name}/tuning") => Some(Role::Operator),
        ("get", _)
        | ("delete", "/session" | "/sessions/{id}")
        | ("post", "/session/password" | "/budget") => Some(Role::Viewer),
        (
            "post",
            "/relays/{name}/preflight"
            | "/relays/{name}/start"
            | "/relays/{name}/rehearse"
            | "/relays/{name}/stop"
            | "/relays/{name}/hold"
            | "/relays/{name}/resume"
            | "/destinations/{name}/rekey"
            | "/feeds/{name}/rekey"
            | "/signposts/{name}/pause"
            | "/signposts/{name}/resume"
            | "/alerts/{name}/acknowledge"
            | "/alerts/{name}/mute"
            | "/surveys"
            | "/starts",
        )
        | ("delete", "/jobs/{id}" | "/surveys/{id}") => Some(Role::Operator),
        _ => Some(Role::Admin),
    }
}

/// OpenAPI modifier that adds the conventions.
pub(super) struct Conventions;

impl Modify for Conventions {
    fn modify(&self, api: &mut utoipa::openapi::OpenApi) {
        api.servers = Some(vec![Server::new("/")]);
        let schema = Ref::from_schema_name(PROBLEM);
        let problem = ResponseBuilder::new()
            .description("What went wrong, with a stable `code` and a hint.")
            .content(PROBLEM_JSON, Content::new(Some(schema)))
            .build();
        let components = api.components.get_or_insert_default();
        components.responses.insert(PROBLEM.to_owned(), problem.into());
        for (path, item) in &mut api.paths.paths {
            for (method, operation) in operations(item) {
                complete(path, method, operation);
            }
        }
    }
}

pub(super) fn operations(item: &mut PathItem) -> impl Iterator<Item = (&'static str, &mut Operation)> {
    let all = [
        ("get", item.get.as_mut()),
        ("put", item.put.as_mut()),
        ("post", item.post.as_mut()),
        ("delete", item.delete.as_mut()),
        ("patch", item.patch.as_mut()),
    ];
    all.into_iter().filter_map(|(method, operation)| Some((method, operation?)))
}

/// Completes an operation with its ID, its role, and its problem responses.
fn complete(path: &str, method: &'static str, operation: &mut Operation) {
    let name = operation.operation_id.take().unwrap_or_default();
    operation.operation_id = Some(operation_id(path, &name));
    let role = role_of(method, path);
    if let Some(role) = role {
        operation.extensions = Some(ExtensionsBuilder::new().add("x-role", role.as_str()).build());
    }
    let responses = &mut operation.responses.responses;
    // All problems share one response.
    for (status, response) in responses.iter_mut() {
        if status.starts_with(['4', '5']) {
            *response = shared();
        } else if let RefOr::T(response) = response
            && response.description.is_empty()
        {
            description_of(status).clone_into(&mut response.description);
        }
    }
    let takes_body = operation.request_body.is_some();
    let has_input = takes_body || operation.parameters.as_ref().is_some_and(|all| !all.is_empty());
    let changes = method != "get";
    let common = [
        ("401", role.is_some()),
        // An insufficient role, or a cookie without the CSRF token.
        ("403", role.is_some_and(|role| role > Role::Viewer) || (changes && role.is_some())),
        ("408", takes_body),
        ("412", changes && matches!(method, "patch" | "put" | "delete")),
        ("422", has_input),
        ("500", true),
        ("503", true),
        ("507", changes),
    ];
    for (status, _) in common.into_iter().filter(|(_, applies)| *applies) {
        responses.entry(status.to_owned()).or_insert_with(shared);
    }
}

/// Returns the ID of an operation: the first segment of its path and the name of its handler, such as `contacts_list`.
fn operation_id(path: &str, handler: &str) -> String {
    let segments = path.trim_start_matches("/api/v1/").split('/').next().unwrap_or_default();
    let collection = segments.replace('-', "_");
    let singular = collection.trim_end_matches('s');
    let name = handler.trim_end_matches(&format!("_{collection}")).trim_end_matches(&format!("_{singular}"));
    if name == collection { collection } else { format!("{collection}_{name}") }
}

/// Returns the default description of a status; OpenAPI requires one.
fn description_of(status: &str) -> &'static str {
    match status {
        "101" => "The connection continues as a WebSocket.",
        "201" => "Created; its address is in the header `Location`.",
        "202" => "Accepted: a job does the work, at the address in the header `Location`.",
        "204" => "Done; there is nothing to return.",
        _ => "Done.",
    }
}

fn shared() -> RefOr<utoipa::openapi::Response> {
    RefOr::Ref(Ref::from_response_name(PROBLEM))
}

#[cfg(test)]
mod tests {
    use std::collections::BTreeSet;

    use utoipa::OpenApi as _;

    use super::*;
    use crate::openapi::Document;

    #[test]
    fn operation_ids_are_unique_and_problems_have_one_form() {
        let mut api = Document::openapi();
        let (mut ids, mut count) = (BTreeSet::new(), 0);
        for (path, item) in &mut api.paths.paths {
            for (method, operation) in operations(item) {
                count += 1;
                let id = operation.operation_id.clone().unwrap();
                assert!(id.chars().all(|c| c.is_ascii_lowercase() || c == '_'), "{id}");
                assert!(ids.insert(id.clone()), "{id} of {method} {path} is there twice");
                for (status, response) in &operation.responses.responses {
                    let is_problem = status.starts_with(['4', '5']);
                    assert_eq!(matches!(response, RefOr::Ref(_)), is_problem, "{status} of {id}");
                }
            }
        }
        assert!(count > 90, "{count}");
    }
}
