//! The minder: the one process of a lab that lives outside its namespaces. It starts the inside,
//! forwards the user's own loopback to it, and takes it down with itself.

use crate::layout::{CONTROLLER, Layout};
use anyhow::{Context, Result, bail};
use rustix::process::Signal;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};
use tokio::net::{TcpListener, UnixStream};

/// What a lab and each host in it have of their own, besides a network; the first process takes all
/// others down with it.
pub const OWN: &str = "unshare -m -p -i -u -f --kill-child --mount-proc --propagation private";

/// The words that put a command into namespaces of the lab's own, as root or as an ordinary user.
fn unshare() -> Vec<&'static str> {
    let user: &[&str] = if rustix::process::geteuid().is_root() {
        &["-n"]
    } else {
        &["-n", "-U", "-r"]
    };
    OWN.split(' ').chain(user.iter().copied()).collect()
}

/// Says clearly why there can be no lab here, if so.
pub fn check_namespaces() -> Result<()> {
    let words = unshare();
    let tried = Command::new(words[0])
        .args(&words[1..])
        .arg("true")
        .output()
        .context("unshare (package util-linux)")?;
    if !tried.status.success() {
        bail!(
            "this machine does not allow the namespaces that a lab is made of: {}. As an ordinary user the kernel must \
             allow user namespaces (sysctl kernel.unprivileged_userns_clone=1, user.max_user_namespaces > 0); or run as root",
            String::from_utf8_lossy(&tried.stderr).trim()
        );
    }
    Ok(())
}

/// Starts a minder in the background, unless one runs.
pub fn start(layout: &Layout) -> Result<()> {
    if running(layout).is_some() {
        return Ok(());
    }
    check_namespaces()?;
    let log = std::fs::File::create(layout.dir.join("logs/lab.log"))?;
    let me = crate::find::sibling("karst-lab")?;
    let mut command = Command::new("setsid");
    command
        .arg(me)
        .arg("--dir")
        .arg(&layout.dir)
        .arg("keep")
        .stdin(Stdio::null());
    command.stdout(log.try_clone()?).stderr(log);
    command.spawn().context("the minder")?;
    Ok(())
}

/// The minder's process number, if it runs.
pub fn running(layout: &Layout) -> Option<i32> {
    let pid: i32 = std::fs::read_to_string(layout.dir.join("minder.pid"))
        .ok()?
        .trim()
        .parse()
        .ok()?;
    let command = std::fs::read(format!("/proc/{pid}/cmdline")).ok()?;
    let text = String::from_utf8_lossy(&command);
    (text.contains("keep") && text.contains(&*layout.dir.to_string_lossy())).then_some(pid)
}

/// How long the minder has to take everything down with itself.
const ENDS: Duration = Duration::from_secs(10);

/// Ends the lab and waits until nothing of it is left. Whether there was anything.
///
/// # Errors
/// If a process of it cannot be ended.
pub fn stop(layout: &Layout) -> Result<bool> {
    let minder = running(layout);
    if let Some(pid) = minder {
        let _ = crate::find::signal(pid, Signal::TERM);
    }
    let (begun, mut left) = (Instant::now(), crate::find::of_lab(layout));
    let found = !left.is_empty();
    while running(layout).is_some() || !left.is_empty() {
        if begun.elapsed() > ENDS * 2 {
            bail!("processes {left:?} of the lab are still there");
        }
        // What a drill that was killed had started beside the lab is nobody's any more.
        if minder.is_none() || begun.elapsed() > ENDS {
            left.iter()
                .for_each(|pid| drop(crate::find::signal(*pid, Signal::KILL)));
        }
        std::thread::sleep(Duration::from_millis(20));
        left = crate::find::of_lab(layout);
    }
    if found {
        let _ = std::fs::remove_file(layout.dir.join("minder.pid"));
        remove_cgroups(layout);
    }
    Ok(found)
}

/// Empty ones go; whoever is still in one keeps it.
fn remove_cgroups(layout: &Layout) {
    let Some(dir) = layout.cgroup() else { return };
    for node in layout.nodes() {
        let of_host = dir.join(node.name);
        let workloads = std::fs::read_dir(&of_host).into_iter().flatten().flatten();
        workloads.for_each(|w| drop(std::fs::remove_dir(w.path())));
        let _ = std::fs::remove_dir(of_host);
    }
    let _ = std::fs::remove_dir(dir);
}

/// The minder itself.
pub fn run(layout: &Layout) -> Result<()> {
    std::fs::write(
        layout.dir.join("minder.pid"),
        std::process::id().to_string(),
    )?;
    for node in layout.nodes() {
        for stale in ["deadman.json", "deadman/orders.sock", "api.sock"] {
            let _ = std::fs::remove_file(layout.runtime(node.name).join(stale));
        }
        // A lab begins with power everywhere.
        let _ = std::fs::remove_file(layout.host(node.name).join("off"));
    }
    let _ = std::fs::remove_file(layout.host(CONTROLLER).join("hold"));
    let mut inside = start_inside(layout)?;
    let runtime = tokio::runtime::Builder::new_current_thread()
        .enable_all()
        .build()?;
    let ended = runtime.block_on(async {
        for (port, socket) in forwards(layout) {
            let listener = TcpListener::bind(("127.0.0.1", port))
                .await
                .with_context(|| format!("loopback port {port}"))?;
            tokio::spawn(forward(listener, socket));
        }
        use tokio::signal::unix::{SignalKind, signal};
        let (mut term, mut int) = (
            signal(SignalKind::terminate())?,
            signal(SignalKind::interrupt())?,
        );
        let gone = async {
            while matches!(inside.try_wait(), Ok(None)) {
                tokio::time::sleep(Duration::from_millis(100)).await;
            }
        };
        tokio::select! {
            _ = term.recv() => {}
            _ = int.recv() => {}
            () = gone => {}
        }
        anyhow::Ok(())
    });
    // The inside is the first process of its namespace: with it, everything in there ends.
    let _ = inside.kill();
    let _ = inside.wait();
    let _ = std::fs::remove_file(layout.dir.join("minder.pid"));
    ended
}

fn start_inside(layout: &Layout) -> Result<Child> {
    let words = unshare();
    let mut command = Command::new("setpriv");
    // If the minder dies, so does `unshare`, and with it the inside. Spawned from the main thread:
    // the signal follows it.
    command
        .args(["--pdeathsig", "KILL"])
        .args(words)
        .arg(std::env::current_exe()?);
    command.arg("--dir").arg(&layout.dir).arg("inside");
    command
        .stdin(Stdio::null())
        .spawn()
        .context("the lab's inside")
}

fn forwards(layout: &Layout) -> Vec<(u16, PathBuf)> {
    let nodes = layout.nodes();
    let apis = nodes
        .iter()
        .enumerate()
        .map(|(i, n)| (layout.api_port(i), layout.runtime(n.name).join("api.sock")));
    let gates =
        (0..crate::layout::GATES.len()).map(|i| (layout.gate_port(i), gate_socket(layout, i)));
    apis.chain(gates).collect()
}

/// The socket behind which a gate is reached from the client host.
pub fn gate_socket(layout: &Layout, index: usize) -> PathBuf {
    layout.dir.join(format!("gate{index}.sock"))
}

async fn forward(listener: TcpListener, socket: PathBuf) {
    while let Ok((mut outside, _)) = listener.accept().await {
        let socket = socket.clone();
        tokio::spawn(async move {
            if let Ok(mut inside) = UnixStream::connect(&socket).await {
                let _ = tokio::io::copy_bidirectional(&mut outside, &mut inside).await;
            }
        });
    }
}

/// Inside, on the client host: a socket that leads to a gate.
pub fn lead(socket: &Path, to: std::net::SocketAddr) -> Result<()> {
    let runtime = tokio::runtime::Builder::new_current_thread()
        .enable_all()
        .build()?;
    runtime.block_on(async {
        let _ = std::fs::remove_file(socket);
        let listener = tokio::net::UnixListener::bind(socket)?;
        loop {
            let (mut from, _) = listener.accept().await?;
            tokio::spawn(async move {
                if let Ok(mut gate) = tokio::net::TcpStream::connect(to).await {
                    let _ = tokio::io::copy_bidirectional(&mut from, &mut gate).await;
                }
            });
        }
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::shape::Shape;
    use std::os::unix::process::{CommandExt, ExitStatusExt};

    /// What a killed drill had started beside the lab does not outlive `down`, whether a minder
    /// runs or not.
    #[test]
    fn nothing_of_a_killed_drill_is_left() {
        let dir = Path::new("/var/tmp").join(format!("karst-keep-{}", std::process::id()));
        let layout = Layout::new(&dir, 9990, Shape::default()).unwrap();
        std::fs::create_dir_all(&dir).unwrap();
        assert!(!stop(&layout).unwrap(), "nothing was there");
        let mut capture = Command::new("sleep")
            .arg0("tcpdump")
            .arg("600")
            .current_dir(&dir)
            .spawn()
            .unwrap();
        while crate::find::of_lab(&layout).is_empty() {
            std::thread::yield_now();
        }
        assert!(stop(&layout).unwrap());
        assert_eq!(
            capture.wait().unwrap().signal(),
            Some(Signal::KILL.as_raw())
        );
        std::fs::remove_dir_all(&dir).unwrap();
    }
}
