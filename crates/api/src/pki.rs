//! Certificates: the cluster's CA, what a host asks of it (RFC 2986), and what it issues.

use rcgen::{
    BasicConstraints, CertificateParams, CertificateRevocationListParams,
    CertificateSigningRequestParams, DnType, ExtendedKeyUsagePurpose, IsCa, Issuer, KeyIdMethod,
    KeyPair, KeyUsagePurpose, PublicKeyData as _, SerialNumber, SigningKey as _,
};
use sha2::{Digest, Sha256};
use std::fmt::Display;
use std::net::IpAddr;
use time::{Duration, OffsetDateTime};

/// How long a node's certificate is valid. A finding says a month before that it ends.
const VALID: Duration = Duration::days(3 * 365);
const CA_VALID: Duration = Duration::days(20 * 365);

#[derive(Debug, thiserror::Error)]
#[error("{what}: {why}")]
pub struct PkiError {
    what: &'static str,
    why: String,
}

fn failed<E: Display>(what: &'static str) -> impl FnOnce(E) -> PkiError {
    move |why| PkiError {
        what,
        why: why.to_string(),
    }
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
    /// PEM; where there are others that are believed beside it, they follow.
    pub certificate: String,
    pub key: String,
    issuer: Issuer<'static, KeyPair>,
}

impl Authority {
    /// Of a name that no other has: servers tell CAs apart by their names.
    ///
    /// # Errors
    /// If no key can be made.
    pub fn make(cluster: &str) -> Result<Self, PkiError> {
        let of = || failed("the cluster's CA");
        let key = KeyPair::generate().map_err(of())?;
        let print = digest(&key.subject_public_key_info());
        let mut params = CertificateParams::new(Vec::<String>::new()).map_err(of())?;
        params.is_ca = IsCa::Ca(BasicConstraints::Constrained(0));
        params.key_usages = vec![KeyUsagePurpose::KeyCertSign, KeyUsagePurpose::CrlSign];
        let name = format!("{cluster} cluster CA {}", short(&print));
        params.distinguished_name.push(DnType::CommonName, name);
        params.not_after = OffsetDateTime::now_utc() + CA_VALID;
        let certificate = params.self_signed(&key).map_err(of())?.pem();
        Self::load(&certificate, &key.serialize_pem())
    }

    /// Of certificates the first.
    ///
    /// # Errors
    /// If they are no CA's certificate and key, or the key is another one's.
    pub fn load(certificate: &str, key: &str) -> Result<Self, PkiError> {
        let what = "the CA's certificate and key";
        let first = Trusted::read(certificate)?.swap_remove(0);
        if !first.has_key(key)? {
            return Err(failed(what)("the key is not that of the first certificate"));
        }
        let of = || failed(what);
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

impl Authority {
    /// A list of revocations (RFC 5280, section 5) with nothing in it: where there are lists, whoever
    /// has a certificate of a CA without one is believed by nobody.
    ///
    /// # Errors
    /// If it cannot be signed.
    pub fn revokes_nothing(&self) -> Result<String, PkiError> {
        let now = OffsetDateTime::now_utc();
        let list = CertificateRevocationListParams {
            this_update: now,
            next_update: now + CA_VALID,
            crl_number: SerialNumber::from(now.unix_timestamp().unsigned_abs()),
            issuing_distribution_point: None,
            revoked_certs: Vec::new(),
            key_identifier_method: KeyIdMethod::Sha256,
        };
        let signed = list.signed_by(&self.issuer).and_then(|list| list.pem());
        signed.map_err(failed("a list of revocations"))
    }
}

/// A CA that is believed: one of `ca.pem`.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Trusted {
    /// SHA-256 of the certificate, in hexadecimal digits.
    pub print: String,
    pub pem: String,
    der: Vec<u8>,
}

impl Trusted {
    /// All of a file, of which there is one at least.
    ///
    /// # Errors
    /// If it is none.
    pub fn read(text: &str) -> Result<Vec<Self>, PkiError> {
        let what = "the CA's certificate";
        let parts = pem::parse_many(text).map_err(failed(what))?;
        let of_ca = |part: pem::Pem| Self {
            print: digest(part.contents()),
            pem: pem::encode(&part),
            der: part.into_contents(),
        };
        let certificates = parts.into_iter().filter(|part| part.tag() == "CERTIFICATE");
        let all: Vec<Self> = certificates.map(of_ca).collect();
        if all.is_empty() {
            return Err(failed(what)("there is none"));
        }
        Ok(all)
    }

    /// Whether a key is this CA's.
    ///
    /// # Errors
    /// If one of both cannot be read.
    pub fn has_key(&self, key: &str) -> Result<bool, PkiError> {
        let pair = KeyPair::from_pem(key).map_err(failed("the CA's key"))?;
        let (_, certificate) = x509_parser::parse_x509_certificate(&self.der)
            .map_err(failed("the CA's certificate"))?;
        Ok(certificate.public_key().raw == pair.subject_public_key_info())
    }
}

/// As much of a print as tells CAs of one cluster apart.
pub fn short(print: &str) -> &str {
    print.get(..8).unwrap_or(print)
}

/// A new key, and the request for a certificate of it.
pub struct Asked {
    pub key: String,
    pub request: String,
}

/// # Errors
/// If no key can be made.
pub fn ask(node: &str) -> Result<Asked, PkiError> {
    ask_for(node, KeyPair::generate())
}

/// The same for a key that was made before.
///
/// # Errors
/// If it is no key.
pub fn ask_again(node: &str, key: &str) -> Result<Asked, PkiError> {
    ask_for(node, KeyPair::from_pem(key))
}

fn ask_for(node: &str, key: Result<KeyPair, rcgen::Error>) -> Result<Asked, PkiError> {
    let of = || failed("a key of this host's own");
    let mut params = CertificateParams::new(vec![node.to_string()]).map_err(of())?;
    params.distinguished_name.push(DnType::CommonName, node);
    let key = key.map_err(of())?;
    let request = params.serialize_request(&key).map_err(of())?;
    Ok(Asked {
        key: key.serialize_pem(),
        request: request.pem().map_err(of())?,
    })
}

/// A node signs this with its present key, so that the next ones are signed.
///
/// # Errors
/// If a request cannot be read.
pub fn renewal(node: &str, request: &str, server_request: &str) -> Result<String, PkiError> {
    let (own, server) = (print_of(request)?, print_of(server_request)?);
    Ok(format!("karst renew\n{node}\n{own}\n{server}\n"))
}

/// By the key of a PEM file, in hexadecimal digits.
///
/// # Errors
/// If it is no key that signs.
pub fn signed(key: &str, text: &str) -> Result<String, PkiError> {
    let of = || failed("the node's key");
    let key = KeyPair::from_pem(key).map_err(of())?;
    let signature = key.sign(text.as_bytes()).map_err(of())?;
    Ok(signature.iter().map(|byte| format!("{byte:02x}")).collect())
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
        assert!(Authority::load(&ca.certificate, &ask("uvala").unwrap().key).is_err());
        assert!(Authority::load("nothing", &ca.key).is_err());
    }

    /// Of several in a file the first signs, and only its own key is its key.
    #[test]
    fn the_first_of_several_signs() {
        let [old, new] = [(); 2].map(|()| Authority::make("skerry").unwrap());
        let both = [&*new.certificate, &*old.certificate].concat();
        let read = Trusted::read(&both).unwrap();
        assert_eq!(read.len(), 2);
        assert!(read[0].has_key(&new.key).unwrap() && !read[0].has_key(&old.key).unwrap());
        assert!(Authority::load(&both, &old.key).is_err());
        let again = read.iter().map(|ca| &*ca.pem).collect::<String>();
        assert_eq!(Trusted::read(&again).unwrap(), read);
        assert!(Authority::load(&again, &new.key).is_ok());
        assert!(new.revokes_nothing().unwrap().contains("X509 CRL"));
    }
}
