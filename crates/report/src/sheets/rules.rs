//! The ordered rules.

mod columns;
mod row;

pub use columns::RuleColumn;
pub(in crate::sheets) use columns::{words, written};
pub(in crate::sheets) use row::BY_INTERFACE;

use super::products::{ProductRow, products};
use super::{Because, EDITION};
use bastium_core::meaning::Meaning;
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
    /// How many rules there are to enter, those not shown too, and what the same would take otherwise.
    pub size: Size,
    /// The rules that are left out since the lists do the same without them, by id.
    pub left_out: Vec<String>,
    /// General settings that the form asks for besides.
    pub settings: Vec<String>,
}

/// How much there is to enter.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct Size {
    /// Rules to enter. Anti-spoofing at several interfaces is one where the fewest are wanted.
    pub rules: usize,
    /// Names in them: of zones, addresses, services and hours.
    pub values: usize,
    /// Rules with one for every cell and every exception.
    pub rules_for_every_cell: usize,
    /// Names in these.
    pub values_for_every_cell: usize,
    /// A lower bound for the rules of lists in which none relies on another one above it, anti-spoofing apart; none for
    /// lists that are too long to tell.
    pub at_least: Option<usize>,
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
    /// Where packets enter: networks and uplinks; empty for any.
    pub interfaces: Vec<String>,
    /// Where packets come from, by zone.
    pub from: String,
    /// Their source.
    pub source: String,
    /// The source in addresses, prefixes and ranges; names of what has no address known beforehand.
    pub source_addresses: Vec<String>,
    /// Where they go, by zone.
    pub to: String,
    /// Their destination.
    pub destination: String,
    /// The destination in addresses.
    pub destination_addresses: Vec<String>,
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
    /// The tags of the entries behind it.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub tags: Vec<String>,
    /// The entry behind it.
    pub because: Because,
    /// The other entries behind it, where rules of several have been joined.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub also: Vec<Because>,
    /// What it matches, exactly: any of these products.
    pub matches: Vec<ProductRow>,
}

impl RuleSheet {
    /// Takes the sheet from compiled rules. `keep` says which rows to show: a row is a rule, or several that are entered as
    /// one.
    pub fn new(
        meaning: &Meaning<'_>,
        rules: &RuleSet,
        keep: impl Fn(&RuleList, &[Rule]) -> bool,
    ) -> Self {
        let plan = meaning.plan();
        let possible = rules.possible();
        let list = |(place, list): (usize, &RuleList)| ListRow {
            name: list.name.clone(),
            applies: list.applies.map(|applies| applies_to(plan, applies)),
            about: about(list),
            implied: list.implied,
            rules: list
                .rules
                .chunk_by(|one, next| one.number == next.number && one.number > 0)
                .filter(|same| keep(list, same))
                .map(|same| {
                    let matches = same.iter().flat_map(|r| rules.products_of(place, r, &possible));
                    RuleRow { matches: products(plan, matches.collect()), ..row::row(plan, same) }
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
        let by_itself = rules.lists.iter().filter(|list| list.implied).map(|list| list.rules.len());
        let all = rules.rows().count() + by_itself.sum::<usize>();
        Self {
            bastium: EDITION,
            whole: shown == all,
            form: rules.form.word(),
            day: rules.day.to_string(),
            changes_on: rules.changes_on.map(|day| day.to_string()),
            translations: translation_rows(rules),
            before_translation: rules.before_translation,
            lists,
            size: Size::new(meaning, rules),
            left_out: rules.left_out.iter().map(|rule| rule.id.to_string()).collect(),
            settings: setting_words(rules),
        }
    }

    /// How many rules are shown.
    pub fn count(&self) -> usize {
        self.lists.iter().filter(|list| !list.implied).map(|list| list.rules.len()).sum()
    }
}

fn applies_to(plan: &Plan, applies: rules::Applies) -> Applies {
    let zone = |zone| plan.zone(zone).name.to_string();
    match applies {
        rules::Applies::Pair { from, to } => Applies::Pair { from: zone(from), to: zone(to) },
        rules::Applies::ToGateway { from } => {
            Applies::Pair { from: zone(from), to: "gateway".to_owned() }
        }
        rules::Applies::Interface { interface, out } => Applies::Interface {
            interface: plan.interface_name(interface).to_owned(),
            direction: if out { "out" } else { "in" },
        },
    }
}

fn about(list: &RuleList) -> String {
    let about = match list.applies {
        Some(rules::Applies::Pair { .. }) => "for traffic from one zone to the other",
        Some(rules::Applies::ToGateway { .. }) => "for traffic from there to the gateway itself",
        Some(rules::Applies::Interface { out: true, .. }) => "for all traffic that leaves there",
        Some(rules::Applies::Interface { out: false, .. }) => "for all traffic that enters there",
        None => list.stage.about(),
    };
    if list.implied {
        return "done by the gateway itself; nothing to enter".to_owned();
    }
    about.to_owned()
}

/// A setting of the form, in words.
fn setting(setting: &Setting) -> String {
    match setting {
        Setting::Rank { of, rank } => format!("rank of {of}: {rank}"),
        Setting::EqualsReach(true) => "allow traffic between networks of equal rank".to_owned(),
        Setting::EqualsReach(false) => "block traffic between networks of equal rank".to_owned(),
        Setting::TurnRound(true) => {
            "allow packets to leave by the interface they came in by".to_owned()
        }
        Setting::TurnRound(false) => {
            "block packets that would leave by the interface they came in by".to_owned()
        }
        Setting::OwnPorts => {
            "the gateway opens its own connections from ports above 1023 (RFC 6056)".to_owned()
        }
        Setting::OwnServices => {
            "close the gateway's own services where they are offered: these lists do not see them"
                .to_owned()
        }
    }
}

/// Where packets for offered services are sent on to.
pub(super) fn translation_rows(rules: &RuleSet) -> Vec<TranslationRow> {
    let plan = rules.plan();
    rules.translations.iter().map(|one| translation(plan, one)).collect()
}

/// What has to be set besides the lists: for their form, and for what rules do not say.
fn setting_words(rules: &RuleSet) -> Vec<String> {
    let plan = rules.plan();
    let domains = plan
        .domains()
        .iter()
        .map(|domain| format!("{} is whatever {} leads to", domain.name, domain.names.join(", ")));
    let mut words: Vec<String> = rules.settings.iter().map(setting).collect();
    words.extend(source_nat(plan));
    words.extend(repeaters(plan));
    words.extend(domains);
    words
}

/// What has to be set besides the lists, translation and domains apart.
pub(super) fn form_words(rules: &RuleSet) -> Vec<String> {
    let plan = rules.plan();
    rules.settings.iter().map(setting).chain(repeaters(plan)).collect()
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

fn source_nat(plan: &Plan) -> impl Iterator<Item = String> {
    plan.uplinks().iter().map(|uplink| {
        let name = &uplink.name;
        format!(
            "source NAT (masquerade): private IPv4 sources get the address of {name} (RFC 1918)"
        )
    })
}

fn repeaters(plan: &Plan) -> impl Iterator<Item = String> {
    plan.discoveries().iter().map(|discovery| {
        let names: Vec<&str> =
            discovery.between.iter().map(|id| plan.network(*id).name.as_str()).collect();
        format!("mDNS repeater between {} (RFC 6762)", names.join(", "))
    })
}
