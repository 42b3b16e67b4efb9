//! The cluster's CA and a certificate for each node and for the power controller.

use crate::controller;
use crate::layout::Layout;
use anyhow::Result;
use rcgen::{BasicConstraints, CertificateParams, DnType, IsCa, Issuer, KeyPair, KeyUsagePurpose};
use std::fs;
use std::os::unix::fs::PermissionsExt;

/// Makes what is missing: a new CA makes new certificates for all.
pub fn prepare(layout: &Layout) -> Result<()> {
    let nodes = layout.nodes();
    let hosts =
        || nodes.iter().map(|n| (n.name, n.management())).chain([(controller::HOST, controller::ADDRESS.into())]);
    if hosts().all(|(name, _)| layout.host(name).join("tls/node.key").exists()) {
        return Ok(());
    }
    let mut ca = CertificateParams::new(Vec::<String>::new())?;
    ca.is_ca = IsCa::Ca(BasicConstraints::Constrained(0));
    ca.key_usages = vec![KeyUsagePurpose::KeyCertSign, KeyUsagePurpose::CrlSign];
    ca.distinguished_name.push(DnType::CommonName, "skerry cluster CA");
    let ca_key = KeyPair::generate()?;
    let ca_cert = ca.self_signed(&ca_key)?;
    let issuer = Issuer::new(ca, ca_key);
    fs::write(layout.dir.join("ca.pem"), ca_cert.pem())?;
    for (name, address) in hosts() {
        let names = vec![name.to_string(), "localhost".into(), "127.0.0.1".into(), address];
        let mut params = CertificateParams::new(names)?;
        params.distinguished_name.push(DnType::CommonName, name);
        let key = KeyPair::generate()?;
        let cert = params.signed_by(&key, &issuer)?;
        let dir = layout.host(name).join("tls");
        fs::create_dir_all(&dir)?;
        fs::write(dir.join("ca.pem"), ca_cert.pem())?;
        fs::write(dir.join("node.pem"), cert.pem())?;
        fs::write(dir.join("node.key"), key.serialize_pem())?;
        fs::set_permissions(dir.join("node.key"), fs::Permissions::from_mode(0o600))?;
    }
    Ok(())
}
