//! Lists of rules, and what they do with packets: the first rule that matches decides.

use super::{Rule, Setting, Translation};
use crate::plan::{Action, Form, Plan, Rows, ZoneId};
use crate::space::{Interface, Packet, PacketSet};
use jiff::civil::Date;

/// Which traffic a list is for.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Stage {
    /// Before all others: replies and spoofed sources.
    Opening,
    /// What is for the gateway itself.
    ToGateway,
    /// What the gateway passes on.
    Through,
    /// What the gateway itself begins.
    FromGateway,
    /// Everything that comes in by an interface, be it for the gateway or not.
    Interface,
    /// All traffic in a single list, as somebody else has written it. No form of a plan has one.
    Whole,
}

impl Stage {
    /// The name of a list for all traffic of the stage.
    pub fn word(self) -> &'static str {
        match self {
            Self::Opening => "opening",
            Self::ToGateway => "to-gateway",
            Self::Through => "through",
            Self::FromGateway => "from-gateway",
            Self::Interface => "interface",
            Self::Whole => "all",
        }
    }

    /// What the stage's traffic is, in a clause.
    pub fn about(self) -> &'static str {
        match self {
            Self::Opening => "for all traffic, before the lists below",
            Self::ToGateway => "for traffic to the gateway itself",
            Self::Through => "for traffic that the gateway passes on",
            Self::FromGateway => "for connections that the gateway opens itself",
            Self::Interface => "for all traffic that enters there",
            Self::Whole => "for all traffic",
        }
    }
}

/// Which pair of zones, or which interface, a list is for.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Applies {
    /// From one zone to another.
    Pair {
        /// Where packets come from.
        from: ZoneId,
        /// Where they go.
        to: ZoneId,
    },
    /// From a zone to the gateway.
    ToGateway {
        /// Where packets come from.
        from: ZoneId,
    },
    /// By an interface.
    Interface {
        /// The network or uplink on it.
        interface: Interface,
        /// Whether it is for what goes out; else for what comes in.
        out: bool,
    },
}

/// What happens to what no rule of a list matches.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Otherwise {
    /// The next list decides.
    GoOn,
    /// It passes.
    Allow,
    /// It is blocked. A list that ends so has a last rule that says it, so this is never reached.
    Block,
}

impl Otherwise {
    /// The word for it.
    pub fn word(self) -> &'static str {
        match self {
            Self::GoOn => "go on",
            Self::Allow => "allow",
            Self::Block => "block",
        }
    }
}

/// An ordered list of rules.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct RuleList {
    /// Its name.
    pub name: String,
    /// Which traffic it is for.
    pub stage: Stage,
    /// The pair of zones or the interface that it is for; `None` where it is for all.
    pub applies: Option<Applies>,
    /// The rules, first match wins.
    pub rules: Vec<Rule>,
    /// What happens to the rest.
    pub otherwise: Otherwise,
    /// Whether it says what the gateway does by itself, so that nobody need enter it.
    pub implied: bool,
    /// The packets that it is asked about, those apart that a list above it has decided.
    pub(crate) covers: PacketSet,
}

impl RuleList {
    /// The list of an interface, by its network's or uplink's name.
    pub(super) fn on_interface(
        plan: &Plan,
        interface: Interface,
        out: bool,
        rules: Vec<Rule>,
        covers: PacketSet,
    ) -> Self {
        Self {
            name: format!("{} {}", plan.interface_name(interface), if out { "out" } else { "in" }),
            stage: if out { Stage::FromGateway } else { Stage::Interface },
            applies: Some(Applies::Interface { interface, out }),
            rules,
            otherwise: Otherwise::Block,
            implied: false,
            covers,
        }
    }
}

/// All the lists of rules that a gateway needs for a plan, in one of the four forms, for one day.
///
/// Within a list the first rule that matches decides, and a list ends in what happens to everything else. Which list
/// is asked about a packet follows from [`RuleList::packets`]. The plan is borrowed, so that rules cannot be held
/// against another plan than their own.
///
/// A rule set is a claim, not a proof: only [`proved`](crate::proof::proved) shows that it does what the plan says.
///
/// ```
/// use bastium_core::{meaning::Meaning, rules};
/// use jiff::civil::date;
///
/// # let text = std::fs::read("tests/two-networks.toml").expect("a file");
/// # let plan = bastium_planfile::read("plan.toml", &text).expect("a plan without errors");
/// let meaning = Meaning::new(&plan, date(2026, 6, 1)).expect("no contradictions");
/// let rules = rules::compile(&meaning);
/// let ids: Vec<String> = rules.rules().map(|rule| rule.id.to_string()).collect();
/// assert!(ids.contains(&"exception.print".to_owned()));
/// // Numbers are those of the printed list; entries that belong to one row share its number.
/// assert!(rules.rules().is_sorted_by_key(|rule| rule.number));
/// ```
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct RuleSet<'p> {
    pub(super) plan: &'p Plan,
    /// The form they are in.
    pub form: Form,
    /// The day they are for.
    pub day: Date,
    /// The next day on which they would be others.
    pub changes_on: Option<Date>,
    /// What is translated before any list is asked; or after, where the lists see packets as they come.
    pub translations: Vec<Translation>,
    /// Whether the lists see packets before they are translated.
    pub before_translation: bool,
    /// What the lists do not see at all, though it comes to the gateway.
    pub unseen: PacketSet,
    /// The lists, in the order in which they are asked.
    pub lists: Vec<RuleList>,
    /// The rules that were left out, because the lists do the same without them.
    pub left_out: Vec<Rule>,
    /// What has to be set beside the lists for this form.
    pub settings: Vec<Setting>,
}

/// What a rule list does with a packet.
#[derive(Clone, Copy, Debug)]
pub struct Outcome<'r> {
    /// What happens.
    pub action: Action,
    /// Whether it is logged.
    pub logged: bool,
    /// The rule that decided; `None` where a list's end did.
    pub rule: Option<&'r Rule>,
}

impl RuleList {
    /// The packets that the list is asked about, those apart that a list above it has decided.
    pub fn packets(&self) -> &PacketSet {
        &self.covers
    }

    /// Where a list for a pair ends in a rule that blocks the rest of the pair, lets it go on instead, to the list that
    /// blocks what no other has: nothing comes to the end of the list as long as that rule is there.
    pub(super) fn leave_the_end_to_the_closing_list(&mut self) {
        let blocks = self.rules.last().is_some_and(|rule| rule.action != Action::Allow);
        if matches!(self.applies, Some(Applies::Pair { .. })) && blocks {
            self.otherwise = Otherwise::GoOn;
        }
    }

    /// Whether it is for one pair of zones, and another list decides what it does not.
    pub(super) fn goes_on_to_the_closing_list(&self) -> bool {
        let pair = matches!(self.applies, Some(Applies::Pair { .. } | Applies::ToGateway { .. }));
        pair && self.otherwise == Otherwise::GoOn
    }

    /// A list for all traffic of a stage, named after it.
    pub(super) fn of_stage(
        stage: Stage,
        rules: Vec<Rule>,
        otherwise: Otherwise,
        covers: PacketSet,
    ) -> Self {
        let name = stage.word().to_owned();
        Self { name, stage, applies: None, rules, otherwise, implied: false, covers }
    }
}

impl<'p> RuleSet<'p> {
    /// The plan that they are the rules of.
    pub fn plan(&self) -> &'p Plan {
        self.plan
    }

    /// The same lists with other rules: of each list that has to be entered, in order. Numbers are given anew.
    ///
    /// Rules against spoofed sources that follow each other share one, as those of [`Rows::Fewest`] do.
    #[must_use]
    pub fn with_rules(&self, rules: Vec<Vec<Rule>>) -> Self {
        let mut other = Self { left_out: Vec::new(), ..self.clone() };
        let entered = other.lists.iter_mut().filter(|list| !list.implied);
        for (list, rules) in entered.zip(rules) {
            list.rules = rules;
        }
        super::number(&mut other.lists, Rows::Fewest);
        other
    }

    /// All rules that have to be entered, in order.
    pub fn rules(&self) -> impl Iterator<Item = &Rule> {
        self.lists.iter().filter(|list| !list.implied).flat_map(|list| &list.rules)
    }

    /// The rows to enter: rules that share a number are one.
    pub fn rows(&self) -> impl Iterator<Item = &[Rule]> {
        let lists = self.lists.iter().filter(|list| !list.implied);
        lists.flat_map(|list| list.rules.chunk_by(|one, next| one.number == next.number))
    }

    /// How many values have to be entered for all rows: interfaces, zones, addresses, services and hours, by name.
    pub fn values(&self) -> usize {
        self.rules().map(Rule::values).sum()
    }

    /// A packet as the lists see it: translated, where something translates it before.
    pub fn as_filtered(&self, packet: &Packet) -> Packet {
        if self.before_translation {
            return *packet;
        }
        let translated = self.translations.iter().find(|t| t.takes.contains(packet));
        translated.and_then(|translation| translation.apply(packet)).unwrap_or(*packet)
    }

    /// A packet as it is sent, for one as the lists see it: one of those that become it where something
    /// translates. `None` where it is translated and nothing translates to it.
    pub fn as_sent(&self, packet: &Packet) -> Option<Packet> {
        if !self.plan.is_translated(packet.enters) {
            return Some(*packet);
        }
        self.translations.iter().find_map(|one| {
            let sent = one.undo(self.plan, packet)?;
            (one.takes.contains(&sent) && self.as_filtered(&sent) == *packet).then_some(sent)
        })
    }

    /// The same for a whole set.
    pub fn set_as_filtered(&self, set: &PacketSet) -> PacketSet {
        let mut rest = set.clone();
        if self.before_translation {
            return rest;
        }
        let mut seen = PacketSet::empty();
        for translation in &self.translations {
            let takes = PacketSet::from(&translation.takes);
            if !rest.is_disjoint(&takes) {
                seen = seen.union(&translation.apply_to(&rest));
                rest = rest.difference(&takes);
            }
        }
        rest.union(&seen)
    }

    /// What the lists do with a packet: the first rule that matches.
    pub fn first_match(&self, packet: &Packet) -> Outcome<'_> {
        let packet = &self.as_filtered(packet);
        for list in self.lists.iter().filter(|list| list.covers.contains(packet)) {
            let matches = |rule: &&Rule| rule.first_packets().is_some_and(|m| m.contains(packet));
            if let Some(rule) = list.rules.iter().find(matches) {
                return Outcome::of(rule, list);
            }
            match list.otherwise {
                Otherwise::GoOn => {}
                Otherwise::Allow => return Outcome::end(Action::Allow),
                Otherwise::Block => return Outcome::end(Action::Block),
            }
        }
        Outcome::end(Action::Block)
    }

    /// Cuts a set of packets by what the lists do with them.
    pub fn parts(&self, set: &PacketSet) -> Vec<(PacketSet, Outcome<'_>)> {
        self.parts_among(set, |_, _| None)
    }

    /// The same, where `near` may name the rules of a list, in their order, that can have a packet of a set.
    pub(super) fn parts_among(
        &self,
        set: &PacketSet,
        near: impl Fn(usize, &PacketSet) -> Option<Vec<usize>>,
    ) -> Vec<(PacketSet, Outcome<'_>)> {
        let mut parts = Vec::new();
        let mut rest = set.clone();
        for (number, list) in self.lists.iter().enumerate() {
            let mut here = rest.intersection(&list.covers);
            if here.is_empty() {
                continue;
            }
            let before = here.clone();
            let some = near(number, &here);
            let all = if some.is_some() { 0..0 } else { 0..list.rules.len() };
            for place in some.into_iter().flatten().chain(all) {
                let rule = &list.rules[place];
                let Some(product) = rule.first_packets() else { continue };
                let own = PacketSet::from(product);
                if here.is_disjoint(&own) {
                    continue;
                }
                parts.push((here.intersection(&own), Outcome::of(rule, list)));
                here = here.difference(&own);
            }
            let end = match list.otherwise {
                Otherwise::GoOn => {
                    rest = rest.difference(&before).union(&here);
                    continue;
                }
                Otherwise::Allow => Action::Allow,
                Otherwise::Block => Action::Block,
            };
            rest = rest.difference(&before);
            if !here.is_empty() {
                parts.push((here, Outcome::end(end)));
            }
        }
        if !rest.is_empty() {
            parts.push((rest, Outcome::end(Action::Block)));
        }
        parts
    }

    /// The first list of a stage.
    pub fn list(&self, stage: Stage) -> Option<&RuleList> {
        self.lists.iter().find(|list| list.stage == stage)
    }
}

impl<'r> Outcome<'r> {
    /// What a rule of a list does; what the gateway does by itself is no rule.
    pub(crate) fn of(rule: &'r Rule, list: &RuleList) -> Self {
        let entered = Some(rule).filter(|_| !list.implied);
        Self { action: rule.action, logged: rule.log, rule: entered }
    }

    pub(crate) fn end(action: Action) -> Self {
        Self { action, logged: false, rule: None }
    }
}
