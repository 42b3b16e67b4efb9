//! Errors as problem details (RFC 9457): what, where, and what to do.

use actix_web::http::{StatusCode, header};
use actix_web::{HttpRequest, HttpResponse, Resource, ResponseError, web};
use karst_api::{Problem, ProblemType};
use serde::de::{DeserializeOwned, Error as _};
use serde::{Deserialize, Deserializer};
use serde_json::Value;
use std::fmt;

#[derive(Debug)]
pub struct Refusal {
    kind: ProblemType,
    detail: String,
}

impl Refusal {
    pub fn new(kind: ProblemType, detail: impl Into<String>) -> Self {
        let detail = detail.into();
        Self { kind, detail }
    }
    pub fn unavailable(detail: impl Into<String>) -> Self {
        Self::new(ProblemType::Unavailable, detail)
    }
    pub fn bad(detail: impl Into<String>) -> Self {
        Self::new(ProblemType::Unreadable, detail)
    }
}

impl fmt::Display for Refusal {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.detail)
    }
}

impl ResponseError for Refusal {
    fn status_code(&self) -> StatusCode {
        StatusCode::from_u16(self.kind.status()).unwrap_or(StatusCode::INTERNAL_SERVER_ERROR)
    }
    fn error_response(&self) -> HttpResponse {
        let mut response = HttpResponse::build(self.status_code());
        response.content_type("application/problem+json");
        if self.kind == ProblemType::NotSignedIn {
            // RFC 9110, section 11.6.1; RFC 6750, section 3.
            response.insert_header((header::WWW_AUTHENTICATE, "Bearer"));
        }
        response.json(Problem {
            kind: self.kind,
            title: self.kind.title().into(),
            status: self.kind.status(),
            detail: self.detail.clone(),
        })
    }
}

/// What is at a path; by other methods than `allowed` it is refused (RFC 9110, section 15.5.6).
pub fn resource(path: &str, allowed: &'static str) -> Resource {
    web::resource(path).default_service(web::to(move |request: HttpRequest| async move {
        let (method, path) = (request.method(), request.path());
        let detail = format!("{method} is nothing that {path} knows; it knows {allowed}");
        let mut response = Refusal::new(ProblemType::WrongMethod, detail).error_response();
        let value = header::HeaderValue::from_static(allowed);
        response.headers_mut().insert(header::ALLOW, value);
        response
    }))
}

/// A page for each type of problem.
pub fn routes(config: &mut web::ServiceConfig) {
    for kind in ProblemType::ALL {
        let page = format!("{}\n\n{}\n", kind.title(), kind.meaning());
        let get = web::get().to(move || std::future::ready(page.clone()));
        config.service(resource(kind.uri(), "GET").route(get));
    }
}

/// What is asked for in a way that cannot be read is refused in the same form: in the query, in the
/// path.
pub fn query_config() -> web::QueryConfig {
    web::QueryConfig::default().error_handler(|error, request: &HttpRequest| {
        let query = request.query_string();
        Refusal::bad(format!(
            "`{query}` cannot be read: {error}; see /openapi.json"
        ))
        .into()
    })
}

pub fn path_config() -> web::PathConfig {
    web::PathConfig::default().error_handler(|error, request: &HttpRequest| {
        let path = request.path();
        Refusal::bad(format!(
            "`{path}` cannot be read: {error}; see /openapi.json"
        ))
        .into()
    })
}

/// Bodies that cannot be read, too.
pub fn json_config() -> web::JsonConfig {
    let config = web::JsonConfig::default().limit(64 * 1024);
    config.error_handler(|error, _: &HttpRequest| {
        let detail = format!("the body cannot be read: {error}; see /openapi.json for its form");
        Refusal::bad(detail).into()
    })
}

/// `147.0` is an integer, too (JSON Schema 2020-12, section 6.1.1).
fn whole_number(value: &mut Value) {
    if let Some(number) = value.as_f64()
        && value.as_u64().is_none()
        && number.fract() == 0.0
        && (0.0..9e15).contains(&number)
    {
        *value = Value::from(number as u64);
    }
}

/// A body that is an object: a list of the same values in their order is none, though a struct can
/// be read from one.
pub struct Object<T>(pub T);

impl<'de, T: DeserializeOwned> Deserialize<'de> for Object<T> {
    fn deserialize<D: Deserializer<'de>>(from: D) -> Result<Self, D::Error> {
        let mut members: serde_json::Map<String, Value> = serde_json::Map::deserialize(from)?;
        members.values_mut().for_each(whole_number);
        let whole = Value::Object(members);
        serde_json::from_value(whole)
            .map(Self)
            .map_err(D::Error::custom)
    }
}
