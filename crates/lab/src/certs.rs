//! The cluster's CA, a certificate for each node and for the power controller, and what the CA has
//! to say of them later.

use crate::layout::{CONTROLLER, CONTROLLER_ADDRESS, Layout};
use anyhow::{Context, Result};
use rcgen::{
    BasicConstraints, CertificateParams, CertificateRevocationListParams, DnType,
    ExtendedKeyUsagePurpose, IsCa, Issuer, KeyIdMethod, KeyPair, KeyUsagePurpose,
    RevokedCertParams, SerialNumber,
};
use std::fs;
use std::os::unix::fs::{OpenOptionsExt, PermissionsExt};
use std::path::Path;
use time::{Duration, OffsetDateTime};
use x509_parser::pem::parse_x509_pem;

/// How long what is made at first is valid: nobody changes it in a lab.
const LONG: Duration = Duration::days(3_650);

/// Makes what is missing: a new CA makes new certificates for all.
pub fn prepare(layout: &Layout) -> Result<()> {
    let nodes = layout.nodes();
    let made = if layout.shape.empty { &[] } else { &nodes[..] };
    let hosts = || {
        made.iter()
            .map(|n| (n.name, n.management()))
            .chain([(CONTROLLER, CONTROLLER_ADDRESS.into())])
    };
    if layout.dir.join("ca.key").exists()
        && hosts().all(|(name, _)| layout.host(name).join("tls/server.key").exists())
    {
        return Ok(());
    }
    let mut ca = CertificateParams::new(Vec::<String>::new())?;
    ca.is_ca = IsCa::Ca(BasicConstraints::Constrained(0));
    ca.key_usages = vec![KeyUsagePurpose::KeyCertSign, KeyUsagePurpose::CrlSign];
    ca.distinguished_name
        .push(DnType::CommonName, "skerry cluster CA");
    let key = KeyPair::generate()?;
    let certificate = ca.self_signed(&key)?;
    fs::write(layout.dir.join("ca.pem"), certificate.pem())?;
    put_secret(&layout.dir.join("ca.key"), &key.serialize_pem())?;
    for (name, address) in hosts() {
        let dir = layout.host(name).join("tls");
        fs::create_dir_all(&dir)?;
        fs::write(dir.join("ca.pem"), certificate.pem())?;
        if name == nodes[0].name {
            // Whoever has it can take new hosts in, and speak as any of them.
            put_secret(&dir.join("ca.key"), &key.serialize_pem())?;
        }
        issue(layout, name, &address, LONG)?;
    }
    Ok(())
}

/// New certificates and keys for a host, in the place of those that it has.
pub fn renew(layout: &Layout, host: &str, valid: Duration) -> Result<()> {
    let nodes = layout.nodes();
    let node = nodes
        .iter()
        .find(|n| n.name == host)
        .with_context(|| format!("no host {host}"))?;
    issue(layout, host, &node.management(), valid)
}

/// The CA takes back the certificate with which a host speaks as a node, and every other node is
/// told.
pub fn revoke(layout: &Layout, host: &str) -> Result<()> {
    let pem = fs::read(layout.host(host).join("tls/node.pem"))?;
    let (_, pem) = parse_x509_pem(&pem).context("node.pem")?;
    let certificate = pem.parse_x509().context("node.pem")?;
    let now = OffsetDateTime::now_utc();
    let revoked = RevokedCertParams {
        serial_number: SerialNumber::from_slice(&certificate.tbs_certificate.serial.to_bytes_be()),
        revocation_time: now,
        reason_code: None,
        invalidity_date: None,
    };
    let list = CertificateRevocationListParams {
        this_update: now,
        next_update: now + LONG,
        crl_number: SerialNumber::from(u64::try_from(now.unix_timestamp())?),
        issuing_distribution_point: None,
        revoked_certs: vec![revoked],
        key_identifier_method: KeyIdMethod::Sha256,
    };
    let list = list.signed_by(&issuer(layout)?)?.pem()?;
    for node in layout.nodes().iter().filter(|n| n.name != host) {
        replace(&layout.host(node.name).join("tls/crl.pem"), &list, 0o644)?;
    }
    Ok(())
}

fn issuer(layout: &Layout) -> Result<Issuer<'static, KeyPair>> {
    let text = |name| fs::read_to_string(layout.dir.join(name)).context(name);
    Ok(Issuer::from_ca_cert_pem(
        &text("ca.pem")?,
        KeyPair::from_pem(&text("ca.key")?)?,
    )?)
}

fn issue(layout: &Layout, host: &str, address: &str, valid: Duration) -> Result<()> {
    let (issuer, dir) = (issuer(layout)?, layout.host(host).join("tls"));
    let names = vec![
        host.to_string(),
        "localhost".into(),
        "127.0.0.1".into(),
        address.into(),
    ];
    // With its server's certificate nobody connects to another node as this one.
    let (both, server) = (vec![], vec![ExtendedKeyUsagePurpose::ServerAuth]);
    for (file, usages) in [("node", both), ("server", server)] {
        let mut params = CertificateParams::new(names.clone())?;
        params.distinguished_name.push(DnType::CommonName, host);
        params.extended_key_usages = usages;
        params.not_after = OffsetDateTime::now_utc() + valid;
        let key = KeyPair::generate()?;
        put_secret(&dir.join(format!("{file}.key")), &key.serialize_pem())?;
        replace(
            &dir.join(format!("{file}.pem")),
            &params.signed_by(&key, &issuer)?.pem(),
            0o644,
        )?;
    }
    Ok(())
}

/// What [`alone`] makes.
pub const ALONE: &str = "alone.pem";
pub const ALONE_KEY: &str = "alone.key";

/// A certificate that nobody but itself vouches for, for a server on `localhost`.
pub fn alone(dir: &Path) -> Result<()> {
    let made = rcgen::generate_simple_self_signed(vec!["localhost".into()])?;
    put_secret(&dir.join(ALONE_KEY), &made.signing_key.serialize_pem())?;
    replace(&dir.join(ALONE), &made.cert.pem(), 0o644)
}

fn put_secret(path: &Path, text: &str) -> Result<()> {
    replace(path, text, 0o600)
}

/// Nobody reads half of it.
fn replace(path: &Path, text: &str, mode: u32) -> Result<()> {
    use std::io::Write as _;
    let next = path.with_extension("next");
    let mut file = fs::OpenOptions::new()
        .create(true)
        .truncate(true)
        .write(true)
        .mode(mode)
        .open(&next)?;
    file.set_permissions(fs::Permissions::from_mode(mode))?;
    file.write_all(text.as_bytes())?;
    fs::rename(&next, path).with_context(|| path.display().to_string())
}
