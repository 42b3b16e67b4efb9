//! A rule that is broken on purpose, what happens then, and whether that is found.

use karst_core::operation::Mode;
use karst_core::request::Request;
use karst_core::spec::Spec;
use karst_core::{NodeId, Planted};
use karst_sim::{Edit, Fault, Script, Shape, World, ferry_spec};

pub const SEEDS: std::ops::Range<u64> = 0..40;
/// When the faults begin: everything is in place by then.
pub const AT: u64 = 8_000;

/// What shows that the rule is broken.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum Shows {
    /// A check of the world.
    Check(&'static str),
    /// The primary moved, or a host lost its power (L2).
    Move,
    Fence,
}

pub use Shows::{Check, Fence, Move};

/// Who does what when the faults begin.
pub struct Cast {
    pub coordinator: NodeId,
    pub seed: u64,
}

pub struct Scene {
    pub rule: Planted,
    pub shows: Shows,
    pub spec: Spec,
    /// All that there is, where it is formed with less.
    pub world: Option<Spec>,
    pub guarded: bool,
    pub faults: fn(&Cast) -> Vec<(u64, Fault)>,
    pub until: u64,
    pub calm: u64,
}

pub fn scene(
    rule: Planted,
    shows: Shows,
    spec: Spec,
    faults: fn(&Cast) -> Vec<(u64, Fault)>,
) -> Scene {
    Scene {
        rule,
        shows,
        spec,
        world: None,
        guarded: true,
        faults,
        until: 22_000,
        calm: 0,
    }
}

impl Scene {
    /// It may become the whole ferry company's.
    pub fn grown(self) -> Self {
        Self {
            world: Some(ferry_spec()),
            ..self
        }
    }

    pub fn unguarded(self) -> Self {
        Self {
            guarded: false,
            ..self
        }
    }

    /// It has to be whole again in the end.
    pub fn until_calm(self, until: u64) -> Self {
        Self {
            until,
            calm: 20_000,
            ..self
        }
    }

    /// What the world shows with one seed; none where the seed does not fit.
    pub fn play(
        &self,
        seed: u64,
        planted: Option<Planted>,
    ) -> Option<Result<Option<Shows>, String>> {
        let all = self.world.clone().unwrap_or_else(|| self.spec.clone());
        let mut world = World::of(all, self.spec.clone(), seed, planted);
        if !self.guarded {
            world = world.without_guard();
        }
        if let Err(failure) = world.run(&Script {
            faults: vec![],
            until_ms: AT - 100,
            calm_ms: 0,
        }) {
            return Some(Ok(Some(Check(failure.guarantee))));
        }
        let coordinator = world.coordinator()?.clone();
        for node in self.spec.votes().voters() {
            world.back_up(node);
        }
        let faults = (self.faults)(&Cast { coordinator, seed });
        let epoch = world.epoch();
        let result = world.run(&Script {
            faults,
            until_ms: self.until,
            calm_ms: self.calm,
        });
        Some(match result {
            // Whoever looks in the middle of a failure finds nobody serving.
            Err(failure) if failure.guarantee == "L1" && self.calm == 0 => Ok(None),
            Err(failure) if Check(failure.guarantee) == self.shows => Ok(Some(self.shows)),
            Err(failure) => Err(failure.to_string()),
            Ok(()) if self.shows == Fence && world.was_fenced() => Ok(Some(Fence)),
            Ok(()) if self.shows == Move && world.epoch() != epoch => Ok(Some(Move)),
            Ok(()) => Ok(None),
        })
    }

    pub fn is_found(&self) -> Result<(), String> {
        let (mut found, mut other) = (None, None);
        for seed in SEEDS {
            match self.play(seed, Some(self.rule)) {
                Some(Ok(Some(shown))) if shown == self.shows => {
                    found = Some(seed);
                    break;
                }
                Some(Err(story)) => drop(other.get_or_insert(story)),
                _ => {}
            }
        }
        let Some(seed) = found else {
            let other = other.map_or(String::new(), |story| {
                format!("; but: {}", story.lines().next().unwrap_or_default())
            });
            return Err(format!(
                "{:?} is not found by {:?} in {} seeds{other}",
                self.rule, self.shows, SEEDS.end
            ));
        };
        match self.play(seed, None) {
            Some(Ok(None)) => Ok(()),
            Some(Ok(Some(shown))) => Err(format!(
                "{:?}: without it {shown:?} is seen too, with seed {seed}",
                self.rule
            )),
            Some(Err(story)) => Err(format!("{:?}: without it: {story}", self.rule)),
            None => Err(format!("{:?}: nobody leads with seed {seed}", self.rule)),
        }
    }
}

pub fn n(name: &str) -> NodeId {
    name.into()
}
pub fn isolate(name: &str, for_ms: u64) -> Fault {
    Fault::Isolate {
        node: n(name),
        for_ms,
    }
}
pub fn one_way(from: &str, to: &str, for_ms: u64) -> Fault {
    Fault::OneWay {
        from: n(from),
        to: n(to),
        for_ms,
    }
}
pub fn off(name: &str) -> Fault {
    Fault::PowerCut {
        node: n(name),
        down_ms: 600_000,
    }
}
pub fn off_for(name: &str, down_ms: u64) -> Fault {
    Fault::PowerCut {
        node: n(name),
        down_ms,
    }
}
pub fn submit(of: &str, edit: Edit) -> Fault {
    Fault::Submit { of: n(of), edit }
}
/// The others get their votes later.
pub fn only_doline_votes() -> Spec {
    let mut spec = ferry_spec();
    for (name, node) in &mut spec.nodes {
        node.votes = u32::from(name.as_str() == "doline");
    }
    spec
}
pub fn kill(name: &str) -> Fault {
    Fault::KillServer {
        node: n(name),
        lingers_ms: 5,
    }
}
pub fn ask(of: &str, request: Request) -> Fault {
    Fault::Ask { of: n(of), request }
}
pub fn by() -> String {
    "marlin".into()
}
pub fn failover(to: &str, accept_loss: u64) -> Request {
    Request::Failover {
        workload: "sailings".into(),
        to: n(to),
        by: by(),
        accept_loss,
        plan_only: false,
    }
}
pub fn mode(mode: Mode) -> Request {
    Request::Mode {
        workload: "sailings".into(),
        mode,
        by: by(),
        at: 0,
        why: None,
        until: None,
    }
}
pub fn hostile() -> Vec<(u64, Fault)> {
    vec![(
        AT,
        Fault::Hostile {
            node: n("weir"),
            for_ms: 8_000,
        },
    )]
}
/// A voter of which nothing honest is left.
pub fn hostile_voter(at: u64, for_ms: u64) -> Vec<(u64, Fault)> {
    let killed = Fault::KillDaemon {
        node: n("weir"),
        down_ms: 60_000,
    };
    let node = n("weir");
    vec![(at, killed), (at + 50, Fault::Hostile { node, for_ms })]
}
/// It reaches none of these, and none of them it.
pub fn isolate_from(name: &str, others: &[&str]) -> Vec<(u64, Fault)> {
    others
        .iter()
        .flat_map(|o| [(AT, one_way(name, o, 8_000)), (AT, one_way(o, name, 8_000))])
        .collect()
}
/// Five voters, four replicas: a majority outlives two.
pub fn five() -> Spec {
    Shape::FiveNodes.spec(false)
}

pub fn all_found(scenes: Vec<Scene>) {
    let missed: Vec<String> = scenes.iter().filter_map(|s| s.is_found().err()).collect();
    assert!(missed.is_empty(), "{}", missed.join("\n"));
}
