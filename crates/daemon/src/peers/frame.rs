//! Messages as they travel on a stream: CBOR (RFC 8949) behind a four-byte length.

use anyhow::{Context, Result};
use quinn::RecvStream;
use serde::Serialize;

/// A frame larger than this is refused: the largest honest one has a revision of the spec in it, text
/// and value.
const FRAME_LIMIT: usize = 24 << 20;
pub fn encode<T: Serialize>(value: &T) -> Vec<u8> {
    let mut frame = vec![0; 4];
    ciborium::into_writer(value, &mut frame).expect("messages serialise into memory");
    let length = (frame.len() - 4) as u32;
    frame[..4].copy_from_slice(&length.to_be_bytes());
    frame
}

pub async fn read_frame<T: serde::de::DeserializeOwned>(stream: &mut RecvStream) -> Result<T> {
    let mut length = [0; 4];
    stream.read_exact(&mut length).await?;
    let length = u32::from_be_bytes(length) as usize;
    anyhow::ensure!(
        length <= FRAME_LIMIT,
        "a frame of {length} bytes; at most {FRAME_LIMIT} are taken"
    );
    let mut frame = vec![0; length];
    stream.read_exact(&mut frame).await?;
    decode(&frame)
}

/// Reads one frame's bytes. A frame with anything behind its value is refused.
pub fn decode<T: serde::de::DeserializeOwned>(frame: &[u8]) -> Result<T> {
    let mut rest = frame;
    let value = ciborium::from_reader(&mut rest).context("a frame that cannot be read")?;
    anyhow::ensure!(
        rest.is_empty(),
        "a frame with {} bytes behind its value",
        rest.len()
    );
    Ok(value)
}

#[cfg(test)]
mod tests {
    use super::super::sealed;
    use super::*;
    use karst_core::NodeId;
    use karst_core::consensus::Talk;
    use karst_core::heads::Head;
    use karst_core::health::Hears;
    use karst_core::members::Ordered;
    use karst_core::message::{Message, heads_beside};
    use karst_core::request::{Plea, Request};
    use karst_core::{Epoch, Index, Term, Time};
    use proptest::prelude::*;
    use std::time::Duration;

    fn beat() -> Message {
        let hears = Hears {
            you: Some(Duration::from_millis(90)),
            ..Hears::default()
        };
        Message::Beat {
            number: 7,
            hears,
            heads: vec![],
            votes: Index(0),
        }
    }

    /// With a thousand nodes, the longest names and the largest numbers.
    #[test]
    fn the_largest_beat_fits_a_datagram() {
        let lately = (0..1_000)
            .map(|n| NodeId::from(format!("n{n}")))
            .collect::<Ordered>()
            .pick(|_| true);
        let head = Head {
            epoch: Epoch(u64::MAX),
            position: u64::MAX,
        };
        let name = |n: usize| format!("{n:040}").as_str().into();
        let heads = (0..heads_beside(&lately))
            .map(|n| (name(n), head))
            .collect();
        let hears = Hears {
            you: Some(Duration::MAX),
            lately,
            of: u64::MAX,
        };
        let beat = Message::Beat {
            number: u64::MAX,
            hears,
            heads,
            votes: Index(u64::MAX),
        };
        let length = encode(&beat).len() - 4;
        assert!((900..=sealed::LARGEST).contains(&length), "{length} bytes");
    }

    #[test]
    fn a_frame_is_read_as_it_was_written_and_with_nothing_behind_it() {
        let frame = encode(&beat());
        assert_eq!(
            u32::from_be_bytes([frame[0], frame[1], frame[2], frame[3]]) as usize,
            frame.len() - 4
        );
        assert_eq!(decode::<Message>(&frame[4..]).unwrap(), beat());
        let mut longer = frame[4..].to_vec();
        longer.push(0);
        assert!(decode::<Message>(&longer).is_err());
    }

    fn messages() -> [Message; 4] {
        let request = Request::Intend {
            plea: Plea::Restart {
                workload: "sailings".into(),
            },
            by: "captain".into(),
            at: 1,
            why: Some("the quay's switch".into()),
            seen: None,
            plan_only: true,
        };
        let ask = Message::Ask {
            number: 9,
            request,
            token: None,
        };
        let talk = Message::Talk(Talk::Take { term: Term(3) });
        let grant = Message::Grant {
            number: 1,
            sent: Time::ZERO,
            term: Term(3),
            leases: Vec::new(),
            readers: [("sailings".into(), ["uvala".into()].into())].into(),
            round: Default::default(),
            news: true,
        };
        [beat(), ask, talk, grant]
    }

    /// The lengths that a frame names are claims: reading it takes no more memory than this. Serde
    /// reserves up to 1 MiB for a list of unknown length, and a list in a list doubles that.
    const MEMORY: usize = 4 << 20;

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(10_000))]

        /// Whatever arrives, it is a message or an error.
        #[test]
        fn hostile_frames_are_refused(
            noise in prop::collection::vec(any::<u8>(), 0..200),
            at in any::<prop::sample::Index>(),
            put in prop_oneof![
                prop::collection::vec(any::<u8>(), 0..12),
                // Heads of lists, maps, texts and bytes of any length (RFC 8949, section 3).
                (prop_oneof![Just(0x9bu8), Just(0xbb), Just(0x7b), Just(0x5b)], any::<u64>())
                    .prop_map(|(head, length)| [&[head], &length.to_be_bytes()[..]].concat()),
                Just(vec![0x81; 5_000]),
            ],
        ) {
            let before = crate::MEMORY.current_usage();
            crate::MEMORY.reset_peak_usage();
            let _ = decode::<Message>(&noise);
            for message in messages() {
                let mut frame = encode(&message)[4..].to_vec();
                let at = at.index(frame.len());
                let end = (at + put.len()).min(frame.len());
                frame.splice(at..end, put.iter().copied());
                if let Ok(read) = decode::<Message>(&frame) {
                    prop_assert_eq!(&decode::<Message>(&encode(&read)[4..]).unwrap(), &read);
                }
            }
            prop_assert!(crate::MEMORY.peak_usage() < before + MEMORY);
        }
    }
}
