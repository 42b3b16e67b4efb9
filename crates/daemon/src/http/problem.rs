//! Errors as problem details (RFC 9457): what, where, and what to do.

use crate::tokens::User;
use actix_web::http::{StatusCode, header};
use actix_web::{HttpRequest, HttpResponse, Resource, ResponseError, web};
use karst_api::{Problem, ProblemType};
use karst_core::author::Level;
use karst_core::text::is_one_line;
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

/// What has lines of its own: a spec, and requests for certificates.
const OF_LINES: [&str; 4] = ["text", "request", "server_request", "certificate"];

/// The member with a text that would not stay on its line where it is shown.
fn breaks_lines(name: &str, value: &Value) -> Option<String> {
    let of_lines = OF_LINES.contains(&name);
    let clean = |text: &str| match of_lines {
        true => text.split(['\n', '\r', '\t']).all(is_one_line),
        false => is_one_line(text),
    };
    match value {
        Value::String(text) => (!clean(text)).then(|| name.escape_debug().to_string()),
        Value::Array(list) => list.iter().find_map(|value| breaks_lines(name, value)),
        Value::Object(members) => members.iter().find_map(|(inner, value)| {
            let bad_name = !is_one_line(inner);
            bad_name
                .then(|| name.escape_debug().to_string())
                .or_else(|| breaks_lines(inner, value))
        }),
        Value::Null | Value::Bool(_) | Value::Number(_) => None,
    }
}

/// A body that is an object: a list of the same values in their order is none, though a struct can
/// be read from one.
pub struct Object<T>(pub T);

impl<'de, T: DeserializeOwned> Deserialize<'de> for Object<T> {
    fn deserialize<D: Deserializer<'de>>(from: D) -> Result<Self, D::Error> {
        let mut members: serde_json::Map<String, Value> = serde_json::Map::deserialize(from)?;
        if let Some(name) = members
            .iter()
            .find_map(|(name, value)| breaks_lines(name, value))
        {
            return Err(D::Error::custom(format!(
                "`{name}` has control characters: a line end, say, or one that turns the direction of writing"
            )));
        }
        members.values_mut().for_each(whole_number);
        let whole = Value::Object(members);
        serde_json::from_value(whole)
            .map(Self)
            .map_err(D::Error::custom)
    }
}

impl User {
    /// # Errors
    /// That this person may not.
    pub fn needs(&self, level: Level) -> Result<(), Refusal> {
        if self.level >= level {
            return Ok(());
        }
        let what = format!(
            "`{}` may only {}; this needs a token that may {}",
            self.name,
            self.level.word(),
            level.word()
        );
        Err(Refusal::new(ProblemType::NotAllowed, what))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use karst_api::{AcknowledgeBody, SpecBody};

    fn read<T: DeserializeOwned>(body: &str) -> Result<T, String> {
        let read = serde_json::from_str::<Object<T>>(body);
        read.map(|object| object.0).map_err(|e| e.to_string())
    }

    /// A reason goes to terminals, logs and the record as one line; a spec has lines of its own.
    #[test]
    fn a_text_stays_on_its_line() {
        assert!(read::<AcknowledgeBody>(r#"{"note": "the quay's switch is away"}"#).is_ok());
        for bad in [
            r"\u0000",
            r"\u001b[2J",
            r"\n",
            r"\r",
            r"\u0085",
            r"\u2028",
            r"\u202e",
        ] {
            let refused = read::<AcknowledgeBody>(&format!(r#"{{"note": "so{bad}"}}"#));
            let why = refused.err().unwrap_or_default();
            assert!(
                why.contains("`note` has control characters"),
                "{bad}: {why}"
            );
        }
        let spec = |text: &str| read::<SpecBody>(&format!(r#"{{"text": "{text}"}}"#));
        assert!(spec(r"a = 1\r\n\tb = 2\n").is_ok());
        assert!(spec(r"a = 1\u0000").is_err() && spec(r"# \u001b[2J").is_err());
    }
}
