//! Who may do what: bearer tokens of three levels, and the browser's cookie in exchange for one.
//!
//! Only digests of tokens are kept. The token file has one line each: `NAME LEVEL SHA256-IN-HEX`.

use super::Service;
use super::problem::Refusal;
use actix_web::cookie::{Cookie, SameSite};
use actix_web::dev::Payload;
use actix_web::http::{StatusCode, header};
use actix_web::{FromRequest, HttpMessage as _, HttpRequest, HttpResponse, web};
use karst_api::SessionBody;
use sha2::{Digest, Sha256};
use std::collections::BTreeMap;
use std::future::{Ready, ready};
use std::sync::{Mutex, PoisonError};

const COOKIE: &str = "karst-session";
const SESSIONS: usize = 1000;

#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Level {
    Observe,
    Operate,
    Administer,
}

impl Level {
    pub fn word(self) -> &'static str {
        match self {
            Level::Observe => "observe",
            Level::Operate => "operate",
            Level::Administer => "administer",
        }
    }
}

/// Somebody with a valid token.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct User {
    pub name: String,
    pub level: Level,
}

impl User {
    pub fn needs(&self, level: Level) -> Result<(), Refusal> {
        if self.level >= level {
            return Ok(());
        }
        let what =
            format!("`{}` may only {}; this needs a token that may {}", self.name, self.level.word(), level.word());
        Err(Refusal::new(StatusCode::FORBIDDEN, what))
    }
}

#[derive(Debug, Default)]
pub struct Tokens(BTreeMap<[u8; 32], User>);

impl Tokens {
    /// Reads the token file's text.
    ///
    /// # Errors
    /// The line that cannot be read, without its content.
    pub fn parse(text: &str) -> Result<Self, String> {
        let mut tokens = BTreeMap::new();
        for (number, line) in text.lines().enumerate().filter(|(_, l)| !l.trim().is_empty() && !l.starts_with('#')) {
            let mut words = line.split_whitespace();
            let name = words.next();
            let level = match words.next() {
                Some("observe") => Some(Level::Observe),
                Some("operate") => Some(Level::Operate),
                Some("administer") => Some(Level::Administer),
                _ => None,
            };
            let digest = words.next().and_then(unhex);
            let (Some(name), Some(level), Some(digest)) = (name, level, digest) else {
                return Err(format!("line {}: not `NAME observe|operate|administer SHA256-IN-HEX`", number + 1));
            };
            tokens.insert(digest, User { name: name.into(), level });
        }
        Ok(Self(tokens))
    }

    fn user(&self, token: &str) -> Option<User> {
        let digest: [u8; 32] = Sha256::digest(token.as_bytes()).into();
        self.0.get(&digest).cloned()
    }
}

fn unhex(text: &str) -> Option<[u8; 32]> {
    let bytes: Option<Vec<u8>> =
        (0..text.len()).step_by(2).map(|i| u8::from_str_radix(text.get(i..i + 2)?, 16).ok()).collect();
    bytes?.try_into().ok()
}

/// Browsers' sessions, in memory: a restart of the daemon ends them.
#[derive(Debug, Default)]
pub struct Sessions(Mutex<BTreeMap<String, User>>);

impl Sessions {
    fn open(&self, user: User) -> String {
        let id: String = (0..2).map(|_| format!("{:032x}", rand::random::<u128>())).collect();
        let mut sessions = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        while sessions.len() >= SESSIONS {
            sessions.pop_first();
        }
        sessions.insert(id.clone(), user);
        id
    }
    fn user(&self, id: &str) -> Option<User> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).get(id).cloned()
    }
}

impl FromRequest for User {
    type Error = Refusal;
    type Future = Ready<Result<Self, Refusal>>;

    fn from_request(request: &HttpRequest, _: &mut Payload) -> Self::Future {
        let Some(service) = request.app_data::<web::Data<Service>>() else {
            return ready(Err(Refusal::unavailable("the service is starting")));
        };
        let bearer = request.headers().get(header::AUTHORIZATION).and_then(|v| v.to_str().ok());
        let bearer = bearer.and_then(|v| v.strip_prefix("Bearer ")).and_then(|t| service.tokens.user(t.trim()));
        let session = || request.cookie(COOKIE).and_then(|c| service.sessions.user(c.value()));
        let user = bearer.or_else(session);
        if let Some(user) = &user {
            // For the audit trail.
            request.extensions_mut().insert(user.clone());
        }
        ready(user.ok_or_else(|| {
            let what = "no valid token: send `Authorization: Bearer TOKEN`, or sign in at the console";
            Refusal::new(StatusCode::UNAUTHORIZED, what)
        }))
    }
}

/// `POST /api/v1/session`: a browser's event stream cannot send a header, and a token never goes into a URL.
pub async fn open_session(
    service: web::Data<Service>, request: HttpRequest, body: web::Json<SessionBody>,
) -> Result<HttpResponse, Refusal> {
    let user = service.tokens.user(body.token.trim());
    let user = user.ok_or_else(|| Refusal::new(StatusCode::UNAUTHORIZED, "this token is not known here"))?;
    request.extensions_mut().insert(user.clone());
    let cookie = Cookie::build(COOKIE, service.sessions.open(user))
        .http_only(true)
        .same_site(SameSite::Strict)
        .path("/")
        .finish();
    Ok(HttpResponse::NoContent().cookie(cookie).finish())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn tokens_are_known_by_digest_and_errors_do_not_repeat_them() {
        let digest: String = Sha256::digest(b"gull").iter().map(|b| format!("{b:02x}")).collect();
        let tokens = Tokens::parse(&format!("# people\ncaptain operate {digest}\n")).unwrap();
        assert_eq!(tokens.user("gull").map(|u| u.level), Some(Level::Operate));
        assert_eq!(tokens.user("tern"), None);
        let error = Tokens::parse("captain operate gull").unwrap_err();
        assert!(error.contains("line 1") && !error.contains("gull"), "{error}");
    }
}
