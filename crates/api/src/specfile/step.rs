//! What a spec file says of the site's own steps.

use super::{Level, Reader, joined};
use karst_core::ownstep::{IfFails, OwnStep, Point};
use std::time::Duration;

impl Reader {
    pub(super) fn step(&mut self, mut level: Level) -> OwnStep {
        let points = Point::ALL.map(|point| (point.word(), point));
        let at = self.choice(&mut level, "at", &points);
        self.need(&level, "at", at.map(|_| ()));
        let program = self.text(&mut level, "program");
        let program = self.need(&level, "program", program);
        let args = self.words(&mut level, "args");
        let user = self.text(&mut level, "user");
        let mut limit = Duration::from_secs(10);
        self.duration(&mut level, "limit", &mut limit);
        let choices = [("go-on", IfFails::GoOn), ("stop", IfFails::Stop)];
        let if_fails = self.choice(&mut level, "if_fails", &choices);
        let workloads = self.names(&mut level, "workloads", "\"sailings\"");
        let nodes = self.names(&mut level, "nodes", "\"polje\"");
        self.finish(&level);
        OwnStep {
            at: at.unwrap_or(Point::AfterPromotion),
            program,
            args,
            user,
            limit,
            if_fails: if_fails.unwrap_or_default(),
            workloads,
            nodes,
        }
    }

    /// A list of texts, in its order.
    fn words(&mut self, level: &mut Level, key: &'static str) -> Vec<String> {
        let path = joined(&level.path, key);
        let Some(item) = level.get(key) else {
            return Vec::new();
        };
        let list = item.as_array().map(|list| {
            let words = list.iter().map(|word| Some(word.as_str()?.to_string()));
            words.collect::<Option<Vec<_>>>()
        });
        list.flatten().unwrap_or_else(|| {
            self.error(
                path,
                "not a list of texts",
                "write it as [\"--zone\", \"northquay\"]",
            );
            Vec::new()
        })
    }
}
