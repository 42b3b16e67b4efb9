//! What all calls of the OpenAPI document have in common: by whom they are made, and how they are
//! refused.

use karst_api::ProblemType;
use utoipa::Modify;
use utoipa::openapi::path::{Operation, PathItem};
use utoipa::openapi::security::{ApiKey, ApiKeyValue, Http, HttpAuthScheme, SecurityScheme};
use utoipa::openapi::{ContentBuilder, OpenApi, Ref, ResponseBuilder};

pub struct Common;

impl Modify for Common {
    fn modify(&self, document: &mut OpenApi) {
        let components = document.components.get_or_insert_default();
        let token = SecurityScheme::Http(Http::new(HttpAuthScheme::Bearer));
        let cookie = ApiKeyValue::new("__Host-karst-session");
        components.add_security_scheme("token", token);
        components.add_security_scheme("session", SecurityScheme::ApiKey(ApiKey::Cookie(cookie)));
        for path in document.paths.paths.values_mut() {
            operations(path).for_each(add_refusals);
        }
    }
}

fn operations(path: &mut PathItem) -> impl Iterator<Item = &mut Operation> {
    let all = [
        &mut path.get,
        &mut path.put,
        &mut path.post,
        &mut path.delete,
    ];
    all.into_iter().flatten()
}

/// Each sort of problem that any call may be answered with (RFC 9457).
fn add_refusals(operation: &mut Operation) {
    let schema = Ref::from_schema_name("Problem");
    for kind in ProblemType::ALL {
        let content = ContentBuilder::new().schema(Some(schema.clone())).build();
        let response = ResponseBuilder::new()
            .description(format!("{}. {}", kind.title(), kind.meaning()))
            .content("application/problem+json", content)
            .build();
        let responses = &mut operation.responses.responses;
        responses.insert(kind.status().to_string(), response.into());
    }
}

#[cfg(test)]
mod tests {
    use crate::http::api::Document;
    use utoipa::OpenApi;

    /// The console's types are made from it.
    #[test]
    fn the_document_in_the_repository_is_the_one_that_is_served() {
        let served = Document::openapi().to_pretty_json().unwrap();
        let kept = include_str!("../../../../docs/openapi.json");
        assert_eq!(
            kept.trim_end(),
            served,
            "write it anew: `karstd document > docs/openapi.json`"
        );
    }
}
