//! The ordered rules.

use super::matrix::logged;
use super::products::{ProductRow, products};
use super::{Because, EDITION};
use crate::{Cell, Column, Table};
use bastium_core::plan::Plan;
use bastium_core::rules::{self, Rule, RuleList, RuleSet, Setting, Translation};
use schemars::JsonSchema;
use serde::Serialize;

/// The rule lists of a gateway.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct RuleSheet {
    /// The edition of this JSON.
    pub bastium: u8,
    /// The form that they are in.
    pub form: &'static str,
    /// The day that they are for.
    pub day: String,
    /// The next day on which they would be others.
    pub changes_on: Option<String>,
    /// Whether all rules are there; else only some were asked for.
    pub whole: bool,
    /// What is translated on its way in.
    pub translations: Vec<TranslationRow>,
    /// Whether the lists see packets before they are translated.
    pub before_translation: bool,
    /// The lists, in the order in which they are asked.
    pub lists: Vec<ListRow>,
    /// General settings that the form asks for besides.
    pub settings: Vec<String>,
}

/// A translation of destinations.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct TranslationRow {
    /// Its id.
    pub id: String,
    /// What is asked for.
    pub outside: String,
    /// At which addresses.
    pub at: Vec<String>,
    /// The host that it goes to.
    pub to: String,
    /// That host's address.
    pub address: String,
    /// What is asked for there.
    pub inside: String,
}

/// One list.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct ListRow {
    /// Its name.
    pub name: String,
    /// Which pair of zones or which interface it is for; none where it is for all.
    pub applies: Option<Applies>,
    /// What it is for, in words.
    pub about: String,
    /// Whether it says what the gateway does by itself, so that nobody need enter it.
    pub implied: bool,
    /// Its rules, first match wins.
    pub rules: Vec<RuleRow>,
    /// What happens to the rest.
    pub otherwise: &'static str,
    /// The rest, where this list decides it: any of these products.
    pub rest: Vec<ProductRow>,
}

/// What a list is for, in forms that have more than one.
#[derive(Clone, Debug, Serialize, JsonSchema)]
#[serde(untagged)]
pub enum Applies {
    /// One pair of zones.
    Pair {
        /// Where packets come from.
        from: String,
        /// Where they go: a zone, or `gateway`.
        to: String,
    },
    /// One interface in one direction.
    Interface {
        /// The interface.
        interface: String,
        /// `in` or `out`.
        direction: &'static str,
    },
}

/// One rule.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct RuleRow {
    /// Its number; 0 for what the gateway does by itself.
    pub number: u32,
    /// Its id.
    pub id: String,
    /// What it does.
    pub name: String,
    /// Why it is there.
    pub reason: String,
    /// Where packets come from, by zone.
    pub from: String,
    /// Their source.
    pub source: String,
    /// Where they go, by zone.
    pub to: String,
    /// Their destination.
    pub destination: String,
    /// The service in the plan's words.
    pub service: String,
    /// The service in protocols and ports.
    pub ports: Vec<String>,
    /// For a rule that lets replies back without state: the ports that they come from. Of TCP it takes
    /// only what is no opening.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub replies_from: Vec<String>,
    /// What happens.
    pub action: &'static str,
    /// Whether it is logged.
    pub log: bool,
    /// The hours in which it counts; none for always.
    pub hours: Option<String>,
    /// How much it lets through, in megabits a second; none for as much as there is.
    pub limit_mbps: Option<f64>,
    /// The entry behind it.
    pub because: Because,
    /// What it matches, exactly: any of these products.
    pub matches: Vec<ProductRow>,
}

impl RuleSheet {
    /// Takes the sheet from compiled rules. `keep` says which rules to show.
    pub fn new(plan: &Plan, rules: &RuleSet, keep: impl Fn(&RuleList, &Rule) -> bool) -> Self {
        let possible = rules.possible(plan);
        let list = |(place, list): (usize, &RuleList)| ListRow {
            name: list.name.clone(),
            applies: list.applies.map(|applies| applies_to(plan, applies)),
            about: about(list),
            implied: list.implied,
            rules: list
                .rules
                .iter()
                .filter(|rule| keep(list, rule))
                .map(|rule| RuleRow {
                    matches: products(plan, rules.products_of(place, rule, &possible)),
                    ..row(plan, rule)
                })
                .collect(),
            otherwise: list.otherwise.word(),
            rest: rules
                .end_of(place, &possible)
                .map(|(rest, _)| products(plan, rest))
                .unwrap_or_default(),
        };
        let lists: Vec<ListRow> = rules.lists.iter().enumerate().map(list).collect();
        let shown: usize = lists.iter().map(|list| list.rules.len()).sum();
        let all: usize = rules.lists.iter().map(|list| list.rules.len()).sum();
        Self {
            bastium: EDITION,
            whole: shown == all,
            form: rules.form.word(),
            day: rules.day.to_string(),
            changes_on: rules.changes_on.map(|day| day.to_string()),
            translations: rules.translations.iter().map(|t| translation(plan, t)).collect(),
            before_translation: rules.before_translation,
            lists,
            settings: rules.settings.iter().map(setting).chain(settings(plan)).collect(),
        }
    }

    /// How many rules are shown.
    pub fn count(&self) -> usize {
        self.lists.iter().filter(|list| !list.implied).map(|list| list.rules.len()).sum()
    }

    /// As tables, one per list that has a rule to show, with a column for everything.
    pub fn tables(&self) -> Vec<Table> {
        let columns = || {
            [
                Column::numbers("no"),
                Column::text("name"),
                Column::whole("action"),
                Column::text("service"),
                Column::text("when"),
                Column::text("from"),
                Column::text("to"),
                Column::whole("id"),
                Column::text("reason"),
                Column::numbers("line"),
            ]
        };
        self.each_list(columns, |rule| {
            vec![
                number(rule),
                rule.name.clone().into(),
                logged(Cell::action(rule.action), rule.log),
                rule.service.clone().into(),
                limits(rule).into(),
                end(&rule.from, &rule.source).into(),
                end(&rule.to, &rule.destination).into(),
                rule.id.clone().into(),
                rule.reason.clone().into(),
                rule.because.line.map_or(String::new(), |line| line.to_string()).into(),
            ]
        })
    }

    /// The same for a terminal: what, id, line and reason below each other.
    pub fn short_tables(&self) -> Vec<Table> {
        let columns = || {
            [
                Column::numbers("no"),
                Column::whole("action"),
                Column::text("service"),
                Column::text("rule"),
            ]
        };
        self.each_list(columns, |rule| {
            let line = rule.because.line.map(|line| format!(", line {line}")).unwrap_or_default();
            let place = format!("{}{line}", rule.id);
            let (from, to) = (end(&rule.from, &rule.source), end(&rule.to, &rule.destination));
            let words = match rule.because.kind {
                // The id of a cell says from where and to where, and its reason is the matrix.
                "cell" => place,
                "exception" | "offered" => format!("{from} -> {to}\n{place}\n{}", rule.reason),
                _ => format!("{}\n{place}\n{}", rule.name, rule.reason),
            };
            let words = match limits(rule) {
                only if only.is_empty() => words,
                only => format!("{words}\n{only}"),
            };
            vec![
                number(rule),
                logged(Cell::action(rule.action), rule.log),
                rule.service.clone().into(),
                words.into(),
            ]
        })
    }

    fn each_list<const N: usize>(
        &self,
        columns: impl Fn() -> [Column; N],
        row: impl Fn(&RuleRow) -> Vec<Cell>,
    ) -> Vec<Table> {
        let shown = self.lists.iter().filter(|list| !list.rules.is_empty());
        let tables = shown.map(|list| {
            let mut table = Table::new(columns()).titled(list.name.clone());
            list.rules.iter().for_each(|rule| table.row(row(rule)));
            table
        });
        tables.collect()
    }
}

/// A rule's number; what the gateway does by itself has none.
fn number(rule: &RuleRow) -> Cell {
    if rule.number == 0 { "".into() } else { rule.number.into() }
}

fn applies_to(plan: &Plan, applies: rules::Applies) -> Applies {
    let zone = |zone| plan.zone(zone).name.to_string();
    match applies {
        rules::Applies::Pair { from, to } => Applies::Pair { from: zone(from), to: zone(to) },
        rules::Applies::ToGateway { from } => {
            Applies::Pair { from: zone(from), to: "gateway".to_owned() }
        }
        rules::Applies::Interface { leg, out } => Applies::Interface {
            interface: plan.leg_name(leg).to_owned(),
            direction: if out { "out" } else { "in" },
        },
    }
}

fn about(list: &RuleList) -> String {
    let about = match list.applies {
        Some(rules::Applies::Pair { .. }) => "for what passes from the one zone to the other",
        Some(rules::Applies::ToGateway { .. }) => "for what comes from there to the gateway itself",
        Some(rules::Applies::Interface { out: true, .. }) => "for what goes out there",
        Some(rules::Applies::Interface { out: false, .. }) => "for all that comes in there",
        None => list.stage.about(),
    };
    if list.implied {
        return "what the gateway does by itself; nothing to enter".to_owned();
    }
    about.to_owned()
}

/// A setting of the form, in words.
fn setting(setting: &Setting) -> String {
    match setting {
        Setting::Rank { of, rank } => format!("rank of {of}: {rank}"),
        Setting::EqualsReach(true) => "let networks of one rank reach each other".to_owned(),
        Setting::EqualsReach(false) => {
            "leave networks of one rank cut off from each other".to_owned()
        }
        Setting::TurnRound(true) => "let packets leave where they came in".to_owned(),
        Setting::TurnRound(false) => "let no packet leave where it came in".to_owned(),
        Setting::OwnPorts => {
            "the gateway begins its own conversations from ports above 1023 (RFC 6056)".to_owned()
        }
        Setting::OwnServices => {
            "close the gateway's own services where they are offered: these lists do not see them"
                .to_owned()
        }
    }
}

/// When a rule counts, and how much it lets through, where that is not always and everything.
fn limits(rule: &RuleRow) -> String {
    let hours = rule.hours.as_ref().map(|hours| format!("only in {hours}"));
    let rate = rule.limit_mbps.map(|rate| format!("at most {rate} Mbit/s"));
    hours.into_iter().chain(rate).collect::<Vec<_>>().join(", ")
}

fn translation(plan: &Plan, translation: &Translation) -> TranslationRow {
    let target = translation.target;
    TranslationRow {
        id: translation.id.clone(),
        outside: translation.takes.service.v4_words().join(", "),
        at: plan.set_words(&translation.takes.destination),
        to: plan.host_at(target).map_or(target.to_string(), |host| host.name.to_string()),
        address: target.to_string(),
        inside: translation.inside().v4_words().join(", "),
    }
}

/// What has to be set beside the lists, in words.
fn settings(plan: &Plan) -> Vec<String> {
    let mut settings = Vec::new();
    for uplink in plan.uplinks() {
        settings.push(format!(
            "translate private IPv4 sources to the address of {} on their way out (RFC 1918)",
            uplink.name
        ));
    }
    for discovery in plan.discoveries() {
        let names: Vec<&str> =
            discovery.between.iter().map(|id| plan.network(*id).name.as_str()).collect();
        settings.push(format!("repeat announced names between {} (RFC 6762)", names.join(", ")));
    }
    for domain in plan.domains() {
        let names = domain.names.join(", ");
        settings.push(format!("{} is whatever {names} leads to", domain.name));
    }
    settings
}

/// Zone and address in one word where the one says no more than the other.
fn end(zone: &str, address: &str) -> String {
    match (zone, address) {
        (zone, "any") => zone.to_owned(),
        ("any" | "", address) => address.to_owned(),
        (zone, address) if zone == address || zone.contains(" + ") => address.to_owned(),
        (zone, address) => format!("{zone}: {address}"),
    }
}

fn row(plan: &Plan, rule: &Rule) -> RuleRow {
    RuleRow {
        number: rule.number,
        id: rule.id.clone(),
        name: rule.name.clone(),
        reason: rule.reason.clone(),
        from: rule.from.clone(),
        source: rule.source.clone(),
        to: rule.to.clone(),
        destination: rule.destination.clone(),
        service: rule.service.clone(),
        ports: rule.ports.clone(),
        replies_from: rule.back.as_ref().map(|ports| ports.words()).unwrap_or_default(),
        action: rule.action.word(),
        log: rule.log,
        hours: rule.hours.clone(),
        limit_mbps: rule.limit_mbps,
        // What the gateway does by itself stands nowhere in the plan.
        because: Because {
            line: rule.cause.line(plan).filter(|_| rule.number > 0),
            ..Because::new(rule.cause, plan)
        },
        matches: Vec::new(),
    }
}
