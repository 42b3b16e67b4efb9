//! Certificates: this node's own, the cluster's CA, and who the other end of a connection is.

use anyhow::{Context, Result, bail};
use karst_core::NodeId;
use rustls::pki_types::pem::PemObject;
use rustls::pki_types::{CertificateDer, PrivateKeyDer, ServerName};
use rustls::server::WebPkiClientVerifier;
use rustls::{ClientConfig, RootCertStore, ServerConfig};
use std::path::Path;
use std::sync::Arc;

/// A node's identity: the certificate names the node (a DNS subject alternative name).
pub struct Identity {
    chain: Vec<CertificateDer<'static>>,
    key: PrivateKeyDer<'static>,
    roots: Arc<RootCertStore>,
}

impl Identity {
    /// From `ca.pem`, `node.pem` and `node.key` in one directory.
    ///
    /// # Errors
    /// Which file is missing or cannot be read.
    pub fn load(dir: &Path) -> Result<Self> {
        let file = |name: &str| dir.join(name);
        let certificates = |name: &str| -> Result<Vec<CertificateDer<'static>>> {
            let path = file(name);
            let list: Result<Vec<_>, _> = CertificateDer::pem_file_iter(&path).and_then(Iterator::collect);
            let list = list.with_context(|| format!("certificate {}", path.display()))?;
            if list.is_empty() {
                bail!("{} holds no certificate", path.display());
            }
            Ok(list)
        };
        let mut roots = RootCertStore::empty();
        for ca in certificates("ca.pem")? {
            roots.add(ca).context("the cluster's CA")?;
        }
        let key = PrivateKeyDer::from_pem_file(file("node.key"))
            .with_context(|| format!("key {}", file("node.key").display()))?;
        Ok(Self { chain: certificates("node.pem")?, key, roots: Arc::new(roots) })
    }

    /// For peers: both ends show a certificate of the cluster's CA.
    pub fn peer_server(&self) -> Result<ServerConfig> {
        let verifier = WebPkiClientVerifier::builder(self.roots.clone()).build()?;
        let mut config = ServerConfig::builder_with_protocol_versions(&[&rustls::version::TLS13])
            .with_client_cert_verifier(verifier)
            .with_single_cert(self.chain.clone(), self.key.clone_key())?;
        config.alpn_protocols = vec![ALPN.to_vec()];
        Ok(config)
    }

    pub fn peer_client(&self) -> Result<ClientConfig> {
        let mut config = ClientConfig::builder_with_protocol_versions(&[&rustls::version::TLS13])
            .with_root_certificates(self.roots.clone())
            .with_client_auth_cert(self.chain.clone(), self.key.clone_key())?;
        config.alpn_protocols = vec![ALPN.to_vec()];
        Ok(config)
    }

    /// For the HTTP service: clients authenticate with tokens.
    pub fn http_server(&self) -> Result<ServerConfig> {
        let config = ServerConfig::builder().with_no_client_auth();
        Ok(config.with_single_cert(self.chain.clone(), self.key.clone_key())?)
    }
}

const ALPN: &[u8] = b"karst-peer/1";

/// Which of the known nodes a verified certificate belongs to.
pub fn node_of(certificate: &CertificateDer<'_>, known: impl Iterator<Item = NodeId>) -> Option<NodeId> {
    let end_entity = webpki::EndEntityCert::try_from(certificate).ok()?;
    let names = |node: &NodeId| {
        let name = ServerName::try_from(node.to_string());
        name.is_ok_and(|n| end_entity.verify_is_valid_for_subject_name(&n).is_ok())
    };
    let mut known = known;
    known.find(names)
}
