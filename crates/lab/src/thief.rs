//! A stolen node key in the hands of a program: it speaks to every other node as that node, from that
//! node's address, and says everything that a message can say, and what none can.

use crate::layout::{Host, Layout, host};
use anyhow::{Context, Result, ensure};
use karst_api::specfile;
use karst_core::message::Message;
use karst_core::{Index, Term};
use karst_sim::dice::{Dice, KINDS, kind_of};
use quinn::crypto::rustls::QuicClientConfig;
use quinn::{Connection, Endpoint, SendStream};
use rand::rngs::StdRng;
use rand::{Rng, SeedableRng};
use rustls::RootCertStore;
use rustls::pki_types::pem::PemObject;
use rustls::pki_types::{CertificateDer, PrivateKeyDer};
use serde::Serialize;
use std::collections::BTreeSet;
use std::fs;
use std::io::ErrorKind;
use std::net::SocketAddr;
use std::sync::Arc;
use std::time::{Duration, Instant};

const PEER_PORT: u16 = 26700;
const EVERY: Duration = Duration::from_millis(4);
const PATIENCE: Duration = Duration::from_secs(2);
/// As long as a frame may say that it is.
const LONGEST: u32 = 24 << 20;
/// Connections to one node that stay open, and on which nothing is said any more.
const IDLE: usize = 20;

/// The theft of one key.
#[derive(Clone, Debug, clap::Args)]
pub struct Theft {
    /// The node that it was stolen from
    pub node: String,
    #[arg(long)]
    pub seconds: u64,
    #[arg(long)]
    pub seed: u64,
    /// The coordinator's term, and the last entry that it has applied
    #[arg(long)]
    pub term: u64,
    #[arg(long)]
    pub applied: u64,
}

/// The first frame on a connection.
#[derive(Serialize)]
struct Hello {
    cluster: String,
    given: Option<String>,
    run: u64,
}

/// One who speaks to one node.
struct Thief {
    endpoint: Endpoint,
    to: Host,
    cluster: String,
    dice: Dice,
    chance: StdRng,
    idle: Vec<Connection>,
    said: Said,
}

#[derive(Default)]
struct Said {
    connections: u64,
    messages: u64,
    kinds: BTreeSet<u32>,
}

/// Runs in that host's network, in the place of its daemon.
///
/// # Errors
/// If it did not get to say everything.
pub async fn run(layout: &Layout, theft: &Theft) -> Result<()> {
    let from = host(&theft.node).context("a node of the lab")?;
    let text = fs::read_to_string(layout.spec())?;
    let spec = specfile::read(&text).spec.context("the lab's spec")?;
    let endpoint = endpoint(layout, &from)?;
    let until = Instant::now() + Duration::from_secs(theft.seconds);
    let mut thieves = Vec::new();
    let others = layout
        .nodes()
        .into_iter()
        .filter(|node| node.name != from.name);
    for (seed, to) in (theft.seed..).zip(others) {
        let mut dice = Dice::new(seed, spec.clone());
        (dice.term, dice.last) = (Term(theft.term), Index(theft.applied));
        let thief = Thief {
            endpoint: endpoint.clone(),
            to,
            cluster: spec.cluster.clone(),
            dice,
            chance: StdRng::seed_from_u64(seed),
            idle: Vec::new(),
            said: Said::default(),
        };
        thieves.push(tokio::spawn(thief.speak_until(until)));
    }
    for thief in thieves {
        let (to, said) = thief.await??;
        let Said {
            connections,
            messages,
            kinds,
        } = said;
        println!("to {to:<8} {messages} messages on {connections} connections");
        let missing: Vec<u32> = (0..KINDS).filter(|kind| !kinds.contains(kind)).collect();
        ensure!(
            missing.is_empty(),
            "kinds that {to} was not told: {missing:?}"
        );
    }
    Ok(())
}

/// Dials from the node's own address, with its certificate.
fn endpoint(layout: &Layout, from: &Host) -> Result<Endpoint> {
    let tls = layout.host(from.name).join("tls");
    let mut roots = RootCertStore::empty();
    for ca in CertificateDer::pem_file_iter(tls.join("ca.pem"))? {
        roots.add(ca?)?;
    }
    let chain = CertificateDer::pem_file_iter(tls.join("node.pem"))?;
    let chain = chain.collect::<Result<Vec<_>, _>>()?;
    let key = PrivateKeyDer::from_pem_file(tls.join("node.key"))?;
    let mut config =
        rustls::ClientConfig::builder_with_protocol_versions(&[&rustls::version::TLS13])
            .with_root_certificates(roots)
            .with_client_auth_cert(chain, key)?;
    config.alpn_protocols = vec![b"karst-peer/1".to_vec()];
    let config = quinn::ClientConfig::new(Arc::new(QuicClientConfig::try_from(config)?));
    let begun = Instant::now();
    // The kernel closes the sockets of a daemon that was killed a moment after its memory is gone.
    let mut endpoint = loop {
        match Endpoint::client(address(from)?) {
            Err(error) if error.kind() == ErrorKind::AddrInUse && begun.elapsed() < PATIENCE => {
                std::thread::sleep(EVERY);
            }
            bound => break bound?,
        }
    };
    endpoint.set_default_client_config(config);
    Ok(endpoint)
}

fn address(of: &Host) -> Result<SocketAddr> {
    Ok(SocketAddr::new(of.peer().parse()?, PEER_PORT))
}

impl Thief {
    async fn speak_until(mut self, until: Instant) -> Result<(&'static str, Said)> {
        while Instant::now() < until {
            // Each connection ends with something that the node does not take.
            let _ended = self.connection(until).await;
            tokio::time::sleep(EVERY).await;
        }
        Ok((self.to.name, self.said))
    }

    async fn connection(&mut self, until: Instant) -> Result<()> {
        let connecting = self.endpoint.connect(address(&self.to)?, self.to.name)?;
        let connection = tokio::time::timeout(PATIENCE, connecting).await??;
        self.said.connections += 1;
        if self.chance.random_bool(0.02) {
            self.idle.push(connection.clone());
            self.idle.drain(..self.idle.len().saturating_sub(IDLE));
        }
        let mut talk = connection.open_uni().await?;
        let hello = Hello {
            cluster: self.cluster.clone(),
            given: None,
            run: self.chance.random(),
        };
        talk.write_all(&frame(&hello)?).await?;
        let mut people = connection.open_uni().await?;
        while Instant::now() < until {
            let message = self.dice.message();
            let asks = matches!(message, Message::Ask { .. } | Message::Answer { .. });
            let misplaced = self.chance.random_bool(0.002);
            let stream = if asks == misplaced {
                &mut talk
            } else {
                &mut people
            };
            self.say(stream, &message).await?;
            let noise: [u8; 40] = self.chance.random();
            let _ = connection.send_datagram(noise.to_vec().into());
            tokio::time::sleep(EVERY).await;
            if let Some(reason) = connection.close_reason() {
                return Err(reason.into());
            }
        }
        Ok(())
    }

    async fn say(&mut self, stream: &mut SendStream, message: &Message) -> Result<()> {
        let mut bytes = frame(message)?;
        match self.chance.random_range(0..1_000) {
            0 => {
                bytes[..4].copy_from_slice(&LONGEST.to_be_bytes());
                bytes.resize(bytes.len() + 100_000, 0x9f);
            }
            1..20 => {
                let at = self.chance.random_range(4..bytes.len());
                bytes[at] = self.chance.random();
            }
            _ => {
                self.said.kinds.insert(kind_of(message));
            }
        }
        // A node that stands still takes no more at some point.
        tokio::time::timeout(PATIENCE, stream.write_all(&bytes)).await??;
        self.said.messages += 1;
        Ok(())
    }
}

/// As messages travel on a stream.
fn frame(value: &impl Serialize) -> Result<Vec<u8>> {
    let mut frame = vec![0; 4];
    ciborium::into_writer(value, &mut frame)?;
    let length = u32::try_from(frame.len() - 4)?;
    frame[..4].copy_from_slice(&length.to_be_bytes());
    Ok(frame)
}
