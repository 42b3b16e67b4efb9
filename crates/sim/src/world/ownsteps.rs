//! The site's own steps: programs that take a while, and where they may fail do so now and then until
//! the calm.

use super::happening::Happening;
use super::{MS, World};
use karst_core::Input;
use karst_core::ownstep::{Ended, Occasion, Point, Ran};
use karst_core::replica::{Action, Done};
use rand::{Rng, SeedableRng};
use rand_pcg::Pcg64Mcg;
use std::time::Duration;

/// A step that keeps its node from resting is tried again after so long.
const AGAIN: u64 = 10_000 * MS;

pub(super) struct OwnSteps {
    /// Of their own, so that steps change nothing of what else happens.
    chance: Pcg64Mcg,
    fail_until: u64,
}

impl OwnSteps {
    pub fn new(seed: u64) -> Self {
        Self {
            chance: Pcg64Mcg::seed_from_u64(seed ^ 0x57e9),
            fail_until: 0,
        }
    }

    pub fn fail_until(&mut self, at: u64) {
        self.fail_until = at;
    }
}

impl World {
    fn step_fails(&mut self) -> bool {
        let steps = &mut self.own_steps;
        self.now < steps.fail_until && steps.chance.random_range(0..6) == 0
    }

    /// Why a switchover is not begun, if a step before it says so. (A promotion that is refused waits for
    /// somebody where the mode is `ask`, as after any that fails.)
    pub(super) fn refusal_of(&mut self, h: usize, w: usize, action: &Action) -> Option<Done> {
        let (id, node) = (&self.workloads[w], &self.names[h]);
        let mut steps = self
            .in_force()
            .steps_at(Point::BeforeSwitchover, Some(id), node);
        let is_one = *action == Action::Checkpoint && steps.next().is_some();
        drop(steps);
        let why = || Done::Refused {
            why: "a step says no".into(),
        };
        (is_one && self.step_fails()).then(why)
    }

    pub(super) fn run_steps(&mut self, h: usize, run: u64, occasion: Occasion) {
        let steps = self.in_force().steps.clone();
        let here = (occasion.workload.clone(), self.names[h].clone());
        let mine = steps
            .iter()
            .filter(|(_, step)| step.runs(occasion.at, here.0.as_ref(), &here.1));
        let mut ran = Vec::new();
        for (name, _) in mine {
            let ended = Ended::Exit(i32::from(self.step_fails()));
            ran.push(Ran {
                step: name.clone(),
                took: Duration::from_millis(50),
                ended,
                output: String::new(),
            });
        }
        let failed = ran.iter().any(|ran| !ran.ended.is_well());
        if failed && occasion.at == Point::BeforeMaintenance {
            self.after(AGAIN, Happening::Steps(h, run, Box::new(occasion.clone())));
        }
        let delay = self.own_steps.chance.random_range(MS..900 * MS);
        let said = Input::Stepped { occasion, ran };
        self.after(delay, Happening::Input(h, run, said));
    }
}
