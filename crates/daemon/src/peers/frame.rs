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
    use karst_core::heads::Head;
    use karst_core::health::Hears;
    use karst_core::members::Ordered;
    use karst_core::message::{Message, heads_beside};
    use karst_core::{Epoch, Index};
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

    proptest! {
        /// Whatever arrives, it is a message or an error.
        #[test]
        fn hostile_frames_are_refused(noise in prop::collection::vec(any::<u8>(), 0..200), at in 0usize..60, bit in 0u8..8) {
            let _ = decode::<Message>(&noise);
            let mut frame = encode(&beat())[4..].to_vec();
            let at = at % frame.len();
            frame[at] ^= 1 << bit;
            let _ = decode::<Message>(&frame);
        }
    }
}
