//! Errors as problem details (RFC 9457): what, where, and what to do.

use crate::tokens::User;
use actix_web::dev::Payload;
use actix_web::http::{StatusCode, header};
use actix_web::{FromRequest, HttpRequest, HttpResponse, Resource, ResponseError, web};
use futures_util::future::LocalBoxFuture;
use karst_api::{Problem, ProblemType};
use karst_core::author::Level;
use karst_core::text::is_one_line;
use serde::de::DeserializeOwned;
use serde_json::{Map, Value};
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
    /// It was read, and nothing can be made of what it says.
    pub fn unusable(detail: impl Into<String>) -> Self {
        Self::new(ProblemType::Unusable, detail)
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
    config.error_handler(|error, _: &HttpRequest| unreadable(error).into())
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
#[derive(Debug)]
pub struct Body<T>(pub T);

impl<T: DeserializeOwned> Body<T> {
    fn read(mut members: Map<String, Value>) -> Result<Self, Refusal> {
        let mut all = members.iter();
        if let Some(name) = all.find_map(|(name, value)| breaks_lines(name, value)) {
            return Err(Refusal::unusable(format!(
                "`{name}` has control characters: a line end, say, or one that turns the direction of writing"
            )));
        }
        members.values_mut().for_each(whole_number);
        serde_json::from_value(Value::Object(members))
            .map(Self)
            .map_err(unreadable)
    }
}

impl<T: DeserializeOwned + 'static> FromRequest for Body<T> {
    type Error = actix_web::Error;
    type Future = LocalBoxFuture<'static, Result<Self, actix_web::Error>>;

    fn from_request(request: &HttpRequest, payload: &mut Payload) -> Self::Future {
        let members = web::Json::<Map<String, Value>>::from_request(request, payload);
        Box::pin(async move { Ok(Self::read(members.await?.into_inner())?) })
    }
}

fn unreadable(error: impl fmt::Display) -> Refusal {
    Refusal::bad(format!(
        "the body cannot be read: {error}; see /openapi.json for its form"
    ))
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
    use karst_api::{
        AcknowledgeBody, FailoverBody, HandOverBody, InviteBody, JoinBody, MaintenanceBody,
        ModeBody, PowerBody, RenewBody, SafetyPointBody, SessionBody, SpecBody, SwitchoverBody,
        TryBody, WishBody,
    };
    use proptest::prelude::*;
    use std::collections::BTreeSet;
    use utoipa::OpenApi;

    fn read<T: DeserializeOwned>(body: &str) -> Result<T, String> {
        let members = serde_json::from_str(body).map_err(|e| e.to_string())?;
        let read = Body::read(members).map_err(|refusal| refusal.to_string());
        read.map(|body| body.0)
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

    /// A hostile body takes no more memory than this: nested values, and the words of the errors.
    const MEMORY: usize = 4 << 20;

    /// All of them read what comes; so many of them took it.
    macro_rules! bodies {
        ($($body:ident),+ $(,)?) => {
            const BODIES: &[&str] = &[$(stringify!($body)),+];

            fn read_by_all(text: &str) -> usize {
                let taken = [$(read::<$body>(text).is_ok()),+];
                taken.into_iter().filter(|taken| *taken).count()
            }
        };
    }
    bodies!(
        AcknowledgeBody,
        FailoverBody,
        HandOverBody,
        InviteBody,
        JoinBody,
        MaintenanceBody,
        ModeBody,
        PowerBody,
        RenewBody,
        SafetyPointBody,
        SessionBody,
        SpecBody,
        SwitchoverBody,
        TryBody,
        WishBody,
    );

    fn document() -> Value {
        serde_json::to_value(crate::http::api::Document::openapi()).unwrap()
    }

    /// A new body is read here too.
    #[test]
    fn the_bodies_are_those_of_the_document() {
        let document = document();
        let calls = document["paths"].as_object().unwrap().values();
        let calls = calls.flat_map(|path| path.as_object().unwrap().values());
        let named = calls.filter_map(|call| {
            let schema = &call["requestBody"]["content"]["application/json"]["schema"];
            schema["$ref"].as_str()?.rsplit('/').next()
        });
        let named: BTreeSet<&str> = named.collect();
        assert_eq!(named, BODIES.iter().copied().collect());
        assert_eq!(read_by_all("{}"), 6, "those that need nothing");
    }

    /// Names of members that some body knows, and values that fit some of them, or none.
    fn objects() -> impl Strategy<Value = Value> {
        let schemas = document()["components"]["schemas"].clone();
        let known = BODIES
            .iter()
            .filter_map(|body| schemas[body]["properties"].as_object());
        let names: BTreeSet<String> = known.flat_map(|all| all.keys().cloned()).collect();
        let names: Vec<String> = names.into_iter().collect();
        let texts = [
            "",
            "doline",
            "act",
            "off",
            "12MB",
            "\u{0}",
            "a\nb",
            "\u{202e}",
            "18446744073709551616",
        ];
        let leaf = prop_oneof![
            Just(Value::Null),
            any::<bool>().prop_map(Value::from),
            any::<u64>().prop_map(Value::from),
            any::<i64>().prop_map(Value::from),
            any::<f64>().prop_map(Value::from),
            prop::sample::select(texts.to_vec()).prop_map(Value::from),
            ".{0,40}".prop_map(Value::from),
        ];
        let name = prop_oneof![4 => prop::sample::select(names), 1 => ".{0,8}"];
        let object = move |inner: BoxedStrategy<Value>| {
            let members = prop::collection::btree_map(name.clone(), inner, 0..6);
            members.prop_map(|members| Value::Object(members.into_iter().collect()))
        };
        let inner = object.clone();
        let value = leaf.prop_recursive(4, 32, 4, move |value| {
            let list = prop::collection::vec(value.clone(), 0..4).prop_map(Value::from);
            prop_oneof![list, inner(value)]
        });
        object(value.boxed())
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(10_000))]

        /// Every body is read or refused.
        #[test]
        fn hostile_bodies_are_refused(
            object in objects(),
            at in any::<prop::sample::Index>(),
            put in prop_oneof![
                8 => ".{0,8}",
                1 => Just("[".repeat(60_000)),
                1 => Just("{\"a\":".repeat(9_000)),
            ],
        ) {
            let mut text = object.to_string();
            let before = crate::MEMORY.current_usage();
            crate::MEMORY.reset_peak_usage();
            read_by_all(&text);
            let mut at = at.index(text.len());
            while !text.is_char_boundary(at) {
                at -= 1;
            }
            text.insert_str(at, &put);
            read_by_all(&text);
            prop_assert!(crate::MEMORY.peak_usage() < before + MEMORY);
        }
    }
}
