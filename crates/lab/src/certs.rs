//! The cluster's CA and a certificate for each node and for the power controller.

use crate::controller;
use crate::layout::Layout;
use anyhow::Result;
use rcgen::{
    BasicConstraints, CertificateParams, DnType, ExtendedKeyUsagePurpose, IsCa, Issuer, KeyPair, KeyUsagePurpose,
};
use std::fs;
use std::os::unix::fs::PermissionsExt;

/// Makes what is missing: a new CA makes new certificates for all.
pub fn prepare(layout: &Layout) -> Result<()> {
    let nodes = layout.nodes();
    let hosts =
        || nodes.iter().map(|n| (n.name, n.management())).chain([(controller::HOST, controller::ADDRESS.into())]);
    if hosts().all(|(name, _)| layout.host(name).join("tls/server.key").exists()) {
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
        let dir = layout.host(name).join("tls");
        fs::create_dir_all(&dir)?;
        fs::write(dir.join("ca.pem"), ca_cert.pem())?;
        // With its server's certificate nobody connects to another node as this one.
        let (both, server) = (vec![], vec![ExtendedKeyUsagePurpose::ServerAuth]);
        for (file, usages) in [("node", both), ("server", server)] {
            let mut params = CertificateParams::new(names.clone())?;
            params.distinguished_name.push(DnType::CommonName, name);
            params.extended_key_usages = usages;
            let key = KeyPair::generate()?;
            fs::write(dir.join(format!("{file}.pem")), params.signed_by(&key, &issuer)?.pem())?;
            let path = dir.join(format!("{file}.key"));
            fs::write(&path, key.serialize_pem())?;
            fs::set_permissions(path, fs::Permissions::from_mode(0o600))?;
        }
    }
    Ok(())
}
