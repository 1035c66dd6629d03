//! Requests fixed leases with the hardware addresses of the devices.

use super::Runner;
use crate::rehearse::{Tried, Unrehearsed, Wrong};
use crate::site::{Action, Attempt};
use bastium_core::checklist::Expect;
use bastium_core::plan::NetworkId;
use bastium_core::space::{Ends, Family, Packet, Protocol, ServicePoint};
use bastium_core::verdict::Verdict;
use std::net::IpAddr;

impl Runner<'_, '_> {
    /// Every device with a fixed lease asks for it.
    pub(super) fn leases(&mut self) -> Result<Vec<Tried>, Unrehearsed> {
        let plan = self.meaning.plan();
        let fixed: Vec<_> = plan
            .hosts()
            .iter()
            .filter_map(|host| {
                let v4 = host.addresses.iter().find(|address| address.is_ipv4())?;
                let mac = host.mac?.into_array();
                let network = plan.network(host.network);
                let subnet = network.subnets.iter().any(|s| s.family() == Family::V4);
                let cable = usize::from(plan.network_interface(host.network).0);
                let attempt = Attempt {
                    cable: Some(cable),
                    from: IpAddr::from([0, 0, 0, 0]),
                    to: IpAddr::from([255, 255, 255, 255]),
                    action: Action::Lease(Some(mac)),
                    answers: None,
                };
                (network.tunnel.is_none() && subnet).then_some((host, *v4, attempt))
            })
            .filter(|(host, ..)| self.may_lease(host.network))
            .collect();
        let attempts: Vec<Attempt> = fixed.iter().map(|(_, _, attempt)| attempt.clone()).collect();
        let asked = self.testbed.run(&attempts, |_| {})?;
        let tried = fixed.iter().zip(asked).map(|((host, wanted, _), asked)| {
            let leased = asked.detail.as_deref() == Some(&wanted.to_string());
            Tried {
                id: format!("lease/{}", host.name),
                from: plan.network(host.network).name.to_string(),
                to: "gateway".to_owned(),
                service: "dhcp".to_owned(),
                expect: Some(Expect::Reply),
                seen: asked.seen,
                proves: None,
                rule: self.id(asked.judged.as_ref()),
                wrong: (!leased).then_some(Wrong::Leased { wanted: *wanted }),
                detail: asked.detail,
            }
        });
        Ok(tried.collect())
    }

    /// Whether what asks for a lease in a network gets as far as the gateway's server.
    fn may_lease(&self, id: NetworkId) -> bool {
        let ends = Ends::new(IpAddr::from([0, 0, 0, 0]), IpAddr::from([255, 255, 255, 255]));
        let service = ServicePoint::port(Protocol::UDP, 67);
        let interface = self.meaning.plan().network_interface(id);
        ends.is_some_and(|ends| {
            let packet = Packet::new(interface, ends, service);
            self.meaning.decide(&packet).verdict == Verdict::Allow
        })
    }
}
