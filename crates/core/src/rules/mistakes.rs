//! The mistakes that people make while entering rules, one at a time.
//!
//! Everything that claims to notice mistakes is measured with this list: the proof that two rule lists are equal, and
//! the checklist. A [`Mistake`] records what was entered in place of one rule, so that thousands of them need little
//! memory; [`Mistake::made_in`] builds the lists that contain it.

mod variants;

use super::{Matches, Rule, RuleSet, Stage, outer_interfaces};
use crate::plan::Action;
use crate::space::{AddressSet, IntervalSet, Match};
use crate::verdict::Cause;
use variants::{Things, narrower_sets, other_hours, other_services, wider_sets, with_address_left};

/// A kind of mistake.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Kind {
    /// A rule was forgotten.
    Forgotten,
    /// A rule was entered a second time, further up.
    Doubled,
    /// Two neighbours were swapped.
    Swapped,
    /// Allow was entered for a denial, or the other way round.
    Turned,
    /// The source is wider than it should be.
    SourceWider,
    /// Who manages the gateway is wider than it should be.
    ManagementOpen,
    /// An address that nobody has any more was left in the rule.
    AddressLeft,
    /// The source is narrower.
    SourceNarrower,
    /// The destination is wider.
    DestinationWider,
    /// The destination is narrower.
    DestinationNarrower,
    /// A port is one off.
    PortOff,
    /// A range of ports was cut or stretched by one.
    RangeOff,
    /// TCP was entered for UDP, or the other way round.
    OtherProtocol,
    /// One service of several was forgotten.
    ServiceForgotten,
    /// Any service was entered for some.
    ServiceAny,
    /// A port, or the end of a range, got a digit too many.
    DigitTooMany,
    /// The hours were forgotten.
    HoursForgotten,
    /// Hours begin or end an hour off.
    HoursOff,
    /// Hours lack a day.
    DayMissing,
    /// A line from testing was left at the top of a list: allow anything.
    AllowedAtTop,
    /// Log was set where it should not be, or not set.
    LogAside,
    /// What happens to the rest was turned round.
    DefaultTurned,
    /// The rule for replies is missing.
    NoReplies,
    /// The rule for replies stands below another one.
    RepliesBelow,
    /// IPv6 was forgotten altogether.
    NoIpv6,
}

/// What was entered instead of a rule.
#[derive(Clone, Debug, PartialEq)]
pub enum Change {
    /// Nothing.
    Missing,
    /// The rule, and once more above all others of its list that are for first packets.
    Twice,
    /// The rule below it, and then the rule.
    BelowTheNext,
    /// The rule with this action.
    Action(Action),
    /// The rule, logged or not against the plan.
    Log,
    /// The rule for these packets.
    Matches(Box<Match>),
    /// All rules of the list, and above those that are for first packets one that allows anything.
    AllowedAtTop,
    /// All rules as they are, but for IPv4 alone.
    WithoutIpv6,
}

/// One mistake.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct Mistake {
    /// What kind it is.
    pub kind: Kind,
    /// The rule that it was made with: its list, its place there. `None` if with all of them.
    pub place: Option<(usize, usize)>,
    /// What was entered.
    pub change: Change,
}

impl Kind {
    /// What it is called, in a word or two joined by a hyphen.
    pub fn word(self) -> &'static str {
        match self {
            Self::Forgotten => "forgotten",
            Self::Doubled => "doubled",
            Self::Swapped => "swapped",
            Self::Turned => "turned",
            Self::SourceWider => "source-wider",
            Self::ManagementOpen => "management-open",
            Self::AddressLeft => "address-left",
            Self::SourceNarrower => "source-narrower",
            Self::DestinationWider => "destination-wider",
            Self::DestinationNarrower => "destination-narrower",
            Self::PortOff => "port-off",
            Self::RangeOff => "range-off",
            Self::OtherProtocol => "other-protocol",
            Self::ServiceForgotten => "service-forgotten",
            Self::ServiceAny => "service-any",
            Self::DigitTooMany => "digit-too-many",
            Self::HoursForgotten => "hours-forgotten",
            Self::HoursOff => "hours-off",
            Self::DayMissing => "day-missing",
            Self::AllowedAtTop => "allowed-at-top",
            Self::LogAside => "log-aside",
            Self::DefaultTurned => "default-turned",
            Self::NoReplies => "no-replies",
            Self::RepliesBelow => "replies-below",
            Self::NoIpv6 => "no-ipv6",
        }
    }
}

impl Mistake {
    /// The rule that it was made with.
    pub fn rule<'r>(&self, rules: &'r RuleSet<'_>) -> Option<&'r Rule> {
        let (list, place) = self.place?;
        rules.lists.get(list)?.rules.get(place)
    }

    /// The lists with the mistake in them.
    pub fn made_in<'p>(&self, rules: &RuleSet<'p>) -> RuleSet<'p> {
        let mut wrong = rules.clone();
        if let Some((list, place)) = self.place {
            self.make(&mut wrong.lists[list].rules, place);
            return wrong;
        }
        let entered = wrong.lists.iter_mut().filter(|list| !list.implied);
        for matches in entered.flat_map(|list| &mut list.rules).filter_map(Rule::packets_mut) {
            matches.service.v6 = IntervalSet::empty();
        }
        wrong
    }

    fn make(&self, rules: &mut Vec<Rule>, place: usize) {
        match &self.change {
            Change::Missing => drop(rules.remove(place)),
            Change::Twice => rules.insert(top(rules), rules[place].clone()),
            Change::BelowTheNext => rules.swap(place, place + 1),
            Change::Action(action) => rules[place].action = *action,
            Change::Log => rules[place].log = !rules[place].log,
            Change::Matches(wrong) => {
                if let Some(packets) = rules[place].packets_mut() {
                    packets.clone_from(wrong);
                }
            }
            Change::AllowedAtTop => {
                let left = Rule {
                    action: Action::Allow,
                    matches: Matches::First(Match::everything()),
                    ..rules[place].clone()
                };
                rules.insert(top(rules), left);
            }
            Change::WithoutIpv6 => {}
        }
    }
}

/// The place of the first rule of a list that is for first packets.
pub(crate) fn top(rules: &[Rule]) -> usize {
    rules.iter().position(|rule| rule.first_packets().is_some()).unwrap_or(0)
}

/// Every mistake of the list with every rule that has to be entered, one after the other.
pub fn mistakes<'r>(rules: &'r RuleSet<'_>) -> impl Iterator<Item = Mistake> + 'r {
    let plan = rules.plan();
    let lists = rules.lists.iter().enumerate().filter(|(_, list)| !list.implied);
    let places =
        lists.flat_map(|(list, rules)| (0..rules.rules.len()).map(move |rule| (list, rule)));
    let things = Things::of(plan);
    let single = places.flat_map(move |at| {
        let of_lists = with_whole_rule(rules, at).into_iter();
        of_lists.chain(within_rule(&things, rules, at))
    });
    single.chain(without_ipv6(rules))
}

/// Mistakes with whole rules.
fn with_whole_rule(rules: &RuleSet, at: (usize, usize)) -> Vec<Mistake> {
    let all = &rules.lists[at.0].rules;
    let rule = &all[at.1];
    let mistake = |kind, change| Mistake { kind, place: Some(at), change };
    let (missing, below) = match rule.cause {
        Cause::Reply => (Kind::NoReplies, Kind::RepliesBelow),
        _ => (Kind::Forgotten, Kind::Swapped),
    };
    let mut found = vec![mistake(missing, Change::Missing)];
    if at.1 > 0 {
        found.push(mistake(Kind::Doubled, Change::Twice));
    }
    if at.1 + 1 < all.len() {
        found.push(mistake(below, Change::BelowTheNext));
    }
    if rule.cause == Cause::Unmatched {
        found.push(mistake(Kind::DefaultTurned, Change::Action(turned(rule.action))));
        if at.1 + 1 == all.len() && rule.action != Action::Allow {
            found.push(mistake(Kind::AllowedAtTop, Change::AllowedAtTop));
        }
    }
    found
}

fn turned(action: Action) -> Action {
    match action {
        Action::Allow => Action::Block,
        Action::Block | Action::Reject => Action::Allow,
    }
}

/// Mistakes within one rule.
fn within_rule(things: &Things, rules: &RuleSet, at: (usize, usize)) -> Vec<Mistake> {
    let plan = rules.plan();
    let (stage, rule) = (rules.lists[at.0].stage, &rules.lists[at.0].rules[at.1]);
    let Some(matches) = rule.first_packets() else { return Vec::new() };
    let mut found = Vec::new();
    let mut add = |kind, change| found.push(Mistake { kind, place: Some(at), change });
    if rule.cause != Cause::Unmatched {
        add(Kind::Turned, Change::Action(turned(rule.action)));
    }
    add(Kind::LogAside, Change::Log);
    let mut ends = |(wider, narrower), set: &AddressSet, put: fn(AddressSet, Match) -> Match| {
        let more = wider_sets(things, set).into_iter().map(|set| (wider, set));
        let less = narrower_sets(things, set, !rule.also.is_empty())
            .into_iter()
            .map(|set| (narrower, set));
        let left = with_address_left(plan, set).into_iter().map(|set| (Kind::AddressLeft, set));
        for (kind, set) in more.chain(less).chain(left) {
            let mut changed = put(set, matches.clone());
            if kind == wider && stage == Stage::ToGateway {
                // A wrong source for the gateway's own traffic names no interface.
                changed.enters = outer_interfaces(plan).collect();
            }
            add(kind, Change::Matches(Box::new(changed)));
        }
    };
    let wider = if rule.cause == Cause::Manage { Kind::ManagementOpen } else { Kind::SourceWider };
    ends((wider, Kind::SourceNarrower), &matches.source, |source, matches| Match {
        source,
        ..matches
    });
    if stage != Stage::ToGateway && stage != Stage::Opening {
        let kinds = (Kind::DestinationWider, Kind::DestinationNarrower);
        ends(kinds, &matches.destination, |destination, matches| Match { destination, ..matches });
    }
    for (kind, at) in other_hours(&matches.at) {
        add(kind, Change::Matches(Box::new(Match { at, ..matches.clone() })));
    }
    for (kind, service) in other_services(&matches.service) {
        add(kind, Change::Matches(Box::new(Match { service, ..matches.clone() })));
    }
    found
}

/// All rules without their IPv6 half.
fn without_ipv6(rules: &RuleSet) -> Option<Mistake> {
    let mut all = rules.rules().filter_map(|rule| rule.packets());
    all.any(|matches| !matches.service.v6.is_empty()).then_some(Mistake {
        kind: Kind::NoIpv6,
        place: None,
        change: Change::WithoutIpv6,
    })
}
