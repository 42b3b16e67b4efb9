//! The typed HTTP client: tries several servers in turn, and says which one said what.

use crate::problem::{Problem, ProblemType};
use crate::report::OperationReport;
use crate::types::{
    AcknowledgeBody, ChangedReply, Endpoint, HandOverBody, HistoryReply, HostNeed, InvitationReply,
    InviteBody, JoinBody, JoinReply, MaintenanceBody, ModeBody, MoveBody, PastRevision, PowerBody,
    RenewBody, RenewReply, RevisionReply, SafetyPointBody, SelfReply, SpecBody, SpecReply,
    StartedReply, StatusReply, StepView, TriedReply, TryBody, WishBody,
};
use futures_util::StreamExt;
use futures_util::stream::FuturesUnordered;
use karst_core::request::{IntentPlan, NodePlan, Plan, PowerWish};
use karst_core::spec::may_carry_secrets;
use karst_core::{NodeId, OperationId};
use reqwest::{Method, Response, header};
use serde::Serialize;
use serde::de::DeserializeOwned;
use std::path::Path;
use std::time::Duration;

/// What went wrong with a call.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum ClientError {
    #[error("no node answered: {}", .0.join("; "))]
    Unreachable(Vec<String>),
    #[error("{server} refuses: {}", problem.detail)]
    Refused { server: String, problem: Problem },
    #[error("{server} answered something else than expected: {why}")]
    Strange { server: String, why: String },
    #[error("{0}")]
    Setup(String),
}

/// Talks to any node of a cluster.
#[derive(Clone, Debug)]
pub struct Client {
    servers: Vec<String>,
    access: Access,
    /// The revision of the spec that a change was written for.
    based_on: Option<u64>,
    http: reqwest::Client,
}

/// By what right.
#[derive(Clone, Debug)]
enum Access {
    Token(String),
    /// That of whoever may open the daemon's socket on this host.
    Local,
}

/// How long a node may take to accept a connection.
const CONNECTED_WITHIN: Duration = Duration::from_millis(1_500);

impl Client {
    /// `servers` are addresses such as `10.0.0.11:26780`, spoken to by HTTPS; `http://` is for this
    /// host alone. `ca` is a PEM file's text, whose certificates are trusted in the place of the public CAs.
    ///
    /// # Errors
    /// If there is no server, or the CA cannot be read.
    pub fn new(servers: &[String], token: &str, ca: Option<&str>) -> Result<Self, ClientError> {
        if servers.is_empty() {
            return Err(ClientError::Setup(
                "no node given: use --node or KARST_NODES".into(),
            ));
        }
        let http = reqwest::Client::builder()
            .connect_timeout(CONNECTED_WITHIN)
            .no_proxy();
        // A token goes where it was sent, and not where an answer points to.
        let mut http = http.redirect(reqwest::redirect::Policy::none());
        if let Some(pem) = ca {
            // Two of them while the cluster gets another one.
            let all = reqwest::Certificate::from_pem_bundle(pem.as_bytes());
            let all = all.map_err(|e| ClientError::Setup(format!("the CA: {e}")))?;
            http = http.tls_built_in_root_certs(false);
            http = all
                .into_iter()
                .fold(http, reqwest::ClientBuilder::add_root_certificate);
        }
        let http = http
            .build()
            .map_err(|e| ClientError::Setup(e.to_string()))?;
        let servers = servers.iter().map(|s| base(s)).collect::<Result<_, _>>()?;
        Ok(Self {
            servers,
            access: Access::Token(token.into()),
            based_on: None,
            http,
        })
    }

    /// The daemon on this host, by its socket.
    ///
    /// # Errors
    /// If no client can be made.
    pub fn local(socket: &Path) -> Result<Self, ClientError> {
        let http = reqwest::Client::builder()
            .connect_timeout(CONNECTED_WITHIN)
            .no_proxy()
            .unix_socket(socket)
            .redirect(reqwest::redirect::Policy::none())
            .build()
            .map_err(|e| ClientError::Setup(e.to_string()))?;
        Ok(Self {
            // The name is nothing that is looked up: the socket leads to one daemon.
            servers: vec!["http://localhost".into()],
            access: Access::Local,
            based_on: None,
            http,
        })
    }

    async fn send<B: Serialize + Sync>(
        &self,
        method: Method,
        path: &str,
        body: Option<&B>,
    ) -> Result<(String, Response), ClientError> {
        let mut silent = Vec::new();
        for server in &self.servers {
            let mut request = self.http.request(method.clone(), format!("{server}{path}"));
            request = match &self.access {
                Access::Token(token) => request.bearer_auth(token),
                Access::Local => request.header(header::AUTHORIZATION, "Local"),
            };
            if !path.contains("/live") {
                // A daemon that stands still accepts connections and never answers: do not wait for
                // it for long.
                let quick = method == Method::GET && !path.ends_with("/examination");
                let patience = match quick {
                    true => 1_500,
                    // As long as a step may take.
                    false if path.ends_with("/try") => 3_610_000,
                    false => 10_000,
                };
                request = request.timeout(Duration::from_millis(patience));
            }
            if let Some(number) = self.based_on {
                request = request.header(header::IF_MATCH, format!("\"{number}\""));
            }
            if let Some(body) = body {
                request = request.json(body);
            }
            let response = match request.send().await {
                Ok(response) => response,
                Err(error) => {
                    let why = match (error.is_connect(), error.is_timeout()) {
                        (true, _) => format!("cannot be reached ({})", innermost(&error)),
                        (_, true) => "does not answer".into(),
                        _ => error.to_string(),
                    };
                    silent.push(format!("{server} {why}"));
                    continue;
                }
            };
            if response.status().is_success() {
                return Ok((server.clone(), response));
            }
            let status = response.status();
            let problem = response
                .json::<Problem>()
                .await
                .unwrap_or_else(|_| Problem {
                    kind: ProblemType::Other,
                    title: status.to_string(),
                    status: status.as_u16(),
                    detail: format!("{status} without a reason"),
                });
            // A node without a coordinator in sight may be the one that is cut off: another may
            // know better.
            if status == reqwest::StatusCode::SERVICE_UNAVAILABLE {
                silent.push(format!("{server}: {}", problem.detail));
                continue;
            }
            return Err(ClientError::Refused {
                server: server.clone(),
                problem,
            });
        }
        Err(ClientError::Unreachable(silent))
    }

    async fn call<B: Serialize + Sync, T: DeserializeOwned>(
        &self,
        method: Method,
        path: &str,
        body: Option<&B>,
    ) -> Result<T, ClientError> {
        let (server, response) = self.send(method, path, body).await?;
        response.json().await.map_err(|e| ClientError::Strange {
            server,
            why: e.to_string(),
        })
    }

    async fn get<T: DeserializeOwned>(&self, path: &str) -> Result<T, ClientError> {
        self.call::<(), T>(Method::GET, path, None).await
    }

    /// The cluster as the coordinator sees it; where none answers, as the first node that answers
    /// at all sees it.
    pub async fn status(&self) -> Result<StatusReply, ClientError> {
        // All at once: one that stands still must not hold up the answer of the others.
        let ask = |server: &String| {
            let one = Self {
                servers: vec![server.clone()],
                ..self.clone()
            };
            async move { one.get::<StatusReply>("/api/v1/status").await }
        };
        let mut answers: FuturesUnordered<_> = self.servers.iter().map(ask).collect();
        let mut partial = None;
        let mut silent = Vec::new();
        while let Some(answer) = answers.next().await {
            match answer {
                Ok(reply) if reply.complete => return Ok(reply),
                Ok(reply) => partial = partial.or(Some(reply)),
                Err(ClientError::Unreachable(why)) => silent.extend(why),
                Err(other) => return Err(other),
            }
        }
        partial.ok_or(ClientError::Unreachable(silent))
    }

    pub async fn spec(&self) -> Result<SpecReply, ClientError> {
        self.get("/api/v1/spec").await
    }

    /// Every revision of it that is known, the newest first.
    pub async fn revisions(&self) -> Result<Vec<PastRevision>, ClientError> {
        self.get("/api/v1/spec/revisions").await
    }

    pub async fn revision(&self, number: u64) -> Result<RevisionReply, ClientError> {
        self.get(&format!("/api/v1/spec/revisions/{number}")).await
    }

    /// What it would take to have this spec in force.
    pub async fn spec_plan(&self, body: &SpecBody) -> Result<IntentPlan, ClientError> {
        self.call(Method::POST, "/api/v1/spec/plan", Some(body))
            .await
    }

    /// Submits a spec that was written for that revision.
    pub async fn submit(
        &self,
        body: &SpecBody,
        based_on: u64,
    ) -> Result<StartedReply, ClientError> {
        let mut one = self.clone();
        one.based_on = Some(based_on);
        one.call(Method::PUT, "/api/v1/spec", Some(body)).await
    }

    /// Plans a wish or begins it; what its body says of that is written over.
    async fn wish<B: Serialize, R: DeserializeOwned>(
        &self,
        path: &str,
        body: &B,
        plan_only: bool,
    ) -> Result<R, ClientError> {
        let setup = |error: serde_json::Error| ClientError::Setup(error.to_string());
        let mut body = serde_json::to_value(body).map_err(setup)?;
        body["plan_only"] = plan_only.into();
        self.call(Method::POST, path, Some(&body)).await
    }

    /// What it would take for nodes to rest.
    pub async fn maintenance_plan(
        &self,
        body: &MaintenanceBody,
    ) -> Result<IntentPlan, ClientError> {
        self.wish("/api/v1/maintenance", body, true).await
    }

    pub async fn maintenance(&self, body: &MaintenanceBody) -> Result<StartedReply, ClientError> {
        self.wish("/api/v1/maintenance", body, false).await
    }

    pub async fn restart_plan(
        &self,
        workload: &str,
        body: &WishBody,
    ) -> Result<IntentPlan, ClientError> {
        let path = format!("/api/v1/workloads/{workload}/restart");
        self.wish(&path, body, true).await
    }

    pub async fn restart(
        &self,
        workload: &str,
        body: &WishBody,
    ) -> Result<StartedReply, ClientError> {
        let path = format!("/api/v1/workloads/{workload}/restart");
        self.wish(&path, body, false).await
    }

    pub async fn enrol_plan(&self, node: &str, body: &WishBody) -> Result<IntentPlan, ClientError> {
        let path = format!("/api/v1/nodes/{node}/enrol");
        self.wish(&path, body, true).await
    }

    /// Takes a node's new store in, in place of the one that was lost.
    pub async fn enrol(&self, node: &str, body: &WishBody) -> Result<StartedReply, ClientError> {
        let path = format!("/api/v1/nodes/{node}/enrol");
        self.wish(&path, body, false).await
    }

    pub async fn safety_point_plan(
        &self,
        workload: &str,
        body: &SafetyPointBody,
    ) -> Result<IntentPlan, ClientError> {
        let path = format!("/api/v1/workloads/{workload}/safety-point");
        self.wish(&path, body, true).await
    }

    /// Keeps a place in a workload's writes, and a standby that stays there.
    pub async fn safety_point(
        &self,
        workload: &str,
        body: &SafetyPointBody,
    ) -> Result<StartedReply, ClientError> {
        let path = format!("/api/v1/workloads/{workload}/safety-point");
        self.wish(&path, body, false).await
    }

    pub async fn go_back_plan(
        &self,
        workload: &str,
        body: &WishBody,
    ) -> Result<IntentPlan, ClientError> {
        let path = format!("/api/v1/workloads/{workload}/safety-point/go-back");
        self.wish(&path, body, true).await
    }

    /// Has a workload go on from its safety point.
    pub async fn go_back(
        &self,
        workload: &str,
        body: &WishBody,
    ) -> Result<StartedReply, ClientError> {
        let path = format!("/api/v1/workloads/{workload}/safety-point/go-back");
        self.wish(&path, body, false).await
    }

    /// Ends a maintenance, drops a safety point, or takes back a revision that is not in force yet.
    pub async fn end(&self, intent: OperationId) -> Result<ChangedReply, ClientError> {
        let path = format!("/api/v1/operations/{}/end", intent.0);
        self.call::<(), _>(Method::POST, &path, None).await
    }

    /// Invites a host to join as a node.
    pub async fn invite(&self, body: &InviteBody) -> Result<InvitationReply, ClientError> {
        self.call(Method::POST, "/api/v1/invitations", Some(body))
            .await
    }

    pub async fn renew(&self, node: &str, body: &RenewBody) -> Result<RenewReply, ClientError> {
        let path = format!("/api/v1/nodes/{node}/certificates");
        self.call(Method::POST, &path, Some(body)).await
    }

    /// Joins; nobody has to be signed in.
    pub async fn join(&self, body: &JoinBody) -> Result<JoinReply, ClientError> {
        self.call(Method::POST, "/api/v1/join", Some(body)).await
    }

    /// Another node is to coordinate.
    pub async fn hand_over(&self, to: Option<NodeId>) -> Result<ChangedReply, ClientError> {
        let body = HandOverBody { to };
        self.call(Method::POST, "/api/v1/quorum/hand-over", Some(&body))
            .await
    }

    /// What clients of a workload paste, and whom each string reaches now.
    pub async fn endpoints(&self, workload: &str) -> Result<Vec<Endpoint>, ClientError> {
        self.get(&format!("/api/v1/workloads/{workload}/endpoints"))
            .await
    }

    /// What the asked node's host has and lacks.
    pub async fn examination(&self) -> Result<Vec<HostNeed>, ClientError> {
        self.get("/api/v1/examination").await
    }

    /// The site's own steps.
    pub async fn steps(&self) -> Result<Vec<StepView>, ClientError> {
        self.get("/api/v1/steps").await
    }

    /// Runs one on the asked node.
    pub async fn try_step(&self, step: &str, body: &TryBody) -> Result<TriedReply, ClientError> {
        let path = format!("/api/v1/steps/{}/try", step);
        self.call(Method::POST, &path, Some(body)).await
    }

    /// The same client for one node alone.
    ///
    /// # Errors
    /// If a token may not go to that address.
    pub fn at(&self, server: &str) -> Result<Self, ClientError> {
        Ok(Self {
            servers: vec![base(server)?],
            ..self.clone()
        })
    }

    pub async fn myself(&self) -> Result<SelfReply, ClientError> {
        self.get("/api/v1/self").await
    }

    /// `query` is what follows the `?`: `after=`, `limit=`, `workload=`, `operation=`.
    pub async fn history(&self, query: &str) -> Result<HistoryReply, ClientError> {
        self.get(&format!("/api/v1/history?{query}")).await
    }

    /// The history as a file: `csv` or `jsonl`.
    pub async fn export(&self, form: &str, query: &str) -> Result<String, ClientError> {
        let path = format!("/api/v1/history.{form}?{query}");
        let (server, response) = self.send::<()>(Method::GET, &path, None).await?;
        response.text().await.map_err(|e| ClientError::Strange {
            server,
            why: e.to_string(),
        })
    }

    pub async fn report(&self, operation: OperationId) -> Result<OperationReport, ClientError> {
        self.get(&format!("/api/v1/operations/{}/report", operation.0))
            .await
    }

    /// Says who knows of a finding.
    pub async fn acknowledge(
        &self,
        finding: &str,
        body: &AcknowledgeBody,
    ) -> Result<ChangedReply, ClientError> {
        let path = format!("/api/v1/findings/{finding}/acknowledgement");
        self.call(Method::PUT, &path, Some(body)).await
    }

    pub async fn forget(&self, finding: &str) -> Result<ChangedReply, ClientError> {
        let path = format!("/api/v1/findings/{finding}/acknowledgement");
        self.call::<(), _>(Method::DELETE, &path, None).await
    }

    /// What a `switchover` or `failover` would do.
    pub async fn plan(
        &self,
        workload: &str,
        what: &str,
        body: &MoveBody,
    ) -> Result<Plan, ClientError> {
        let body = MoveBody {
            plan_only: true,
            ..body.clone()
        };
        self.call(
            Method::POST,
            &format!("/api/v1/workloads/{workload}/{what}"),
            Some(&body),
        )
        .await
    }

    /// Begins it.
    pub async fn begin(
        &self,
        workload: &str,
        what: &str,
        body: &MoveBody,
    ) -> Result<StartedReply, ClientError> {
        let body = MoveBody {
            plan_only: false,
            ..body.clone()
        };
        self.call(
            Method::POST,
            &format!("/api/v1/workloads/{workload}/{what}"),
            Some(&body),
        )
        .await
    }

    /// Whether the cluster moves this workload by itself.
    pub async fn set_mode(
        &self,
        workload: &str,
        body: &ModeBody,
    ) -> Result<ChangedReply, ClientError> {
        self.call(
            Method::PUT,
            &format!("/api/v1/workloads/{workload}/mode"),
            Some(body),
        )
        .await
    }

    /// Lets an operation go on that waits for approval.
    pub async fn approve(&self, operation: OperationId) -> Result<ChangedReply, ClientError> {
        self.call::<(), _>(
            Method::POST,
            &format!("/api/v1/operations/{}/approve", operation.0),
            None,
        )
        .await
    }

    /// What would become of a host.
    pub async fn power_plan(&self, node: &str, what: PowerWish) -> Result<NodePlan, ClientError> {
        let body = PowerBody {
            what,
            plan_only: true,
        };
        self.call(
            Method::POST,
            &format!("/api/v1/nodes/{node}/power"),
            Some(&body),
        )
        .await
    }

    pub async fn power(&self, node: &str, what: PowerWish) -> Result<ChangedReply, ClientError> {
        let body = PowerBody {
            what,
            plan_only: false,
        };
        self.call(
            Method::POST,
            &format!("/api/v1/nodes/{node}/power"),
            Some(&body),
        )
        .await
    }

    /// `what` is `fence` or `readmit`.
    pub async fn node(&self, node: &str, what: &str) -> Result<ChangedReply, ClientError> {
        self.call::<(), _>(Method::POST, &format!("/api/v1/nodes/{node}/{what}"), None)
            .await
    }

    /// Every change of the status, as it happens, until `seen` says that it has seen enough.
    pub async fn watch(
        &self,
        mut seen: impl FnMut(StatusReply) -> bool,
    ) -> Result<(), ClientError> {
        let (server, response) = self.send::<()>(Method::GET, "/api/v1/live", None).await?;
        let mut stream = response.bytes_stream();
        let mut text = Vec::new();
        while let Some(chunk) = stream.next().await {
            let strange = |e: String| ClientError::Strange {
                server: server.clone(),
                why: e,
            };
            text.extend_from_slice(&chunk.map_err(|e| strange(e.to_string()))?);
            // Server-sent events (WHATWG HTML, section 9.2): blocks that end in an empty line.
            while let Some(end) = text.windows(2).position(|w| w == b"\n\n") {
                let block: Vec<u8> = text.drain(..end + 2).collect();
                let block = String::from_utf8_lossy(&block);
                let data: String = block
                    .lines()
                    .filter_map(|l| l.strip_prefix("data: "))
                    .collect();
                if !data.is_empty() {
                    let reply = serde_json::from_str(&data).map_err(|e| strange(e.to_string()))?;
                    if seen(reply) {
                        return Ok(());
                    }
                }
            }
        }
        Err(ClientError::Unreachable(vec![format!(
            "{server} closed the stream"
        )]))
    }
}

/// What a node's clock reads, as it says itself (RFC 9110, section 6.6.1). Nobody has to be signed
/// in for that.
///
/// # Errors
/// If it does not answer, or says no date.
pub async fn date_of(server: &str, ca: &str) -> Result<String, ClientError> {
    let client = Client::new(&[server.into()], "", Some(ca))?;
    let response = client
        .http
        .get(format!("{server}/openapi.json"))
        .send()
        .await;
    let response = response
        .map_err(|e| ClientError::Unreachable(vec![format!("{server}: {}", innermost(&e))]))?;
    let date = response.headers().get(header::DATE);
    let date = date.and_then(|date| date.to_str().ok());
    date.map(Into::into).ok_or_else(|| ClientError::Strange {
        server: server.into(),
        why: "it says no date".into(),
    })
}

/// Where requests go that carry a token: by TLS, or no further than this host.
fn base(server: &str) -> Result<String, ClientError> {
    let server = server.trim_end_matches('/');
    let text = if server.contains("://") {
        server.to_string()
    } else {
        format!("https://{server}")
    };
    match may_carry_secrets(&text) {
        Ok(()) => Ok(text),
        Err(why) => Err(ClientError::Setup(format!("server {why}"))),
    }
}

/// What it comes down to: "connection refused", "invalid peer certificate: UnknownIssuer".
fn innermost(error: &dyn std::error::Error) -> String {
    let mut cause = error;
    while let Some(deeper) = cause.source() {
        cause = deeper;
    }
    let text = cause.to_string();
    if text.contains("UnknownIssuer") {
        format!("{text}; name the cluster's CA with --ca")
    } else {
        text
    }
}
