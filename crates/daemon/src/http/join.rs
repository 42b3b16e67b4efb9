//! How a new host becomes a node: somebody invites it, and whoever has the line of the invitation gets
//! a certificate for a key of its own, and what the other nodes have.

use super::api::ask_cluster;
use super::problem::{Body, Refusal};
use super::service::Service;
use crate::lock::read;
use crate::proven::is_proven;
use crate::tokens::User;
use actix_web::{HttpRequest, HttpResponse, web};
use karst_api::invitation::{Line, digest_of};
use karst_api::pki::{Authority, PkiError, Purpose, digest, print_of, renewal};
use karst_api::{
    InvitationReply, InviteBody, JoinBody, JoinReply, ProblemType, RenewBody, RenewReply,
};
use karst_core::author::Level;
use karst_core::request::{Answer, JoinProof, Request};
use karst_core::spec::Spec;
use karst_core::spec::secret_files;
use karst_core::{NodeId, OperationId};
use std::collections::BTreeMap;
use std::net::IpAddr;
use std::path::{Path, PathBuf};

/// Seconds for which an invitation lasts where nobody says how many, and at most.
const USUAL: u64 = 3_600;
const LONGEST: u64 = 7 * 24 * 3_600;
/// Clocks that differ by more seconds make a history that nobody can read, and certificates that are
/// not valid yet.
const APART: u64 = 5;
/// A file that is sent to whoever joins is no larger.
const LONGEST_FILE: u64 = 64 * 1024;

/// Where this host's files are.
pub struct Files {
    pub tls: PathBuf,
    pub tokens: PathBuf,
    /// No other file that the spec refers to is sent.
    pub secrets: PathBuf,
}

/// A file that whoever joins needs: without it nobody joins, since half of what the others have is
/// a node that is different from them.
fn carried(path: &Path) -> Result<String, Refusal> {
    let refused = |why: String| {
        let what = format!("nothing was sent: {}: {why}", path.display());
        Refusal::new(ProblemType::Refused, what)
    };
    let length = std::fs::metadata(path).map_err(|e| refused(e.to_string()))?;
    if length.len() > LONGEST_FILE {
        return Err(refused(format!(
            "it has {} bytes, and at most {LONGEST_FILE} are sent: copy it to the new host by hand, and have the spec name one that is smaller",
            length.len()
        )));
    }
    std::fs::read_to_string(path).map_err(|e| refused(e.to_string()))
}

impl Files {
    fn read(&self, name: &str) -> Result<String, Refusal> {
        carried(&self.tls.join(name))
    }

    /// None where nothing was ever revoked.
    fn revoked(&self) -> Result<Option<String>, Refusal> {
        let there = self.tls.join("crl.pem").try_exists();
        let there =
            there.map_err(|e| Refusal::new(ProblemType::Refused, format!("crl.pem: {e}")))?;
        there.then(|| self.read("crl.pem")).transpose()
    }

    /// The files that the spec refers to: they are the same on every node. A spec may name any file, and
    /// the daemon may read many: this host's owner says which are for other hosts.
    fn secrets(&self, spec: &Spec) -> Result<BTreeMap<String, String>, Refusal> {
        let read = |path: String| {
            let secret = self.secret(Path::new(&path))?;
            Ok((path, secret))
        };
        secret_files(spec).into_iter().map(read).collect()
    }

    fn secret(&self, path: &Path) -> Result<String, Refusal> {
        let real = |path: &Path| {
            let what = |e| format!("nothing was sent: {}: {e}", path.display());
            let real = std::fs::canonicalize(path);
            real.map_err(|e| Refusal::new(ProblemType::Refused, what(e)))
        };
        if real(path)?.starts_with(real(&self.secrets)?) {
            return carried(path);
        }
        let what = format!(
            "nothing was sent: {} does not lie in {}: move it there and have the spec name it, or start \
             karstd with --secrets DIR",
            path.display(),
            self.secrets.display()
        );
        Err(Refusal::new(ProblemType::Refused, what))
    }

    fn authority(&self, me: &NodeId) -> Result<Authority, Refusal> {
        let key = self.tls.join("ca.key");
        if !key.exists() {
            // Another one may have it.
            return Err(Refusal::unavailable(format!(
                "{me} does not have the key of the cluster's CA ({}): ask the node that has it",
                key.display()
            )));
        }
        Authority::load(&self.read("ca.pem")?, &self.read("ca.key")?).map_err(unusable)
    }
}

fn unusable(error: PkiError) -> Refusal {
    Refusal::new(ProblemType::Refused, error.to_string())
}

/// Invites a host to join as a node of the spec; the answer has the line to paste there.
#[utoipa::path(post, path = "/api/v1/invitations", request_body = InviteBody, responses((status = 200, body = InvitationReply)))]
pub async fn invite(
    service: web::Data<Service>,
    user: User,
    body: Body<InviteBody>,
) -> Result<HttpResponse, Refusal> {
    user.needs(Level::Administer)?;
    let InviteBody { node, for_seconds } = body.0;
    let time = for_seconds.unwrap_or(USUAL);
    if time == 0 || time > LONGEST {
        let what = format!("`for_seconds` is a number from 1 to {LONGEST} (a week)");
        return Err(Refusal::bad(what));
    }
    let ca = service.files.authority(&service.me)?.certificate;
    let secret = digest(&rand::random::<[u8; 32]>());
    let known = digest_of(&secret).ok_or_else(|| Refusal::unavailable("no key can be made now"))?;
    let until = crate::clock::unix() + time;
    let request = Request::Invite {
        node: node.clone(),
        digest: known,
        until,
        by: user.name.clone(),
    };
    let Answer::Started { operation } =
        ask_cluster(&service, request, (user.level, user.token)).await?
    else {
        return Err(Refusal::unavailable("it is not known whether it was made"));
    };
    let spec = service.spec();
    let own = service.own_address();
    let others = spec.nodes.values().filter_map(|node| node.api);
    let others = others.filter(|at| Some(*at) != own);
    let line = Line {
        cluster: spec.cluster.clone(),
        node: node.to_string(),
        invitation: operation.0,
        secret,
        addresses: own
            .into_iter()
            .chain(others)
            .map(|at| at.to_string())
            .collect(),
        ca,
    };
    Ok(HttpResponse::Ok().json(InvitationReply {
        operation,
        until,
        line: line.to_string(),
    }))
}

/// Takes a host in that has an invitation: its secret is what allows it.
#[utoipa::path(post, path = "/api/v1/join", request_body = JoinBody, security(()), responses((status = 200, body = JoinReply)))]
pub async fn join(
    service: web::Data<Service>,
    request: HttpRequest,
    body: Body<JoinBody>,
) -> Result<HttpResponse, Refusal> {
    let body = body.0;
    let key = print_of(&body.request).map_err(|e| Refusal::unusable(e.to_string()))?;
    let server_key =
        print_of(&body.server_request).map_err(|e| Refusal::unusable(e.to_string()))?;
    let now = crate::clock::unix();
    let node = body.node.clone();
    let asked = Request::Join {
        invitation: OperationId(body.invitation),
        node: node.clone(),
        digest: body.proof.digest(),
        key,
        at: now,
        proof: JoinProof {
            public: body.proof.public.clone(),
            signature: body.proof.signature.clone(),
            server_key,
        },
    };
    if !is_proven(&service.spec().cluster, &asked) {
        let from = request.peer_addr().map(|at| at.ip());
        tokio::time::sleep(service.strangers.wrong(from)).await;
        let what = "the proof is not of this invitation's secret for these keys";
        return Err(Refusal::new(ProblemType::Refused, what));
    }
    if let Err(refused) = ask_cluster(&service, asked, (Level::Observe, None)).await {
        let from = request.peer_addr().map(|at| at.ip());
        tokio::time::sleep(service.strangers.wrong(from)).await;
        return Err(refused);
    }
    // What follows is said to a host that was invited, and to no stranger. The same key may ask again.
    let authority = service.files.authority(&service.me)?;
    if now.abs_diff(body.unix) > APART {
        let what = format!(
            "this host's clock and that of {} are {} s apart: set one of them right first",
            service.me,
            now.abs_diff(body.unix)
        );
        return Err(Refusal::new(ProblemType::Refused, what));
    }
    let spec = service.spec();
    let (tokens, secrets) = (
        carried(&service.files.tokens)?,
        service.files.secrets(&spec)?,
    );
    let issuer = Issuer {
        authority,
        addresses: addresses(&spec, &node),
        node,
    };
    Ok(HttpResponse::Ok().json(JoinReply {
        certificate: issuer.issue(&body.request, Purpose::Node)?,
        server_certificate: issuer.issue(&body.server_request, Purpose::Server)?,
        ca: issuer.authority.certificate.clone(),
        crl: service.files.revoked()?,
        revision: service.revision().number,
        spec: service.revision().text.to_string(),
        tokens,
        secrets,
    }))
}

/// Signs what a node of the spec goes on with once its certificates end.
#[utoipa::path(post, path = "/api/v1/nodes/{node}/certificates", params(("node" = String, Path)), request_body = RenewBody,
    responses((status = 200, body = RenewReply)))]
pub async fn renew(
    service: web::Data<Service>,
    user: User,
    path: web::Path<String>,
    body: Body<RenewBody>,
) -> Result<HttpResponse, Refusal> {
    user.needs(Level::Administer)?;
    let (node, spec) = (NodeId::from(path.into_inner()), service.spec());
    if !spec.nodes.contains_key(&node) {
        let what = format!("there is no node `{node}` in the spec in force");
        return Err(Refusal::new(ProblemType::NotFound, what));
    }
    let RenewBody {
        request,
        server_request,
        certificate,
        signature,
    } = body.0;
    let text = renewal(node.as_str(), &request, &server_request);
    let text = text.map_err(|e| Refusal::unusable(e.to_string()))?;
    let identity = read(&service.identity).clone();
    let proven = identity.is_signed(&node, &text, (&certificate, &signature), &service.refused);
    if let Err(error) = proven {
        let what = format!(
            "nothing was signed: {node}'s present key has to sign for the next ones, and that is not so: {error:#}; where its \
             key is lost it joins anew (`karst node add {node}`)"
        );
        return Err(Refusal::new(ProblemType::Refused, what));
    }
    let issuer = Issuer {
        authority: service.files.authority(&service.me)?,
        addresses: addresses(&spec, &node),
        node,
    };
    Ok(HttpResponse::Ok().json(RenewReply {
        certificate: issuer.issue(&request, Purpose::Node)?,
        server_certificate: issuer.issue(&server_request, Purpose::Server)?,
        ca: issuer.authority.certificate.clone(),
        crl: service.files.revoked()?,
    }))
}

/// Signs for one node.
struct Issuer {
    authority: Authority,
    node: NodeId,
    addresses: Vec<IpAddr>,
}

impl Issuer {
    fn issue(&self, asked: &str, purpose: Purpose) -> Result<String, Refusal> {
        let (name, addresses) = (self.node.as_str(), &self.addresses);
        let made = self.authority.issue(asked, name, addresses, purpose);
        made.map_err(|e| Refusal::unusable(e.to_string()))
    }
}

/// Where a node is reached, by whomever.
fn addresses(spec: &Spec, node: &NodeId) -> Vec<IpAddr> {
    let own = spec.nodes.get(node);
    let own = own
        .into_iter()
        .flat_map(|n| [Some(n.peer), n.api])
        .flatten();
    let workloads = spec.workloads.values();
    let placed = workloads.flat_map(|w| {
        let replica = w.replicas.get(node).map(|replica| replica.address);
        replica.into_iter().chain(w.gates.get(node).copied())
    });
    let mut all: Vec<IpAddr> = own.chain(placed).map(|at| at.ip()).collect();
    all.sort_unstable();
    all.dedup();
    all
}

#[cfg(test)]
mod tests {
    use super::{Files, LONGEST_FILE, carried};
    use std::path::{Path, PathBuf};

    /// A node sends a file from the one directory that is for it, however the spec writes the path.
    #[test]
    fn no_file_from_elsewhere_is_sent() {
        let dir = tempfile::tempdir().unwrap();
        let (inside, elsewhere) = (dir.path().join("secrets"), dir.path().join("ca.key"));
        std::fs::create_dir_all(&inside).unwrap();
        std::fs::write(inside.join("power"), "quay").unwrap();
        std::fs::write(&elsewhere, "the CA").unwrap();
        std::os::unix::fs::symlink(&elsewhere, inside.join("link")).unwrap();
        let files = Files {
            tls: PathBuf::new(),
            tokens: PathBuf::new(),
            secrets: inside.clone(),
        };
        assert_eq!(files.secret(&inside.join("power")).unwrap(), "quay");
        let refused = |path: &Path| files.secret(path).unwrap_err().to_string();
        for path in [&elsewhere, &inside.join("../ca.key"), &inside.join("link")] {
            assert!(refused(path).contains("does not lie in"), "{path:?}");
        }
        assert!(refused(&inside.join("gone")).contains("No such file"));
    }

    /// What cannot be read is not sent as if there were nothing in it.
    #[test]
    fn a_file_that_cannot_be_sent_is_named_and_nothing_is() {
        let dir = std::env::temp_dir().join(format!("karst-carried-{}", std::process::id()));
        std::fs::create_dir_all(&dir).unwrap();
        let path = dir.join("replication");
        let refused = |path: &std::path::Path| carried(path).unwrap_err().to_string();
        let missing = refused(&path);
        assert!(missing.contains("replication: No such file"), "{missing}");
        std::fs::write(&path, vec![b'x'; LONGEST_FILE as usize + 1]).unwrap();
        let large = refused(&path);
        assert!(large.contains("replication: it has 65537 bytes"), "{large}");
        std::fs::write(&path, [0xff, 0xfe]).unwrap();
        assert!(refused(&path).contains("UTF-8"));
        std::fs::write(&path, "quay").unwrap();
        assert_eq!(carried(&path).unwrap(), "quay");
        std::fs::remove_dir_all(&dir).unwrap();
    }
}
