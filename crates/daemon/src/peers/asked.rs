//! Questions of people that another node passes on. A node's key speaks for that node alone: what a
//! question says that this node can find out by itself, it finds out by itself.

use super::Asked;
use crate::lock::read;
use crate::proven::is_proven;
use anyhow::{Result, ensure};
use karst_core::message::Message;
use karst_core::request::{Plea, Request};
use karst_core::{Input, NodeId};
use std::time::Duration;

/// Questions and their answers have a stream of their own.
pub fn is_people(message: &Message) -> bool {
    matches!(message, Message::Ask { .. } | Message::Answer { .. })
}

/// A pause after a token that is not known here: a holder of a node's key may try few.
const WRONG: Duration = Duration::from_secs(1);

/// The input that the heart gets for something that `from` passes on. The name and the level of the person are
/// those that this node's own tokens give. A revision travels as its text, and as the value that its
/// sender read there; people are shown the text, so the text alone counts: the value is read again here,
/// off the heart's thread.
///
/// # Errors
/// If it is a revision whose text is no spec, or a join without proof.
pub async fn heard(
    (from, cluster): (&NodeId, &str),
    message: Message,
    asked: &Asked,
) -> Result<Input> {
    let from = from.clone();
    let Message::Ask {
        number,
        mut request,
        token,
    } = message
    else {
        return Ok(Input::Received { from, message });
    };
    if let Request::Intend { plea, .. } = &mut request
        && let Plea::Revision {
            text, spec, judged, ..
        } = plea
    {
        let case = asked.judge.read(std::mem::take(text)).await;
        let case = case.map_err(anyhow::Error::msg)?;
        (*text, *spec, *judged) = (case.text, case.spec, Some(case.judged));
    }
    ensure!(
        is_proven(cluster, &request),
        "a join whose proof is not of its keys"
    );
    let user = token
        .as_ref()
        .and_then(|token| read(&asked.tokens).user(token));
    Ok(match user {
        Some(user) => Input::Introduced {
            from,
            number,
            request: request.asked_by(&user.name),
            level: user.level,
        },
        None => {
            if token.is_some() {
                tokio::time::sleep(WRONG).await;
            }
            let message = Message::Ask {
                number,
                request,
                token: None,
            };
            Input::Received { from, message }
        }
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::judge::{Judge, spec_of};
    use crate::tokens::{Tokens, digest};
    use karst_api::specfile;
    use karst_core::author::{Level, Token};
    use karst_core::spec::Revision;
    use std::sync::{Arc, RwLock};
    use tokio::sync::watch;

    const TEXT: &str = "cluster = \"skerry\"\n# Only a comment was changed.\n[zone.quay]\n\
        [node.ponor]\nzone = \"quay\"\npeer = \"10.20.0.13:26700\"\n";

    fn asks(
        text: &str,
        token: Option<&str>,
        change: impl FnOnce(&mut karst_core::Spec),
    ) -> Message {
        let mut spec = spec_of(TEXT).unwrap();
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
                    judged: None,
                },
                by: "admiral".into(),
                at: 1,
                why: None,
                seen: None,
                plan_only: false,
            },
            token: token.map(Token::new),
        }
    }

    async fn heard(message: Message) -> Result<Input> {
        let line: String = digest("gull").iter().map(|b| format!("{b:02x}")).collect();
        let tokens = Tokens::parse(&format!("captain operate {line}")).unwrap();
        let first = Revision::first(spec_of(TEXT).unwrap(), "");
        let (_revises, in_force) = watch::channel(Arc::new(first));
        let asked = Asked {
            tokens: Arc::new(RwLock::new(tokens)),
            judge: Judge::new(in_force),
        };
        let from = (&"uvala".into(), "skerry");
        super::heard(from, message, &asked).await
    }

    /// A stolen key sent a harmless text, and beside it a value with a heartbeat that ended the
    /// coordinator, or with a program to run there.
    #[tokio::test]
    async fn a_revision_means_what_its_text_says() {
        let honest = asks(TEXT, None, |_| ());
        let lies = asks(TEXT, None, |spec| spec.timings.heartbeat = Duration::MAX);
        assert_ne!(lies, honest);
        let honest = heard(honest).await.unwrap();
        assert_eq!(heard(lies).await.unwrap(), honest);
        let Input::Received {
            message: Message::Ask { request, .. },
            ..
        } = honest
        else {
            panic!("a question");
        };
        assert_eq!(request.revised(), Some(&spec_of(TEXT).unwrap()));
        let none = heard(asks("cluster = ", None, |_| ())).await.unwrap_err();
        assert!(none.to_string().contains("the spec is refused"), "{none}");
        let long = "#".repeat(specfile::LONGEST + 1);
        let long = heard(asks(&long, None, |_| ())).await.unwrap_err();
        assert!(long.to_string().contains("a spec has at most"), "{long}");
    }

    /// A stolen key asked in the name of an administrator, and was believed.
    #[tokio::test]
    async fn a_person_has_the_name_and_the_level_of_their_token() {
        let Ok(Input::Introduced { request, level, .. }) =
            heard(asks(TEXT, Some("gull"), |_| ())).await
        else {
            panic!("a token that is known");
        };
        assert_eq!((request.by(), level), (Some("captain"), Level::Operate));
        let guessed = heard(asks(TEXT, Some("tern"), |_| ())).await.unwrap();
        let plain = heard(asks(TEXT, None, |_| ())).await.unwrap();
        assert_eq!(guessed, plain, "it is worth nothing, and goes no further");
    }
}
