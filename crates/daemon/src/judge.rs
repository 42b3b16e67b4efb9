//! Specs that people ask for are read here, and held against the one in force: on threads beside the heart's,
//! and one at a time. The longest spec takes a good part of a second, and the heart stands still for none.

use karst_api::specfile;
use karst_core::spec::{Judged, Revision, Spec};
use std::sync::Arc;
use tokio::sync::{Semaphore, watch};

#[derive(Clone)]
pub struct Judge {
    in_force: watch::Receiver<Arc<Revision>>,
    one: Arc<Semaphore>,
}

/// A spec as its text says it.
#[derive(Debug)]
pub struct Case {
    pub text: String,
    pub spec: Box<Spec>,
    pub judged: Box<Judged>,
}

impl Judge {
    pub fn new(in_force: watch::Receiver<Arc<Revision>>) -> Self {
        let one = Arc::new(Semaphore::new(1));
        Self { in_force, one }
    }

    /// Waits for those before it. One that is begun goes on to its end, even where its asker has gone: so
    /// there is never a second beside it.
    ///
    /// # Errors
    /// Why the text is no spec.
    pub async fn read(&self, text: String) -> Result<Case, String> {
        if text.len() > specfile::LONGEST {
            let most = specfile::LONGEST;
            return Err(format!(
                "a spec has at most {most} bytes, and not {}",
                text.len()
            ));
        }
        let turn = self.one.clone().acquire_owned().await;
        let turn = turn.map_err(|error| error.to_string())?;
        let now = self.in_force.borrow().clone();
        let work = move || {
            let case = case(&now, text);
            drop(turn);
            case
        };
        let done = tokio::task::spawn_blocking(work).await;
        done.map_err(|error| error.to_string())?
    }
}

/// The spec of that text alone counts.
///
/// # Errors
/// Why it is no spec.
pub fn spec_of(text: &str) -> Result<Spec, String> {
    let read = specfile::read(text);
    let errors: Vec<String> = read.errors().map(ToString::to_string).collect();
    read.spec
        .ok_or_else(|| format!("the spec is refused: {}", errors.join("; ")))
}

fn case(now: &Revision, text: String) -> Result<Case, String> {
    let spec = Box::new(spec_of(&text)?);
    let judged = Box::new(Judged::new(now, &text, &spec));
    Ok(Case { text, spec, judged })
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::fmt::Write as _;
    use std::time::Duration;

    fn long_spec(workloads: usize) -> String {
        let mut text = "cluster = \"skerry\"\n[zone.quay]\n".to_string();
        for n in 0..3 {
            let _ = write!(
                text,
                "[node.n{n}]\nzone = \"quay\"\npeer = \"10.20.0.{n}:26700\"\n"
            );
        }
        for w in 0..workloads {
            let _ = writeln!(text, "[workload.w{w}]\n[workload.w{w}.replica.n1]");
            let _ = writeln!(
                text,
                "address = \"10.30.{}.{}:5432\"\ndata = \"/d/{w}\"",
                w / 250,
                w % 250
            );
        }
        text
    }

    /// Plans that nobody waited for any more kept the coordinator from everything else.
    #[tokio::test]
    async fn a_spec_is_read_alone_and_holds_nothing_else_up() {
        let first = Revision::first(spec_of(&long_spec(1)).unwrap(), "");
        let (_revises, in_force) = watch::channel(Arc::new(first));
        let judge = Judge::new(in_force);
        let long = judge.read(long_spec(5_000));
        let gone = tokio::time::timeout(Duration::from_millis(1), long).await;
        assert!(gone.is_err(), "whoever asked hung up");
        assert_eq!(judge.one.available_permits(), 0, "it is read to its end");
        let case = judge.read(long_spec(2)).await.unwrap();
        assert_eq!(case.judged.change.workloads_in.len(), 1);
        assert_eq!(judge.one.available_permits(), 1);
        let refused = judge.read("cluster = 7".into()).await.unwrap_err();
        assert!(refused.contains("cluster"), "{refused}");
    }
}
