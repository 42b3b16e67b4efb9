//! Questions of people that another node passes on. A node's key speaks for that node alone: what a
//! question says that this node can find out by itself, it finds out by itself.

use anyhow::{Result, bail, ensure};
use karst_api::specfile;
use karst_core::message::Message;
use karst_core::request::{Plea, Request};

/// Questions and their answers have a stream of their own.
pub fn is_people(message: &Message) -> bool {
    matches!(message, Message::Ask { .. } | Message::Answer { .. })
}

/// A revision travels as its text, and as the value that its sender read there. People are shown the
/// text, so the text alone counts: the value is read again here, off the heart's thread.
///
/// # Errors
/// If the text is no spec.
pub async fn read_anew(message: Message) -> Result<Message> {
    let names_a_spec = |request: &Request| {
        let revision = |plea: &Plea| matches!(plea, Plea::Revision { .. });
        matches!(request, Request::Intend { plea, .. } if revision(plea))
    };
    match message {
        Message::Ask { ref request, .. } if names_a_spec(request) => {
            tokio::task::spawn_blocking(|| read_spec_anew(message)).await?
        }
        other => Ok(other),
    }
}

fn read_spec_anew(mut message: Message) -> Result<Message> {
    if let Message::Ask { request, .. } = &mut message
        && let Request::Intend { plea, .. } = request
        && let Plea::Revision { text, spec, .. } = plea
    {
        ensure!(
            text.len() <= specfile::LONGEST,
            "a spec of {} bytes",
            text.len()
        );
        let read = specfile::read(text);
        let first = read.errors().next().map(ToString::to_string);
        match read.spec {
            Some(read) => **spec = read,
            None => bail!("a text that is no spec: {}", first.unwrap_or_default()),
        }
    }
    Ok(message)
}

#[cfg(test)]
mod tests {
    use super::*;
    use karst_core::author::Level;
    use std::time::Duration;

    const TEXT: &str = "cluster = \"skerry\"\n# Only a comment was changed.\n[zone.quay]\n\
        [node.ponor]\nzone = \"quay\"\npeer = \"10.20.0.13:26700\"\n";

    fn asks(text: &str, change: impl FnOnce(&mut karst_core::Spec)) -> Message {
        let mut spec = specfile::read(TEXT).spec.unwrap();
        change(&mut spec);
        let (text, based_on) = (text.to_string(), None);
        let spec = Box::new(spec);
        Message::Ask {
            number: 1,
            request: Request::Intend {
                plea: Plea::Revision {
                    text,
                    spec,
                    based_on,
                },
                by: "captain".into(),
                at: 1,
                why: None,
                seen: None,
                plan_only: false,
            },
            level: Level::Administer,
        }
    }

    /// A stolen key sent a harmless text, and beside it a value with a heartbeat that ended the
    /// coordinator, or with a program to run there.
    #[tokio::test]
    async fn a_revision_means_what_its_text_says() {
        let honest = asks(TEXT, |_| ());
        let lies = asks(TEXT, |spec| spec.timings.heartbeat = Duration::MAX);
        assert_ne!(lies, honest);
        assert_eq!(read_anew(lies).await.unwrap(), honest);
        assert_eq!(read_anew(honest.clone()).await.unwrap(), honest);
        let none = read_anew(asks("cluster = ", |_| ())).await.unwrap_err();
        assert!(
            none.to_string().contains("a text that is no spec"),
            "{none}"
        );
        let long = "#".repeat(specfile::LONGEST + 1);
        let long = read_anew(asks(&long, |_| ())).await.unwrap_err();
        assert!(long.to_string().contains("a spec of"), "{long}");
    }
}
