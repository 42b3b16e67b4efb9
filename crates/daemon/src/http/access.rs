//! Who may do what: bearer tokens of three levels, and the browser's cookie in exchange for one.
//!
//! Only digests of tokens are kept. The token file has one line each: `NAME LEVEL SHA256-IN-HEX`.

use super::Service;
use super::problem::Refusal;
use crate::lock::{lock, read};
use actix_web::cookie::time::Duration as CookieDuration;
use actix_web::cookie::{Cookie, SameSite};
use actix_web::dev::Payload;
use actix_web::http::{StatusCode, header};
use actix_web::{FromRequest, HttpMessage as _, HttpRequest, HttpResponse, web};
use karst_api::SessionBody;
use karst_core::author::Level;
use sha2::{Digest, Sha256};
use std::collections::BTreeMap;
use std::future::{Ready, ready};
use std::sync::Mutex;
use std::time::{Duration, Instant};

/// A token is known by its SHA-256 alone.
type Digested = [u8; 32];

const SESSIONS: usize = 1000;
/// A watch, and a little: then a person signs in again.
const AGE: Duration = Duration::from_secs(12 * 3_600);

fn digest(token: &str) -> Digested {
    Sha256::digest(token.as_bytes()).into()
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
pub struct Tokens(BTreeMap<Digested, User>);

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
            let level = words.next().and_then(|word| Level::ALL.into_iter().find(|level| level.word() == word));
            let digest = words.next().and_then(unhex);
            let (Some(name), Some(level), Some(digest)) = (name, level, digest) else {
                return Err(format!("line {}: not `NAME observe|operate|administer SHA256-IN-HEX`", number + 1));
            };
            tokens.insert(digest, User { name: name.into(), level });
        }
        Ok(Self(tokens))
    }

    fn user(&self, token: &Digested) -> Option<User> {
        self.0.get(token).cloned()
    }
}

fn unhex(text: &str) -> Option<[u8; 32]> {
    let bytes: Option<Vec<u8>> =
        (0..text.len()).step_by(2).map(|i| u8::from_str_radix(text.get(i..i + 2)?, 16).ok()).collect();
    bytes?.try_into().ok()
}

/// Browsers' sessions, in memory: a restart of the daemon ends them, and so does the end of the token behind them.
#[derive(Debug, Default)]
pub struct Sessions(Mutex<BTreeMap<String, Session>>);

#[derive(Clone, Copy, Debug)]
struct Session {
    token: Digested,
    until: Instant,
}

impl Sessions {
    fn open(&self, token: Digested) -> String {
        let id: String = (0..2).map(|_| format!("{:032x}", rand::random::<u128>())).collect();
        let mut sessions = lock(&self.0);
        let now = Instant::now();
        sessions.retain(|_, session| session.until > now);
        if sessions.len() >= SESSIONS
            && let Some(oldest) = sessions.iter().min_by_key(|(_, s)| s.until).map(|(id, _)| id.clone())
        {
            sessions.remove(&oldest);
        }
        sessions.insert(id.clone(), Session { token, until: now + AGE });
        id
    }

    fn token(&self, id: &str) -> Option<Digested> {
        let sessions = lock(&self.0);
        sessions.get(id).filter(|session| session.until > Instant::now()).map(|session| session.token)
    }

    fn close(&self, id: &str) {
        lock(&self.0).remove(id);
    }
}

/// What a request shows of who sends it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Shown {
    Nothing,
    /// Something that is not valid, or not any more.
    Wrong,
    Token(User),
    /// A browser adds it by itself, whoever made it send the request.
    Cookie(User),
}

impl Shown {
    pub fn user(&self) -> Option<&User> {
        match self {
            Shown::Token(user) | Shown::Cookie(user) => Some(user),
            Shown::Nothing | Shown::Wrong => None,
        }
    }
}

/// Over TLS the name itself says that no other host nor an unencrypted page can have set it (RFC 6265bis, section 4.1.3).
fn cookie_name(request: &HttpRequest) -> &'static str {
    if request.app_config().secure() { "__Host-karst-session" } else { "karst-session" }
}

pub fn shown(request: &HttpRequest, service: &Service) -> Shown {
    let tokens = read(&service.tokens);
    if let Some(header) = request.headers().get(header::AUTHORIZATION) {
        let token = header.to_str().ok().and_then(|v| v.strip_prefix("Bearer "));
        return token.and_then(|t| tokens.user(&digest(t.trim()))).map_or(Shown::Wrong, Shown::Token);
    }
    let Some(cookie) = request.cookie(cookie_name(request)) else { return Shown::Nothing };
    let user = service.sessions.token(cookie.value()).and_then(|token| tokens.user(&token));
    user.map_or(Shown::Wrong, Shown::Cookie)
}

impl FromRequest for User {
    type Error = Refusal;
    type Future = Ready<Result<Self, Refusal>>;

    /// The door has put it there.
    fn from_request(request: &HttpRequest, _: &mut Payload) -> Self::Future {
        let user = request.extensions().get::<User>().cloned();
        ready(user.ok_or_else(|| {
            let what = "no valid token: send `Authorization: Bearer TOKEN`, or sign in at the console";
            Refusal::new(StatusCode::UNAUTHORIZED, what)
        }))
    }
}

fn session_cookie(request: &HttpRequest, value: String, age: Duration) -> Cookie<'static> {
    Cookie::build(cookie_name(request), value)
        .http_only(true)
        .secure(request.app_config().secure())
        .same_site(SameSite::Strict)
        .max_age(CookieDuration::try_from(age).unwrap_or_default())
        .path("/")
        .finish()
}

/// `POST /api/v1/session`: a browser's event stream cannot send a header, and a token never goes into a URL.
pub async fn open_session(
    service: web::Data<Service>, request: HttpRequest, body: web::Json<SessionBody>,
) -> Result<HttpResponse, Refusal> {
    let token = digest(body.token.trim());
    let user = read(&service.tokens).user(&token);
    let Some(user) = user else {
        let wait = service.strangers.wrong(request.peer_addr().map(|a| a.ip()));
        tokio::time::sleep(wait).await;
        return Err(Refusal::new(StatusCode::UNAUTHORIZED, "this token is not known here"));
    };
    request.extensions_mut().insert(user);
    let cookie = session_cookie(&request, service.sessions.open(token), AGE);
    Ok(HttpResponse::NoContent().cookie(cookie).finish())
}

/// `DELETE /api/v1/session`: signs out.
pub async fn close_session(service: web::Data<Service>, request: HttpRequest, _user: User) -> HttpResponse {
    if let Some(cookie) = request.cookie(cookie_name(&request)) {
        service.sessions.close(cookie.value());
    }
    HttpResponse::NoContent().cookie(session_cookie(&request, String::new(), Duration::ZERO)).finish()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn tokens_are_known_by_digest_and_errors_do_not_repeat_them() {
        let digest: String = Sha256::digest(b"gull").iter().map(|b| format!("{b:02x}")).collect();
        let tokens = Tokens::parse(&format!("# people\ncaptain operate {digest}\n")).unwrap();
        assert_eq!(tokens.user(&super::digest("gull")).map(|u| u.level), Some(Level::Operate));
        assert_eq!(tokens.user(&super::digest("tern")), None);
        let error = Tokens::parse("captain operate gull").unwrap_err();
        assert!(error.contains("line 1") && !error.contains("gull"), "{error}");
    }
}
