//! What a restart of a workload's servers, one after the other, would be and cost, and what stands in
//! its way.

use super::Node;
use crate::ids::WorkloadId;
use crate::intent::Restart;
use crate::outage::PROMOTE_ALLOWANCE;
use crate::spec::{Alone, Loss};
use crate::steward::{Scene, candidates};

impl Node {
    /// The runs that are to end: of all servers of it that are seen to run now.
    ///
    /// # Errors
    /// If there is no such workload, or nobody is its primary.
    pub(super) fn restart_wanted(
        &self,
        scene: &Scene,
        workload: WorkloadId,
    ) -> Result<Restart, String> {
        let spec = self.known_workload(&workload)?;
        let w = scene.state.workload(&workload);
        let Some(primary) = w.holder().filter(|_| w.is_open()).cloned() else {
            return Err(format!(
                "{workload} has no primary: a server that is started then has the new settings"
            ));
        };
        let run = |node| {
            let seen = scene.replica(node, &workload)?.seen.as_ref()?;
            Some((node.clone(), seen.run.clone()?))
        };
        // Whoever is held back stays as it is, and has the new settings when it follows again.
        let heard = spec.replicas.keys().filter(|node| scene.is_up(node));
        let heard = heard.filter(|node| w.held_back(node).is_none());
        Ok(Restart {
            runs: heard.filter_map(run).collect(),
            workload,
            primary,
        })
    }
}

pub(super) fn consequences(scene: &Scene, restart: &Restart) -> Vec<String> {
    let id = &restart.workload;
    let Some(spec) = scene.spec.workloads.get(id) else {
        return Vec::new();
    };
    let pause = PROMOTE_ALLOWANCE.as_millis();
    let mut all = vec![format!(
        "{id} moves away from {}: its writes pause for about {pause} ms",
        restart.primary
    )];
    for node in spec.replicas.keys() {
        if !restart.runs.contains_key(node) {
            all.push(format!(
                "no server is seen to run on {node}: it is left alone, and is started with the settings of then"
            ));
        } else if *node != restart.primary && spec.loss == Loss::None {
            let sure = &scene.state.workload(id).sync.sure;
            let others = sure.iter().any(|n| n != node);
            all.push(match (others, spec.alone) {
                (true, _) => format!("no write waits for {node} while its server starts"),
                (false, Alone::Block) => {
                    format!("{id} has no other standby: writes wait until the server on {node} follows again")
                }
                (false, Alone::Continue) => {
                    format!("{id} has no other standby: writes go on unprotected until the server on {node} follows again")
                }
            });
        }
    }
    all
}

pub(super) fn obstacles(scene: &Scene, restart: &Restart) -> Vec<String> {
    let id = &restart.workload;
    let mut unmet = Vec::new();
    if let Some((other, _)) = scene.state.charter.restart_of(id) {
        unmet.push(format!("{other} restarts the servers of {id} already"));
    }
    let Some(spec) = scene.spec.workloads.get(id) else {
        return unmet;
    };
    let list = candidates::list(scene, id, spec);
    let free = candidates::best(&list, false).filter(|c| !c.leaving);
    if free.is_none() {
        let why = list.iter().filter_map(|c| {
            let why = c
                .excluded
                .as_deref()
                .or(c.leaving.then_some("it is leaving"))?;
            Some(format!("{}: {why}", c.node))
        });
        let why: Vec<String> = why.collect();
        let why = if why.is_empty() {
            "it has no standby".into()
        } else {
            why.join("; ")
        };
        unmet.push(format!(
            "nobody can take over from {} while its server starts: {why}",
            restart.primary
        ));
    }
    unmet
}
