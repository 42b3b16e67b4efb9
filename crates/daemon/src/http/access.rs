//! Who sends a request: a bearer token, or the browser's cookie in exchange for one.

use super::problem::{Body, Refusal};
use super::service::Service;
use super::sessions::AGE;
use crate::lock::read;
use crate::tokens::User;
use actix_web::cookie::time::Duration as CookieDuration;
use actix_web::cookie::{Cookie, SameSite};
use actix_web::dev::Payload;
use actix_web::http::header;
use actix_web::{FromRequest, HttpMessage as _, HttpRequest, HttpResponse, web};
use karst_api::{ProblemType, SessionBody, TicketBody, TokenBody};
use karst_core::author::{Level, Token};
use std::future::{Ready, ready};
use std::time::Duration;

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

/// Over TLS the name itself says that no other host nor an unencrypted page can have set it (RFC
/// 6265bis, section 4.1.3).
fn cookie_name(request: &HttpRequest) -> &'static str {
    if request.app_config().secure() {
        "__Host-karst-session"
    } else {
        "karst-session"
    }
}

/// Who is at the other end of the socket on this host: its mode says who may be.
#[derive(Clone, Debug)]
pub struct Local(pub String);

/// A request shows this to be let in. It is looked at again while an answer goes on.
#[derive(Clone, Debug)]
pub enum By {
    /// The right of being on this host; the name is the user's there.
    Host(String),
    Token(Token),
    /// A browser's session.
    Session(String),
}

impl By {
    /// The user, unless the token was removed or the session has ended.
    pub fn user(&self, service: &Service) -> Option<User> {
        let tokens = read(&service.tokens);
        match self {
            By::Host(name) => Some(User {
                name: name.clone(),
                level: Level::Administer,
                token: None,
            }),
            By::Token(token) => tokens.user(token),
            By::Session(session) => tokens.user(&service.sessions.token(session, &tokens)?),
        }
    }

    /// The token behind a browser's session.
    pub fn token_of_session(&self, service: &Service) -> Option<Token> {
        let By::Session(session) = self else {
            return None;
        };
        service.sessions.token(session, &read(&service.tokens))
    }
}

/// A program on this host sends this in the place of a token. A proxy that passes browsers' calls on to
/// the socket does not send it, and a browser cannot without the service's leave.
const LOCAL: &str = "Local";

/// None where a request shows nothing. The error stands for a header that no token can make right.
fn by(request: &HttpRequest) -> Option<Result<By, ()>> {
    if let Some(header) = request.headers().get(header::AUTHORIZATION) {
        if header == LOCAL {
            let local = request.conn_data::<Local>();
            return Some(local.map(|Local(name)| By::Host(name.clone())).ok_or(()));
        }
        let token = header.to_str().ok().and_then(|v| v.strip_prefix("Bearer "));
        return Some(token.map(|t| By::Token(Token::new(t.trim()))).ok_or(()));
    }
    let cookie = request.cookie(cookie_name(request))?;
    Some(Ok(By::Session(cookie.value().into())))
}

/// The request showed this, and the door believed it.
pub fn let_in_by(request: &HttpRequest) -> Option<By> {
    by(request)?.ok()
}

pub fn shown(request: &HttpRequest, service: &Service) -> Shown {
    let Some(by) = by(request) else {
        return Shown::Nothing;
    };
    let Some((by, user)) = by.ok().and_then(|by| Some((by.clone(), by.user(service)?))) else {
        return Shown::Wrong;
    };
    match by {
        By::Session(_) => Shown::Cookie(user),
        By::Host(_) | By::Token(_) => Shown::Token(user),
    }
}

impl FromRequest for User {
    type Error = Refusal;
    type Future = Ready<Result<Self, Refusal>>;

    /// The door has put it there.
    fn from_request(request: &HttpRequest, _: &mut Payload) -> Self::Future {
        let user = request.extensions().get::<User>().cloned();
        ready(user.ok_or_else(|| {
            let what =
                "no valid token: send `Authorization: Bearer TOKEN`, or sign in at the console";
            Refusal::new(ProblemType::NotSignedIn, what)
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

/// `POST /api/v1/session`: a browser's event stream cannot send a header, and a token never goes
/// into a URL.
pub async fn open_session(
    service: web::Data<Service>,
    request: HttpRequest,
    body: Body<SessionBody>,
) -> Result<HttpResponse, Refusal> {
    let token = match body.0 {
        SessionBody::Token(TokenBody { token }) => Ok(Token::new(token.trim())),
        SessionBody::Ticket(TicketBody { ticket }) => redeemed(&service, &ticket),
    };
    let user = token
        .as_ref()
        .ok()
        .and_then(|token| read(&service.tokens).user(token));
    let (Ok(token), Some(user)) = (token, user) else {
        let wait = service.strangers.wrong(request.peer_addr().map(|a| a.ip()));
        tokio::time::sleep(wait).await;
        return Err(Refusal::new(
            ProblemType::NotSignedIn,
            "this is not known here",
        ));
    };
    request.extensions_mut().insert(user);
    let session = service.sessions.open(&token);
    let session = session.ok_or_else(|| Refusal::unavailable("no session can be opened now"))?;
    let cookie = session_cookie(&request, session, AGE);
    Ok(HttpResponse::NoContent().cookie(cookie).finish())
}

fn redeemed(service: &Service, ticket: &str) -> anyhow::Result<Token> {
    service.tickets.redeem(ticket, &read(&service.tokens))
}

/// `DELETE /api/v1/session`: signs out.
pub async fn close_session(
    service: web::Data<Service>,
    request: HttpRequest,
    _user: User,
) -> HttpResponse {
    if let Some(cookie) = request.cookie(cookie_name(&request)) {
        let tokens = read(&service.tokens);
        service.sessions.close(cookie.value(), &tokens);
    }
    HttpResponse::NoContent()
        .cookie(session_cookie(&request, String::new(), Duration::ZERO))
        .finish()
}
