//! The first page: plain words, and nothing that is not proved, tried or written in the plan.

use super::words::{listed, plain_endpoint};
use super::{Block, Builder, Card, Inline, Section, count};
use crate::either;
use crate::sheets::GuaranteeRow;
use crate::walk::{ResultRow, State, WalkSheet};
use bastium_core::meaning::Part;
use bastium_core::plan::{Guarantee, ZoneId};
use bastium_core::space::{Match, PacketSet};
use bastium_core::verdict::{Cause, Verdict};
use bastium_picture::{Arrow, ArrowKind, ZoneMap};
use jiff::civil::Date;
use std::collections::BTreeSet;

impl Builder<'_> {
    pub(super) fn summary(&self) -> Section {
        let plan = self.sources.meaning.plan();
        let map = &self.map;
        let networks = plan.networks().iter().filter(|network| network.tunnel.is_none()).count();
        let begin = format!(
            "{} has {} in {}. What is not listed here as allowed does not pass from one zone to another.",
            plan.site().name,
            count(networks, "network"),
            count(plan.zones().len() - 1, "zone"),
        );
        let mut blocks = vec![Block::Text(begin.into())];
        let promises: Vec<Inline> = plan.guarantees().iter().map(|one| self.promise(one)).collect();
        if !promises.is_empty() {
            blocks.push(Block::Heading("What is guaranteed".to_owned()));
            blocks.push(Block::List(promises));
        }
        blocks.push(Block::Heading("What can be reached from the internet".to_owned()));
        blocks.push(Block::List(self.reachable_from_outside()));
        blocks.push(Block::Heading("Who may use the internet".to_owned()));
        blocks.push(Block::List(self.to_outside(map)));
        blocks.push(Block::Heading("Who may change it".to_owned()));
        blocks.push(Block::Text(self.who_changes()));
        blocks.push(Block::Heading("How this is known".to_owned()));
        blocks.push(Block::List(self.how_known()));
        blocks.push(Block::Heading("Zone by zone".to_owned()));
        blocks.push(Block::Cards(self.cards(map)));
        Section { id: "summary", title: "Summary", blocks }
    }

    /// A guarantee: `guests cannot reach anything except internet (proved for every packet; tried ...)`.
    fn promise(&self, guarantee: &Guarantee) -> Inline {
        let says = promised(guarantee);
        let row = self
            .sources
            .proof
            .guarantees
            .iter()
            .find(|row| row.name == guarantee.name.as_str() && row.kind == guarantee.word());
        let inline = match row {
            Some(row) if row.holds => Inline::default()
                .strong(says)
                .then(" (")
                .link("proved for every packet", "proof")
                .then("; "),
            Some(row) => broken(row, &says),
            None => Inline::default().strong(format!("{says}: not proved")).then(" ("),
        };
        self.attempts(inline, guarantee).then(")")
    }

    /// What came of the checks of a guarantee.
    fn attempts(&self, inline: Inline, guarantee: &Guarantee) -> Inline {
        let mark = format!("{}.{}/", guarantee.word(), guarantee.name);
        let listed_checks = self.sources.checklist.stands.iter().flat_map(|stand| &stand.checks);
        if !listed_checks.clone().any(|check| check.id.starts_with(&mark)) {
            return inline.then("no check of the list tries it");
        }
        let results = self.sources.walk.iter().flat_map(|walk| &walk.results);
        let own = results.filter(|row| row.id.starts_with(&mark));
        let made: Vec<&ResultRow> = own.filter(|row| is_made(row)).collect();
        if made.is_empty() {
            return inline.link("not tried yet", "checks");
        }
        let day =
            made.iter().filter_map(|row| row.at.as_deref()).max().and_then(|at| self.day_of(at));
        let on = day.map_or_else(String::new, |day| format!(" on {day}"));
        let mut places: Vec<String> = made.iter().map(|row| row.place.clone()).collect();
        places.sort();
        places.dedup();
        let attempts = count(made.len(), "attempt");
        let tried = format!("tried{on} from {}, {attempts}", listed(&places));
        let failed = made.iter().filter(|row| row.outcome == State::Fail).count();
        let unclear = made.iter().filter(|row| row.outcome == State::NotShown).count();
        let came_of = match (failed, unclear, guarantee.always) {
            (0, 0, true) => "all went through".to_owned(),
            (0, 0, false) => "none got through".to_owned(),
            (0, unclear, _) => format!("{unclear} of them were inconclusive"),
            (failed, _, _) => format!("{failed} of them failed"),
        };
        let inline = inline.link(tried, "checks").then(": ");
        if failed > 0 { inline.strong(came_of) } else { inline.then(came_of) }
    }

    /// What is offered to the outside; that nothing is, where that is so.
    fn reachable_from_outside(&self) -> Vec<Inline> {
        let meaning = self.sources.meaning;
        let plan = meaning.plan();
        let active = meaning.precedence().active();
        let offered = plan.inbounds().iter().filter(|inbound| active.contains(&inbound.exception));
        let mut lines: Vec<Inline> = offered
            .map(|inbound| {
                let exception = plan.exception(inbound.exception);
                let name = exception.name.to_string();
                Inline::default()
                    .strong(exception.to.text.clone())
                    .then(format!(" by {}: {} (", exception.service.text, exception.why))
                    .link(name.clone(), format!("exception-{name}"))
                    .then(")")
            })
            .collect();
        let tunnels = plan.networks().iter().filter(|network| network.tunnel.is_some());
        lines.extend(tunnels.map(|tunnel| {
            let zone = plan.zone(tunnel.zone);
            let about = match zone.about.as_str() {
                "" => String::new(),
                about => format!(" ({about})"),
            };
            Inline::default()
                .strong(tunnel.name.to_string())
                .then(format!(", a tunnel{about}: what its users may reach is listed under "))
                .link(zone.name.to_string(), format!("zone-{}", zone.name))
        }));
        let others = self.opened_otherwise();
        lines.extend(others.into_iter().map(Inline::from));
        lines.extend(self.gateway_from_outside());
        if lines.is_empty() {
            lines.push("Nothing: no connection from the internet reaches a device inside.".into());
        }
        lines
    }

    /// What the gateway itself answers to the internet, beside what it offers for others, what ends in a tunnel, and what
    /// a leased address and IPv6 need to work.
    fn gateway_from_outside(&self) -> Option<Inline> {
        let meaning = self.sources.meaning;
        let plan = meaning.plan();
        let asked = Match {
            enters: plan.uplink_interfaces(),
            destination: plan.gateway_addresses().clone(),
            ..Match::everything()
        };
        let passes = |part: &&Part| {
            let is_needed = matches!(
                part.decision.cause,
                Cause::Offered(_)
                    | Cause::TunnelPort(_)
                    | Cause::GatewayService(_)
                    | Cause::Ipv6Needs
                    | Cause::Reply
            );
            part.decision.verdict == Verdict::Allow && !is_needed
        };
        let parts = meaning.parts(&PacketSet::from(asked));
        let mut causes: Vec<String> = parts
            .iter()
            .filter(passes)
            .map(|part| match part.decision.cause {
                Cause::Manage => "to manage it".to_owned(),
                cause => format!("because of {}", cause.entry(plan)),
            })
            .collect();
        causes.sort();
        causes.dedup();
        let says = || format!(" can be reached from the internet, {}", listed(&causes));
        (!causes.is_empty()).then(|| Inline::default().strong("the gateway itself").then(says()))
    }

    /// What cells or exceptions let in that no `inbound` entry offers.
    fn opened_otherwise(&self) -> Vec<String> {
        let plan = self.sources.meaning.plan();
        let map = &self.map;
        let is_offered = |arrow: &Arrow| {
            let mut offered = plan.exceptions().iter().filter(|one| one.inbound.is_some());
            offered.any(|one| arrow.exception.as_deref() == Some(one.name.as_str()))
        };
        let others = map.arrows.iter().filter(|arrow| arrow.from.is_none() && !is_offered(arrow));
        let line = |arrow: &Arrow| match arrow.to {
            Some(to) => format!("zone {}: {}", map.areas[to].name, arrow.words),
            None => arrow.words.clone(),
        };
        others.map(line).collect()
    }

    fn to_outside(&self, map: &ZoneMap) -> Vec<Inline> {
        let mut lines = Vec::new();
        for (index, area) in map.areas.iter().enumerate() {
            let own =
                map.arrows.iter().filter(|arrow| arrow.from == Some(index) && arrow.to.is_none());
            let words = Inline::list(own.map(|arrow| self.passing(arrow)));
            let words = if words.is_empty() { "nothing".into() } else { words };
            let mut line = zone_link(&area.name).then(": ");
            line.0.extend(words.0);
            lines.push(line);
        }
        lines
    }

    fn who_changes(&self) -> Inline {
        let gateway = self.sources.meaning.plan().gateway();
        match (&gateway.manage, self.is_for_engineer()) {
            (Some(manage), true) => {
                let factor = if manage.second_factor { ", with a second factor" } else { "" };
                Inline::from(format!(
                    "{} by {}{factor}; see ",
                    manage.from.text, manage.service.text
                ))
                .link("management", "management")
                .then(".")
            }
            (None, true) => "The plan does not say who may manage the gateway.".into(),
            (_, false) => {
                "Whoever looks after the network; the engineer's report says who that is.".into()
            }
        }
    }

    fn how_known(&self) -> Vec<Inline> {
        let mut lines = vec![self.proof_in_words()];
        lines.extend(
            self.sources.running.as_ref().map(|listed| running_in_words(listed.differences.len())),
        );
        lines.push(self.sources.walk.as_ref().map_or_else(
            || "It has not been tested in the building yet: no check results were given.".into(),
            |walk| self.walk_in_words(walk),
        ));
        lines.push(
            "The proof is about the rules; that the gateway runs them, and that devices are plugged \
             in where they should be, is what the checks show."
                .into(),
        );
        lines
    }

    fn proof_in_words(&self) -> Inline {
        match self.sources.proof.holds() {
            true => Inline::from("The rules for the gateway were compared with the plan for every possible packet: they ")
                .link("match", "proof")
                .then("."),
            false => Inline::default()
                .strong("The rules for the gateway do not match the plan")
                .then(": see ")
                .link("the proof", "proof")
                .then("."),
        }
    }

    /// What came of the checks: how many passed and how many did not, when the last one was made, and by whom.
    fn walk_in_words(&self, walk: &WalkSheet) -> Inline {
        let made = walk.results.iter().filter(|row| is_made(row));
        let by: BTreeSet<&str> = made.clone().filter_map(|row| row.by.as_deref()).collect();
        let last = made.filter_map(|row| row.at.as_deref()).max().and_then(|at| self.day_of(at));
        let mut words =
            format!("Of {}, {} passed", count(walk.results.len(), "check"), walk.passed);
        for (number, what) in [
            (walk.failed, "failed"),
            (walk.not_shown, "were inconclusive"),
            (walk.skipped, "were left out"),
            (walk.changed + walk.open, "have not been made"),
        ] {
            if number > 0 {
                words.push_str(&format!(", {number} {what}"));
            }
        }
        if walk.of_others > 0 {
            let results = count(walk.of_others, "result");
            words.push_str(&format!("; {results} of checks that the plan does not have"));
        }
        if walk.unread > 0 {
            let lines = count(walk.unread, "line");
            words.push_str(&format!("; {lines} of the results cannot be read"));
        }
        if let Some(last) = last {
            words.push_str(&format!("; the last one on {last}"));
        }
        if !by.is_empty() {
            let by: Vec<String> = by.into_iter().map(str::to_owned).collect();
            words.push_str(&format!(", by {}", listed(&by)));
        }
        Inline::default().link(words, "checks").then(".")
    }

    fn cards(&self, map: &ZoneMap) -> Vec<Card> {
        let plan = self.sources.meaning.plan();
        let card = |(index, area): (usize, &bastium_picture::ZoneArea)| {
            let id = plan.zone_named(&area.name);
            let about = id.map(|id| plan.zone(id).about.clone()).unwrap_or_default();
            let out = map.arrows.iter().filter(|arrow| arrow.from == Some(index));
            let inward = map.arrows.iter().filter(|arrow| arrow.to == Some(index));
            let mut facts = Vec::new();
            if !about.is_empty() {
                facts.push(("Who is in it".to_owned(), Inline::from(about)));
            }
            facts.push(("Networks".to_owned(), self.network_links(id)));
            facts.push(("May reach".to_owned(), self.reached(map, out, |arrow| arrow.to)));
            facts.push((
                "Can be reached by".to_owned(),
                self.reached(map, inward, |arrow| arrow.from),
            ));
            if !area.within.is_empty() {
                facts.push(("Inside".to_owned(), area.within.join(" ").into()));
            }
            let concerns = |one: &&Guarantee| {
                let own = id.map(|id| plan.zone_addresses(id).intersection(&one.from.addresses));
                own.is_some_and(|own| !own.is_empty())
            };
            let promises = plan.guarantees().iter().filter(concerns).map(promised);
            let promises: Vec<String> = promises.collect();
            if !promises.is_empty() {
                facts.push(("Guaranteed".to_owned(), promises.join("; ").into()));
            }
            facts.push(("Last tested".to_owned(), self.last_tested(id)));
            Card { id: format!("zone-{}", area.name), title: area.name.clone(), facts }
        };
        map.areas.iter().enumerate().map(card).collect()
    }

    fn network_links(&self, zone: Option<ZoneId>) -> Inline {
        let plan = self.sources.meaning.plan();
        let networks = zone.into_iter().flat_map(|zone| plan.networks_of(zone).collect::<Vec<_>>());
        Inline::list(networks.map(|id| {
            let name = plan.network(id).name.to_string();
            Inline::default().link(name.clone(), format!("network-{name}"))
        }))
    }

    /// When a check was last made from a zone.
    fn last_tested(&self, zone: Option<ZoneId>) -> Inline {
        let plan = self.sources.meaning.plan();
        let zone_of = |place: &str| {
            // A test point where another address is set for a while: `desks as 10.44.24.9`.
            let place = place.split(" as ").next().unwrap_or(place);
            let network = plan.networks().iter().find(|network| network.name.as_str() == place);
            let host = plan.hosts().iter().find(|host| host.name.as_str() == place);
            network.or_else(|| host.map(|host| plan.network(host.network))).map(|found| found.zone)
        };
        let results = self.sources.walk.iter().flat_map(|walk| &walk.results);
        let own = results.filter(|row| is_made(row) && zone_of(&row.place) == zone);
        let own: Vec<&ResultRow> = own.collect();
        match own.iter().filter_map(|row| row.at.as_deref()).max().and_then(|at| self.day_of(at)) {
            Some(day) => Inline::default()
                .link(format!("on {day}, {} from here", count(own.len(), "check")), "checks"),
            None => "not tested".into(),
        }
    }
}

/// A guarantee as a sentence has it: `guests cannot reach anything except the internet`.
fn promised(guarantee: &Guarantee) -> String {
    let (from, to) = (plain_endpoint(&guarantee.from.text), plain_endpoint(&guarantee.to.text));
    let service = match guarantee.service.text.as_str() {
        "" | "any" => String::new(),
        text => format!(" by {text}"),
    };
    let can = if guarantee.always { "can" } else { "cannot" };
    format!("{from} {can} reach {to}{service}")
}

fn broken(row: &GuaranteeRow, says: &str) -> Inline {
    let about = row.about().unwrap_or_default();
    Inline::default().strong(format!("NOT KEPT: {says}")).then(format!(" ({about}; "))
}

/// Whether somebody made a check.
fn is_made(row: &ResultRow) -> bool {
    matches!(row.outcome, State::Pass | State::NotShown | State::Fail)
}

/// What came of holding the gateway's own listing against the plan.
fn running_in_words(differences: usize) -> Inline {
    if differences == 0 {
        return "What the gateway ran when it was listed was compared with the plan for every possible packet: it \
                matches."
            .into();
    }
    let (things, differ) = (count(differences, "thing"), either(differences, "differs", "differ"));
    Inline::default()
        .strong("What the gateway ran when it was listed was not shown to match the plan")
        .then(format!(": {things} {differ}, or could not be decided. All that is said here is said of the plan."))
}

fn zone_link(name: &str) -> Inline {
    Inline::default().link(name, format!("zone-{name}"))
}

impl Builder<'_> {
    /// The day at the site of a time stamp (RFC 3339).
    pub(super) fn day_of(&self, at: &str) -> Option<Date> {
        Some(self.sources.meaning.plan().site().day(at.parse().ok()?))
    }

    /// The other ends of arrows, each with what passes.
    fn reached<'a>(
        &self,
        map: &ZoneMap,
        arrows: impl Iterator<Item = &'a Arrow>,
        end: impl Fn(&Arrow) -> Option<usize>,
    ) -> Inline {
        let each = arrows.map(|arrow| {
            let other = match end(arrow) {
                Some(index) => zone_link(&map.areas[index].name),
                None => map.outside.as_str().into(),
            };
            let mut other = other.then(" (");
            other.0.extend(self.passing(arrow).0);
            other.then(")")
        });
        let all = Inline::list(each);
        if all.is_empty() { "nothing".into() } else { all }
    }

    /// What an arrow lets pass: why it is there, with links to the exceptions that say so.
    fn passing(&self, arrow: &Arrow) -> Inline {
        let entry = |name: &str| Inline::default().link(name, format!("exception-{name}"));
        match (arrow.kind, &arrow.exception) {
            (ArrowKind::Exception, Some(name)) => {
                let plan = self.sources.meaning.plan();
                let entry = plan.exceptions().iter().find(|one| one.name.as_str() == name);
                let why = entry.map(|one| one.why.clone()).filter(|why| !why.is_empty());
                let words = why.unwrap_or_else(|| arrow.words.clone());
                Inline::default().link(words, format!("exception-{name}"))
            }
            (ArrowKind::Exception, None) => arrow.words.clone().into(),
            (ArrowKind::Cell, _) => match arrow.words.split_once(" except ") {
                None => "everything".into(),
                Some((_, but)) => {
                    let names = Inline::list(but.split(", ").map(entry));
                    let mut all = Inline::from("everything except ");
                    all.0.extend(names.0);
                    all
                }
            },
        }
    }
}
