//! The door of the HTTP service: who calls, whether a browser was made to call, and how often
//! somebody guesses. Every change that is asked for is on record before it is carried out, with the
//! name of whoever asks.

use super::access::{self, Shown};
use super::audit::Asked;
use super::problem::Refusal;
use super::service::Service;
use crate::tokens::User;
use actix_web::body::MessageBody;
use actix_web::dev::{ServiceRequest, ServiceResponse};
use actix_web::http::header::{
    CACHE_CONTROL, CONTENT_ENCODING, CONTENT_TYPE, HeaderMap, HeaderName, HeaderValue,
    STRICT_TRANSPORT_SECURITY, X_CONTENT_TYPE_OPTIONS,
};
use actix_web::middleware::Next;
use actix_web::{Error, HttpMessage, web};
use karst_api::ProblemType;

/// Around every call.
pub async fn enter(
    service: web::Data<Service>,
    request: ServiceRequest,
    next: Next<impl MessageBody>,
) -> Result<ServiceResponse<impl MessageBody>, Error> {
    let from = request.peer_addr().map(|a| a.ip());
    let shown = access::shown(request.request(), &service);
    if shown == Shown::Wrong {
        tokio::time::sleep(service.strangers.wrong(from)).await;
    }
    if packed(request.headers()) {
        let what = "send the body as it is, without Content-Encoding";
        return Err(Refusal::new(ProblemType::Encoded, what).into());
    }
    let changes = !request.method().is_safe();
    if changes && let Some(why) = crosses(request.headers(), &shown) {
        return Err(Refusal::new(ProblemType::NotAllowed, why).into());
    }
    if let Some(user) = shown.user() {
        request.extensions_mut().insert(user.clone());
    }
    let (secure, is_api) = (
        request.app_config().secure(),
        request.path().starts_with("/api/"),
    );
    let asked = if changes {
        Asked::record(&service, &request, shown.user()).await
    } else {
        None
    };
    let mut response = next.call(request).await?;
    if let Some(asked) = asked {
        let user = response.request().extensions().get::<User>().cloned();
        asked.answered(response.status().as_u16(), user.as_ref());
    }
    let headers = response.headers_mut();
    headers.insert(X_CONTENT_TYPE_OPTIONS, HeaderValue::from_static("nosniff"));
    if is_api {
        headers.insert(CACHE_CONTROL, HeaderValue::from_static("no-store"));
    }
    if secure {
        headers.insert(
            STRICT_TRANSPORT_SECURITY,
            HeaderValue::from_static("max-age=31536000"),
        );
    }
    Ok(response)
}

/// A body that has to be unpacked may become any size before it is bounded (RFC 9110, section 15.5.16).
fn packed(headers: &HeaderMap) -> bool {
    let mut all = headers.get_all(CONTENT_ENCODING);
    all.any(|coding| !coding.as_bytes().eq_ignore_ascii_case(b"identity"))
}

/// Why a call that would change something may be another site's, made by a browser that is signed
/// in here.
fn crosses(headers: &HeaderMap, shown: &Shown) -> Option<&'static str> {
    let text = |name: HeaderName| headers.get(name).and_then(|v| v.to_str().ok());
    let site = text(HeaderName::from_static("sec-fetch-site"));
    if site.is_some_and(|site| site != "same-origin") {
        return Some("this comes from another site's page");
    }
    if !matches!(shown, Shown::Cookie(_)) {
        return None;
    }
    if site.is_none() {
        return Some(
            "a browser's session is for the console only: send `Authorization: Bearer TOKEN`",
        );
    }
    let json =
        text(CONTENT_TYPE).is_some_and(|kind| kind.split(';').next() == Some("application/json"));
    (!json).then_some("send `Content-Type: application/json`")
}

#[cfg(test)]
mod tests {
    use super::*;
    use karst_core::author::Level;

    #[test]
    fn a_browser_that_is_signed_in_serves_no_other_site() {
        let user = User {
            name: "captain".into(),
            level: Level::Operate,
            token: None,
        };
        let (cookie, token) = (Shown::Cookie(user.clone()), Shown::Token(user));
        let refused = |shown: &Shown, site: Option<&str>, kind: &str| {
            let mut headers = HeaderMap::new();
            headers.insert(CONTENT_TYPE, HeaderValue::from_str(kind).unwrap());
            if let Some(site) = site {
                headers.insert(
                    HeaderName::from_static("sec-fetch-site"),
                    HeaderValue::from_str(site).unwrap(),
                );
            }
            crosses(&headers, shown).is_some()
        };
        let json = "application/json; charset=utf-8";
        assert!(!refused(&cookie, Some("same-origin"), json));
        for (site, kind) in [
            (None, json),
            (Some("cross-site"), json),
            (Some("same-site"), json),
            (Some("none"), json),
            (Some("same-origin"), "application/x-www-form-urlencoded"),
            (Some("same-origin"), "text/plain"),
        ] {
            assert!(refused(&cookie, site, kind), "{site:?} {kind}");
        }
        assert!(!refused(&token, None, "text/plain"), "no browser");
        assert!(
            refused(&token, Some("cross-site"), json)
                && refused(&Shown::Nothing, Some("cross-site"), json)
        );
    }
}
