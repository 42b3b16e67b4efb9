//! A workload's name in DNS: looked up at the zone's primary name server, and led elsewhere by an
//! update that is carried out only if the mark beside it is still the one that was read (RFC 2136,
//! 2.4 and 2.5). Everything is signed, and so has every answer to be (RFC 8945), by TCP.
//!
//! The mark is a TXT record at `_karst.` and the name: `cluster=skerry workload=sailings entry=417`.
//! Where there is none, the name is taken only if nothing stands there that somebody else made.

use crate::secret;
use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use domain::base::iana::{Class, Opcode, Rcode, Rtype};
use domain::base::message_builder::{AdditionalBuilder, MessageBuilder};
use domain::base::name::Name as DnsName;
use domain::base::rdata::UnknownRecordData;
use domain::base::{Message, Record, Ttl};
use domain::rdata::tsig::Time48;
use domain::rdata::{A, Aaaa, Txt};
use domain::tsig::{ClientTransaction, Key, KeyName};
use karst_core::name::{NameOrder, NameSeen};
use karst_core::spec::{Algorithm, MARK_OF_NAME, NameSpec};
use karst_core::{Index, WorkloadId};
use std::collections::BTreeSet;
use std::net::IpAddr;
use std::sync::Arc;
use std::time::Duration;
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::TcpStream;

/// For all that one order takes.
const DEADLINE: Duration = Duration::from_secs(5);

#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum NameError {
    #[error("the secret of its key: {0}")]
    Secret(String),
    #[error("{what}: {why}")]
    Unusable { what: &'static str, why: String },
    #[error("the name server does not answer: {0}")]
    Silent(String),
    #[error("what the name server answers cannot be trusted: {0}")]
    Untrusted(String),
    #[error("the name server refuses to {what}: {rcode}")]
    Refused { what: &'static str, rcode: Rcode },
    #[error("somebody else has made records there: remove them, or use another name")]
    Foreign,
    #[error("it is kept for another one ({0}): remove that record, or use another name")]
    Others(String),
    #[error(
        "it was written by entry {there} of a log of that cluster, and this node knows its log up to {known} only: if the cluster was formed anew, remove the record beside the name"
    )]
    Later { there: Index, known: Index },
    #[error("it was changed while it was looked at; trying on")]
    Raced,
}

type Result<T> = std::result::Result<T, NameError>;
type Owner = DnsName<Vec<u8>>;

/// One workload's name, at its name server.
pub struct Name {
    spec: NameSpec,
    cluster: String,
    workload: WorkloadId,
    record: Owner,
    mark: Owner,
    zone: Owner,
}

/// What stands there.
struct There {
    to: BTreeSet<IpAddr>,
    mark: Option<(String, Index)>,
}

impl Name {
    /// # Errors
    /// If DNS takes no such names.
    pub fn new(spec: &NameSpec, cluster: &str, workload: &WorkloadId) -> Result<Self> {
        Ok(Self {
            record: owner("its name", &spec.record)?,
            mark: owner("its mark's name", &format!("{MARK_OF_NAME}{}", spec.record))?,
            zone: owner("its zone", &spec.zone)?,
            spec: spec.clone(),
            cluster: cluster.into(),
            workload: workload.clone(),
        })
    }

    /// Has it lead where it is ordered to, unless it does; says where it leads then.
    ///
    /// # Errors
    /// If the name server does not answer or refuses, or the name is another's or was led elsewhere
    /// by a later order. Whether anything was changed is not known then.
    pub async fn carry_out(&self, order: &NameOrder) -> Result<NameSeen> {
        let silent = |_| NameError::Silent(format!("nothing within {} s", DEADLINE.as_secs()));
        tokio::time::timeout(DEADLINE, self.swap(order))
            .await
            .map_err(silent)?
    }

    async fn swap(&self, order: &NameOrder) -> Result<NameSeen> {
        // Read anew each time: it may have been changed on this host.
        let key = Arc::new(self.key()?);
        let mut server = TcpStream::connect(self.spec.server)
            .await
            .map_err(|e| NameError::Silent(format!("{}: {e}", self.spec.server)))?;
        let there = self.look(&mut server, &key).await?;
        let entry = there.mark.as_ref().map(|(_, entry)| *entry);
        if let Some(there) = entry.filter(|there| *there > order.entry) {
            let known = order.entry;
            return Err(NameError::Later { there, known });
        }
        let Some(to) = order.to.as_ref().filter(|to| **to != there.to) else {
            let to = there.to;
            return Ok(NameSeen { to, entry });
        };
        if there.mark.is_none() && !there.to.is_empty() {
            return Err(NameError::Foreign);
        }
        let update = self.update(&there, to, order.entry)?;
        let answer = exchange(&mut server, &key, update).await?;
        match answer.header().rcode() {
            Rcode::NOERROR => Ok(NameSeen {
                to: to.clone(),
                entry: Some(order.entry),
            }),
            // A record of another type at this name fails the same prerequisites.
            Rcode::YXDOMAIN | Rcode::YXRRSET if there.mark.is_none() => Err(NameError::Foreign),
            Rcode::YXDOMAIN | Rcode::YXRRSET | Rcode::NXRRSET | Rcode::NXDOMAIN => {
                Err(NameError::Raced)
            }
            rcode => Err(NameError::Refused {
                what: "change it",
                rcode,
            }),
        }
    }

    fn key(&self) -> Result<Key> {
        let secret = secret::read(&self.spec.secret).map_err(NameError::Secret)?;
        let bytes = STANDARD
            .decode(secret)
            .map_err(|_| NameError::Secret("not in base64".into()))?;
        let algorithm = match self.spec.algorithm {
            Algorithm::HmacSha256 => domain::tsig::Algorithm::Sha256,
            Algorithm::HmacSha384 => domain::tsig::Algorithm::Sha384,
            Algorithm::HmacSha512 => domain::tsig::Algorithm::Sha512,
        };
        let unusable = |why: String| NameError::Unusable {
            what: "its key",
            why,
        };
        let name: KeyName = self
            .spec
            .key
            .parse()
            .map_err(|e| unusable(format!("{e}")))?;
        Key::new(algorithm, &bytes, name, None, None).map_err(|e| unusable(e.to_string()))
    }

    async fn look(&self, server: &mut TcpStream, key: &Arc<Key>) -> Result<There> {
        let mut to = BTreeSet::new();
        for rtype in [Rtype::A, Rtype::AAAA] {
            let answer = self.ask(server, key, &self.record, rtype).await?;
            for record in answer.answer().map_err(garbled)? {
                let record = record.map_err(garbled)?;
                if record.owner() != self.record {
                    continue;
                }
                // A name that stands for another one is somebody else's.
                if record.rtype() == Rtype::CNAME {
                    return Err(NameError::Foreign);
                }
                if let Some(a) = record.to_record::<A>().map_err(garbled)? {
                    to.insert(IpAddr::V4(a.data().addr()));
                } else if let Some(a) = record.to_record::<Aaaa>().map_err(garbled)? {
                    to.insert(IpAddr::V6(a.data().addr()));
                }
            }
        }
        let answer = self.ask(server, key, &self.mark, Rtype::TXT).await?;
        let mut mark = None;
        for record in answer.answer().map_err(garbled)? {
            let record = record.map_err(garbled)?;
            let Some(txt) = record.to_record::<Txt<_>>().map_err(garbled)? else {
                continue;
            };
            let bytes: Vec<u8> = txt.data().text();
            let text = String::from_utf8_lossy(&bytes).into_owned();
            let entry = self.entry_of(&text);
            let other = mark.is_some();
            let Some(entry) = entry.filter(|_| !other) else {
                return Err(NameError::Others(text));
            };
            mark = Some((text, entry));
        }
        Ok(There { to, mark })
    }

    /// By which entry, if the mark is this workload's.
    fn entry_of(&self, mark: &str) -> Option<Index> {
        let rest = mark.strip_prefix(&self.mark_of(None))?;
        rest.parse().ok().map(Index)
    }

    fn mark_of(&self, entry: Option<Index>) -> String {
        let (cluster, workload) = (&self.cluster, &self.workload);
        let entry = entry.map_or(String::new(), |entry| entry.0.to_string());
        format!("cluster={cluster} workload={workload} entry={entry}")
    }

    async fn ask(
        &self,
        server: &mut TcpStream,
        key: &Arc<Key>,
        owner: &Owner,
        rtype: Rtype,
    ) -> Result<Message<Vec<u8>>> {
        let mut question = message(Opcode::QUERY).question();
        question.push((owner, rtype)).map_err(unmade)?;
        let answer = exchange(server, key, question.additional()).await?;
        match answer.header().rcode() {
            Rcode::NOERROR | Rcode::NXDOMAIN if answer.header().aa() => Ok(answer),
            Rcode::NOERROR | Rcode::NXDOMAIN => Err(NameError::Unusable {
                what: "the name server",
                why: format!("it is none for the zone {}", self.spec.zone),
            }),
            rcode => Err(NameError::Refused {
                what: "say where it leads",
                rcode,
            }),
        }
    }

    /// The update as a whole: nothing of it is carried out unless all that was read still stands.
    fn update(
        &self,
        there: &There,
        to: &BTreeSet<IpAddr>,
        entry: Index,
    ) -> Result<AdditionalBuilder<Vec<u8>>> {
        let mut zone = message(Opcode::UPDATE).question();
        zone.push((&self.zone, Rtype::SOA)).map_err(unmade)?;
        let nothing = |rtype| UnknownRecordData::from_octets(rtype, [0u8; 0]).expect("it is short");

        let mut stands = zone.answer();
        match &there.mark {
            Some((mark, _)) => {
                let data = text(mark)?;
                let record = (&self.mark, Class::IN, Ttl::ZERO, data);
                stands.push(record).map_err(unmade)?;
            }
            None => {
                for owner in [&self.mark, &self.record] {
                    let record = (owner, Class::NONE, Ttl::ZERO, nothing(Rtype::ANY));
                    stands.push(record).map_err(unmade)?;
                }
            }
        }

        let mut change = stands.authority();
        for (owner, rtype) in [
            (&self.record, Rtype::A),
            (&self.record, Rtype::AAAA),
            (&self.mark, Rtype::TXT),
        ] {
            let record = (owner, Class::ANY, Ttl::ZERO, nothing(rtype));
            change.push(record).map_err(unmade)?;
        }
        let ttl = Ttl::from_secs(u32::try_from(self.spec.ttl.as_secs()).unwrap_or(u32::MAX));
        for ip in to {
            match ip {
                IpAddr::V4(v4) => {
                    change.push(Record::new(&self.record, Class::IN, ttl, A::from(*v4)))
                }
                IpAddr::V6(v6) => {
                    change.push(Record::new(&self.record, Class::IN, ttl, Aaaa::from(*v6)))
                }
            }
            .map_err(unmade)?;
        }
        let mark = text(&self.mark_of(Some(entry)))?;
        let record = Record::new(&self.mark, Class::IN, Ttl::ZERO, mark);
        change.push(record).map_err(unmade)?;
        Ok(change.additional())
    }
}

fn owner(what: &'static str, text: &str) -> Result<Owner> {
    text.parse().map_err(|e| NameError::Unusable {
        what,
        why: format!("{text}: {e}"),
    })
}

fn text(text: &str) -> Result<Txt<Vec<u8>>> {
    Txt::build_from_slice(text.as_bytes()).map_err(unmade)
}

fn message(opcode: Opcode) -> MessageBuilder<Vec<u8>> {
    let mut message = MessageBuilder::new_vec();
    let header = message.header_mut();
    header.set_id(rand::random());
    header.set_opcode(opcode);
    message
}

/// One signed message there, and its signed answer back.
async fn exchange(
    server: &mut TcpStream,
    key: &Arc<Key>,
    mut request: AdditionalBuilder<Vec<u8>>,
) -> Result<Message<Vec<u8>>> {
    let silent = |e: std::io::Error| NameError::Silent(e.to_string());
    let signed = ClientTransaction::request(key.clone(), &mut request, Time48::now());
    let transaction = signed.map_err(unmade)?;
    let request = request.finish();
    let length = u16::try_from(request.len()).map_err(|_| unmade("it is too long"))?;
    let framed = [&length.to_be_bytes()[..], &request].concat();
    server.write_all(&framed).await.map_err(silent)?;
    let length = server.read_u16().await.map_err(silent)?;
    let mut answer = vec![0; usize::from(length)];
    server.read_exact(&mut answer).await.map_err(silent)?;
    let untrusted = |why: String| NameError::Untrusted(why);
    let mut answer = Message::from_octets(answer).map_err(|e| untrusted(e.to_string()))?;
    let rcode = answer.header().rcode();
    transaction
        .answer(&mut answer, Time48::now())
        .map_err(|e| match rcode {
            Rcode::NOERROR => untrusted(format!("its signature: {e}")),
            rcode => untrusted(format!(
                "{rcode}, and its signature: {e}; does it have the zone, and the key under this name?"
            )),
        })?;
    let asked = Message::from_octets(request).map_err(unmade)?;
    if answer.header().id() != asked.header().id() || !answer.header().qr() {
        return Err(untrusted("it is no answer to what was asked".into()));
    }
    Ok(answer)
}

fn unmade(why: impl std::fmt::Display) -> NameError {
    NameError::Unusable {
        what: "the message to the name server",
        why: why.to_string(),
    }
}

fn garbled(why: impl std::fmt::Display) -> NameError {
    NameError::Untrusted(why.to_string())
}
