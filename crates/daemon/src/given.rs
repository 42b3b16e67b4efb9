//! The spec as it is given at a start, and which of its nodes this is.

use anyhow::{Context, Result, bail};
use karst_core::spec::NodeSpec;
use karst_core::{NodeId, Spec};
use std::path::Path;

pub fn load_spec(path: &Path) -> Result<(Spec, String)> {
    let text = std::fs::read_to_string(path).with_context(|| format!("spec {}", path.display()))?;
    let read = karst_api::specfile::read(&text);
    match read.spec {
        Some(spec) => Ok((spec, text)),
        None => {
            let errors: Vec<String> = read
                .errors()
                .map(|e| format!("{}:{e}", path.display()))
                .collect();
            bail!("the spec is refused:\n{}", errors.join("\n"))
        }
    }
}

pub fn who_am_i(spec: &Spec, given: Option<&str>) -> Result<NodeId> {
    let name = match given {
        Some(name) => name.to_string(),
        None => std::fs::read_to_string("/proc/sys/kernel/hostname")
            .context("the host name")?
            .trim()
            .to_string(),
    };
    let me = NodeId::from(name.clone());
    if spec.nodes.contains_key(&me) {
        return Ok(me);
    }
    let known: Vec<&str> = spec.nodes.keys().map(|n| n.as_str()).collect();
    let near = karst_core::spec::nearest(&name, known.iter().copied());
    let hint = near.map_or_else(
        || format!("known: {}", known.join(", ")),
        |n| format!("did you mean `{n}`?"),
    );
    bail!("there is no node `{name}` in the spec; {hint}; say which one this is with --node")
}

/// The spec of this start, as it was read.
pub struct Given {
    pub spec: Spec,
    pub text: String,
    pub me: NodeId,
}

impl Given {
    /// What a spec says of this node. One that it does not name was removed while it was away or
    /// stood still: it is heard where it was given to be, so that others can tell it, and have it
    /// back.
    pub fn own<'a>(&'a self, spec: &'a Spec) -> &'a NodeSpec {
        spec.nodes
            .get(&self.me)
            .unwrap_or(&self.spec.nodes[&self.me])
    }
}
