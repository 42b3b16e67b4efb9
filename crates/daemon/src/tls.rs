//! Certificates: this node's own, the cluster's CA, and who the other end of a connection is.

use crate::clock;
use crate::lock::{read, write};
use anyhow::{Context, Result, bail};
use karst_api::pki::digest;
use karst_core::NodeId;
use karst_core::about::Authorities;
use karst_core::state::{Departed, Gone};
use rustls::client::WebPkiServerVerifier;
use rustls::client::danger::ServerCertVerifier;
use rustls::pki_types::pem::PemObject;
use rustls::pki_types::{
    CertificateDer, CertificateRevocationListDer, PrivateKeyDer, ServerName, UnixTime,
};
use rustls::server::danger::ClientCertVerifier;
use rustls::server::{ClientHello, ResolvesServerCert, WebPkiClientVerifier};
use rustls::sign::CertifiedKey;
use rustls::{ClientConfig, RootCertStore, ServerConfig, SignatureScheme};
use serde::{Deserialize, Serialize};
use std::collections::BTreeSet;
use std::net::SocketAddr;
use std::path::Path;
use std::sync::{Arc, RwLock};
use std::time::Duration;
use tokio::sync::watch;

type Chain = Vec<CertificateDer<'static>>;

/// A node's identity: the certificate names the node (a DNS subject alternative name).
pub struct Identity {
    chain: Chain,
    key: PrivateKeyDer<'static>,
    roots: Arc<RootCertStore>,
    revoked: Vec<CertificateRevocationListDer<'static>>,
    /// What people are told of that.
    pub authorities: Authorities,
}

/// What a node said, with what shows that it did.
#[derive(Serialize, Deserialize)]
pub struct Signed {
    pub message: Vec<u8>,
    /// As TLS numbers them (RFC 8446, section 4.2.3).
    scheme: u16,
    signature: Vec<u8>,
    chain: Vec<Vec<u8>>,
}

/// What may be another while the daemon runs.
pub const FILES: [&str; 6] = [
    "ca.pem",
    "node.pem",
    "node.key",
    "crl.pem",
    "server.pem",
    "server.key",
];

impl Identity {
    /// From `ca.pem`, `node.pem` and `node.key` in one directory; and `crl.pem`, if it is there,
    /// with what the CA has revoked.
    ///
    /// # Errors
    /// Which file is missing or cannot be read.
    pub fn load(dir: &Path) -> Result<Self> {
        let file = |name: &str| dir.join(name);
        let certificates = |name: &str| -> Result<Chain> {
            let path = file(name);
            let list: Result<Vec<_>, _> =
                CertificateDer::pem_file_iter(&path).and_then(Iterator::collect);
            let list = list.with_context(|| format!("certificate {}", path.display()))?;
            if list.is_empty() {
                bail!("{} holds no certificate", path.display());
            }
            Ok(list)
        };
        let (mut roots, trusted) = (RootCertStore::empty(), certificates("ca.pem")?);
        for ca in &trusted {
            roots.add(ca.clone()).context("the cluster's CA")?;
        }
        let key = PrivateKeyDer::from_pem_file(file("node.key"))
            .with_context(|| format!("key {}", file("node.key").display()))?;
        let crl = file("crl.pem");
        let revoked = match crl
            .try_exists()
            .with_context(|| format!("{}", crl.display()))?
        {
            true => CertificateRevocationListDer::pem_file_iter(&crl)
                .and_then(Iterator::collect)
                .with_context(|| format!("revocations {}", crl.display()))?,
            false => Vec::new(),
        };
        let chain = certificates("node.pem")?;
        let mut own = vec![Some(chain.clone())];
        if !matches!(file("server.pem").try_exists(), Ok(false)) {
            own.push(certificates("server.pem").ok());
        }
        let identity = Self {
            authorities: authorities(&trusted, &own),
            chain,
            key,
            roots: Arc::new(roots),
            revoked,
        };
        // Whether they are of any use is known before anybody is told of them.
        identity.peer_server()?;
        identity.peer_client()?;
        Ok(identity)
    }

    /// Whether a certificate is one to connect with: a node's, and not that of a node's server.
    fn of_clients(&self) -> Result<Arc<dyn ClientCertVerifier>> {
        let verifier =
            WebPkiClientVerifier::builder(self.roots.clone()).with_crls(self.revoked.clone());
        verifier
            .only_check_end_entity_revocation()
            .build()
            .context("ca.pem or crl.pem")
    }

    /// For peers: both ends show a certificate of the cluster's CA.
    pub fn peer_server(&self) -> Result<ServerConfig> {
        let verifier = self.of_clients()?;
        let mut config = ServerConfig::builder_with_protocol_versions(&[&rustls::version::TLS13])
            .with_client_cert_verifier(verifier)
            .with_single_cert(self.chain.clone(), self.key.clone_key())?;
        config.alpn_protocols = vec![ALPN.to_vec()];
        Ok(config)
    }

    /// Whether a certificate is a node's, of the cluster's CA and not revoked.
    fn of_nodes(&self) -> Result<Arc<WebPkiServerVerifier>> {
        let verifier =
            WebPkiServerVerifier::builder(self.roots.clone()).with_crls(self.revoked.clone());
        verifier
            .only_check_end_entity_revocation()
            .build()
            .context("ca.pem or crl.pem")
    }

    pub fn peer_client(&self) -> Result<ClientConfig> {
        let verifier = self.of_nodes()?;
        let mut config = ClientConfig::builder_with_protocol_versions(&[&rustls::version::TLS13])
            .with_webpki_verifier(verifier)
            .with_client_auth_cert(self.chain.clone(), self.key.clone_key())?;
        config.alpn_protocols = vec![ALPN.to_vec()];
        Ok(config)
    }

    /// What this node says, for whoever has the cluster's CA.
    ///
    /// # Errors
    /// If the key cannot sign.
    pub fn sign(&self, message: Vec<u8>) -> Result<Signed> {
        let key = rustls::crypto::ring::sign::any_supported_type(&self.key).context("node.key")?;
        let algorithms = rustls::crypto::ring::default_provider().signature_verification_algorithms;
        let signer = key.choose_scheme(&algorithms.supported_schemes());
        let signer = signer.context("node.key is of no kind that signs")?;
        Ok(Signed {
            scheme: signer.scheme().into(),
            signature: signer.sign(&message)?,
            chain: self.chain.iter().map(|c| c.to_vec()).collect(),
            message,
        })
    }

    /// Whether that node said this.
    ///
    /// # Errors
    /// Why not, or why it cannot be told.
    pub fn verify(&self, said: &Signed, node: &NodeId, refused: &Refused) -> Result<()> {
        let mut chain = said.chain.iter().map(|c| CertificateDer::from(c.clone()));
        let own = chain.next().context("no certificate came along")?;
        let verifier = self.of_nodes()?;
        let name = ServerName::try_from(node.to_string())?;
        let above: Vec<_> = chain.collect();
        verifier.verify_server_cert(&own, &above, &name, &[], UnixTime::now())?;
        // A server's key, which its user may read, signs nothing for its node.
        let clients = self.of_clients()?;
        clients.verify_client_cert(&own, &above, UnixTime::now())?;
        if let Some(gone) = refused.find(&own)? {
            bail!("that key speaks for {} no more", gone.node);
        }
        let certificate = webpki::EndEntityCert::try_from(&own)?;
        let algorithms = rustls::crypto::ring::default_provider().signature_verification_algorithms;
        let scheme = SignatureScheme::from(said.scheme);
        let fitting = algorithms.mapping.iter().filter(|(s, _)| *s == scheme);
        let mut fitting = fitting.flat_map(|(_, list)| list.iter());
        let holds = fitting.any(|algorithm| {
            let signed = certificate.verify_signature(*algorithm, &said.message, &said.signature);
            signed.is_ok()
        });
        if holds {
            Ok(())
        } else {
            bail!("the signature is not {node}'s")
        }
    }

    /// Its own key, as [`key_of`] names it.
    ///
    /// # Errors
    /// If the certificate cannot be read.
    pub fn key(&self) -> Result<String> {
        key_of(self.chain.first().context("no certificate")?)
    }

    fn certified(&self) -> Result<CertifiedKey> {
        let key = rustls::crypto::ring::sign::any_supported_type(&self.key).context("node.key")?;
        let certified = CertifiedKey::new(self.chain.clone(), key);
        certified
            .keys_match()
            .context("node.key does not belong to node.pem")?;
        Ok(certified)
    }
}

/// Whether both can be read and belong together.
pub fn fit(key: &Path, certificate: &Path) -> bool {
    let key = PrivateKeyDer::from_pem_file(key).ok();
    let key = key.and_then(|key| rustls::crypto::ring::sign::any_supported_type(&key).ok());
    let chain: Option<Chain> = CertificateDer::pem_file_iter(certificate)
        .and_then(Iterator::collect)
        .ok();
    let pair = key.zip(chain.filter(|chain| !chain.is_empty()));
    pair.is_some_and(|(key, chain)| CertifiedKey::new(chain, key).keys_match().is_ok())
}

/// Of those that are believed, whose certificates these are: each file's, or none where it cannot be
/// read.
fn authorities(trusted: &[CertificateDer<'_>], own: &[Option<Chain>]) -> Authorities {
    let prints: Vec<String> = trusted.iter().map(|ca| digest(ca)).collect();
    let named = |ca: &CertificateDer<'_>| {
        let (_, read) = x509_parser::parse_x509_certificate(ca).ok()?;
        Some(read.subject().as_raw().to_vec())
    };
    let names: Vec<Option<Vec<u8>>> = trusted.iter().map(named).collect();
    let signer = |chain: &Option<Chain>| {
        let (_, read) = x509_parser::parse_x509_certificate(chain.as_ref()?.last()?).ok()?;
        let issuer = Some(read.issuer().as_raw().to_vec());
        let mut fitting = names
            .iter()
            .zip(&prints)
            .filter(|(name, _)| **name == issuer);
        // Two of one name: it may be either's.
        let (_, print) = fitting.next().filter(|_| fitting.next().is_none())?;
        Some(print.clone())
    };
    let signed_by: Option<BTreeSet<String>> = own.iter().map(signer).collect();
    Authorities {
        signed_by: signed_by.into_iter().flatten().collect(),
        trusted: prints,
    }
}

/// The keys that speak for nobody any more (M1). Clones say the same.
#[derive(Clone)]
pub struct Refused(Arc<watch::Sender<Departed>>);

impl Default for Refused {
    fn default() -> Self {
        Self(Arc::new(watch::Sender::new(Departed::default())))
    }
}

impl Refused {
    pub fn set(&self, gone: Departed) {
        self.0.send_replace(gone);
    }

    /// Wakes when they are other ones.
    pub fn changes(&self) -> watch::Receiver<Departed> {
        self.0.subscribe()
    }

    /// Whose a certificate's key was, if it is one of them.
    ///
    /// # Errors
    /// If the certificate cannot be read.
    pub fn find(&self, certificate: &CertificateDer<'_>) -> Result<Option<Gone>> {
        let key = key_of(certificate)?;
        Ok(self.0.borrow().keys.get(&key).cloned())
    }

    /// Where those were who had them.
    pub fn places(&self) -> Vec<SocketAddr> {
        let gone = self.0.borrow();
        gone.keys.values().map(|gone| gone.peer).collect()
    }
}

/// SHA-256 of a certificate's public key (RFC 5280, section 4.1.2.7), in hexadecimal digits.
///
/// # Errors
/// If it cannot be read.
pub fn key_of(certificate: &CertificateDer<'_>) -> Result<String> {
    let (_, read) = x509_parser::parse_x509_certificate(certificate)?;
    Ok(digest(read.public_key().raw))
}

/// What the HTTP service shows: clients authenticate with tokens. Clones show the same.
#[derive(Clone, Debug)]
pub struct HttpCertificate(Arc<RwLock<Arc<CertifiedKey>>>);

impl HttpCertificate {
    pub fn new(identity: &Identity) -> Result<Self> {
        Ok(Self(Arc::new(RwLock::new(Arc::new(identity.certified()?)))))
    }

    /// The next connection sees it.
    pub fn renew(&self, identity: &Identity) -> Result<()> {
        *write(&self.0) = Arc::new(identity.certified()?);
        Ok(())
    }

    pub fn server(&self) -> ServerConfig {
        ServerConfig::builder()
            .with_no_client_auth()
            .with_cert_resolver(Arc::new(self.clone()))
    }
}

impl ResolvesServerCert for HttpCertificate {
    fn resolve(&self, _: ClientHello<'_>) -> Option<Arc<CertifiedKey>> {
        Some(read(&self.0).clone())
    }
}

/// Until when the first certificate of a file is valid, in seconds since the Unix epoch; none if
/// the file is not there.
pub fn until(path: &Path) -> Result<Option<u64>> {
    if !path.try_exists()? {
        return Ok(None);
    }
    let der = CertificateDer::from_pem_file(path)
        .with_context(|| format!("certificate {}", path.display()))?;
    let (_, certificate) = x509_parser::parse_x509_certificate(&der)?;
    let end = certificate.validity().not_after.timestamp();
    Ok(Some(u64::try_from(end).unwrap_or(0)))
}

/// How long that is from now.
pub fn left(path: &Path) -> Result<Option<Duration>> {
    let left = |until: u64| Duration::from_secs(until.saturating_sub(clock::unix()));
    Ok(until(path)?.map(left))
}

const ALPN: &[u8] = b"karst-peer/1";

/// Which of the known nodes a verified certificate belongs to.
pub fn node_of(
    certificate: &CertificateDer<'_>,
    known: impl Iterator<Item = NodeId>,
) -> Option<NodeId> {
    let end_entity = webpki::EndEntityCert::try_from(certificate).ok()?;
    let names = |node: &NodeId| {
        let name = ServerName::try_from(node.to_string());
        name.is_ok_and(|n| end_entity.verify_is_valid_for_subject_name(&n).is_ok())
    };
    let mut known = known;
    known.find(names)
}

#[cfg(test)]
mod tests {
    use super::*;
    use karst_api::pki::{Authority, Purpose, ask};

    /// A node signs console tickets, and messages that go round a broken link, with its own key. The key
    /// of a server beside it signs nothing.
    #[test]
    fn the_key_of_a_server_speaks_for_no_node() {
        let ca = Authority::make("skerry").unwrap();
        let identity = |purpose| {
            let dir = tempfile::tempdir().unwrap();
            let asked = ask("doline").unwrap();
            let certificate = ca.issue(&asked.request, "doline", &[], purpose).unwrap();
            let files = [
                ("ca.pem", &ca.certificate),
                ("node.pem", &certificate),
                ("node.key", &asked.key),
            ];
            for (name, text) in files {
                std::fs::write(dir.path().join(name), text).unwrap();
            }
            Identity::load(dir.path()).unwrap()
        };
        let (node, server) = (identity(Purpose::Node), identity(Purpose::Server));
        let (doline, refused) = (NodeId::from("doline"), Refused::default());
        let says = |who: &Identity| who.sign(b"a ticket".to_vec()).unwrap();
        node.verify(&says(&node), &doline, &refused).unwrap();
        node.verify(&says(&server), &doline, &refused).unwrap_err();
        let other = NodeId::from("polje");
        node.verify(&says(&node), &other, &refused).unwrap_err();
    }
}
