//! Revisions of the spec that another node has in its log. Each travels as its text and as the value that a
//! coordinator read there. People are shown the text; so a node takes none whose value is another one, and a
//! coordinator that made it up gets no majority for it (G10).

use super::asked::is_people;
use crate::judge::spec_of;
use anyhow::{Context, Result, ensure};
use karst_core::consensus::Talk;
use karst_core::intent::Want;
use karst_core::message::Message;
use karst_core::spec::Revision;
use karst_core::state::Charter;
use std::sync::Arc;

/// A message of the stream of what nodes say, once its revisions were looked at, off this thread.
///
/// # Errors
/// If no honest node says it there.
pub async fn looked_at(message: Message) -> Result<Message> {
    ensure!(!is_people(&message), "a question among what nodes say");
    let revisions = revisions(&message);
    if !revisions.is_empty() {
        let look = move || revisions.iter().try_for_each(|one| look_at(one));
        tokio::task::spawn_blocking(look).await??;
    }
    Ok(message)
}

/// The revisions that a message would put into the log.
pub fn revisions(message: &Message) -> Vec<Arc<Revision>> {
    match message {
        Message::Talk(Talk::AppendEntries { entries, .. }) => {
            let all = entries.iter().filter_map(|entry| entry.command.revision());
            all.cloned().collect()
        }
        Message::Talk(Talk::InstallSnapshot { piece, .. }) => of_charter(&piece.part.charter),
        _ => Vec::new(),
    }
}

fn of_charter(charter: &Charter) -> Vec<Arc<Revision>> {
    let wanted = charter.intents.values().map(|intended| &intended.what.want);
    let wanted = wanted.filter_map(Want::revision);
    charter.revision.iter().chain(wanted).cloned().collect()
}

fn look_at(revision: &Revision) -> Result<()> {
    let number = revision.number;
    let said = spec_of(&revision.text).map_err(anyhow::Error::msg);
    let said = said.with_context(|| format!("revision {number} of the log"))?;
    ensure!(
        said == *revision.spec,
        "revision {number} of the log is another spec than its text: it is not taken"
    );
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;
    use karst_core::author::Author;
    use karst_core::command::{ClusterAct, Command};
    use karst_core::consensus::{Entry, LogId, Piece};
    use karst_core::intent::Intent;
    use karst_core::spec::Spec;
    use karst_core::state::ClusterState;
    use karst_core::{Index, Term, Time};
    use std::time::Duration;

    const TEXT: &str = "cluster = \"skerry\"\n# Only a comment was changed.\n[zone.quay]\n\
        [node.ponor]\nzone = \"quay\"\npeer = \"10.20.0.13:26700\"\n";

    fn revision(change: impl FnOnce(&mut Spec)) -> Arc<Revision> {
        let mut spec = spec_of(TEXT).unwrap();
        change(&mut spec);
        Arc::new(Revision::first(spec, TEXT))
    }

    fn entry(command: Command) -> Message {
        Message::Talk(Talk::AppendEntries {
            term: Term(2),
            prev: LogId::default(),
            entries: vec![Entry {
                term: Term(2),
                index: Index(1),
                command,
            }],
            commit: Index(0),
            sent: Time::ZERO,
            news: true,
            keep: Duration::ZERO,
        })
    }

    /// In each of the three ways in which a coordinator says what the spec is.
    fn ways(revision: &Arc<Revision>) -> [Message; 3] {
        let founders = revision.spec.votes();
        let found = ClusterAct::Found {
            revision: revision.clone(),
            founders,
        };
        let intend = ClusterAct::Intend(Intent {
            want: Want::Revision(revision.clone()),
            by: Author::Cluster,
            at: 1,
            why: None,
            until: None,
        });
        let mut part = ClusterState::default();
        part.charter.revision = Some(revision.clone());
        let piece = Box::new(Piece {
            last: LogId::new(Term(2), Index(9)),
            number: 0,
            of: 1,
            part,
        });
        let snapshot = Message::Talk(Talk::InstallSnapshot {
            term: Term(2),
            piece,
            sent: Time::ZERO,
            keep: Duration::ZERO,
        });
        let both = [found, intend].map(|act| entry(Command::Cluster(act)));
        let [found, intend] = both;
        [found, intend, snapshot]
    }

    /// A coordinator committed a comment for people to read, and beside it a program to run.
    #[tokio::test]
    async fn a_log_has_no_revision_that_is_not_its_text() {
        for message in ways(&revision(|_| ())) {
            assert_eq!(looked_at(message.clone()).await.unwrap(), message);
        }
        let lies: [fn(&mut Spec); 2] = [
            |spec| spec.timings.heartbeat = Duration::MAX,
            |spec| spec.nodes.clear(),
        ];
        for lie in lies {
            for message in ways(&revision(lie)) {
                assert_eq!(revisions(&message).len(), 1);
                let refused = looked_at(message).await.unwrap_err();
                assert!(refused.to_string().contains("than its text"), "{refused}");
            }
        }
    }
}
