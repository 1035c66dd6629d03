//! Whether what is allowed gets its answers.

use crate::meaning::Meaning;
use crate::plan::{Action, Form};
use crate::rules::RuleSet;
use crate::space::{Packet, PacketSet};
use crate::verdict::{Cause, Verdict};

/// Allowed packets to which no answer would come back.
pub fn unanswered(meaning: &Meaning<'_>, rules: &RuleSet) -> Option<Packet> {
    match rules.form {
        Form::PerInterface => without_state(meaning, rules),
        _ if replies_come_first(rules) => None,
        _ => something_allowed(meaning),
    }
}

/// Whether the first rule of all lets replies back.
fn replies_come_first(rules: &RuleSet) -> bool {
    let first = rules.lists.first().and_then(|list| list.rules.first());
    first.is_some_and(|rule| {
        rule.cause == Cause::Reply && rule.action == Action::Allow && rule.matches.is_none()
    })
}

fn something_allowed(meaning: &Meaning<'_>) -> Option<Packet> {
    let mut parts = meaning.parts(&meaning.universe()).into_iter();
    parts.find(|part| part.decision.verdict == Verdict::Allow)?.packets.sample()
}

/// Where no state is kept, every allowed packet that the gateway passes on has its reply let back.
fn without_state(meaning: &Meaning<'_>, rules: &RuleSet) -> Option<Packet> {
    let back = rules.answered(meaning.plan());
    let through = meaning.parts(&meaning.universe().difference(&rules.unseen)).into_iter();
    let allowed = through.filter(|part| {
        let by_gateway = matches!(
            part.decision.cause,
            Cause::Ipv6Needs
                | Cause::Manage
                | Cause::TunnelPort(_)
                | Cause::Discovery(_)
                | Cause::GatewayService(_)
                | Cause::FromGateway
        );
        part.decision.verdict == Verdict::Allow && !by_gateway
    });
    let open: Vec<PacketSet> = allowed.map(|part| part.packets.difference(&back)).collect();
    open.iter().find_map(PacketSet::sample)
}
