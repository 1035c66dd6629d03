//! From the meaning to tests that a person can make: where to stand, what to type, what to expect.
//!
//! Nothing is expected by rule of thumb. Each check is one concrete packet; what the plan means for
//! that packet is what the check expects, and the compiled rule that decides it is what it proves.

mod choose;
mod commands;

pub use commands::{Commands, Probe, System, Target};

use crate::meaning::Meaning;
use crate::plan::NetworkId;
use crate::rules::{Rule, RuleSet};
use crate::sample;
use crate::space::{Minute, Packet, Protocol};
use crate::verdict::{Decision, Verdict};
use std::net::IpAddr;

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
            Verdict::DoesNotPass | Verdict::NoWay => None,
        }
    }

    /// About how long the check takes, in seconds: silence has to be waited for.
    pub fn seconds(self) -> u32 {
        match self {
            Self::Reply | Self::Refused | Self::Unreachable => 2,
            Self::Silence => 4,
        }
    }
}

/// Where a check is made from.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Standpoint {
    /// In a network, as any device that joins it.
    Network(NetworkId),
    /// In a network, with that address: as the host that has it, or by hand.
    Address(NetworkId, IpAddr),
    /// Outside, anywhere on the internet.
    Outside,
}

/// One test.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct Check {
    /// Its id, which stays the same when other checks come and go.
    pub id: String,
    /// Where it is made from.
    pub standpoint: Standpoint,
    /// The packet that it sends first.
    pub packet: Packet,
    /// Where it goes, in the plan's words.
    pub to: String,
    /// When to make it, where that matters.
    pub when: Option<Minute>,
    /// Where it is sent.
    pub target: Target,
    /// How it is sent.
    pub probe: Probe,
    /// What comes back.
    pub expect: Expect,
    /// What the plan means for the packet.
    pub decision: Decision,
    /// Number, id and name of the rule that decides.
    pub proves: Option<(u32, String, String)>,
    /// Whether the plan names the device that answers; if not, one has to be set up.
    pub answered: bool,
}

/// All checks that are made from one place.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct Stand {
    /// The place.
    pub standpoint: Standpoint,
    /// The checks, in the order in which to make them.
    pub checks: Vec<Check>,
}

/// Makes the checklist of a plan.
pub fn build(meaning: &Meaning<'_>, rules: &RuleSet) -> Vec<Stand> {
    let plan = meaning.plan();
    let mut checks = choose::checks(meaning, rules);
    let mut seen = std::collections::HashSet::new();
    checks.retain(|check| seen.insert((check.packet, check.probe)));
    let mut stands: Vec<Stand> = Vec::new();
    let networks = plan.network_ids().map(Some).chain([None]);
    for network in networks {
        let here: Vec<Check> =
            checks.extract_if(.., |check| check.standpoint.network() == network).collect();
        for check in here {
            match stands.iter_mut().find(|stand| stand.standpoint == check.standpoint) {
                Some(stand) => stand.checks.push(check),
                None => {
                    stands.push(Stand { standpoint: check.standpoint.clone(), checks: vec![check] })
                }
            }
        }
    }
    stands
}

impl Standpoint {
    /// The network it is in; `None` outside.
    pub fn network(&self) -> Option<NetworkId> {
        match self {
            Self::Network(id) | Self::Address(id, _) => Some(*id),
            Self::Outside => None,
        }
    }

    /// What the place is called.
    pub fn name(&self, meaning: &Meaning<'_>) -> String {
        let plan = meaning.plan();
        match self {
            Self::Network(id) => plan.network(*id).name.to_string(),
            Self::Address(id, address) => match plan.host_at(*address) {
                Some(host) => host.name.to_string(),
                None => format!("{} as {address}", plan.network(*id).name),
            },
            Self::Outside => "internet".to_owned(),
        }
    }

    /// How to get there.
    pub fn how(&self, meaning: &Meaning<'_>) -> String {
        let plan = meaning.plan();
        let join = |id: NetworkId| {
            let network = plan.network(id);
            match network.vlan {
                _ if network.tunnel.is_some() => {
                    format!("come in by the tunnel {}", network.name)
                }
                Some(vlan) => format!("join {} (VLAN {vlan})", network.name),
                None => format!("join {} (untagged)", network.name),
            }
        };
        match self {
            Self::Network(id) => match (plan.network(*id).pool, sample::free_address(plan, *id)) {
                (Some(pool), _) => {
                    format!(
                        "{}; take an address by DHCP, {} to {}",
                        join(*id),
                        pool.first(),
                        pool.last()
                    )
                }
                _ if plan.network(*id).tunnel.is_some() => join(*id),
                (None, Some(free)) => format!("{}; set the address {free} by hand", join(*id)),
                (None, None) => join(*id),
            },
            Self::Address(id, address) => match plan.host_at(*address) {
                Some(host) => format!(
                    "at {} itself, or {} with its address {address} while it is unplugged",
                    host.name,
                    join(*id)
                ),
                None => format!("{}; set the address {address} by hand", join(*id)),
            },
            Self::Outside => {
                "stand outside, with a laptop on mobile data; not on any network of the site"
                    .to_owned()
            }
        }
    }
}

impl Check {
    /// What to type.
    pub fn commands(&self) -> Commands {
        self.probe.commands(&self.target)
    }

    /// What to set up at the other end first, if the plan has nothing there that answers.
    pub fn set_up(&self) -> Option<String> {
        if self.answered || self.expect != Expect::Reply {
            return None;
        }
        self.probe.listener(self.packet.destination())
    }

    /// What to look at if something else comes back.
    pub fn if_not(&self, rules: &RuleSet) -> String {
        let Some((number, _, name)) = &self.proves else {
            return "no rule decides this; look at addresses and cables".to_owned();
        };
        let rule = format!("rule {number} ({name})");
        match self.expect {
            Expect::Reply => match self.first_wider(rules) {
                Some(wider) => format!("is {rule} there, and above rule {}?", wider.number),
                None => format!("is {rule} there?"),
            },
            Expect::Silence | Expect::Refused | Expect::Unreachable => {
                format!(
                    "a reply means that something above {rule} lets it through, or that it is not there"
                )
            }
        }
    }

    /// The next rule further down that would match, and decide otherwise.
    fn first_wider<'r>(&self, rules: &'r RuleSet) -> Option<&'r Rule> {
        let (number, ..) = self.proves.as_ref()?;
        let list =
            rules.lists.iter().find(|list| list.rules.iter().any(|rule| rule.number == *number))?;
        let later = list.rules.iter().filter(|rule| rule.number > *number);
        let mut matching =
            later.filter(|rule| rule.matches.as_ref().is_some_and(|m| m.contains(&self.packet)));
        matching.find(|rule| Verdict::from(rule.action) != self.decision.verdict)
    }
}

/// The rule that decides a packet, in the compiled list.
fn proves(rules: &RuleSet, packet: &Packet) -> Option<(u32, String, String)> {
    let rule = rules.first_match(packet).rule?;
    Some((rule.number, rule.id.clone(), rule.name.clone()))
}

/// The whole list's estimated time in seconds: the checks, and a minute for each move.
pub fn seconds(stands: &[Stand]) -> u32 {
    let checks = stands.iter().flat_map(|stand| &stand.checks).map(|check| check.expect.seconds());
    checks.sum::<u32>() + 60 * stands.len() as u32
}
