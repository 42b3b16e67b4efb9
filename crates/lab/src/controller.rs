//! The stand-in power controller: a small Redfish service (DMTF DSP0266) on the management network
//! that really cuts and gives the lab's hosts their power. One service for all hosts, so that the
//! right system has to be picked.

use crate::find;
use crate::layout::{CONTROLLER, CONTROLLER_ADDRESS, CONTROLLER_USER, Layout};
use crate::power;
use crate::watchdogs;
use actix_web::dev::Service as _;
use actix_web::http::{Method, StatusCode, header};
use actix_web::{App, HttpRequest, HttpResponse, HttpServer, web};
use anyhow::{Context, Result};
use base64::prelude::{BASE64_STANDARD, Engine as _};
use serde_json::{Value, json};
use sha2::{Digest, Sha256};
use std::collections::BTreeMap;
use std::sync::{Mutex, PoisonError};

const OFFERED: [&str; 4] = ["On", "ForceOff", "ForceOn", "ForceRestart"];
/// At most so many sessions; the oldest makes room.
const SESSIONS: usize = 32;

struct Controller {
    layout: Layout,
    password: String,
    /// Id to token.
    sessions: Mutex<BTreeMap<u64, String>>,
    /// What a client may change of a system.
    tags: Mutex<BTreeMap<String, String>>,
}

/// Runs until it is ended. In the controller host's network.
pub fn run(layout: &Layout) -> Result<()> {
    let password =
        std::fs::read_to_string(layout.secret("power")).context("the controller's password")?;
    let controller = web::Data::new(Controller {
        layout: layout.clone(),
        password: password.trim().into(),
        sessions: Mutex::default(),
        tags: Mutex::default(),
    });
    let tls = tls(layout)?;
    let watching = layout.clone();
    std::thread::Builder::new()
        .name("watchdogs".into())
        .spawn(move || watchdogs::watch(&watching))?;
    actix_web::rt::System::new().block_on(async move {
        let server = HttpServer::new(move || {
            App::new()
                .app_data(controller.clone())
                .wrap_fn(|request, next| {
                    let answer = next.call(request);
                    async move {
                        let mut answer = answer.await?;
                        let odata = (
                            header::HeaderName::from_static("odata-version"),
                            header::HeaderValue::from_static("4.0"),
                        );
                        answer.headers_mut().insert(odata.0, odata.1);
                        Ok(answer)
                    }
                })
                .default_service(web::to(answer))
        });
        server
            .workers(1)
            .bind_rustls_0_23((CONTROLLER_ADDRESS, 443), tls)?
            .run()
            .await
    })?;
    Ok(())
}

fn tls(layout: &Layout) -> Result<rustls::ServerConfig> {
    use rustls::pki_types::pem::PemObject;
    use rustls::pki_types::{CertificateDer, PrivateKeyDer};
    rustls::crypto::ring::default_provider()
        .install_default()
        .ok();
    let dir = layout.host(CONTROLLER).join("tls");
    let chain: Vec<_> = CertificateDer::pem_file_iter(dir.join("node.pem"))?
        .collect::<std::result::Result<_, _>>()?;
    let key = PrivateKeyDer::from_pem_file(dir.join("node.key"))?;
    Ok(rustls::ServerConfig::builder()
        .with_no_client_auth()
        .with_single_cert(chain, key)?)
}

async fn answer(
    controller: web::Data<Controller>,
    request: HttpRequest,
    body: web::Bytes,
) -> HttpResponse {
    let path = request.path().trim_end_matches('/').to_string();
    let parts: Vec<&str> = path.trim_start_matches('/').split('/').collect();
    // The way in needs no login (DSP0266, 13.3): what versions there are, the root, the documents,
    // a new session.
    match (request.method(), parts.as_slice()) {
        (&Method::GET, ["redfish"]) => {
            return HttpResponse::Ok().json(json!({ "v1": "/redfish/v1/" }));
        }
        (&Method::GET, ["redfish", "v1"]) => return resource(&request, &root()),
        (&Method::GET, ["redfish", "v1", "$metadata"]) => {
            return HttpResponse::Ok()
                .content_type("application/xml")
                .body(METADATA);
        }
        (&Method::GET, ["redfish", "v1", "odata"]) => {
            return HttpResponse::Ok().json(service_document());
        }
        (&Method::POST, ["redfish", "v1", "SessionService", "Sessions"]) => {
            return controller.open(&body);
        }
        _ => {}
    }
    if !controller.knows(&request) {
        let text = "no valid X-Auth-Token, nor basic authentication";
        return error(StatusCode::UNAUTHORIZED, "Base.1.8.NoValidSession", text);
    }
    if parts.len() < 3 || parts[..2] != ["redfish", "v1"] {
        return missing(&path);
    }
    match (request.method(), &parts[2..]) {
        (&Method::GET, rest) => match controller.read(rest) {
            Some(value) => resource(&request, &value),
            None => missing(&path),
        },
        (&Method::DELETE, ["SessionService", "Sessions", id]) => controller.close(id),
        (&Method::PATCH, ["Systems", host]) => controller.change(host, &request, &body),
        (&Method::POST, ["Systems", host, "Actions", "ComputerSystem.Reset"]) => {
            // It does one thing at a time, as small controllers do.
            controller.reset(host, &body)
        }
        _ => {
            let text = format!("{} is not allowed on {path}", request.method());
            error(
                StatusCode::METHOD_NOT_ALLOWED,
                "Base.1.8.OperationNotAllowed",
                &text,
            )
        }
    }
}

impl Controller {
    fn open(&self, body: &[u8]) -> HttpResponse {
        let given: Value = serde_json::from_slice(body).unwrap_or_default();
        let (Some(user), Some(password)) = (given["UserName"].as_str(), given["Password"].as_str())
        else {
            let text = "UserName and Password are needed";
            return error(StatusCode::BAD_REQUEST, "Base.1.8.PropertyMissing", text);
        };
        if user != CONTROLLER_USER || password != self.password {
            return error(
                StatusCode::UNAUTHORIZED,
                "Base.1.8.NoValidSession",
                "wrong name or password",
            );
        }
        let mut sessions = self.sessions.lock().unwrap_or_else(PoisonError::into_inner);
        if sessions.len() >= SESSIONS {
            sessions.pop_first();
        }
        let id = sessions.last_key_value().map_or(1, |(id, _)| id + 1);
        let token = format!("{:032x}", rand::random::<u128>());
        sessions.insert(id, token.clone());
        HttpResponse::Created()
            .insert_header(("X-Auth-Token", token))
            .insert_header((
                header::LOCATION,
                format!("/redfish/v1/SessionService/Sessions/{id}"),
            ))
            .json(session(id))
    }

    fn close(&self, id: &str) -> HttpResponse {
        let known = id.parse().ok().and_then(|id: u64| {
            self.sessions
                .lock()
                .unwrap_or_else(PoisonError::into_inner)
                .remove(&id)
        });
        if known.is_some() {
            HttpResponse::NoContent().finish()
        } else {
            missing(id)
        }
    }

    fn knows(&self, request: &HttpRequest) -> bool {
        let given = |name: &str| request.headers().get(name).and_then(|v| v.to_str().ok());
        if let Some(token) = given("X-Auth-Token") {
            return self
                .sessions
                .lock()
                .unwrap_or_else(PoisonError::into_inner)
                .values()
                .any(|t| t == token);
        }
        let wanted = format!("{CONTROLLER_USER}:{}", self.password);
        given("Authorization")
            .and_then(|a| a.strip_prefix("Basic "))
            .is_some_and(|b| b == BASE64_STANDARD.encode(&wanted))
    }

    fn is_on(&self, host: &str) -> bool {
        let off = self.layout.host(host).join("off").exists();
        !off || find::host_init(&self.layout, host).is_ok()
    }

    fn read(&self, path: &[&str]) -> Option<Value> {
        let members = |kind: &str, names: Vec<String>| {
            let links: Vec<Value> = names
                .iter()
                .map(|n| json!({ "@odata.id": format!("/redfish/v1/{kind}/{n}") }))
                .collect();
            let name = kind.rsplit('/').next().unwrap_or(kind);
            json!({
                "@odata.id": format!("/redfish/v1/{kind}"),
                "@odata.type": format!("#{}Collection.{}Collection", singular(name), singular(name)),
                "Name": name, "Members@odata.count": links.len(), "Members": links,
            })
        };
        let nodes = self.layout.nodes();
        let hosts = || nodes.iter().map(|n| n.name.to_string()).collect::<Vec<_>>();
        let known = |host: &str| nodes.iter().any(|n| n.name == host);
        Some(match path {
            ["Systems"] => members("Systems", hosts()),
            ["Systems", host] if known(host) => self.system(host),
            ["Chassis"] => members("Chassis", hosts()),
            ["Chassis", host] if known(host) => json!({
                "@odata.id": format!("/redfish/v1/Chassis/{host}"), "@odata.type": "#Chassis.v1_14_0.Chassis",
                "Id": host, "Name": format!("Chassis of {host}"), "ChassisType": "RackMount",
                "PowerState": if self.is_on(host) { "On" } else { "Off" }, "Status": status(),
                "Links": { "ComputerSystems": [link("Systems", host)], "ManagedBy": [link("Managers", "1")] },
            }),
            ["Managers"] => members("Managers", vec!["1".into()]),
            ["Managers", "1"] => json!({
                "@odata.id": "/redfish/v1/Managers/1", "@odata.type": "#Manager.v1_9_0.Manager",
                "Id": "1", "Name": "Stand-in power controller", "ManagerType": "ManagementController", "Status": status(),
                "Links": { "ManagerForServers": nodes.iter().map(|n| link("Systems", n.name)).collect::<Vec<_>>() },
            }),
            ["SessionService"] => json!({
                "@odata.id": "/redfish/v1/SessionService", "@odata.type": "#SessionService.v1_1_8.SessionService",
                "Id": "SessionService", "Name": "Sessions", "ServiceEnabled": true, "SessionTimeout": 86400,
                "Sessions": { "@odata.id": "/redfish/v1/SessionService/Sessions" },
            }),
            ["SessionService", "Sessions"] => {
                let sessions = self.sessions.lock().unwrap_or_else(PoisonError::into_inner);
                members(
                    "SessionService/Sessions",
                    sessions.keys().map(ToString::to_string).collect(),
                )
            }
            ["SessionService", "Sessions", id] => {
                let id = id.parse().ok()?;
                self.sessions
                    .lock()
                    .unwrap_or_else(PoisonError::into_inner)
                    .contains_key(&id)
                    .then(|| session(id))?
            }
            _ => return None,
        })
    }

    fn system(&self, host: &str) -> Value {
        let tags = self.tags.lock().unwrap_or_else(PoisonError::into_inner);
        json!({
            "@odata.id": format!("/redfish/v1/Systems/{host}"), "@odata.type": "#ComputerSystem.v1_13_0.ComputerSystem",
            "Id": host, "Name": host, "SystemType": "Physical", "UUID": self.layout.system_uuid(host).unwrap_or_default(),
            "AssetTag": tags.get(host), "PowerState": if self.is_on(host) { "On" } else { "Off" }, "Status": status(),
            "Links": { "Chassis": [link("Chassis", host)], "ManagedBy": [link("Managers", "1")] },
            "Actions": { "#ComputerSystem.Reset": {
                "target": format!("/redfish/v1/Systems/{host}/Actions/ComputerSystem.Reset"),
                "ResetType@Redfish.AllowableValues": OFFERED,
            } },
        })
    }

    fn change(&self, host: &str, request: &HttpRequest, body: &[u8]) -> HttpResponse {
        let Some(now) = self.read(&["Systems", host]) else {
            return missing(host);
        };
        let expected = request
            .headers()
            .get(header::IF_MATCH)
            .and_then(|v| v.to_str().ok());
        if expected.is_some_and(|e| e != "*" && e != etag(&now)) {
            let text = "it has changed since it was read";
            return error(
                StatusCode::PRECONDITION_FAILED,
                "Base.1.8.PreconditionFailed",
                text,
            );
        }
        let given: Value = serde_json::from_slice(body).unwrap_or_default();
        match given
            .as_object()
            .map(|o| (o.len(), o.get("AssetTag").and_then(Value::as_str)))
        {
            Some((1, Some(tag))) => {
                self.tags
                    .lock()
                    .unwrap_or_else(PoisonError::into_inner)
                    .insert(host.into(), tag.into());
                resource(request, &self.system(host))
            }
            _ => error(
                StatusCode::BAD_REQUEST,
                "Base.1.8.PropertyNotWritable",
                "only AssetTag can be written",
            ),
        }
    }

    fn reset(&self, host: &str, body: &[u8]) -> HttpResponse {
        if self.read(&["Systems", host]).is_none() {
            return missing(host);
        }
        let given: Value = serde_json::from_slice(body).unwrap_or_default();
        let Some(wanted) = given["ResetType"].as_str().filter(|w| OFFERED.contains(w)) else {
            let text = format!(
                "ResetType {} is not one of {}",
                given["ResetType"],
                OFFERED.join(", ")
            );
            return error(
                StatusCode::BAD_REQUEST,
                "Base.1.8.ActionParameterNotSupported",
                &text,
            );
        };
        let done = match (wanted, self.is_on(host)) {
            ("ForceOff", true) => power::power_off(&self.layout, host),
            ("On" | "ForceOn", false) => power::power_on(&self.layout, host),
            ("ForceRestart", _) => power::power_off(&self.layout, host)
                .and_then(|()| power::power_on(&self.layout, host)),
            _ => {
                return error(
                    StatusCode::OK,
                    "Base.1.8.NoOperation",
                    "it is in that state already",
                );
            }
        };
        match done {
            Ok(()) => HttpResponse::NoContent().finish(),
            Err(why) => error(
                StatusCode::INTERNAL_SERVER_ERROR,
                "Base.1.8.InternalError",
                &format!("{why:#}"),
            ),
        }
    }
}

fn root() -> Value {
    let at = |what: &str| json!({ "@odata.id": format!("/redfish/v1/{what}") });
    json!({
        "@odata.id": "/redfish/v1/", "@odata.type": "#ServiceRoot.v1_9_0.ServiceRoot", "Id": "RootService",
        "Name": "Stand-in power controller", "RedfishVersion": "1.9.0", "UUID": "5ce77e00-0000-4000-8000-000000000090",
        "Systems": at("Systems"), "Chassis": at("Chassis"), "Managers": at("Managers"), "SessionService": at("SessionService"),
        "Links": { "Sessions": at("SessionService/Sessions") },
    })
}

fn service_document() -> Value {
    let entry = |name: &str| json!({ "name": name, "kind": "Singleton", "url": format!("/redfish/v1/{name}") });
    let entries = ["Systems", "Chassis", "Managers", "SessionService"].map(entry);
    json!({ "@odata.context": "/redfish/v1/$metadata", "value": entries })
}

const METADATA: &str = "<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n\
    <edmx:Edmx xmlns:edmx=\"http://docs.oasis-open.org/odata/ns/edmx\" Version=\"4.0\"><edmx:DataServices>\
    <Schema xmlns=\"http://docs.oasis-open.org/odata/ns/edm\" Namespace=\"Service\">\
    <EntityContainer Name=\"Service\"/></Schema></edmx:DataServices></edmx:Edmx>\n";

fn session(id: u64) -> Value {
    json!({
        "@odata.id": format!("/redfish/v1/SessionService/Sessions/{id}"), "@odata.type": "#Session.v1_3_0.Session",
        "Id": id.to_string(), "Name": "Session", "UserName": CONTROLLER_USER,
    })
}

fn link(kind: &str, id: &str) -> Value {
    json!({ "@odata.id": format!("/redfish/v1/{kind}/{id}") })
}

fn status() -> Value {
    json!({ "State": "Enabled", "Health": "OK" })
}

fn singular(collection: &str) -> &str {
    match collection {
        "Systems" => "ComputerSystem",
        "Chassis" => "Chassis",
        other => other.trim_end_matches('s'),
    }
}

/// A strong ETag over the body (RFC 9110, 8.8.3).
fn etag(value: &Value) -> String {
    let digest = Sha256::digest(value.to_string().as_bytes());
    format!(
        "\"{}\"",
        digest
            .iter()
            .take(8)
            .map(|b| format!("{b:02x}"))
            .collect::<String>()
    )
}

fn resource(request: &HttpRequest, value: &Value) -> HttpResponse {
    let etag = etag(value);
    let unchanged = request
        .headers()
        .get(header::IF_NONE_MATCH)
        .and_then(|v| v.to_str().ok())
        == Some(etag.as_str());
    if unchanged {
        return HttpResponse::NotModified()
            .insert_header((header::ETAG, etag))
            .finish();
    }
    HttpResponse::Ok()
        .insert_header((header::ETAG, etag))
        .json(value)
}

/// An error body (DSP0266, 8.6).
fn error(status: StatusCode, id: &str, text: &str) -> HttpResponse {
    let info = json!([{
        "@odata.type": "#Message.v1_1_2.Message", "MessageId": id, "Message": text, "Severity": "Warning",
        "Resolution": "None",
    }]);
    HttpResponse::build(status)
        .json(json!({ "error": { "code": id, "message": text, "@Message.ExtendedInfo": info } }))
}

fn missing(path: &str) -> HttpResponse {
    error(
        StatusCode::NOT_FOUND,
        "Base.1.8.ResourceMissingAtURI",
        &format!("there is nothing at {path}"),
    )
}
