//! What a node that is asked speaks from.

use super::Node;
use super::devices::Devices;
use super::lead::Lead;
use super::names::Names;
use crate::ids::WorkloadId;
use crate::steward::Scene;
use crate::steward::outlook::Lasting;
use crate::steward::readers::Readers;
use std::collections::BTreeMap;

/// What one node says: as coordinator from what all reported, else from what it knows itself.
pub(super) struct Account<'a> {
    pub node: &'a Node,
    pub scene: Scene<'a>,
    pub devices: &'a Devices,
    pub names: &'a Names,
    pub outlooks: &'a BTreeMap<WorkloadId, Lasting>,
    pub readers: &'a BTreeMap<WorkloadId, Readers>,
    pub leads: bool,
}

impl Node {
    pub(super) fn account<'a>(&'a self, lead: &'a Lead) -> Account<'a> {
        Account {
            node: self,
            scene: self.scene_of(lead),
            devices: &lead.devices,
            names: &lead.names,
            outlooks: &lead.outlooks,
            readers: &lead.readers,
            leads: self.lead.is_some(),
        }
    }
}
