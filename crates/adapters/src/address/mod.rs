//! A floating address on this host: probed for before it is used, put on the interface of its
//! subnet by netlink, announced, and looked after while it is here.

mod connections;
mod wire;

use karst_core::address::Connection;
use karst_core::spec::Subnet;
use pnet_datalink::NetworkInterface;
use rtnetlink::packet_route::address::{AddressHeaderFlags, AddressMessage};
use rtnetlink::{AddressMessageBuilder, Handle};
use std::net::IpAddr;
use std::sync::{Mutex, MutexGuard, PoisonError};
use std::time::Duration;

/// How long others have to say that they have it, before it is used.
const PROBE: Duration = Duration::from_millis(8);

#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum AddressError {
    #[error("no interface of this host has an address in the subnet of {0}")]
    NoInterface(Subnet),
    #[error("{ip} is answered by {other} already")]
    Taken { ip: IpAddr, other: String },
    #[error("{0}")]
    Refused(String),
}

type Result<T> = std::result::Result<T, AddressError>;

/// The addresses of one workload, which come and go together: on each host those of its own subnets.
#[derive(Debug)]
pub struct Address {
    on: Vec<Subnet>,
    netlink: Handle,
    /// Those that were taken up here, until they are given up: an interface that is lost meanwhile
    /// takes none of them out of account.
    taken: Mutex<Vec<Subnet>>,
}

/// The name of this host's interface for an address of that subnet.
///
/// # Errors
/// If it has none.
pub fn interface_for(subnet: Subnet) -> Result<String> {
    interface_of(subnet).map(|interface| interface.name)
}

impl Address {
    /// Needs a tokio runtime around it.
    ///
    /// # Errors
    /// If the kernel gives no netlink socket.
    pub fn new(on: Vec<Subnet>) -> std::io::Result<Self> {
        let (connection, netlink, _) = rtnetlink::new_connection()?;
        tokio::spawn(connection);
        let taken = Mutex::default();
        Ok(Self { on, netlink, taken })
    }

    fn taken(&self) -> MutexGuard<'_, Vec<Subnet>> {
        self.taken.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Takes them up: nobody else answers, then they are here, then everyone is told. What is here
    /// already stays.
    ///
    /// # Errors
    /// If somebody else answers for one, or it cannot be put on an interface: then none of them is
    /// left here.
    pub async fn take_up(&self) -> Result<()> {
        let mine = match of_this_host(&self.on) {
            Ok(mine) => mine,
            Err(error) => {
                self.give_up().await?;
                return Err(error);
            }
        };
        self.taken().clone_from(&mine);
        let all =
            futures_util::future::join_all(mine.iter().map(|subnet| self.take_up_one(*subnet)));
        let taken: Result<Vec<()>> = all.await.into_iter().collect();
        if let Err(error) = taken {
            self.give_up().await?;
            return Err(error);
        }
        Ok(())
    }

    async fn take_up_one(&self, subnet: Subnet) -> Result<()> {
        let (ip, interface) = (subnet.ip, interface_of(subnet)?);
        if !has(&interface, ip) {
            if let Some(other) = self.who_else(subnet).await? {
                return Err(AddressError::Taken { ip, other });
            }
            self.netlink_add(&interface, ip).await?;
        }
        let told = tokio::task::spawn_blocking(move || wire::announce(ip, &interface)).await;
        told.map_err(|e| AddressError::Refused(e.to_string()))?
            .map_err(|e| AddressError::Refused(e.to_string()))
    }

    /// Takes them away, from whatever interface has them.
    ///
    /// # Errors
    /// If the kernel refuses.
    pub async fn give_up(&self) -> Result<()> {
        for subnet in &self.on {
            for interface in pnet_datalink::interfaces()
                .into_iter()
                .filter(|i| has(i, subnet.ip))
            {
                let deleted = self
                    .netlink
                    .address()
                    .del(message(&interface, subnet.ip))
                    .execute()
                    .await;
                deleted.map_err(|e| {
                    AddressError::Refused(format!("{} stays on {}: {e}", subnet.ip, interface.name))
                })?;
            }
        }
        self.taken().clear();
        Ok(())
    }

    /// Those that are here; none unless all are that were taken up here, or, after a restart of the
    /// daemon, all that this host can have.
    pub fn here(&self) -> Vec<IpAddr> {
        let mut wanted = self.taken().clone();
        if wanted.is_empty() {
            wanted = of_this_host(&self.on).unwrap_or_default();
        }
        let interfaces = pnet_datalink::interfaces();
        let is_here = |subnet: &Subnet| interfaces.iter().any(|i| has(i, subnet.ip));
        if wanted.iter().all(is_here) {
            wanted.iter().map(|subnet| subnet.ip).collect()
        } else {
            Vec::new()
        }
    }

    /// Any of them that is here, whether or not it is to be.
    pub fn left(&self) -> Vec<IpAddr> {
        let interfaces = pnet_datalink::interfaces();
        let is_here = |ip: &IpAddr| interfaces.iter().any(|i| has(i, *ip));
        self.on.iter().map(|s| s.ip).filter(is_here).collect()
    }

    /// The clients' connections over them.
    ///
    /// # Errors
    /// If the kernel does not list them.
    pub fn connections(&self) -> std::io::Result<Vec<Connection>> {
        connections::established(&self.on.iter().map(|subnet| subnet.ip).collect::<Vec<_>>())
    }

    /// Has the clients of these connections notice that the address is here now.
    ///
    /// # Errors
    /// Without the right to raw sockets.
    pub fn rouse(connections: &[Connection]) -> std::io::Result<()> {
        connections::rouse(connections)
    }

    /// Who else answers for one of them.
    ///
    /// # Errors
    /// If that cannot be asked.
    pub async fn conflict(&self) -> Result<Option<String>> {
        let mine = self.taken().clone();
        for subnet in &mine {
            if let Some(other) = self.who_else(*subnet).await? {
                return Ok(Some(other));
            }
        }
        Ok(None)
    }

    async fn who_else(&self, subnet: Subnet) -> Result<Option<String>> {
        let interface = interface_of(subnet)?;
        let asked =
            tokio::task::spawn_blocking(move || wire::who_else_has(subnet.ip, &interface, PROBE))
                .await;
        let refused = |e: String| {
            AddressError::Refused(format!("nobody can be asked for {}: {e}", subnet.ip))
        };
        let other = asked
            .map_err(|e| refused(e.to_string()))?
            .map_err(|e| refused(e.to_string()))?;
        Ok(other.map(|mac| mac.to_string()))
    }

    async fn netlink_add(&self, interface: &NetworkInterface, ip: IpAddr) -> Result<()> {
        let mut request = self.netlink.address().add(interface.index, ip, whole(ip));
        if ip.is_ipv6() {
            // It was just probed for, and the kernel's own detection would take a second.
            request.message_mut().header.flags |= AddressHeaderFlags::Nodad;
        }
        let added = request.replace().execute().await;
        added.map_err(|e| {
            AddressError::Refused(format!("{ip} does not go on {}: {e}", interface.name))
        })
    }
}

fn whole(ip: IpAddr) -> u8 {
    if ip.is_ipv4() { 32 } else { 128 }
}

fn message(interface: &NetworkInterface, ip: IpAddr) -> AddressMessage {
    match ip {
        IpAddr::V4(v4) => AddressMessageBuilder::<std::net::Ipv4Addr>::new()
            .index(interface.index)
            .address(v4, 32)
            .build(),
        IpAddr::V6(v6) => AddressMessageBuilder::<std::net::Ipv6Addr>::new()
            .index(interface.index)
            .address(v6, 128)
            .build(),
    }
}

fn has(interface: &NetworkInterface, ip: IpAddr) -> bool {
    interface.ips.iter().any(|n| n.ip() == ip)
}

/// Those for which this host has an interface: of each family at least one.
fn of_this_host(on: &[Subnet]) -> Result<Vec<Subnet>> {
    let has_one = |subnet: &&Subnet| interface_of(**subnet).is_ok();
    let mine: Vec<Subnet> = on.iter().filter(has_one).copied().collect();
    let missed = |subnet: &&Subnet| {
        let is_alike = |mine: &Subnet| mine.ip.is_ipv4() == subnet.ip.is_ipv4();
        !mine.iter().any(is_alike)
    };
    match on.iter().find(missed) {
        Some(subnet) => Err(AddressError::NoInterface(*subnet)),
        None => Ok(mine),
    }
}

/// The interface that has an address of its own in the subnet.
fn interface_of(subnet: Subnet) -> Result<NetworkInterface> {
    let fits = |i: &NetworkInterface| {
        i.ips
            .iter()
            .any(|n| n.ip() != subnet.ip && subnet.has(n.ip()))
    };
    pnet_datalink::interfaces()
        .into_iter()
        .find(fits)
        .ok_or(AddressError::NoInterface(subnet))
}

/// Takes an address away without a runtime and without waiting for one: the deadman's way. Returns
/// whether it was here.
///
/// # Errors
/// If `ip` cannot be run, or refuses.
pub fn remove_now(ip: IpAddr) -> std::io::Result<bool> {
    let mut was_here = false;
    for interface in pnet_datalink::interfaces()
        .into_iter()
        .filter(|i| has(i, ip))
    {
        was_here = true;
        let mut command = std::process::Command::new("ip");
        command.args([
            "address",
            "del",
            &format!("{ip}/{}", whole(ip)),
            "dev",
            &interface.name,
        ]);
        let output = command
            .env("PATH", "/usr/sbin:/sbin:/usr/bin:/bin")
            .output()?;
        if !output.status.success() {
            let why = String::from_utf8_lossy(&output.stderr);
            return Err(std::io::Error::other(format!(
                "{ip} stays on {}: {}",
                interface.name,
                why.trim()
            )));
        }
    }
    Ok(was_here)
}
