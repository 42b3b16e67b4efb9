//! Certificates: the cluster's CA, what a host asks of it (RFC 2986), and what it issues.

use rcgen::{
    BasicConstraints, CertificateParams, CertificateSigningRequestParams, DnType,
    ExtendedKeyUsagePurpose, IsCa, Issuer, KeyPair, KeyUsagePurpose, PublicKeyData as _,
};
use sha2::{Digest, Sha256};
use std::net::IpAddr;
use time::{Duration, OffsetDateTime};

/// How long a node's certificate is valid. A finding says a month before that it ends.
const VALID: Duration = Duration::days(3 * 365);
const CA_VALID: Duration = Duration::days(20 * 365);

#[derive(Debug, thiserror::Error)]
#[error("{what}: {why}")]
pub struct PkiError {
    what: &'static str,
    why: rcgen::Error,
}

fn failed(what: &'static str) -> impl FnOnce(rcgen::Error) -> PkiError {
    move |why| PkiError { what, why }
}

/// What a certificate is for.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Purpose {
    /// To speak as a node, both ways.
    Node,
    /// To answer as a node's server: nobody connects with it.
    Server,
}

/// The cluster's CA.
pub struct Authority {
    /// PEM.
    pub certificate: String,
    pub key: String,
    issuer: Issuer<'static, KeyPair>,
}

impl Authority {
    /// # Errors
    /// If no key can be made.
    pub fn make(cluster: &str) -> Result<Self, PkiError> {
        let of = || failed("the cluster's CA");
        let mut params = CertificateParams::new(Vec::<String>::new()).map_err(of())?;
        params.is_ca = IsCa::Ca(BasicConstraints::Constrained(0));
        params.key_usages = vec![KeyUsagePurpose::KeyCertSign, KeyUsagePurpose::CrlSign];
        let name = format!("{cluster} cluster CA");
        params.distinguished_name.push(DnType::CommonName, name);
        params.not_after = OffsetDateTime::now_utc() + CA_VALID;
        let key = KeyPair::generate().map_err(of())?;
        let certificate = params.self_signed(&key).map_err(of())?.pem();
        Self::load(&certificate, &key.serialize_pem())
    }

    /// # Errors
    /// If they are no CA's certificate and key.
    pub fn load(certificate: &str, key: &str) -> Result<Self, PkiError> {
        let of = || failed("the CA's certificate and key");
        let pair = KeyPair::from_pem(key).map_err(of())?;
        let issuer = Issuer::from_ca_cert_pem(certificate, pair).map_err(of())?;
        Ok(Self {
            certificate: certificate.into(),
            key: key.into(),
            issuer,
        })
    }

    /// A certificate for whoever has the key of the request: for this node, whatever the request
    /// says of names.
    ///
    /// # Errors
    /// If the request is none, or its signature is not by its key.
    pub fn issue(
        &self,
        request: &str,
        node: &str,
        addresses: &[IpAddr],
        purpose: Purpose,
    ) -> Result<String, PkiError> {
        let of = || failed("the request for a certificate");
        let mut asked = CertificateSigningRequestParams::from_pem(request).map_err(of())?;
        let names = [node.to_string(), "localhost".into(), "127.0.0.1".into()];
        let addresses = addresses.iter().map(ToString::to_string);
        let names: Vec<String> = names.into_iter().chain(addresses).collect();
        let mut params = CertificateParams::new(names).map_err(of())?;
        params.distinguished_name.push(DnType::CommonName, node);
        params.not_after = OffsetDateTime::now_utc() + VALID;
        if purpose == Purpose::Server {
            params.extended_key_usages = vec![ExtendedKeyUsagePurpose::ServerAuth];
        }
        asked.params = params;
        Ok(asked.signed_by(&self.issuer).map_err(of())?.pem())
    }
}

/// A new key, and the request for a certificate of it.
pub struct Asked {
    pub key: String,
    pub request: String,
}

/// # Errors
/// If no key can be made.
pub fn ask(node: &str) -> Result<Asked, PkiError> {
    let of = || failed("a key of this host's own");
    let mut params = CertificateParams::new(vec![node.to_string()]).map_err(of())?;
    params.distinguished_name.push(DnType::CommonName, node);
    let key = KeyPair::generate().map_err(of())?;
    let request = params.serialize_request(&key).map_err(of())?;
    Ok(Asked {
        key: key.serialize_pem(),
        request: request.pem().map_err(of())?,
    })
}

/// SHA-256 of the public key of a request, in hexadecimal digits.
///
/// # Errors
/// If it is none.
pub fn print_of(request: &str) -> Result<String, PkiError> {
    let asked = CertificateSigningRequestParams::from_pem(request);
    let asked = asked.map_err(failed("the request for a certificate"))?;
    Ok(digest(&asked.public_key.subject_public_key_info()))
}

/// SHA-256, in hexadecimal digits.
pub fn digest(bytes: &[u8]) -> String {
    let digest = Sha256::digest(bytes);
    digest.iter().map(|byte| format!("{byte:02x}")).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Another's request, or half of one, gets nothing; and the names are the CA's word.
    #[test]
    fn a_host_gets_a_certificate_for_its_own_key() {
        let ca = Authority::make("skerry").unwrap();
        let asked = ask("uvala").unwrap();
        let address = [IpAddr::from([10, 20, 0, 14])];
        let made = ca.issue(&asked.request, "uvala", &address, Purpose::Node);
        assert!(made.unwrap().starts_with("-----BEGIN CERTIFICATE"));
        assert_eq!(print_of(&asked.request).unwrap().len(), 64);
        let broken = asked.request.replacen('M', "N", 3);
        assert!(
            ca.issue(&broken, "uvala", &address, Purpose::Server)
                .is_err()
        );
        assert!(ca.issue("nothing", "uvala", &[], Purpose::Node).is_err());
        assert!(Authority::load(&ca.certificate, &ask("uvala").unwrap().key).is_ok());
        assert!(Authority::load("nothing", &ca.key).is_err());
    }
}
