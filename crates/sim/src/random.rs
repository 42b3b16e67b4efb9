//! Seeds: each draws a cluster's shape and a script of faults; of a script that breaks a guarantee,
//! the fewest faults that do.

use crate::check::Failure;
use crate::cluster::Shape;
use crate::edit::Edit;
use crate::script::Script;
use crate::world::{Slow, World};
use karst_core::spec::{Alone, Loss, Spec};
use karst_core::{NodeId, Planted};
use rand::{Rng, SeedableRng};
use rand_pcg::Pcg64Mcg;
use std::time::Duration;

/// Faults in one script at most.
const FAULTS: usize = 10;

/// What one seed runs.
#[derive(Clone, Debug)]
pub struct Run {
    pub seed: u64,
    pub shape: Shape,
    pub spec: Spec,
    /// What it is formed with.
    pub founding: Spec,
    pub script: Script,
    /// Where everything is played that people do with their clocks and screens, and disks are slow.
    pub lively: Option<Lively>,
}

/// The additions of a lively run.
#[derive(Clone, Copy, Debug)]
pub struct Lively {
    /// A sync of any node's store takes so long; a commit needs two.
    pub disk: Option<Duration>,
}

/// Data are made from what somebody once copied of a primary.
fn give_base_backups(spec: &mut Spec) {
    let workloads = spec.workloads.values_mut();
    for replica in workloads.flat_map(|w| w.replicas.values_mut()) {
        replica.base_backup = Some("/backup".into());
    }
}

impl Run {
    /// Seeds go through all shapes, with and without power devices.
    pub fn of(seed: u64) -> Self {
        let shapes = Shape::ALL.len() as u64;
        let shape = Shape::ALL[(seed % shapes) as usize];
        Self::with_shape(seed, shape)
    }

    pub fn with_shape(seed: u64, shape: Shape) -> Self {
        let with_power = (seed / Shape::ALL.len() as u64).is_multiple_of(2);
        let spec = shape.spec(with_power);
        let mut chance = Pcg64Mcg::seed_from_u64(seed ^ 0xfe44);
        let script = Script::random(&mut chance, &spec, FAULTS);
        Self {
            seed,
            shape,
            founding: spec.clone(),
            spec,
            script,
            lively: None,
        }
    }

    /// One whose spec and whose members change while there are faults; some begin smaller than they
    /// end.
    pub fn changing(seed: u64) -> Self {
        const SHAPES: [Shape; 6] = [
            Shape::Ferry,
            Shape::FiveNodes,
            Shape::TwoWorkloads,
            Shape::SevenNodes,
            Shape::EvenVotes,
            Shape::AloneContinue,
        ];
        let shape = SHAPES[(seed % SHAPES.len() as u64) as usize];
        let spec = shape.spec((seed / SHAPES.len() as u64).is_multiple_of(2));
        let mut chance = Pcg64Mcg::seed_from_u64(seed ^ 0xc4a7);
        let mut founding = spec.clone();
        let late: Vec<NodeId> = ["cenote", "tarn", "uvala"].map(NodeId::from).into();
        for node in late.into_iter().filter(|n| spec.nodes.contains_key(n)) {
            if chance.random_range(0..3) == 0 {
                founding = Edit::NodeOut(node).of(&founding, &spec);
            }
        }
        let mut spec = spec;
        if seed % 4 == 3 {
            give_base_backups(&mut spec);
            give_base_backups(&mut founding);
        }
        let script = Script::changes(&mut chance, &spec);
        Self {
            seed,
            shape,
            spec,
            founding,
            script,
            lively: None,
        }
    }

    /// Every wish with every option, on every shape but those whose votes are even, with rules
    /// between workloads, and on disks of 15 ms as well: there decisions meet in one batch.
    pub fn lively(seed: u64) -> Self {
        let mut chance = Pcg64Mcg::seed_from_u64(seed ^ 0x11fe);
        let shapes: Vec<Shape> = Shape::ALL
            .into_iter()
            .filter(|s| s.has_odd_votes())
            .collect();
        let shape = shapes[(seed % shapes.len() as u64) as usize];
        let mut spec = shape.spec((seed / shapes.len() as u64).is_multiple_of(2));
        for workload in spec.workloads.values_mut() {
            match chance.random_range(0..5) {
                0 => workload.loss = Loss::Bytes(50),
                1 => workload.alone = Alone::Continue,
                _ => {}
            }
            workload.restart |= chance.random_range(0..4) == 0;
        }
        let mut founding = spec.clone();
        for node in ["cenote", "tarn", "uvala"].map(NodeId::from) {
            if spec.nodes.contains_key(&node) && chance.random_range(0..4) == 0 {
                founding = Edit::NodeOut(node).of(&founding, &spec);
            }
        }
        let script = Script::lively(&mut chance, &spec);
        let slow = chance.random_range(0..3) == 0;
        let disk = slow.then_some(Duration::from_millis(15));
        Self {
            seed,
            shape,
            spec,
            founding,
            script,
            lively: Some(Lively { disk }),
        }
    }

    /// # Errors
    /// The first guarantee that was broken.
    pub fn play(&self, planted: Option<Planted>) -> Result<World, Box<Failure>> {
        let (spec, founding) = (self.spec.clone(), self.founding.clone());
        let calm_from = self.script.until_ms.saturating_sub(self.script.calm_ms);
        let world = World::of(spec, founding, self.seed, planted);
        let mut world = world.with_failing_steps(calm_from);
        if let Some(Lively { disk }) = self.lively {
            world = world.with_wall_clocks();
            world.slow_down(Slow {
                disk,
                ..Slow::default()
            });
        }
        world.run(&self.script).map(|()| world)
    }
}

/// The same run with as few faults as still break the same guarantee, and how they do.
pub fn shrink(run: &Run, failure: Box<Failure>) -> (Run, Box<Failure>) {
    let (mut least, mut failure) = (run.clone(), failure);
    let mut at = 0;
    while at < least.script.faults.len() {
        let mut fewer = least.clone();
        fewer.script.faults.remove(at);
        match fewer.play(None) {
            Err(same) if same.guarantee == failure.guarantee => (least, failure) = (fewer, same),
            _ => at += 1,
        }
    }
    (least, failure)
}
