//! Errors as problem details (RFC 9457): what, where, and what to do.

use actix_web::http::StatusCode;
use actix_web::{HttpRequest, HttpResponse, ResponseError, web};
use karst_api::Problem;
use std::fmt;

#[derive(Debug)]
pub struct Refusal {
    status: StatusCode,
    detail: String,
}

impl Refusal {
    pub fn new(status: StatusCode, detail: impl Into<String>) -> Self {
        Self {
            status,
            detail: detail.into(),
        }
    }
    pub fn unavailable(detail: impl Into<String>) -> Self {
        Self::new(StatusCode::SERVICE_UNAVAILABLE, detail)
    }
    pub fn bad(detail: impl Into<String>) -> Self {
        Self::new(StatusCode::BAD_REQUEST, detail)
    }
}

impl fmt::Display for Refusal {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.detail)
    }
}

impl ResponseError for Refusal {
    fn status_code(&self) -> StatusCode {
        self.status
    }
    fn error_response(&self) -> HttpResponse {
        let title = self
            .status
            .canonical_reason()
            .unwrap_or("Error")
            .to_string();
        // RFC 9457 section 4.2.1: `about:blank` where the status says it all.
        let problem = Problem {
            kind: "about:blank".into(),
            title,
            status: self.status.as_u16(),
            detail: self.detail.clone(),
        };
        HttpResponse::build(self.status)
            .content_type("application/problem+json")
            .json(problem)
    }
}

/// What is asked for in a way that cannot be read is refused in the same form: in the query, in the
/// path.
pub fn query_config() -> web::QueryConfig {
    web::QueryConfig::default().error_handler(|error, request: &HttpRequest| {
        Refusal::bad(format!(
            "`{}` cannot be read: {error}; see /openapi.json",
            request.query_string()
        ))
        .into()
    })
}

pub fn path_config() -> web::PathConfig {
    web::PathConfig::default().error_handler(|error, request: &HttpRequest| {
        Refusal::bad(format!(
            "`{}` cannot be read: {error}; see /openapi.json",
            request.path()
        ))
        .into()
    })
}

/// Bodies that cannot be read, too.
pub fn json_config() -> web::JsonConfig {
    web::JsonConfig::default()
        .limit(64 * 1024)
        .error_handler(|error, _: &HttpRequest| {
            Refusal::bad(format!(
                "the body cannot be read: {error}; see /openapi.json for its form"
            ))
            .into()
        })
}
