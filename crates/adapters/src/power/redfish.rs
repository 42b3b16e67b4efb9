//! A power device that speaks Redfish (DMTF DSP0266): found from the service root, in a session or
//! with basic authentication, the system picked by its UUID, `ForceOff`, the state read back.
//!
//! The password goes to the address in the spec and nowhere else: over TLS, to no place that an
//! answer redirects to, and to no other host that a resource names as its path. A session is closed
//! when it is not needed any more.

use super::trouble::{PowerError, Result, check_system, needed};
use karst_core::power::PowerSeen;
use karst_core::spec::may_carry_secrets;
use reqwest::header::{HeaderName, LOCATION};
use reqwest::redirect::Policy;
use reqwest::{Method, RequestBuilder, Response, StatusCode};
use serde_json::{Value, json};
use std::collections::BTreeMap;
use std::time::Duration;
use tokio::sync::Mutex;

const ROOT: &str = "/redfish/v1/";
const RESET: &str = "#ComputerSystem.Reset";

#[derive(Debug)]
pub(super) struct Redfish {
    http: reqwest::Client,
    base: String,
    user: String,
    password: String,
    session: bool,
    /// The system's `Id` or `UUID`, where the spec names it.
    wanted: Option<String>,
    known: Mutex<Known>,
}

/// What a call shows for its login, and where that is closed.
#[derive(Clone, Debug)]
struct Session {
    token: String,
    place: String,
}

/// What was learned, and is learned again when it does not hold any more.
#[derive(Debug, Default)]
struct Known {
    session: Option<Session>,
    /// Where the system is.
    path: Option<String>,
}

impl Redfish {
    /// Settings: `url`, `user`, `secret`, and optionally `ca` (PEM file), `system` (Id or UUID),
    /// `login` (`session`, the default, or `basic`).
    pub(super) fn from_settings(settings: &BTreeMap<String, String>) -> Result<Self> {
        let need = |key| needed(settings, "redfish", key);
        let base = need("url")?.trim_end_matches('/').to_string();
        may_carry_secrets(&base).map_err(|why| PowerError::Setting { key: "url", why })?;
        let user = need("user")?.to_string();
        let password = crate::secret::read(need("secret")?);
        let password = password.map_err(|why| PowerError::Setting { key: "secret", why })?;
        let mut http = reqwest::Client::builder()
            .timeout(Duration::from_secs(2))
            .no_proxy()
            .redirect(Policy::none());
        if let Some(path) = settings.get("ca") {
            let bad = |why: String| PowerError::Setting { key: "ca", why };
            let pem = std::fs::read(path).map_err(|e| bad(format!("{path}: {e}")))?;
            let ca =
                reqwest::Certificate::from_pem(&pem).map_err(|e| bad(format!("{path}: {e}")))?;
            // In place of the public ones: any of these could speak for the controller.
            http = http.tls_built_in_root_certs(false).add_root_certificate(ca);
        }
        let http = http.build().map_err(|e| PowerError::Setting {
            key: "url",
            why: e.to_string(),
        })?;
        let session = settings.get("login").is_none_or(|l| l == "session");
        let wanted = settings.get("system").cloned();
        Ok(Self {
            http,
            base,
            user,
            password,
            session,
            wanted,
            known: Mutex::default(),
        })
    }

    pub(super) async fn look(&self, host: Option<&str>) -> Result<PowerSeen> {
        let system = self.system(host).await?;
        let uuid = system["UUID"].as_str().map(String::from);
        let on = match system["PowerState"].as_str() {
            Some("Off") => false,
            // On its way is not there yet.
            Some("On" | "PoweringOn" | "PoweringOff" | "Paused") => true,
            other => return Err(PowerError::Strange(format!("PowerState {other:?}"))),
        };
        Ok(PowerSeen { on, system: uuid })
    }

    pub(super) async fn force_off(&self, host: Option<&str>) -> Result<()> {
        self.reset(host, "ForceOff").await
    }

    pub(super) async fn turn_on(&self, host: Option<&str>) -> Result<()> {
        self.reset(host, "On").await
    }

    async fn reset(&self, host: Option<&str>, kind: &str) -> Result<()> {
        let system = self.system(host).await?;
        let action = &system["Actions"][RESET];
        let target = action["target"]
            .as_str()
            .ok_or_else(|| PowerError::Strange(format!("no {RESET}")))?;
        let offered = self.offered(action).await?;
        if !offered.is_empty() && !offered.iter().any(|o| o == kind) {
            let why = format!(
                "the controller does not offer it, but {}",
                offered.join(", ")
            );
            return Err(PowerError::Refused {
                what: kind.into(),
                why,
            });
        }
        self.call(Method::POST, target, Some(&json!({ "ResetType": kind })))
            .await
            .map(drop)
    }

    /// The reset types that the controller says it takes: in the action, or where that points to
    /// (DSP0266, 6.5.4).
    async fn offered(&self, action: &Value) -> Result<Vec<String>> {
        let words = |list: &Value| {
            list.as_array()
                .into_iter()
                .flatten()
                .filter_map(Value::as_str)
                .map(String::from)
                .collect()
        };
        if let Some(info) = action["@Redfish.ActionInfo"].as_str() {
            let info = self.get(info).await?;
            let parameters = info["Parameters"].as_array().into_iter().flatten();
            let reset = parameters.into_iter().find(|p| p["Name"] == "ResetType");
            return Ok(reset
                .map(|p| words(&p["AllowableValues"]))
                .unwrap_or_default());
        }
        Ok(words(&action["ResetType@Redfish.AllowableValues"]))
    }

    /// The system of this host; the right one, or an error (C7).
    async fn system(&self, host: Option<&str>) -> Result<Value> {
        let path = self.known.lock().await.path.clone();
        if let Some(path) = path
            && let Ok(system) = self.get(&path).await
            && check_system(host, system["UUID"].as_str()).is_ok()
        {
            return Ok(system);
        }
        let system = self.find(host).await?;
        check_system(host, system["UUID"].as_str())?;
        self.known.lock().await.path = system["@odata.id"].as_str().map(String::from);
        Ok(system)
    }

    async fn find(&self, host: Option<&str>) -> Result<Value> {
        let root = self.get(ROOT).await?;
        let link = |of: &Value| of["@odata.id"].as_str().map(String::from);
        let systems = link(&root["Systems"])
            .ok_or_else(|| PowerError::Strange("the service has no Systems".into()))?;
        let list = self.get(&systems).await?;
        let members: Vec<String> = list["Members"]
            .as_array()
            .into_iter()
            .flatten()
            .filter_map(link)
            .collect();
        let mut all = Vec::new();
        for member in members {
            all.push(self.get(&member).await?);
        }
        let says = |system: &Value, key: &str, what: &str| {
            system[key]
                .as_str()
                .is_some_and(|v| v.eq_ignore_ascii_case(what))
        };
        let fits = |system: &&Value| match (&self.wanted, host) {
            (Some(wanted), _) => says(system, "Id", wanted) || says(system, "UUID", wanted),
            (None, Some(host)) => says(system, "UUID", host),
            (None, None) => false,
        };
        if let Some(found) = all.iter().find(fits) {
            return Ok(found.clone());
        }
        match (all.as_slice(), &self.wanted) {
            // A controller of one machine that does not say which.
            ([only], None) if only["UUID"].is_null() => Ok(only.clone()),
            _ => {
                let looked_for = match (&self.wanted, host) {
                    (Some(wanted), _) => format!("no system with Id or UUID {wanted}"),
                    (None, Some(host)) => format!("no system with this host's UUID {host}"),
                    (None, None) => "the host's UUID is not known; give `system`".into(),
                };
                Err(PowerError::WrongSystem(format!(
                    "{looked_for} among {} that {} powers",
                    all.len(),
                    self.base
                )))
            }
        }
    }

    async fn get(&self, path: &str) -> Result<Value> {
        let response = self.call(Method::GET, path, None).await?;
        said(response)
            .await
            .map_err(|why| PowerError::Strange(format!("{path}: {why}")))
    }

    /// One call, in a session where wanted; an expired session is opened anew, once.
    async fn call(&self, method: Method, path: &str, body: Option<&Value>) -> Result<Response> {
        for last in [false, true] {
            let response = self
                .send(self.with_login(method.clone(), path).await?, body)
                .await?;
            if response.status() == StatusCode::UNAUTHORIZED && self.session && !last {
                self.known.lock().await.session = None;
                continue;
            }
            return if response.status().is_success() {
                Ok(response)
            } else {
                Err(refusal(&method, path, response).await)
            };
        }
        Err(PowerError::Strange("a new session is refused".into()))
    }

    async fn with_login(&self, method: Method, path: &str) -> Result<RequestBuilder> {
        let request = self.http.request(method, self.url(path)?);
        if !self.session {
            return Ok(request.basic_auth(&self.user, Some(&self.password)));
        }
        let mut known = self.known.lock().await;
        let session = match &known.session {
            Some(session) => session.clone(),
            None => known.session.insert(self.open_session().await?).clone(),
        };
        Ok(request.header("X-Auth-Token", session.token))
    }

    /// Closes the session, if there is one: a controller has places for few.
    pub(super) async fn close(&self) {
        let Some(session) = self.known.lock().await.session.take() else {
            return;
        };
        if let Ok(url) = self.url(&session.place) {
            let _ = self
                .send(
                    self.http.delete(url).header("X-Auth-Token", session.token),
                    None,
                )
                .await;
        }
    }

    /// A resource of this controller: a path, and not the end of another host's name.
    fn url(&self, path: &str) -> Result<String> {
        let is_path = path.starts_with('/')
            && !path.starts_with("//")
            && !path.contains(['\\', '@', '\r', '\n']);
        if is_path {
            Ok(format!("{}{path}", self.base))
        } else {
            Err(PowerError::Strange(format!("{path:?} is no path of it")))
        }
    }

    /// A session at the place that the service root names (DSP0266, 13.3.4).
    async fn open_session(&self) -> Result<Session> {
        let root = self
            .send(self.http.get(format!("{}{ROOT}", self.base)), None)
            .await?;
        let root = said(root)
            .await
            .map_err(|why| PowerError::Strange(format!("{ROOT}: {why}")))?;
        let sessions = root["Links"]["Sessions"]["@odata.id"]
            .as_str()
            .unwrap_or("/redfish/v1/SessionService/Sessions");
        let body = json!({ "UserName": self.user, "Password": self.password });
        let response = self
            .send(self.http.post(self.url(sessions)?), Some(&body))
            .await?;
        if !response.status().is_success() {
            return Err(refusal(&Method::POST, sessions, response).await);
        }
        let header = |name: HeaderName| {
            response
                .headers()
                .get(name)
                .and_then(|t| t.to_str().ok())
                .map(String::from)
        };
        // Some say where it is in full, others as a path.
        let place =
            header(LOCATION).map(|at| at.strip_prefix(&self.base).map_or(at.clone(), String::from));
        match (header(HeaderName::from_static("x-auth-token")), place) {
            (Some(token), Some(place)) => Ok(Session { token, place }),
            _ => Err(PowerError::Strange(
                "a session without X-Auth-Token or Location".into(),
            )),
        }
    }

    async fn send(&self, mut request: RequestBuilder, body: Option<&Value>) -> Result<Response> {
        request = request.header("OData-Version", "4.0");
        if let Some(body) = body {
            request = request.json(body);
        }
        request.send().await.map_err(|e| {
            let mut cause: &dyn std::error::Error = &e;
            while let Some(next) = cause.source() {
                cause = next;
            }
            PowerError::Unreachable(format!("{}: {cause}", self.base))
        })
    }
}

/// Bytes of one answer; a controller of a whole rack says a tenth of it.
const LONGEST_ANSWER: usize = 1 << 20;

/// The body of an answer. A controller has no more memory here than a bounded answer takes.
async fn said(mut response: Response) -> std::result::Result<Value, String> {
    let mut body = Vec::new();
    while let Some(part) = response.chunk().await.map_err(|e| e.to_string())? {
        if body.len() + part.len() > LONGEST_ANSWER {
            return Err(format!("an answer of more than {LONGEST_ANSWER} bytes"));
        }
        body.extend_from_slice(&part);
    }
    serde_json::from_slice(&body).map_err(|e| e.to_string())
}

/// What the controller says against it: its own messages where it gives any (DSP0266, 8.6).
async fn refusal(method: &Method, path: &str, response: Response) -> PowerError {
    let status = response.status();
    let body = said(response).await.unwrap_or_default();
    let error = &body["error"];
    let messages = error["@Message.ExtendedInfo"]
        .as_array()
        .into_iter()
        .flatten();
    let messages: Vec<&str> = messages.filter_map(|m| m["Message"].as_str()).collect();
    let words = if messages.is_empty() {
        error["message"].as_str().unwrap_or_default().to_string()
    } else {
        messages.join(" ")
    };
    PowerError::Refused {
        what: format!("{method} {path}"),
        why: format!("{status} {words}").trim().to_string(),
    }
}
