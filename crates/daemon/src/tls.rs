//! Certificates: this node's own, the cluster's CA, and who the other end of a connection is.

use crate::clock;
use crate::lock::{read, write};
use crate::tokens::unhex;
use anyhow::{Context, Result, bail};
use karst_api::pki::digest;
use karst_core::NodeId;
use karst_core::about::Authorities;
use karst_core::state::{Departed, Gone};
use rustls::client::WebPkiServerVerifier;
use rustls::client::danger::ServerCertVerifier as _;
use rustls::pki_types::pem::PemObject;
use rustls::pki_types::{
    CertificateDer, CertificateRevocationListDer, PrivateKeyDer, ServerName, UnixTime,
};
use rustls::server::danger::ClientCertVerifier;
use rustls::server::{ClientHello, ResolvesServerCert, WebPkiClientVerifier};
use rustls::sign::CertifiedKey;
use rustls::{ClientConfig, RootCertStore, ServerConfig};
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

    /// Whether that node signed this with a key that is its own, and that was not taken from it. A
    /// certificate that has ended says so of its key as it did on its last day.
    ///
    /// # Errors
    /// Why not, or why it cannot be told.
    pub fn is_signed(
        &self,
        node: &NodeId,
        text: &str,
        (certificate, signature): (&str, &str),
        refused: &Refused,
    ) -> Result<()> {
        let chain: Chain = CertificateDer::pem_slice_iter(certificate.as_bytes())
            .collect::<std::result::Result<_, _>>()?;
        let (own, above) = chain.split_first().context("no certificate came along")?;
        let (_, read) = x509_parser::parse_x509_certificate(own)?;
        let ends = u64::try_from(read.validity().not_after.timestamp())?;
        let now = crate::clock::unix().min(ends.saturating_sub(1));
        let now = UnixTime::since_unix_epoch(Duration::from_secs(now));
        let name = ServerName::try_from(node.to_string())?;
        self.of_nodes()?
            .verify_server_cert(own, above, &name, &[], now)?;
        // A server's key, which its user may read, signs nothing for its node.
        self.of_clients()?.verify_client_cert(own, above, now)?;
        if let Some(gone) = refused.find(own)? {
            bail!("that key speaks for {} no more", gone.node);
        }
        let signature = unhex(signature).context("the signature is not in hexadecimal digits")?;
        let own = webpki::EndEntityCert::try_from(own)?;
        let provider = rustls::crypto::ring::default_provider();
        let mut algorithms = provider.signature_verification_algorithms.all.iter();
        let holds = algorithms.any(|algorithm| {
            let signed = own.verify_signature(*algorithm, text.as_bytes(), &signature);
            signed.is_ok()
        });
        anyhow::ensure!(holds, "the signature is not by the key of that certificate");
        Ok(())
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
    use rustls::pki_types::UnixTime;

    /// A server's user may read its key: that key connects as no node, and signs for none.
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
            let identity = Identity::load(dir.path()).unwrap();
            (identity, certificate, asked.key)
        };
        let (node, server) = (identity(Purpose::Node), identity(Purpose::Server));
        let may_connect = |(who, ..): &(Identity, String, String)| {
            let verifier = node.0.of_clients().unwrap();
            let verdict = verifier.verify_client_cert(&who.chain[0], &[], UnixTime::now());
            verdict.is_ok()
        };
        assert!(may_connect(&node));
        assert!(!may_connect(&server));
        let signs = |as_node: &str, (_, certificate, key): &(Identity, String, String)| {
            let signature = karst_api::pki::signed(key, "a text").unwrap();
            let refused = Refused::default();
            let shown = (certificate.as_str(), signature.as_str());
            let said = node.0.is_signed(&as_node.into(), "a text", shown, &refused);
            let other = node
                .0
                .is_signed(&as_node.into(), "another", shown, &refused);
            assert!(other.is_err());
            said.is_ok()
        };
        assert!(signs("doline", &node));
        assert!(!signs("polje", &node) && !signs("doline", &server));
    }
}
