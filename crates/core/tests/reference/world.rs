//! The world as a plan describes it, asked one address at a time.

use bastium_core::addressing::Placeholder;
use bastium_core::plan::{Action, Exception, Network, Plan, Route, Uplink};
use bastium_core::space::{Ends, Interface, Packet, Protocol, ServicePoint};
use ipnet::IpNet;
use std::net::{IpAddr, Ipv4Addr};

/// Blocks that are not globally reachable, those for documentation left out.
const NOT_GLOBAL: [&str; 15] = [
    "0.0.0.0/8",
    "10.0.0.0/8",
    "100.64.0.0/10",
    "127.0.0.0/8",
    "169.254.0.0/16",
    "172.16.0.0/12",
    "192.168.0.0/16",
    "198.18.0.0/15",
    "240.0.0.0/4",
    "::/127",
    "::ffff:0:0/96",
    "100::/64",
    "5f00::/16",
    "fc00::/7",
    "fe80::/10",
];

fn within(prefixes: &[&str], address: IpAddr) -> bool {
    prefixes.iter().any(|text| text.parse::<IpNet>().expect(text).contains(&address))
}

fn is_multicast(address: IpAddr) -> bool {
    within(&["224.0.0.0/4", "ff00::/8"], address)
}

fn is_link_local(address: IpAddr) -> bool {
    within(&["fe80::/10"], address)
}

/// The world as a plan describes it, asked one address at a time.
pub(crate) struct World<'p> {
    pub(crate) plan: &'p Plan,
}

impl World<'_> {
    pub(crate) fn prefixes(&self) -> impl Iterator<Item = (usize, IpNet, IpAddr)> + '_ {
        self.plan.networks().iter().enumerate().flat_map(|(index, network)| {
            network.subnets.iter().map(move |subnet| (index, subnet.prefix(), subnet.gateway()))
        })
    }

    fn home(&self, address: IpAddr) -> Option<usize> {
        self.prefixes().find(|(_, prefix, _)| prefix.contains(&address)).map(|found| found.0)
    }

    /// The route that leads to an address: the longest, if no network has it.
    fn behind(&self, address: IpAddr) -> Option<&Route> {
        if self.home(address).is_some() {
            return None;
        }
        let leading = self.plan.routes().iter().filter(|route| route.to.contains(&address));
        leading.max_by_key(|route| route.to.prefix_len())
    }

    fn is_inside(&self, address: IpAddr) -> bool {
        self.home(address).is_some() || self.behind(address).is_some()
    }

    fn is_domain(&self, address: IpAddr) -> bool {
        self.plan.domains().iter().any(|domain| domain.placeholder.addresses().contains(&address))
    }

    /// The gateway's addresses outside; those that are leased are only stood in for.
    pub(crate) fn own_outside(&self) -> Vec<IpAddr> {
        (0u16..)
            .zip(self.plan.uplinks())
            .flat_map(|(number, one)| Self::own_at(number, one))
            .collect()
    }

    /// The gateway's addresses at one uplink.
    fn own_at(number: u16, uplink: &Uplink) -> Vec<IpAddr> {
        match uplink.dhcp {
            true => Placeholder::Uplink(number).addresses().to_vec(),
            false => uplink.addresses.iter().map(IpNet::addr).collect(),
        }
    }

    /// What an offered service makes of a packet.
    pub(crate) fn translated(&self, packet: &Packet) -> Option<Packet> {
        if packet.source().is_ipv6()
            || packet.enters == self.plan.gateway_interface()
            || self.same_network(packet)
            || self.spoofed(packet)
        {
            return None;
        }
        self.plan.inbounds().iter().find_map(|inbound| {
            let (target, port) = (inbound.target?, packet.service.destination_port()?);
            let permission = &self.plan.exceptions()[inbound.exception.index()];
            let own = Self::own_at(0, &self.plan.uplinks()[0]);
            let asked = own.contains(&packet.destination())
                && permission.from.addresses.contains(packet.source())
                && packet.service.protocol() == Protocol::TCP
                && Some(port) == inbound.outside_port;
            asked.then(|| Packet {
                enters: Interface(packet.enters.0 + self.plan.gateway_interface().0 + 1),
                ends: Ends::new(packet.source(), target).expect("one family"),
                service: ServicePoint::port(Protocol::TCP, 80),
                at: packet.at,
            })
        })
    }

    fn is_gateway(&self, address: IpAddr) -> bool {
        self.prefixes().any(|(_, _, gateway)| gateway == address)
            || self.own_outside().contains(&address)
    }

    /// The broadcast address of an IPv4 prefix with room for one.
    fn broadcast(prefix: IpNet) -> Option<IpAddr> {
        let has = prefix.addr().is_ipv4() && prefix.prefix_len() <= 30;
        has.then(|| prefix.broadcast())
    }

    /// The address without host bits, where devices cannot have it.
    fn zero(prefix: IpNet) -> Option<IpAddr> {
        (prefix.max_prefix_len() - prefix.prefix_len() > 1).then(|| prefix.network())
    }

    fn is_anycast(&self, address: IpAddr) -> bool {
        let uplinks = self.plan.uplinks().iter().flat_map(|u| &u.addresses).map(IpNet::trunc);
        let mut all = self.prefixes().map(|(_, p, _)| p).chain(uplinks);
        address.is_ipv6() && all.any(|p| Self::zero(p) == Some(address))
    }

    pub(crate) fn is_internet(&self, address: IpAddr) -> bool {
        if self.is_domain(address) {
            return true;
        }
        let in_space = self.plan.site().space.iter().any(|space| space.contains(&address));
        let mut uplinks = self.plan.uplinks().iter().flat_map(|u| &u.addresses);
        let own = self.is_anycast(address)
            || uplinks.any(|a| a.addr() == address || Self::broadcast(a.trunc()) == Some(address));
        let known = self.is_inside(address) || in_space || own;
        let special = within(&NOT_GLOBAL, address) || is_multicast(address);
        !known && !special
    }

    /// Whether an address lies in the own subnet of an uplink and is not the internet's.
    fn is_beside(&self, address: IpAddr) -> bool {
        let uplinks = self.plan.uplinks().iter().flat_map(|u| &u.addresses).map(IpNet::trunc);
        let mut holding = uplinks.filter(|own| own.contains(&address));
        let device =
            |own: IpNet| Self::broadcast(own) != Some(address) && Self::zero(own) != Some(address);
        holding.any(device)
            && !self.is_internet(address)
            && !self.is_inside(address)
            && !self.is_gateway(address)
    }

    fn network(&self, interface: Interface) -> Option<&Network> {
        self.plan.networks().get(usize::from(interface.0))
    }

    fn belongs(&self, packet: &Packet) -> bool {
        let source = packet.source();
        if is_link_local(source) {
            return true;
        }
        if self.is_gateway(source) || is_multicast(source) {
            return false;
        }
        if let Some(route) = self.behind(source) {
            let reserved = [Self::broadcast(route.to), Self::zero(route.to)];
            let here = route.network.index() == usize::from(packet.enters.0);
            return here && !reserved.contains(&Some(source));
        }
        match self.network(packet.enters) {
            Some(network) => network.subnets.iter().any(|subnet| {
                let prefix = subnet.prefix();
                prefix.contains(&source)
                    && Self::broadcast(prefix) != Some(source)
                    && Self::zero(prefix) != Some(source)
            }),
            None => {
                let uplink = self.plan.uplink_on(packet.enters).expect("a network or an uplink");
                if self.is_domain(source) {
                    return self.leads_out(uplink, source);
                }
                let uplinks = self.plan.uplinks().iter().flat_map(|uplink| &uplink.addresses);
                let mut others = uplinks.map(IpNet::trunc);
                if others.any(|own| {
                    own.contains(&source) && !uplink.addresses.iter().any(|a| a.trunc() == own)
                }) {
                    return self.leads_out(uplink, source) && !within(&NOT_GLOBAL, source);
                }
                let beside = uplink.addresses.iter().find(|own| own.contains(&source));
                if let Some(own) = beside {
                    let own = own.trunc();
                    return Self::broadcast(own) != Some(source) && Self::zero(own) != Some(source);
                }
                self.leads_out(uplink, source)
                    && !self.is_inside(source)
                    && !within(&NOT_GLOBAL, source)
            }
        }
    }

    /// Whether an uplink has the family of an address.
    fn leads_out(&self, uplink: &Uplink, address: IpAddr) -> bool {
        let mut own = uplink.addresses.iter().map(IpNet::addr);
        uplink.dhcp || own.any(|own| own.is_ipv4() == address.is_ipv4())
    }

    fn asks_for_address(packet: &Packet) -> bool {
        match (packet.ends, packet.service.icmp_kind()) {
            (Ends::V4 { .. }, _) => packet.service == ServicePoint::port(Protocol::UDP, 67),
            (_, Some((kind, _))) if packet.service.protocol() == Protocol::ICMP_V6 => {
                [131, 132, 133, 135, 143].contains(&kind)
            }
            _ => false,
        }
    }

    /// `None` where it is not spoofed.
    fn spoofed(&self, packet: &Packet) -> bool {
        let source = packet.source();
        let true_source = if source.is_unspecified() {
            Self::asks_for_address(packet)
        } else {
            self.belongs(packet)
        };
        let outside = self.network(packet.enters).is_none();
        let destination = packet.destination();
        let hidden = outside && self.is_inside(destination) && within(&NOT_GLOBAL, destination);
        !true_source || hidden
    }

    fn for_gateway(&self, packet: &Packet) -> bool {
        let destination = packet.destination();
        let broadcast = match self.network(packet.enters) {
            Some(network) => {
                network.subnets.iter().any(|s| Self::broadcast(s.prefix()) == Some(destination))
            }
            None => {
                let uplink = self.plan.uplink_on(packet.enters).expect("an uplink");
                uplink.addresses.iter().any(|own| Self::broadcast(own.trunc()) == Some(destination))
            }
        };
        broadcast
            || self.is_gateway(destination)
            || self.is_anycast(destination)
            || is_multicast(destination)
            || is_link_local(destination)
            || destination == IpAddr::V4(Ipv4Addr::BROADCAST)
    }

    fn needed_by_ipv6(packet: &Packet) -> bool {
        if packet.source().is_ipv4() || packet.service.protocol() != Protocol::ICMP_V6 {
            return false;
        }
        match packet.service.icmp_kind() {
            Some((3, code)) => code == 0,
            Some((4, code)) => code == 1 || code == 2,
            Some((kind, _)) => [1, 2, 130, 131, 132, 133, 135, 136, 143].contains(&kind),
            None => false,
        }
    }

    /// What the gateway must be able to send, whatever an exception says.
    fn lives_by(&self, packet: &Packet) -> bool {
        let leased = self.plan.uplinks().iter().any(|uplink| uplink.dhcp);
        let port = |number| packet.service == ServicePoint::port(Protocol::UDP, number);
        if packet.source().is_ipv4() {
            return port(68) || leased && port(67);
        }
        let kinds = [130, 131, 132, 133, 134, 135, 136, 143];
        let discovery = packet.service.protocol() == Protocol::ICMP_V6
            && packet.service.icmp_kind().is_some_and(|kind| kinds.contains(&kind.0));
        discovery || port(546) || leased && port(547)
    }

    fn same_network(&self, packet: &Packet) -> bool {
        let Some(network) = self.network(packet.enters) else { return false };
        if network.tunnel.is_some() {
            return false;
        }
        let ordinary = |address: IpAddr| {
            let lies = network.subnets.iter().any(|s| s.prefix().contains(&address));
            let broadcast =
                network.subnets.iter().any(|s| Self::broadcast(s.prefix()) == Some(address));
            lies && !broadcast && !self.is_gateway(address) && !self.is_anycast(address)
        };
        ordinary(packet.source()) && ordinary(packet.destination())
    }

    fn no_route(&self, packet: &Packet) -> bool {
        let (source, destination) = (packet.source(), packet.destination());
        if is_link_local(source) || source.is_unspecified() {
            return true;
        }
        if self.is_inside(destination) {
            let behind = self.behind(destination).map(|route| route.to);
            let near = self.prefixes().map(|(_, prefix, _)| prefix);
            return near.chain(behind).any(|p| Self::broadcast(p) == Some(destination));
        }
        if self.is_beside(destination) {
            return false;
        }
        !self.is_internet(destination)
            || !self.plan.uplinks().iter().any(|uplink| self.leads_out(uplink, destination))
            || within(&["fc00::/7"], source)
    }

    /// Whether the packet gets as far as the exceptions, and this one matches it.
    pub(crate) fn decides(&self, exception: &Exception, packet: &Packet) -> bool {
        let line = match packet.ends {
            Ends::V4 { .. } => &exception.service.set.v4,
            Ends::V6 { .. } => &exception.service.set.v6,
        };
        if !line.contains(packet.service) || !exception.minutes().contains(packet.at) {
            return false;
        }
        let from = exception.from.addresses.contains(packet.source());
        let to = exception.to.addresses.contains(packet.destination());
        if packet.enters == self.plan.gateway_interface() {
            return exception.from.gateway && to && !self.lives_by(packet);
        }
        if packet.enters > self.plan.gateway_interface() {
            // What was translated: by this entry, or decided by any that speaks of it.
            return from && to;
        }
        if exception.translated && packet.source().is_ipv4() {
            return false;
        }
        if self.same_network(packet) || self.spoofed(packet) {
            return false;
        }
        if self.for_gateway(packet) {
            let on_link =
                is_link_local(packet.source()) && exception.from.links.contains(packet.enters);
            let from = from || on_link;
            return exception.to.gateway && from && !Self::needed_by_ipv6(packet);
        }
        !self.no_route(packet) && from && to
    }

    /// Verdict, kind of cause and whether it is logged, given what the exceptions say.
    pub(crate) fn decide(
        &self,
        packet: &Packet,
        top: Option<&Exception>,
    ) -> (&'static str, &'static str, bool) {
        let said = top.map(|e| {
            let kind = if e.inbound.is_some() { "offered" } else { "exception" };
            (e.action.word(), kind, e.log)
        });
        if packet.enters > self.plan.gateway_interface() {
            return said.unwrap_or_else(|| self.by_cell(packet));
        }
        if packet.enters == self.plan.gateway_interface() {
            return said.unwrap_or(("allow", "from_gateway", false));
        }
        if self.same_network(packet) {
            return ("not_routed", "same_network", false);
        }
        if self.spoofed(packet) {
            return ("block", "spoofed", true);
        }
        if self.for_gateway(packet) {
            if Self::needed_by_ipv6(packet) {
                return ("allow", "ipv6_needs", false);
            }
            return said.unwrap_or_else(|| self.at_gateway(packet));
        }
        if self.no_route(packet) {
            return ("no_route", "no_route", false);
        }
        said.unwrap_or_else(|| self.by_cell(packet))
    }

    fn by_cell(&self, packet: &Packet) -> (&'static str, &'static str, bool) {
        let unmatched = self.plan.matrix().unmatched();
        if self.is_beside(packet.destination()) {
            return (Action::from(unmatched.denial).word(), "beside_uplink", unmatched.log);
        }
        let behind = |address| self.behind(address).map(|route| route.zone);
        let home = |address| self.home(address).map(|home| self.plan.networks()[home].zone);
        let base = self.plan.gateway_interface().0 + 1;
        let interface =
            if packet.enters.0 >= base { Interface(packet.enters.0 - base) } else { packet.enters };
        let near = self.network(interface).map(|network| network.zone);
        let from = near.map(|near| behind(packet.source()).unwrap_or(near));
        let to = home(packet.destination()).or(behind(packet.destination()));
        let internet = self.plan.internet();
        let cell = self.plan.matrix().cell(from.unwrap_or(internet), to.unwrap_or(internet));
        match cell.action {
            Some(action) => (action.word(), "cell", cell.log),
            None => (Action::from(unmatched.denial).word(), "unmatched", unmatched.log),
        }
    }

    /// Whether an address is one at which an uplink hears what brings its address.
    fn is_reported_there(&self, interface: Interface, address: IpAddr) -> bool {
        let number = usize::from(interface.0) - self.plan.networks().len();
        Self::own_at(u16::try_from(number).expect("few uplinks"), &self.plan.uplinks()[number])
            .contains(&address)
            || is_multicast(address)
            || is_link_local(address)
            || address == IpAddr::V4(Ipv4Addr::BROADCAST)
    }

    fn at_gateway(&self, packet: &Packet) -> (&'static str, &'static str, bool) {
        let destination = packet.destination();
        let has = |set: &bastium_core::space::ServiceSet| {
            let line = if packet.source().is_ipv4() { &set.v4 } else { &set.v6 };
            line.contains(packet.service)
        };
        if let Some(manage) = &self.plan.gateway().manage
            && manage.from.addresses.contains(packet.source())
            && self.prefixes().any(|(_, _, gateway)| gateway == destination)
            && has(&manage.service.set)
        {
            return ("allow", "manage", self.plan.matrix().log().logs(Action::Allow));
        }
        let tunnels = self.plan.networks().iter().filter_map(|network| network.tunnel.as_ref());
        let mut listens = tunnels.filter_map(|tunnel| tunnel.listens.as_ref());
        if self.own_outside().contains(&destination) && listens.any(|listens| has(&listens.set)) {
            return ("allow", "tunnel_port", false);
        }
        let entry = usize::from(packet.enters.0);
        let repeated = self.plan.discoveries().iter().flat_map(|discovery| &discovery.between);
        let announces = packet.service == ServicePoint::port(Protocol::UDP, 5353)
            && repeated.map(|network| network.index()).any(|index| index == entry);
        if let Some(network) = self.network(packet.enters) {
            let uses = network.uses.as_ref().or(self.plan.zone(network.zone).uses.as_ref());
            let here = network.subnets.iter().any(|subnet| {
                subnet.gateway() == destination
                    || Self::broadcast(subnet.prefix()) == Some(destination)
                    || (destination.is_ipv6() && Self::zero(subnet.prefix()) == Some(destination))
            });
            let heard = here
                || is_multicast(destination)
                || is_link_local(destination)
                || destination == IpAddr::V4(Ipv4Addr::BROADCAST);
            if heard && announces {
                return ("allow", "discovery", false);
            }
            if heard && uses.is_some_and(|uses| has(&uses.set)) {
                return ("allow", "gateway_service", false);
            }
        } else if self.plan.uplink_on(packet.enters).is_some_and(|uplink| uplink.dhcp)
            && self.is_reported_there(packet.enters, destination)
        {
            let v4 = packet.service == ServicePoint::port(Protocol::UDP, 68);
            let v6 = packet.service == ServicePoint::port(Protocol::UDP, 546)
                || (packet.service.protocol() == Protocol::ICMP_V6
                    && packet.service.icmp_kind().is_some_and(|kind| kind.0 == 134));
            if if packet.source().is_ipv4() { v4 } else { v6 } {
                return ("allow", "gateway_service", false);
            }
        }
        ("block", "unmatched", self.plan.matrix().unmatched().log)
    }
}
