//! What this host needs to be a node, each looked at with the means that the daemon would use.
//! Nothing is changed, and a daemon that runs is not disturbed.

mod ways;

use crate::arguments::Run;
use crate::peers::Links;
use crate::{clock, deadman, given, renew, tls};
use karst_adapters::process::find_hierarchy;
use karst_adapters::{Guard, Name, Placed, Power, Server};
use karst_api::{HostNeed, Met};
use karst_core::ownstep::OwnStep;
use karst_core::power::PowerOrder;
use karst_core::spec::{Spec, WorkloadSpec};
use karst_core::{NodeId, WorkloadId};
use std::net::{SocketAddr, TcpListener, UdpSocket};
use std::path::Path;
use std::time::Duration;
use time::OffsetDateTime;
use time::format_description::well_known::Rfc2822;

/// Of clocks that read times differently people make wrong conclusions.
const CLOCKS_APART: Duration = Duration::from_secs(2);
const ANSWERS_WITHIN: Duration = Duration::from_secs(3);
/// A certificate that ends sooner is replaced now.
const SOON: Duration = Duration::from_secs(30 * 86_400);

/// Looks at all of it; blocks meanwhile.
///
/// # Errors
/// If there is nothing left to look with.
pub fn look(run: &Run) -> std::io::Result<Vec<HostNeed>> {
    let runtime = tokio::runtime::Builder::new_current_thread()
        .enable_all()
        .build()?;
    Ok(runtime.block_on(examine(run)))
}

/// The same where a daemon runs, which knows the spec and who it is.
///
/// # Errors
/// If there is nothing left to look with.
pub fn look_again(
    run: &Run,
    spec: &Spec,
    me: &NodeId,
    links: &Links,
) -> std::io::Result<Vec<HostNeed>> {
    let runtime = tokio::runtime::Builder::new_current_thread()
        .enable_all()
        .build()?;
    Ok(runtime.block_on(of_node(run, (spec, me), Some(links), Vec::new())))
}

async fn examine(run: &Run) -> Vec<HostNeed> {
    let mut needs = Vec::new();
    let (spec, me) = match given::load_spec(&run.spec) {
        Err(error) => {
            let remedy = "put the cluster's spec file there, the same as on every other host";
            needs.push(no("the spec file", format!("{error:#}"), remedy));
            return needs;
        }
        Ok((spec, _)) => {
            needs.push(yes("the spec file", run.spec.display().to_string()));
            match given::who_am_i(&spec, run.node.as_deref()) {
                Ok(me) => (spec, me),
                Err(error) => {
                    let remedy = "name it (`karst doctor --as`, `karstd run --node`), or give the host that name";
                    needs.push(no("a name in the spec", format!("{error:#}"), remedy));
                    return needs;
                }
            }
        }
    };
    of_node(run, (&spec, &me), None, needs).await
}

/// What is not met first.
async fn of_node(
    run: &Run,
    (spec, me): (&Spec, &NodeId),
    links: Option<&Links>,
    mut needs: Vec<HostNeed>,
) -> Vec<HostNeed> {
    needs.push(yes("a name in the spec", me.to_string()));
    directories(run, &mut needs);
    needs.push(certificates(run));
    needs.push(tokens(run));
    needs.push(guard());
    needs.push(cgroup(run));
    needs.push(watchdog(run));
    ports(run, spec, me, &mut needs);
    needs.extend(steps(run, spec, me));
    for (id, workload) in &spec.workloads {
        needs.extend(replica(run, spec, me, id));
        needs.extend(subnets(me, id, workload));
        needs.extend(name(run, spec, me, id));
    }
    for (other, node) in spec.nodes.iter().filter(|(other, _)| *other != me) {
        if let Some(api) = node.api {
            needs.push(peer(run, other, api).await);
        }
    }
    needs.extend(ways::look(spec, me, links).await);
    needs.extend(power(run, spec, me).await);
    needs.sort_by_key(|need| match need.met {
        Met::No => 0,
        Met::Better => 1,
        Met::Yes => 2,
    });
    needs
}

fn need(what: impl Into<String>, met: Met, why: String, remedy: Option<&str>) -> HostNeed {
    HostNeed {
        what: what.into(),
        met,
        why: Some(why),
        remedy: remedy.map(Into::into),
    }
}

fn yes(what: impl Into<String>, found: impl Into<String>) -> HostNeed {
    need(what, Met::Yes, found.into(), None)
}

fn no(what: impl Into<String>, why: impl Into<String>, remedy: &str) -> HostNeed {
    need(what, Met::No, why.into(), Some(remedy))
}

fn better(what: impl Into<String>, why: impl Into<String>, remedy: &str) -> HostNeed {
    need(what, Met::Better, why.into(), Some(remedy))
}

fn directories(run: &Run, needs: &mut Vec<HostNeed>) {
    let (state, runtime) = (&run.common.state, &run.common.runtime);
    for (what, dir) in [
        ("the state directory", state),
        ("the runtime directory", runtime),
    ] {
        let nearest = dir.ancestors().find(|dir| dir.exists());
        let nearest = nearest.unwrap_or(Path::new("/"));
        let writable = rustix::fs::access(nearest, rustix::fs::Access::WRITE_OK);
        let shown = dir.display();
        needs.push(match writable {
            Ok(()) => yes(what, shown.to_string()),
            Err(error) => no(
                what,
                format!("{shown}: {error}"),
                "make it and give it to the user that karstd runs as",
            ),
        });
    }
}

fn certificates(run: &Run) -> HostNeed {
    let (what, remedy) = (
        "the node's certificate and key",
        "put ca.pem, node.pem and node.key there, signed by the cluster's CA for this node's name",
    );
    if let Err(error) = tls::Identity::load(&run.tls) {
        return no(what, format!("{error:#}"), remedy);
    }
    match tls::left(&run.tls.join("node.pem")) {
        Ok(Some(left)) if left < SOON => {
            let days = left.as_secs() / 86_400;
            better(
                what,
                format!("it ends in {days} days"),
                "put a new one in its place",
            )
        }
        Ok(_) => yes(what, run.tls.display().to_string()),
        Err(error) => no(what, format!("{error:#}"), remedy),
    }
}

fn tokens(run: &Run) -> HostNeed {
    let what = "the token file";
    match renew::read_tokens(&run.tokens) {
        Ok(_) => yes(what, run.tokens.display().to_string()),
        Err(error) => no(
            what,
            format!("{error:#}"),
            "write lines of NAME LEVEL SHA256-IN-HEX there",
        ),
    }
}

fn guard() -> HostNeed {
    let what = "a packet guard";
    match Guard::default().look() {
        Ok(()) => yes(what, "nftables"),
        Err(error) => better(
            what,
            error.to_string(),
            "install nftables and give karstd CAP_NET_ADMIN: without it a host that is frozen and thawed may answer for an instant",
        ),
    }
}

fn cgroup(run: &Run) -> HostNeed {
    let what = "a cgroup for each server";
    let given = run.common.cgroup.clone();
    let parent = given.or_else(|| Some(find_hierarchy()?.join("karst")));
    let Some(parent) = parent else {
        return better(
            what,
            "there is no cgroup v2 hierarchy",
            "mount one: servers are found by their directory alone without it",
        );
    };
    let nearest = parent.ancestors().find(|dir| dir.exists());
    let writable = nearest.map(|dir| rustix::fs::access(dir, rustix::fs::Access::WRITE_OK));
    match writable {
        Some(Ok(())) => yes(what, parent.display().to_string()),
        _ => better(
            what,
            format!("{} cannot be made", parent.display()),
            "delegate it to the user that karstd runs as",
        ),
    }
}

fn watchdog(run: &Run) -> HostNeed {
    let what = "a watchdog device";
    if let Some(device) = deadman::of_host(&run.common.runtime).watchdog {
        return yes(what, format!("{device}, fed by the deadman that runs here"));
    }
    let device = Path::new("/dev/watchdog");
    if device.exists() {
        yes(what, "/dev/watchdog; start the deadman with --watchdog")
    } else {
        better(
            what,
            "/dev/watchdog is not there",
            "load the hardware's module, or softdog: a host that stands still as a whole is reset then",
        )
    }
}

/// Where the daemon runs already they are its own.
fn ports(run: &Run, spec: &Spec, me: &NodeId, needs: &mut Vec<HostNeed>) {
    let Some(node) = spec.nodes.get(me) else {
        let what = format!("the spec in force names {me}");
        let remedy =
            "add it again where it should be a node (karst node add), else stop its daemon";
        needs.push(no(what, "it was removed", remedy));
        return;
    };
    let running = run.common.runtime.join("api.sock").exists();
    let remedy =
        "see what listens there (ss -lntup), or whether this host has the address (ip address)";
    let mut look = |what: String, bound: std::io::Result<()>| {
        needs.push(match bound {
            Ok(()) => yes(what, "free"),
            Err(error) if running && error.kind() == std::io::ErrorKind::AddrInUse => {
                yes(what, "in use, by the daemon that runs here")
            }
            Err(error) => no(what, error.to_string(), remedy),
        });
    };
    let tcp = |at: SocketAddr| TcpListener::bind(at).map(drop);
    look(
        format!("port {} (UDP, other nodes)", node.peer),
        UdpSocket::bind(node.peer).map(drop),
    );
    if let Some(api) = node.api {
        look(format!("port {api} (TCP, people)"), tcp(api));
    }
    for (id, workload) in &spec.workloads {
        if let Some(gate) = workload.gates.get(me) {
            look(format!("port {gate} (TCP, gate of {id})"), tcp(*gate));
        }
    }
}

/// The site's own steps that may run here.
fn steps(run: &Run, spec: &Spec, me: &NodeId) -> Vec<HostNeed> {
    let here = run.steps_of(&spec.cluster, me);
    let mine = spec.steps.iter().filter(|(_, step)| step.is_of(me));
    let look = |(name, step): (&String, &OwnStep)| {
        let what = format!("own step {name}");
        match here.lacks(step) {
            None => yes(what, here.dir.join(&step.program).display().to_string()),
            Some(why) => no(what, why, "put its program there, the same on every host"),
        }
    };
    mine.map(look).collect()
}

/// What the driver needs, as it says itself.
fn replica(run: &Run, spec: &Spec, me: &NodeId, id: &WorkloadId) -> Option<HostNeed> {
    let workload = spec.workloads.get(id)?;
    let here = workload.replicas.get(me)?;
    let what = format!("a server of {id}");
    if let Err(error) = run.allowed().server(spec, me, id) {
        let remedy = "have the spec name what this host allows, or allow it (karstd run --allowed)";
        return Some(no(what, format!("{error:#}"), remedy));
    }
    let made = Server::of(Placed {
        workload: id,
        spec: workload,
        me,
        runtime: &run.common.runtime,
        tls: &run.tls,
        processes: karst_adapters::process::Processes::new(Path::new(&here.data), None),
    });
    let lacking = match made {
        Err(error) => Some(error.to_string()),
        Ok(server) => server.lacks().err(),
    };
    Some(match lacking {
        None => yes(what, format!("in {}", here.data)),
        Some(why) => no(what, why, "install it, or say in the spec where it is"),
    })
}

/// The coordinator has the workload's name led elsewhere.
fn name(run: &Run, spec: &Spec, me: &NodeId, id: &WorkloadId) -> Option<HostNeed> {
    let name = spec.workloads.get(id)?.name.as_ref()?;
    let what = format!("the key of the name {}", name.record);
    let allowed = run.allowed().name(spec, me, id);
    let made = allowed.and_then(|()| Ok(Name::new(name, &spec.cluster, id)?));
    Some(match made {
        Ok(_) => yes(what, name.secret.clone()),
        Err(error) => no(
            what,
            format!("{error:#}"),
            "put the secret there: the node that coordinates changes the name with it",
        ),
    })
}

/// An interface for the floating address.
fn subnets(me: &NodeId, id: &WorkloadId, workload: &WorkloadSpec) -> Vec<HostNeed> {
    if !workload.may_hold_address(me) {
        return Vec::new();
    }
    let on = workload.address.iter().flat_map(|address| &address.on);
    let on: Vec<&karst_core::spec::Subnet> = on.collect();
    let is_here = |s: &karst_core::spec::Subnet| karst_adapters::address::interface_for(*s).is_ok();
    // A host has those of its own subnets, and needs one of each family.
    let spared = |s: &karst_core::spec::Subnet| {
        let mut alike = on.iter().filter(|o| o.ip.is_ipv4() == s.ip.is_ipv4());
        !is_here(s) && alike.any(|other| is_here(other))
    };
    let all = on.iter().copied().filter(|s| !spared(s));
    let look = |subnet: &karst_core::spec::Subnet| {
        let what = format!("an interface for the address {subnet} of {id}");
        match karst_adapters::address::interface_for(*subnet) {
            Ok(name) => yes(what, name),
            Err(error) => no(
                what,
                error.to_string(),
                "give the host an address of that subnet, or take the address out of the spec",
            ),
        }
    };
    all.map(look).collect()
}

/// Another node answers, and its clock reads the same.
async fn peer(run: &Run, node: &NodeId, api: SocketAddr) -> HostNeed {
    let what = format!("{node} at {api}");
    let remedy = "start its daemon; then look at routes and packet filters between the two (TCP to this port, UDP to its peer port)";
    let ca = std::fs::read_to_string(run.tls.join("ca.pem")).unwrap_or_default();
    let url = format!("https://{api}");
    let asked = karst_api::date_of(&url, &ca);
    let date = match tokio::time::timeout(ANSWERS_WITHIN, asked).await {
        Ok(Ok(date)) => date,
        Ok(Err(error)) => return no(what, error.to_string(), remedy),
        Err(_) => return no(what, "it does not answer", remedy),
    };
    let Ok(its) = OffsetDateTime::parse(&date, &Rfc2822) else {
        return better(
            what,
            format!("it says no date: {date:?}"),
            "see what answers there",
        );
    };
    let apart = its.unix_timestamp().abs_diff(clock::unix().cast_signed());
    if Duration::from_secs(apart) > CLOCKS_APART {
        return no(
            what,
            format!("its clock reads {apart} s otherwise"),
            "have both hosts follow the same time servers (chrony, systemd-timesyncd)",
        );
    }
    yes(what, "answers, and its clock reads the same")
}

/// The own device, and whether it is about this host.
async fn power(run: &Run, spec: &Spec, me: &NodeId) -> Option<HostNeed> {
    let what = "the power device of this host";
    let Some(device) = &spec.nodes[me].power else {
        return Some(better(
            what,
            "the spec has none",
            "name one: without it only the end of a lease proves that a lost host has stopped",
        ));
    };
    let remedy = "look at its address, user, secret and CA in the spec";
    let device = match Power::from_spec(device) {
        Ok(device) => device,
        Err(error) => return Some(no(what, error.to_string(), remedy)),
    };
    let system = std::fs::read_to_string(&run.system_uuid).ok();
    let system = system.as_deref().map(str::trim);
    let seen = device.carry_out(PowerOrder::Look, system, || false).await;
    device.close().await;
    Some(match seen {
        Ok(seen) if seen.on => yes(what, "reads that the host is on"),
        Ok(_) => no(
            what,
            "it reads that this host is off, which it is not",
            "it powers another machine: put the spec right",
        ),
        Err(error) => no(what, error.to_string(), remedy),
    })
}
