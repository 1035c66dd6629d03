//! A gateway of a plan in the kernel, with cables to a tester.

use super::lanes::Lanes;
use crate::cable::{Ends, Port};
use crate::layout::Layout;
use crate::site::{Carried, Site, Trunk, Undone};
use bastium_core::plan::Plan;
use bastium_core::space::Interface;
use ipnet::IpNet;
use std::collections::HashMap;
use std::net::IpAddr;

/// A gateway in the kernel, and the cables from it to a tester.
pub struct Practice {
    /// The gateway.
    pub site: Site,
    /// The cables, and the tester's place.
    pub trunk: Trunk,
    /// The gateway's addresses.
    pub gateway: Vec<IpAddr>,
}

impl Practice {
    /// A gateway with the addresses of a plan, and no rules yet; with cables as they are planned but for a change, two VLANs that
    /// may be one, and devices that are there themselves. `None` where the plan does not name every interface.
    ///
    /// # Errors
    /// What the kernel or the tool for links says against it.
    pub fn new(
        plan: &Plan,
        change: impl Fn(&mut Vec<Carried>),
        joined: Option<[Option<u16>; 2]>,
        devices: &[(u16, IpNet)],
    ) -> Result<Option<Self>, Undone> {
        let Some(layout) = Layout::of(plan, []) else { return Ok(None) };
        let mut wires = layout.wires;
        for wire in &mut wires {
            wire.devices.clear();
            wire.beyond.clear();
        }
        let gateway = wires.iter().flat_map(|wire| &wire.gateway).map(IpNet::addr).collect();
        let mut site = Site::build(&wires)?;
        site.answer_by_uplink(&wires)?;
        let mut cables = carried(plan);
        change(&mut cables);
        let trunk = site.trunk(&cables, joined, devices)?;
        Ok(Some(Self { site, trunk, gateway }))
    }

    /// The tester's ends in all networks, in this process.
    ///
    /// # Errors
    /// When the system does not let the cables be used so.
    pub fn ends(&self, plan: &Plan) -> std::io::Result<(Ends, Lanes)> {
        let outside = (0..plan.uplinks().len()).map(|place| match place {
            0 => "outside".to_owned(),
            place => format!("outside{}", place + 1),
        });
        let names: Vec<String> = std::iter::once("trunk".to_owned()).chain(outside).collect();
        let open = || names.iter().map(|name| Port::open(name)).collect();
        let ports: Vec<Port> = self.trunk.tester.within(open)?;
        let outside: Vec<(usize, usize)> =
            (0..plan.uplinks().len()).map(|place| (place, place + 1)).collect();
        let lanes = Lanes::of(plan, Some(0), &HashMap::new(), &outside);
        Ok((Ends::new(ports, lanes.lanes.clone(), None), lanes))
    }
}

/// How each cable of a plan comes to the tester.
fn carried(plan: &Plan) -> Vec<Carried> {
    let interfaces = (0..plan.gateway_interface().0).map(Interface);
    let carried = interfaces.map(|interface| match plan.network_on(interface) {
        Some(id) if plan.network(id).tunnel.is_some() => Carried::Not,
        Some(id) => Carried::Together(plan.network(id).vlan),
        None => Carried::Alone,
    });
    carried.collect()
}
