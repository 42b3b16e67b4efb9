//! Who means no good, or only too well: clients that come in thousands and say nothing, datagrams
//! from addresses that nobody knows, and consoles that ask all the time.

use crate::find;
use crate::layout::{ARCHIVE, CLIENT, Layout};
use anyhow::{Context, Result, ensure};
use rustix::process::{Resource, Rlimit, getrlimit, setrlimit};
use std::net::{IpAddr, Ipv4Addr, SocketAddr, UdpSocket};
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::{TcpSocket, TcpStream};

/// Of idle clients: the client host's other clients have another.
const IDLE_FROM: Ipv4Addr = Ipv4Addr::new(10, 30, 0, 101);
/// Addresses on the peers' network that no node has.
const NOBODY: std::ops::Range<u8> = 200..210;
/// A batch of datagrams, then a rest: ten thousand a second and more do not come evenly.
const BATCH: u32 = 200;

/// A process that ends with this.
pub struct Crowd(Child);

impl Drop for Crowd {
    fn drop(&mut self) {
        let _ = self.0.kill();
        let _ = self.0.wait();
    }
}

fn start(mut command: Command) -> Result<Crowd> {
    Ok(Crowd(
        command
            .stdin(Stdio::null())
            .stdout(Stdio::null())
            .spawn()
            .context("nsenter")?,
    ))
}

/// So many clients that connect, and say nothing: on the client host, with an address of their own.
pub fn idle_clients(layout: &Layout, to: SocketAddr, count: u32) -> Result<Crowd> {
    let mut add = find::enter(layout, CLIENT)?;
    add.args([
        "ip",
        "addr",
        "add",
        &format!("{IDLE_FROM}/24"),
        "dev",
        "client",
    ]);
    add.stderr(Stdio::null()).status().context("ip addr add")?;
    idle_from(layout, CLIENT, Some(IDLE_FROM.into()), to, count)
}

/// The same at an HTTP service, from the host of the history store.
pub fn idle_askers(layout: &Layout, to: SocketAddr, count: u32) -> Result<Crowd> {
    idle_from(layout, ARCHIVE, None, to, count)
}

fn idle_from(
    layout: &Layout,
    host: &str,
    from: Option<IpAddr>,
    to: SocketAddr,
    count: u32,
) -> Result<Crowd> {
    let mut command = find::enter(layout, host)?;
    command
        .arg(find::sibling("karst-lab")?)
        .arg("--dir")
        .arg(&layout.dir)
        .arg("crowd");
    command.args(["idle", &to.to_string(), &count.to_string()]);
    command.args(from.map(|from| from.to_string()));
    start(command)
}

/// Datagrams to a host's peer port that look like the first of a QUIC connection, from addresses
/// that no node has.
pub fn strangers(layout: &Layout, from: &str, to: SocketAddr, a_second: u32) -> Result<Crowd> {
    for last in NOBODY {
        let mut add = find::enter(layout, from)?;
        add.args([
            "ip",
            "addr",
            "add",
            &format!("{}/24", nobody(last)),
            "dev",
            "peer",
        ]);
        // There from the last time, maybe.
        add.stderr(Stdio::null()).status().context("ip addr add")?;
    }
    let mut command = find::enter(layout, from)?;
    command
        .arg(find::sibling("karst-lab")?)
        .arg("--dir")
        .arg(&layout.dir)
        .arg("crowd");
    command.args(["knock", &to.to_string(), &a_second.to_string()]);
    start(command)
}

fn nobody(last: u8) -> Ipv4Addr {
    Ipv4Addr::new(10, 20, 0, last)
}

/// The clients themselves: whoever is sent away comes again.
pub async fn idle(to: SocketAddr, count: u32, from: Option<IpAddr>) -> Result<()> {
    let limit = getrlimit(Resource::Nofile);
    setrlimit(
        Resource::Nofile,
        Rlimit {
            current: limit.maximum,
            ..limit
        },
    )?;
    let clients = (0..count).map(|_| {
        tokio::spawn(async move {
            loop {
                let socket = if to.is_ipv4() {
                    TcpSocket::new_v4()
                } else {
                    TcpSocket::new_v6()
                };
                let Ok(socket) = socket else { continue };
                let bound = from.is_none_or(|from| socket.bind((from, 0).into()).is_ok());
                if bound && let Ok(mut stream) = socket.connect(to).await {
                    let mut byte = [0];
                    let _ = stream.read(&mut byte).await;
                }
                tokio::time::sleep(Duration::from_secs(1)).await;
            }
        })
    });
    for client in clients.collect::<Vec<_>>() {
        let () = client.await?;
    }
    Ok(())
}

/// The strangers themselves.
pub fn knock(to: SocketAddr, a_second: u32) -> Result<()> {
    let sockets: Vec<UdpSocket> = NOBODY
        .map(|last| UdpSocket::bind((nobody(last), 0)).context("an address of nobody's"))
        .collect::<Result<_>>()?;
    // A long header of version 1, of the type Initial, with connection ids of eight bytes (RFC
    // 9000, section 17.2.2).
    let mut datagram = vec![0xc3, 0, 0, 0, 1, 8];
    datagram.resize(1_200, 0x5a);
    let begun = Instant::now();
    let mut sent = 0u32;
    loop {
        for _ in 0..BATCH {
            datagram[6..10].copy_from_slice(&sent.to_be_bytes());
            let _ = sockets[sent as usize % sockets.len()].send_to(&datagram, to);
            sent = sent.wrapping_add(1);
        }
        let due = Duration::from_secs_f64(f64::from(sent) / f64::from(a_second));
        std::thread::sleep(due.saturating_sub(begun.elapsed()));
    }
}

/// What a request without any library comes to: the status line's number.
pub async fn get(port: u16, path: &str, token: &str) -> Result<u16> {
    let mut stream = TcpStream::connect(("127.0.0.1", port)).await?;
    let request = format!(
        "GET {path} HTTP/1.1\r\nHost: node\r\nAuthorization: Bearer {token}\r\nConnection: close\r\n\r\n"
    );
    stream.write_all(request.as_bytes()).await?;
    let mut answer = Vec::new();
    stream.read_to_end(&mut answer).await?;
    status(&answer)
}

/// An event stream that is held open: its first bytes, and the stream.
pub async fn listen(port: u16, token: &str) -> Result<(u16, TcpStream)> {
    let mut stream = TcpStream::connect(("127.0.0.1", port)).await?;
    let request =
        format!("GET /api/v1/live HTTP/1.1\r\nHost: node\r\nAuthorization: Bearer {token}\r\n\r\n");
    stream.write_all(request.as_bytes()).await?;
    let mut first = vec![0; 64];
    let count = stream.read(&mut first).await?;
    Ok((status(&first[..count])?, stream))
}

fn status(answer: &[u8]) -> Result<u16> {
    let text = String::from_utf8_lossy(answer);
    let number = text.split_whitespace().nth(1).and_then(|n| n.parse().ok());
    ensure!(text.starts_with("HTTP/1.1 "), "no answer: {text}");
    number.context("a status")
}
