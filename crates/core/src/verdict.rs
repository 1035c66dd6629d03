//! What happens to a packet, and the plan entry that decided it.
//!
//! The meaning and the rules both speak in these words; how each comes to its answer is its own.

use crate::plan::{Action, ExceptionId, NetworkId, Plan, ZoneId};
use crate::source::Span;
use crate::space::{Interface, Protocol};

/// What happens to the first packet of a conversation.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Verdict {
    /// It passes, and so do the replies to it.
    Allow,
    /// It vanishes; nothing comes back.
    Block,
    /// It is refused with an answer: a TCP reset, else ICMP "administratively prohibited".
    Reject,
    /// It never meets the gateway: both ends are in one network.
    NotRouted,
    /// The gateway has nowhere to send it.
    NoRoute,
}

impl Verdict {
    /// Its name in the JSON output.
    pub fn word(self) -> &'static str {
        match self {
            Self::Allow => "allow",
            Self::Block => "block",
            Self::Reject => "reject",
            Self::NotRouted => "not_routed",
            Self::NoRoute => "no_route",
        }
    }

    /// Whether a rule list is what decides it.
    pub fn is_filtered(self) -> bool {
        matches!(self, Self::Allow | Self::Block | Self::Reject)
    }
}

impl From<Action> for Verdict {
    fn from(action: Action) -> Self {
        match action {
            Action::Allow => Self::Allow,
            Action::Block => Self::Block,
            Action::Reject => Self::Reject,
        }
    }
}

/// Why a packet counts as spoofed (RFC 2827, RFC 3704).
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Spoofing {
    /// The source does not belong where the packet enters.
    Source,
    /// The source is the unspecified address, and the packet does not ask for an address of its own.
    Unspecified,
    /// It comes from outside, untranslated, and goes to an inside address that is not global.
    ToPrivate,
}

/// Why there is no way for a packet.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum NoRoute {
    /// The destination is neither inside nor on the internet.
    Nowhere,
    /// There is no uplink, so no default route.
    NoUplink,
    /// Another network's broadcast address is not forwarded (RFC 2644).
    Broadcast,
    /// A unique local source is of no use on the internet (RFC 4193).
    UniqueLocal,
    /// A link-local or unspecified source stays on its link (RFC 4291 2.5.2, 2.5.6).
    LinkOnly,
}

/// The plan entry, or the law of the wire, that decided.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Cause {
    /// Both ends are in this network.
    SameNetwork(NetworkId),
    /// The source does not belong there.
    Spoofed(Spoofing, Interface),
    /// What IPv6 cannot do without (RFC 4890 4.4.1, RFC 4861, RFC 2710, RFC 3810).
    Ipv6Needs,
    /// The gateway's management.
    Manage,
    /// The gateway listens there for that tunnel.
    TunnelPort(NetworkId),
    /// Names that are repeated between networks, by the entry's place in the plan's list.
    Discovery(usize),
    /// What the network on that interface uses the gateway for; for an uplink, how it gets its address.
    GatewayService(Interface),
    /// An exception.
    Exception(ExceptionId),
    /// A service that is offered to the outside.
    Offered(ExceptionId),
    /// A cell of the matrix.
    Cell(ZoneId, ZoneId),
    /// It goes to the own subnet of an uplink, by its place in the plan's list, and no exception opens that.
    BesideUplink(usize),
    /// Nothing speaks of it.
    Unmatched,
    /// There is no way.
    NoRoute(NoRoute),
    /// The gateway itself began it.
    FromGateway,
    /// It belongs to a conversation that was let through.
    Reply,
}

impl Cause {
    /// The exception, or the permission of an `inbound` entry, that decided.
    pub fn exception(self) -> Option<ExceptionId> {
        match self {
            Self::Exception(id) | Self::Offered(id) => Some(id),
            _ => None,
        }
    }

    /// Its kind, as the JSON output names it.
    pub fn kind(self) -> &'static str {
        match self {
            Self::SameNetwork(_) => "same_network",
            Self::Spoofed(..) => "spoofed",
            Self::Ipv6Needs => "ipv6_needs",
            Self::Manage => "manage",
            Self::TunnelPort(_) => "tunnel_port",
            Self::Discovery(_) => "discovery",
            Self::Offered(_) => "offered",
            Self::GatewayService(_) => "gateway_service",
            Self::Exception(_) => "exception",
            Self::Cell(..) => "cell",
            Self::BesideUplink(_) => "beside_uplink",
            Self::Unmatched => "unmatched",
            Self::NoRoute(_) => "no_route",
            Self::FromGateway => "from_gateway",
            Self::Reply => "reply",
        }
    }

    /// The name of the entry: `pictures-to-archive`, `guests>tills`, a network's name.
    pub fn name(self, plan: &Plan) -> String {
        match self {
            Self::SameNetwork(network) => plan.network(network).name.to_string(),
            Self::Spoofed(Spoofing::Source, interface) | Self::GatewayService(interface) => {
                plan.interface_name(interface).to_owned()
            }
            Self::Spoofed(Spoofing::Unspecified, _) => "unspecified".to_owned(),
            Self::Spoofed(Spoofing::ToPrivate, _) => "to-private".to_owned(),
            Self::Exception(id) | Self::Offered(id) => plan.exception(id).name.to_string(),
            Self::TunnelPort(tunnel) => plan.network(tunnel).name.to_string(),
            Self::Discovery(index) => plan.discoveries()[index].name.to_string(),
            Self::BesideUplink(index) => plan.uplinks()[index].name.to_string(),
            Self::Cell(from, to) => format!("{}>{}", plan.zone(from).name, plan.zone(to).name),
            Self::NoRoute(NoRoute::Nowhere) => "nowhere".to_owned(),
            Self::NoRoute(NoRoute::NoUplink) => "no-uplink".to_owned(),
            Self::NoRoute(NoRoute::Broadcast) => "broadcast".to_owned(),
            Self::NoRoute(NoRoute::UniqueLocal) => "unique-local".to_owned(),
            Self::NoRoute(NoRoute::LinkOnly) => "link-only".to_owned(),
            Self::Ipv6Needs | Self::Manage | Self::Unmatched | Self::FromGateway | Self::Reply => {
                self.kind().replace('_', "-")
            }
        }
    }

    /// The entry in a few words, as a table or a bracket has room for: `cell guests>tills`, `no route to it`.
    pub fn entry(self, plan: &Plan) -> String {
        let name = self.name(plan);
        match self {
            Self::SameNetwork(_) => format!("within network {name}"),
            Self::Spoofed(Spoofing::Source, _) => format!("spoofed source at {name}"),
            Self::Spoofed(Spoofing::Unspecified, _) => "no source address".to_owned(),
            Self::Spoofed(Spoofing::ToPrivate, _) => "private address from outside".to_owned(),
            Self::Ipv6Needs => "needed by IPv6".to_owned(),
            Self::Manage => "gateway.manage".to_owned(),
            Self::TunnelPort(_) => format!("tunnel {name}"),
            Self::Discovery(_) => format!("discovery {name}"),
            Self::Offered(_) => format!("inbound {name}"),
            Self::GatewayService(_) => format!("gateway services for {name}"),
            Self::Exception(_) => format!("exception {name}"),
            Self::Cell(..) => format!("cell {name}"),
            Self::BesideUplink(_) => format!("subnet of uplink {name}"),
            Self::Unmatched => "no matching entry".to_owned(),
            Self::NoRoute(NoRoute::Nowhere) => "no route to it".to_owned(),
            Self::NoRoute(NoRoute::NoUplink) => "no uplink".to_owned(),
            Self::NoRoute(NoRoute::Broadcast) => "broadcast of another network".to_owned(),
            Self::NoRoute(NoRoute::UniqueLocal) => "unique local source".to_owned(),
            Self::NoRoute(NoRoute::LinkOnly) => "link-local source".to_owned(),
            Self::FromGateway => "the gateway itself".to_owned(),
            Self::Reply => "replies".to_owned(),
        }
    }

    /// Where the plan says so, if it does.
    pub fn at(self, plan: &Plan) -> Option<Span> {
        match self {
            Self::SameNetwork(network) | Self::TunnelPort(network) => {
                Some(plan.network(network).at)
            }
            Self::Discovery(index) => Some(plan.discoveries()[index].at),
            Self::BesideUplink(index) => Some(plan.uplinks()[index].at),
            Self::Manage => plan.gateway().manage.as_ref().map(|manage| manage.at),
            Self::Spoofed(Spoofing::Unspecified, _) => None,
            Self::GatewayService(interface) | Self::Spoofed(_, interface) => {
                match plan.network_on(interface) {
                    Some(network) => Some(plan.network(network).at),
                    None => plan.uplink_on(interface).map(|uplink| uplink.at),
                }
            }
            Self::Exception(id) | Self::Offered(id) => Some(plan.exception(id).at),
            Self::Cell(from, to) => Some(plan.matrix().cell(from, to).at),
            Self::Unmatched => plan.matrix().unmatched().at,
            Self::Ipv6Needs | Self::NoRoute(_) | Self::FromGateway | Self::Reply => None,
        }
    }

    /// The line of the plan that says so, counted from 1.
    pub fn line(self, plan: &Plan) -> Option<usize> {
        self.at(plan).map(|at| plan.line(at))
    }

    /// The reason as a clause: `cell guests -> tills is block`.
    pub fn words(self, plan: &Plan) -> String {
        match self {
            Self::SameNetwork(network) => {
                let network = plan.network(network);
                let apart = if network.isolate {
                    "the switch and access point isolate its devices"
                } else {
                    "no rule on the gateway can isolate its devices"
                };
                format!(
                    "both ends are in network {}, so the traffic does not pass the gateway; {apart}",
                    network.name
                )
            }
            Self::Spoofed(spoofing, interface) => {
                spoofed_words(spoofing, plan.interface_name(interface))
            }
            Self::Ipv6Needs => "IPv6 does not work without it (RFC 4890)".to_owned(),
            Self::Manage => "gateway.manage says who may manage the gateway".to_owned(),
            Self::TunnelPort(tunnel) => {
                format!("the gateway listens there for tunnel {}", plan.network(tunnel).name)
            }
            Self::Discovery(index) => {
                format!("discovery {} repeats these names", plan.discoveries()[index].name)
            }
            Self::Offered(id) => {
                format!("inbound {} offers it to the outside", plan.exception(id).name)
            }
            Self::GatewayService(interface) => match plan.network_on(interface) {
                Some(network) => {
                    let network = plan.network(network);
                    let zone = &plan.zone(network.zone).name;
                    match network.uses {
                        Some(_) => format!("network {} may use the gateway for it", network.name),
                        None => format!("zone {zone} may use the gateway for it"),
                    }
                }
                None => {
                    format!("uplink {} gets its address that way", plan.interface_name(interface))
                }
            },
            Self::Exception(id) => {
                let exception = plan.exception(id);
                format!("exception {} is {}", exception.name, exception.action.word())
            }
            Self::Cell(from, to) => {
                let action = plan.matrix().cell(from, to).action;
                let word = action.map_or("-", Action::word);
                format!("cell {} -> {} is {word}", plan.zone(from).name, plan.zone(to).name)
            }
            Self::BesideUplink(index) => format!(
                "it goes to the subnet of uplink {}, which needs an exception",
                plan.uplinks()[index].name
            ),
            Self::Unmatched => "no entry of the plan matches it".to_owned(),
            Self::NoRoute(reason) => no_route_words(reason).to_owned(),
            Self::FromGateway => "the gateway itself begins it".to_owned(),
            Self::Reply => "it belongs to an established connection".to_owned(),
        }
    }
}

fn spoofed_words(spoofing: Spoofing, interface: &str) -> String {
    match spoofing {
        Spoofing::Source => {
            format!("its source does not belong at {interface}: spoofed (RFC 2827)")
        }
        Spoofing::Unspecified => {
            "its source is the unspecified address, and it asks for no address".to_owned()
        }
        Spoofing::ToPrivate => {
            "traffic from outside cannot be addressed to a private inside address".to_owned()
        }
    }
}

fn no_route_words(reason: NoRoute) -> &'static str {
    match reason {
        NoRoute::Nowhere => "its destination is neither inside nor on the internet",
        NoRoute::NoUplink => "the plan has no uplink, so there is no default route",
        NoRoute::Broadcast => "another network's broadcast address is not forwarded (RFC 2644)",
        NoRoute::UniqueLocal => {
            "a unique local IPv6 source is not routed on the internet (RFC 4193)"
        }
        NoRoute::LinkOnly => "a link-local or unspecified source stays on its link (RFC 4291)",
    }
}

/// A verdict with everything that belongs to it.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Decision {
    /// What happens.
    pub verdict: Verdict,
    /// Whether it leaves a line in the log.
    pub logged: bool,
    /// What decided.
    pub cause: Cause,
}

/// What comes back when all is as planned.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Expect {
    /// An answer.
    Reply,
    /// A refusal: a TCP reset.
    Refused,
    /// A notice that it cannot be reached: ICMP "administratively prohibited".
    Unreachable,
    /// Nothing, until the time is out.
    Silence,
}

impl Expect {
    /// Its name in the JSON output.
    pub fn word(self) -> &'static str {
        match self {
            Self::Reply => "reply",
            Self::Refused => "refused",
            Self::Unreachable => "unreachable",
            Self::Silence => "silence",
        }
    }

    /// What a packet with that verdict brings back; `None` where nothing can be said.
    pub fn of(verdict: Verdict, protocol: Protocol) -> Option<Self> {
        match verdict {
            Verdict::Allow => Some(Self::Reply),
            Verdict::Block => Some(Self::Silence),
            Verdict::Reject if protocol == Protocol::TCP => Some(Self::Refused),
            Verdict::Reject => Some(Self::Unreachable),
            Verdict::NotRouted | Verdict::NoRoute => None,
        }
    }
}
