//! A congestion window that never shrinks: peers exchange little, and after a cut the first message
//! must not wait for a window to grow again.

use quinn::congestion::{Controller, ControllerFactory};
use std::any::Any;
use std::sync::Arc;
use std::time::Instant;

const WINDOW: u64 = 1 << 20;

#[derive(Clone, Copy, Debug)]
pub struct FixedWindow;

impl ControllerFactory for FixedWindow {
    fn build(self: Arc<Self>, _now: Instant, _mtu: u16) -> Box<dyn Controller> {
        Box::new(*self)
    }
}

impl Controller for FixedWindow {
    fn on_congestion_event(
        &mut self,
        _now: Instant,
        _sent: Instant,
        _persistent: bool,
        _lost_bytes: u64,
    ) {
    }
    fn on_mtu_update(&mut self, _mtu: u16) {}
    fn window(&self) -> u64 {
        WINDOW
    }
    fn clone_box(&self) -> Box<dyn Controller> {
        Box::new(*self)
    }
    fn initial_window(&self) -> u64 {
        WINDOW
    }
    fn into_any(self: Box<Self>) -> Box<dyn Any> {
        self
    }
}
