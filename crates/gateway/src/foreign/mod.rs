//! Rule lists written by somebody else: read from what a gateway prints, and made into one ordered list.
//!
//! What is read is exact. A condition that has no meaning here (a source port, a rate, a set that is filled
//! from outside) makes its line *unsure*: it is named, it takes part in no claim, and what it might match
//! is not compared.

mod acl;
mod alike;
mod columns;
mod held;
mod nft;
mod sheet;
mod typed;

pub use alike::Alike;
pub use columns::is_beside;
pub use held::{HeldRules, NotHeld};

use crate::acl_json::read::{self as acl_json, Acls};
use crate::acl_json::{HeldLists, held as held_lists};
use crate::named::Named;
use crate::nftables::read::{self, Ruleset};
use crate::nftables::{Held, Manner, bytes_per_second, held};
use bastium_core::meaning::Meaning;
use bastium_core::plan::{Action, Plan};
use bastium_core::proof::{Proved, planless_singles};
use bastium_core::rules::{PlanlessLine, RuleSet, Surroundings};
use bastium_core::space::{AddressSet, Interface, IntervalSet, Match, PacketSet};

/// The gateway itself, as a place to come from and to go to.
pub const GATEWAY: &str = "gateway";
/// Any interface that is not named.
const OTHERS: &str = "other interfaces";

/// A line of such a list.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct ForeignLine {
    /// What it matches and does.
    pub bare: PlanlessLine,
    /// Where it stands, as a person finds it.
    pub at: String,
    /// Whether what it matches is known for sure.
    pub sure: bool,
    /// How many packets have hit it, where that is counted.
    pub hits: Option<u64>,
    /// At most so many bytes a second of what it lets pass, where it is limited.
    pub limit: Option<u64>,
    /// Whether it is the end of a list, and no line of its own.
    pub end: bool,
}

impl ForeignLine {
    /// Its limit, in megabits a second.
    pub fn limit_mbps(&self) -> Option<f64> {
        self.limit.map(|bytes| bytes as f64 * 8.0 / 1_000_000.0)
    }
}

/// Something that was not understood.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct NotUnderstood {
    /// Where it stands.
    pub at: String,
    /// What it is.
    pub what: String,
}

/// A complete rule list that somebody else wrote, as ordered lines over pairs of interfaces.
///
/// Lines that are not understood are kept: they are marked as not sure, and nothing is claimed about the packets that
/// they match.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct Foreign {
    /// By which ways packets come and go.
    pub ways: Ways,
    /// The lines, in the order in which they are asked.
    pub lines: Vec<ForeignLine>,
    /// What was not understood.
    pub not_understood: Vec<NotUnderstood>,
    /// Whether replies to what was let through are let back; `None` where the list keeps no state.
    pub replies: Option<bool>,
    /// Whether it says how fast what it lets pass may go. Where it does not, no line has a limit.
    pub tells_limits: bool,
    /// How many rules it has, wherever they stand.
    pub rules: usize,
    /// Whether it was too much to be looked at.
    pub exhausted: bool,
    /// The rules as they were read, where they are those of the kernel's packet filter.
    pub(crate) ruleset: Option<Ruleset>,
    /// The lists as they were read, where they are access control lists on interfaces.
    pub(crate) acls: Option<Acls>,
}

/// Why a file is no rule list.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum NotAList {
    /// It is neither JSON nor a table.
    Neither,
    /// It is JSON, but of something else.
    OtherJson,
    /// The JSON is broken off or wrong.
    BrokenJson(String),
    /// It is a text for the kernel's packet filter, but not all of it can be read.
    BrokenText {
        /// Where.
        at: String,
        /// What stands there.
        what: String,
    },
    /// A table without the columns that are needed.
    NoColumns(Vec<&'static str>),
    /// The table cannot be read.
    BrokenTable(String),
    /// It has no rules in it.
    Empty,
    /// It speaks of so many interfaces that the ways between them cannot be distinguished.
    TooManyInterfaces {
        /// How many.
        count: usize,
        /// How many there may be.
        most: usize,
    },
}

/// The number of a line behind so many others.
fn next(lines: usize) -> u32 {
    u32::try_from(lines).map_or(u32::MAX, |lines| lines.saturating_add(1))
}

/// The ways through a gateway: each pair of where a packet comes from and where it goes is an interface of its
/// own, so that lists which look at both can be compared with each other.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Ways {
    /// Where packets come from: interfaces, the gateway, and once more each interface for what has been
    /// translated on its way in.
    pub from: Vec<String>,
    /// Where they go: interfaces, and the gateway.
    pub to: Vec<String>,
    /// How many of `from` are plain; behind the gateway follow the translated ones.
    plain: usize,
}

impl Ways {
    /// The most interfaces between which ways can be distinguished: interfaces are numbered with sixteen bits.
    pub const MOST: usize = 179;

    /// The ways of a plan's gateway.
    ///
    /// # Errors
    /// When it has too many interfaces.
    pub fn of(plan: &Plan) -> Result<Self, NotAList> {
        let interfaces = (0..plan.gateway_interface().0).map(Interface);
        let names = interfaces.map(|interface| {
            plan.device_name(interface).unwrap_or_else(|| plan.interface_name(interface).to_owned())
        });
        Self::between(names.collect())
    }

    /// The ways between these interfaces and the gateway.
    ///
    /// # Errors
    /// When there are too many of them.
    pub fn between(mut names: Vec<String>) -> Result<Self, NotAList> {
        if names.len() > Self::MOST {
            return Err(NotAList::TooManyInterfaces { count: names.len(), most: Self::MOST });
        }
        names.push(OTHERS.to_owned());
        let mut from = names.clone();
        from.push(GATEWAY.to_owned());
        from.extend(names.iter().map(|name| format!("{name} translated")));
        let plain = names.len();
        names.push(GATEWAY.to_owned());
        Ok(Self { from, to: names, plain })
    }

    /// How many interfaces there are.
    pub fn interfaces(&self) -> usize {
        self.from.len() * self.to.len()
    }

    fn interface(&self, from: usize, to: usize) -> Interface {
        Interface::of_index(from * self.to.len() + to)
    }

    /// Where an interface's packets come from and go to.
    pub fn names(&self, interface: Interface) -> (&str, &str) {
        let (from, to) =
            (usize::from(interface.0) / self.to.len(), usize::from(interface.0) % self.to.len());
        (&self.from[from], &self.to[to])
    }

    /// The plan's own interface for one of these, where it has one.
    pub fn plan_interface(&self, plan: &Plan, interface: Interface) -> Option<Interface> {
        let from = usize::from(interface.0) / self.to.len();
        let outer = usize::from(plan.gateway_interface().0);
        match from {
            from if from < outer => Some(Interface::of_index(from)),
            from if from == self.plain => Some(plan.gateway_interface()),
            from if from > self.plain && from - self.plain - 1 < outer => {
                Some(plan.translated_interface(Interface::of_index(from - self.plain - 1)))
            }
            _ => None,
        }
    }

    /// Whether interfaces are most of those by which anything is passed on, whatever goes on to an interface that
    /// is not named left aside.
    pub fn are_most(&self, interfaces: &IntervalSet<Interface>) -> bool {
        let named = 0..self.plain - 1;
        let all = named.clone().flat_map(|from| named.clone().map(move |to| (from, to)));
        let (mut count, mut within) = (0, 0);
        for (from, to) in all.filter(|(from, to)| from != to) {
            count += 1;
            within += usize::from(interfaces.contains(self.interface(from, to)));
        }
        // Where no interface is named, there is one way for all.
        if count == 0 { interfaces.contains(self.interface(0, 0)) } else { 2 * within > count }
    }

    /// The interfaces of packets that come from and go to these.
    fn some(
        &self,
        from: impl Fn(usize) -> bool,
        to: impl Fn(usize) -> bool,
    ) -> IntervalSet<Interface> {
        let all = (0..self.from.len()).flat_map(|a| (0..self.to.len()).map(move |b| (a, b)));
        all.filter(|(a, b)| from(*a) && to(*b)).map(|(a, b)| self.interface(a, b)).collect()
    }

    /// What is passed on, comes to the gateway, or is begun by it.
    pub(crate) fn hook(&self, from_gateway: bool, to_gateway: bool) -> IntervalSet<Interface> {
        self.some(
            |from| (from == self.plain) == from_gateway,
            |to| (to == self.plain) == to_gateway,
        )
    }

    /// What comes from outside the gateway, before anything is translated.
    pub(crate) fn arriving(&self) -> IntervalSet<Interface> {
        self.some(|from| from < self.plain, |_| true)
    }

    /// The interfaces that begin at an interface whose name fits.
    pub(crate) fn entering(&self, fits: impl Fn(&str) -> bool) -> IntervalSet<Interface> {
        self.some(
            |from| fits(self.from[from].strip_suffix(" translated").unwrap_or(&self.from[from])),
            |_| true,
        )
    }

    /// The interfaces that end at an interface whose name fits.
    pub(crate) fn leaving(&self, fits: impl Fn(&str) -> bool) -> IntervalSet<Interface> {
        self.some(|_| true, |to| fits(&self.to[to]))
    }

    pub(crate) fn translated(&self) -> IntervalSet<Interface> {
        self.some(|from| from > self.plain, |_| true)
    }
}

/// Reads a rule list in any format that is known: the JSON or the text of the kernel's packet filter, lists of RFC
/// 8519 in JSON, or a table with headings. A plan gives meaning to names and says which interfaces there are.
///
/// # Errors
/// When the text is in none of these formats.
///
/// ```
/// use bastium_gateway::foreign::read_rules;
///
/// let table = "source,destination,service,action\n10.44.24.0/24,10.44.48.0/24,tcp/631,allow\nany,any,any,block\n";
/// let list = read_rules(table, None).expect("a table of rules");
/// // Two rules; a third line is what happens to the rest.
/// assert_eq!((list.rules, list.lines.len()), (2, 3));
/// assert!(list.not_understood.is_empty());
/// ```
pub fn read_rules(text: &str, plan: Option<&Plan>) -> Result<Foreign, NotAList> {
    let trimmed = text.trim_start_matches('\u{feff}').trim_start();
    let foreign = if trimmed.starts_with(['{', '[']) {
        let json: serde_json::Value = serde_json::from_str(trimmed)
            .map_err(|error| NotAList::BrokenJson(error.to_string()))?;
        if let Some(objects) = json.get("nftables").and_then(serde_json::Value::as_array) {
            nft::list(read::from_json(objects), plan)?
        } else if acl_json::is_acl(&json) {
            let acls =
                acl_json::read(trimmed).map_err(|error| NotAList::BrokenJson(error.to_string()))?;
            acl::read(acls, plan)?
        } else {
            return Err(NotAList::OtherJson);
        }
    } else if is_nft(trimmed) {
        let ruleset = read::from_text(text)
            .map_err(|problem| NotAList::BrokenText { at: problem.at, what: problem.what })?;
        nft::list(ruleset, plan)?
    } else {
        sheet::read(trimmed, plan)?
    };
    if foreign.rules == 0 { Err(NotAList::Empty) } else { Ok(foreign) }
}

/// Whether a text begins as those for the kernel's packet filter do.
fn is_nft(text: &str) -> bool {
    let lines = text.lines().map(str::trim).filter(|line| !line.is_empty());
    let mut lines = lines.filter(|line| !line.starts_with('#'));
    let first = lines.next().and_then(|line| line.split([' ', '\t', ';']).next());
    text.starts_with("#!/usr/sbin/nft")
        || ["table", "flush", "add", "delete", "destroy", "define", "include"]
            .iter()
            .any(|word| first == Some(word))
}

/// A line of a plan's own rules.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct OwnLine {
    /// What it matches and does.
    pub bare: PlanlessLine,
    /// At most so many bytes a second of what it lets pass, where it is limited.
    pub limit: Option<u64>,
}

impl OwnLine {
    /// A line, and its limit in bytes a second.
    pub fn new(bare: PlanlessLine, limit: Option<u64>) -> Self {
        Self { bare, limit }
    }
}

/// The rules of a plan, over the same ways.
pub fn own_lines(rules: &RuleSet, ways: &Ways) -> Vec<OwnLine> {
    let plan = rules.plan();
    let around = Surroundings::of(plan);
    let possible = rules.possible();
    let mut lines = Vec::new();
    // What has no way is asked of no list.
    for (list, place) in rules.lists.iter().zip(0..) {
        for rule in &list.rules {
            let products = rules.products_of(place, rule, &possible);
            let matches = products.iter().flat_map(|product| split(plan, &around, ways, product));
            let matches = matches.collect();
            let id = rule.id.to_string();
            let bare = PlanlessLine::new(&id, rule.number, matches, rule.action, rule.log);
            lines.push(OwnLine { bare, limit: rule.limit_mbps.map(bytes_per_second) });
        }
        if let Some((rest, action)) = rules.end_of(place, &possible) {
            let matches = rest.iter().flat_map(|product| split(plan, &around, ways, product));
            let name = format!("the end of {}", list.name);
            let bare = PlanlessLine::new(&name, 0, matches.collect(), action, false);
            lines.push(OwnLine { bare, limit: None });
        }
    }
    lines
}

/// A product over the plan's interfaces, over ways: by where its destination leads.
fn split(plan: &Plan, around: &Surroundings, ways: &Ways, product: &Match) -> Vec<Match> {
    let mut parts = Vec::new();
    let own = plan.gateway_interface();
    let last = plan.translated_interface(own);
    let interfaces =
        (0..last.0).map(Interface).filter(|interface| product.enters.contains(*interface));
    for interface in interfaces {
        let from = match interface {
            interface if interface == own => ways.plain,
            interface if plan.is_translated(interface) => {
                ways.plain + 1 + usize::from(plan.came_by(interface).0)
            }
            interface => usize::from(interface.0),
        };
        let mut push = |to: usize, reached: &AddressSet| {
            let destination = product.destination.intersection(reached);
            if !destination.is_empty() {
                let enters = IntervalSet::point(ways.interface(from, to));
                parts.push(Match { enters, destination, ..product.clone() });
            }
        };
        for (to, reached) in around.reached.iter().enumerate() {
            let gateway = around.gateway.get(usize::from(interface.0));
            let reached = gateway.map_or(reached.clone(), |gateway| reached.difference(gateway));
            push(to, &reached);
        }
        if let Some(gateway) = around.gateway.get(usize::from(interface.0)) {
            push(ways.plain, gateway);
        }
    }
    parts
}

/// Packets that the plan's lists are not asked about, over the same ways: what is not compared.
pub fn beyond(rules: &RuleSet, ways: &Ways) -> PacketSet {
    let plan = rules.plan();
    let around = Surroundings::of(plan);
    let everything = Match {
        enters: IntervalSet::range(Interface(0), Interface(u16::MAX)),
        ..Match::everything()
    };
    let asked = split(plan, &around, ways, &everything);
    let asked: Vec<Match> = asked.into_iter().collect();
    let interfaces = IntervalSet::range(Interface(0), Interface::of_index(ways.interfaces() - 1));
    let mut rest = PacketSet::from(Match { enters: interfaces, ..Match::everything() });
    for product in &asked {
        rest = rest.difference(&product.into());
    }
    // Two traffic within a network does not pass the gateway.
    for id in plan.network_ids().filter(|id| plan.network(*id).tunnel.is_none()) {
        let place = id.index();
        let enters = ways.some(|from| from == place, |to| to == place);
        let own = plan.network(id).prefixes();
        let near = Match { enters, source: own.clone(), destination: own, ..Match::everything() };
        rest = rest.union(&near.into());
    }
    // What asks for an offered service comes to the lists as what it becomes.
    for taken in rules.translations.iter().map(|translation| &translation.takes) {
        for product in split(plan, &around, ways, taken) {
            rest = rest.union(&product.into());
        }
    }
    // What is spoofed is blocked before anybody asks where it was translated to.
    for (interface, sources) in around.interfaces().zip(&around.sources) {
        let from = ways.plain + 1 + usize::from(interface.0);
        let enters = ways.some(|place| place == from, |_| true);
        let spoofed = Match { enters, source: sources.complement(), ..Match::everything() };
        rest = rest.union(&spoofed.into());
    }
    around.no_route.iter().fold(rest, |all, gone| {
        let through = ways.hook(false, false);
        all.union(&PacketSet::from(Match { enters: through, ..gone.clone() }))
    })
}

impl Foreign {
    /// Whether these are access control lists, which keep no state: replies need lines of their own.
    pub fn is_stateless(&self) -> bool {
        self.acls.is_some()
    }

    /// Holds it against a plan in everything that a gateway does, where it is a whole rule set of the kernel's
    /// packet filter; `None` for a list of another kind.
    pub fn held(&self, meaning: &Meaning<'_>) -> Option<Held> {
        let ruleset = self.ruleset.as_ref()?;
        Some(held(meaning, ruleset, Manner::default()))
    }

    /// Holds it against rules of the form that it is in, where it is access control lists on interfaces.
    pub fn held_lists(&self, meaning: &Meaning<'_>, proved: Proved<'_>) -> Option<HeldLists> {
        let acls = self.acls.as_ref()?;
        Some(held_lists(meaning, proved, acls, &[]))
    }

    /// Whether it is all that decides over packets.
    pub fn is_whole(&self) -> bool {
        self.ruleset.is_some()
    }

    /// The lines without anything around them.
    pub fn bare(&self) -> Vec<PlanlessLine> {
        self.lines.iter().map(|line| line.bare.clone()).collect()
    }

    /// Looks at every line: which never matches, which changes nothing, which depend on their order.
    pub fn singles(&self) -> bastium_core::proof::PlanlessSingles {
        let lines = self.bare();
        let alike = Alike::of(&[&lines], self.ways.interfaces());
        planless_singles(self.ways.interfaces(), &alike.reduced(&lines), |place| {
            self.lines[place].sure
        })
    }
}

/// An action's word, whoever wrote it.
fn action_word(word: &str) -> Option<Action> {
    match word.to_lowercase().as_str() {
        "allow" | "accept" | "permit" | "pass" => Some(Action::Allow),
        "block" | "drop" | "deny" | "discard" => Some(Action::Block),
        "reject" | "refuse" => Some(Action::Reject),
        _ => None,
    }
}
