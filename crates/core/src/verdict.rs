//! What happens to a packet, and the plan entry that decided it.
//!
//! The meaning and the rules both speak in these words; how each comes to its answer is its own.

use crate::plan::{Action, ExceptionId, NetworkId, Plan, ZoneId};
use crate::source::Span;
use crate::space::Leg;

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
    DoesNotPass,
    /// The gateway has nowhere to send it.
    NoWay,
}

impl Verdict {
    /// Its name in the JSON output.
    pub fn word(self) -> &'static str {
        match self {
            Self::Allow => "allow",
            Self::Block => "block",
            Self::Reject => "reject",
            Self::DoesNotPass => "does_not_pass",
            Self::NoWay => "no_way",
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

/// Why a packet counts as forged (RFC 2827, RFC 3704).
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Forgery {
    /// The source does not belong where the packet enters.
    Source,
    /// The source is the unspecified address, and the packet does not ask for an address of its own.
    Unspecified,
    /// It comes from outside, untranslated, and goes to an inside address that is not global.
    ToPrivate,
}

/// Why there is no way for a packet.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum NoWay {
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
    Forged(Forgery, Leg),
    /// What IPv6 cannot do without (RFC 4890 4.4.1, RFC 4861, RFC 2710, RFC 3810).
    Ipv6Needs,
    /// The gateway's management.
    Manage,
    /// The gateway listens there for that tunnel.
    TunnelPort(NetworkId),
    /// Names that are repeated between networks, by the entry's place in the plan's list.
    Discovery(usize),
    /// What the network on that leg uses the gateway for; for an uplink, how it gets its address.
    GatewayService(Leg),
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
    NoRoute(NoWay),
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
            Self::Forged(..) => "forged",
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
            Self::Forged(Forgery::Source, leg) | Self::GatewayService(leg) => {
                plan.leg_name(leg).to_owned()
            }
            Self::Forged(Forgery::Unspecified, _) => "unspecified".to_owned(),
            Self::Forged(Forgery::ToPrivate, _) => "to-private".to_owned(),
            Self::Exception(id) | Self::Offered(id) => plan.exception(id).name.to_string(),
            Self::TunnelPort(tunnel) => plan.network(tunnel).name.to_string(),
            Self::Discovery(index) => plan.discoveries()[index].name.to_string(),
            Self::BesideUplink(index) => plan.uplinks()[index].name.to_string(),
            Self::Cell(from, to) => format!("{}>{}", plan.zone(from).name, plan.zone(to).name),
            Self::NoRoute(NoWay::Nowhere) => "nowhere".to_owned(),
            Self::NoRoute(NoWay::NoUplink) => "no-uplink".to_owned(),
            Self::NoRoute(NoWay::Broadcast) => "broadcast".to_owned(),
            Self::NoRoute(NoWay::UniqueLocal) => "unique-local".to_owned(),
            Self::NoRoute(NoWay::LinkOnly) => "link-only".to_owned(),
            Self::Ipv6Needs | Self::Manage | Self::Unmatched | Self::FromGateway | Self::Reply => {
                self.kind().replace('_', "-")
            }
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
            Self::Forged(Forgery::Unspecified, _) => None,
            Self::GatewayService(leg) | Self::Forged(_, leg) => match plan.network_on(leg) {
                Some(network) => Some(plan.network(network).at),
                None => plan.uplink_on(leg).map(|uplink| uplink.at),
            },
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
                    "switch and access point keep its devices apart"
                } else {
                    "nothing on the gateway can keep its devices apart"
                };
                format!(
                    "both ends are in network {}, so it never meets the gateway; {apart}",
                    network.name
                )
            }
            Self::Forged(forgery, leg) => forged_words(forgery, plan.leg_name(leg)),
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
            Self::GatewayService(leg) => match plan.network_on(leg) {
                Some(network) => {
                    let network = plan.network(network);
                    let zone = &plan.zone(network.zone).name;
                    match network.uses {
                        Some(_) => format!("network {} may use the gateway for it", network.name),
                        None => format!("zone {zone} may use the gateway for it"),
                    }
                }
                None => format!("uplink {} gets its address that way", plan.leg_name(leg)),
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
                "it goes to the own subnet of uplink {}, which only an exception opens",
                plan.uplinks()[index].name
            ),
            Self::Unmatched => "nothing in the plan speaks of it".to_owned(),
            Self::NoRoute(reason) => no_way_words(reason).to_owned(),
            Self::FromGateway => "the gateway itself begins it".to_owned(),
            Self::Reply => "it belongs to a conversation that was let through".to_owned(),
        }
    }
}

fn forged_words(forgery: Forgery, leg: &str) -> String {
    match forgery {
        Forgery::Source => {
            format!("its source does not belong at {leg}, so it is forged (RFC 2827)")
        }
        Forgery::Unspecified => {
            "its source is the unspecified address, and it asks for no address".to_owned()
        }
        Forgery::ToPrivate => {
            "from outside nothing can be addressed to a private inside address".to_owned()
        }
    }
}

fn no_way_words(reason: NoWay) -> &'static str {
    match reason {
        NoWay::Nowhere => "its destination is neither inside nor on the internet",
        NoWay::NoUplink => "the plan has no uplink, so there is no default route",
        NoWay::Broadcast => "another network's broadcast address is not forwarded (RFC 2644)",
        NoWay::UniqueLocal => "a unique local IPv6 source has no way on the internet (RFC 4193)",
        NoWay::LinkOnly => "a link-local or unspecified source stays on its link (RFC 4291)",
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
