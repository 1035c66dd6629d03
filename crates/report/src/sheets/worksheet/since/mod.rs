//! The worksheet of a change: what to type into a gateway that has the rules of an older plan, in an order that is safe
//! at every step.
//!
//! What is new is made first, and what nothing uses any more goes last. Between, rules are put in before old ones are taken
//! out; while both are there, translation, settings and addresses change. Devices join new networks last.

mod differences;
mod edits;
mod held;
mod objects;
mod replay;

use super::rules::Entered;
use super::{Misread, Since, Step, Values, Worksheet, one, steps, values};
use crate::sheets::{EDITION, TypedRules};
use bastium_core::changeover::{Changeover, Interim, changeover};
use bastium_core::meaning::Meaning;
use bastium_core::plan::{Limits, Plan};
use bastium_core::proof::{Proved, Wording};
use bastium_core::rules::{Effect, RuleSet};
use differences::Differences;
use edits::Edits;
use std::collections::HashMap;

/// A plan with its rules.
#[derive(Clone, Copy)]
struct Version<'v> {
    plan: &'v Plan,
    rules: &'v RuleSet<'v>,
}

/// The rows of before and afterwards.
struct Rows<'e> {
    was: &'e Entered<'e>,
    is: Entered<'e>,
    /// The new rows in the lists of the plan's form, where the gateway has them in a single one.
    plain: Option<Entered<'e>>,
    /// What rows that stay are called by the plan, where the gateway calls them otherwise.
    called: HashMap<String, String>,
}

impl<'e> Rows<'e> {
    /// New rows that name what the gateway has already.
    fn of(was: &'e Entered<'e>, (old, new): (&Plan, &'e Plan), proved: Proved<'e>) -> Self {
        let objects = was.objects.for_rules_of(new, numbers_alike(old, new));
        let is = Entered::with(objects, proved.rules());
        Self { was, is, plain: None, called: HashMap::new() }
    }
}

impl Worksheet {
    /// Makes the worksheet of a change, and reads it back.
    ///
    /// # Errors
    /// Where what is typed would not lead to the new rules. That is a fault of this program.
    pub fn since(
        name: &str,
        (old, old_rules): (&Meaning<'_>, &RuleSet),
        (new, proved): (&Meaning<'_>, Proved<'_>),
    ) -> Result<Self, Vec<Misread>> {
        let was = Entered::new(old_rules);
        let rows = Rows::of(&was, (old.plan(), new.plan()), proved);
        Self::between(name, (old, old_rules), (new, proved), rows)
    }

    /// The same for rules that were typed from a sheet of this program, into a gateway with the interfaces of the plan. Of a
    /// table of rules, whose rows say what names stand for and not which names the gateway has, these are taken to be those
    /// of the worksheet.
    ///
    /// # Errors
    /// Where what is typed would not lead to the new rules, as for [`Worksheet::since`].
    pub fn since_typed(
        name: &str,
        typed: &TypedRules<'_>,
        (meaning, proved): (&Meaning<'_>, Proved<'_>),
    ) -> Result<Self, Vec<Misread>> {
        let assumed;
        let was = match &typed.entered {
            Some(entered) => entered,
            None => {
                assumed = Entered::new(&typed.rules);
                &assumed
            }
        };
        let rows = Rows::of(was, (meaning.plan(), meaning.plan()), proved);
        Self::between(name, (meaning, &typed.rules), (meaning, proved), rows)
    }

    fn between(
        name: &str,
        (old, old_rules): (&Meaning<'_>, &RuleSet),
        (new, proved): (&Meaning<'_>, Proved<'_>),
        mut rows: Rows<'_>,
    ) -> Result<Self, Vec<Misread>> {
        let rules = proved.rules();
        let way = changeover((old, old_rules), (new, rules));
        let before = Version { plan: old.plan(), rules: old_rules };
        let after = Version { plan: new.plan(), rules };
        if rows.plain.is_some() {
            held::only_what_is_typed(&mut rows.is, &way);
        }
        let edits = Edits::new(&way, rows.was, &rows.is);
        let steps = all_steps(&way, (before, after), &rows.is, &edits);
        let (old, kept, assumed) = (name.to_owned(), way.kept, Vec::new());
        let since = Since { old, edits: way.edits(), kept, safe: way.is_safe(), assumed };
        let mut sheet = Self {
            bastium: EDITION,
            site: after.plan.site().name.clone(),
            day: rules.day.to_string(),
            changes_on: rules.changes_on.map(|day| day.to_string()),
            form: rules.form.word(),
            since: Some(since),
            steps: steps.into_iter().filter(Step::has_values).collect(),
        };
        for (step, number) in sheet.steps.iter_mut().zip(1..) {
            step.number = number;
        }
        let misread = sheet.misread_since(&rows, after);
        if misread.is_empty() { Ok(sheet) } else { Err(misread) }
    }

    /// The rules that somebody would not have in the end who begins with the old ones and types this; and those that do
    /// not say what they shall.
    fn misread_since(&self, rows: &Rows<'_>, new: Version<'_>) -> Vec<Misread> {
        let mut misread = replay::misread(rows, self);
        let is = rows.plain.as_ref().unwrap_or(&rows.is);
        let whole = Self {
            since: None,
            steps: vec![
                steps::objects(is),
                steps::services(is),
                steps::hours(is),
                steps::rules(is),
            ],
            ..self.clone()
        };
        misread.extend(super::read_back::misread(new.rules, &whole));
        misread
    }
}

/// Whether both plans have numbered alike what addresses only stand for.
fn numbers_alike(old: &Plan, new: &Plan) -> bool {
    let domains = |plan: &Plan| -> Vec<Vec<String>> {
        plan.domains().iter().map(|domain| domain.names.clone()).collect()
    };
    let uplinks = |plan: &Plan| -> Vec<String> {
        plan.uplinks().iter().map(|uplink| uplink.name.to_string()).collect()
    };
    domains(old) == domains(new) && uplinks(old) == uplinks(new)
}

/// What differs between the two worksheets, by the subjects of their steps.
struct Changes {
    interfaces: Differences,
    leases: Differences,
    translation: Differences,
    settings: Differences,
    ports: Differences,
    /// Whether translation is entered before the rules: where the rules see what it makes of packets.
    translation_first: bool,
}

impl Changes {
    fn between(old: Version<'_>, new: Version<'_>) -> Self {
        let differences =
            |make: &dyn Fn(Version<'_>) -> Step| Differences::new(&make(old), &make(new));
        Self {
            interfaces: differences(&|version| steps::interfaces(version.plan)),
            leases: differences(&|version| steps::leases(version.plan)),
            translation: differences(&|version| steps::translation(version.rules)),
            settings: differences(&|version| steps::settings(version.rules)),
            ports: differences(&|version| steps::ports(version.plan)),
            translation_first: new.rules.before_translation,
        }
    }

    /// What is new and opens nothing yet.
    fn prepare(&self, is: &Entered<'_>) -> Vec<Step> {
        let translation =
            if self.translation_first { self.translation.added() } else { Vec::new() };
        vec![
            step(
                "ports",
                "Networks that go: take everything off them",
                ports_to_clear(&self.interfaces),
                "no device is on them any more",
            ),
            step(
                "interfaces",
                "New interfaces: make them, and leave them switched off",
                self.interfaces.added(),
                "the gateway lists each, switched off",
            ),
            step(
                "objects",
                "Names that are new",
                objects::to_make(is),
                "the gateway lists each name once, with these values",
            ),
            step("translation", "Translation that is new", translation, TRANSLATED)
                .warning_if_any(unchecked),
        ]
    }

    /// What is in force from here on.
    fn switch_over(&self) -> Vec<Step> {
        let translation = if self.translation_first {
            self.translation.altered()
        } else {
            self.translation.all()
        };
        vec![
            step(
                "interfaces",
                "Interfaces and addresses: switch on what is new, change what is another",
                self.interfaces.switched_on(),
                UP,
            )
            .warning(cut_off(&self.interfaces)),
            step(
                "leases",
                "DHCP",
                self.leases.added_and_altered(),
                "a device that joins a network gets an address between first and last",
            ),
            step("translation", "Translation that changes", translation, TRANSLATED)
                .warning_if_any(unchecked),
            step(
                "settings",
                "General settings that change",
                self.settings.all(),
                "the gateway can be managed from there, and from nowhere else",
            ),
        ]
    }

    /// What nothing uses any more, after the rules that used it are out.
    fn clear_up(&self, is: &Entered<'_>, fresh: &Entered<'_>) -> Vec<Step> {
        let translation =
            if self.translation_first { self.translation.removed() } else { Vec::new() };
        vec![
            step("translation", "Translation that goes", translation, TRANSLATED)
                .warning_if_any(unchecked),
            step(
                "ports",
                "Switch ports and Wi-Fi",
                self.ports.all(),
                "a device on each port or Wi-Fi name gets an address of the network that stands beside it",
            ),
            step("leases", "DHCP that goes", self.leases.removed(), "the range is gone"),
            step(
                "interfaces",
                "Interfaces and addresses that go",
                self.interfaces.removed(),
                "the interface is gone",
            ),
            step(
                "objects",
                "Names that nothing uses any more, and new names",
                objects::to_clear(is, fresh),
                "the gateway lists the names of the worksheet, and no other",
            ),
        ]
    }
}

fn all_steps(
    way: &Changeover<'_>,
    (old, new): (Version<'_>, Version<'_>),
    is: &Entered<'_>,
    edits: &Edits,
) -> Vec<Step> {
    let changes = Changes::between(old, new);
    let edited = if way.is_safe() { EDITED } else { EDITED_BUT };
    let (putting_in, taking_out) = (edits.putting_in.clone(), edits.taking_out.clone());
    let put_in = step("rules", "Rules to put in, one row after the other", putting_in, edited)
        .warning(warnings(way, (old, new)));
    let take_out = step("rules", "Rules to take out, one row after the other", taking_out, edited);
    let mut all = changes.prepare(is);
    all.push(put_in);
    all.extend(changes.switch_over());
    all.push(take_out);
    all.extend(changes.clear_up(is, &Entered::new(new.rules)));
    all
}

/// The networks and tunnels that go, to be left by their devices before any rule of theirs goes.
fn ports_to_clear(interfaces: &Differences) -> Vec<Values> {
    let gone = ["networks", "tunnels"].into_iter().flat_map(|title| interfaces.removed_from(title));
    let rows = gone.map(|name| [one("clear"), one(name)]);
    vec![values("networks that go", ["do", "name"], rows)]
}

const UP: &str = "each is up with its address; devices of networks that changed have new addresses";

/// What is placed by reasoning, and not compared packet by packet as the rules are.
fn unchecked(tables: &[Values]) -> Vec<String> {
    let concerned = tables.iter().any(|table| !table.rows.is_empty());
    let says = "what happens to forwarded packets between this step and the rules is not compared packet by packet";
    concerned.then(|| says.to_owned()).into_iter().collect()
}

const TRANSLATED: &str =
    "from outside, each service that is forwarded answers, and none that is not";

const EDITED: &str = "at every row, all that old and new rules agree on is as it was: you can stop after any of them and \
                      go on later";

/// The same where no order is safe.
const EDITED_BUT: &str = "at every row, all that old and new rules agree on is as it was, but for what stands under \
                          `Mind`: do not stop between rows marked `at once`";

fn step(name: &'static str, title: &'static str, tables: Vec<Values>, afterwards: &str) -> Step {
    steps::step(name, title, tables, afterwards)
}

impl Step {
    fn warning_if_any(self, warnings: impl Fn(&[Values]) -> Vec<String>) -> Self {
        let warnings = warnings(&self.tables);
        self.warning(warnings)
    }

    fn warning(mut self, warnings: Vec<String>) -> Self {
        self.warnings = warnings;
        self
    }
}

/// What is not safe, and what to do instead.
fn warnings(way: &Changeover<'_>, (old, new): (Version<'_>, Version<'_>)) -> Vec<String> {
    let limits = &new.plan.gateway().limits;
    let words = |interim: &Interim| {
        let plan = if interim.of_new { new.plan } else { old.plan };
        interim_words(plan, interim)
    };
    let together = way.steps.iter().filter_map(|step| {
        let interim = step.together.as_ref()?;
        let rows = step.edits.len();
        Some(format!(
            "no order of {rows} rows marked `at once` is safe: {}. {}",
            words(interim),
            instead(limits)
        ))
    });
    let conversation = way.conversation.iter().map(|interim| {
        format!(
            "half of a conversation passes for a moment: {}. {}",
            words(interim),
            instead(limits)
        )
    });
    let surroundings = way.surroundings.iter().map(|interim| {
        format!("while interfaces and addresses of the gateway change: {}", words(interim))
    });
    together.chain(conversation).chain(surroundings).collect()
}

fn instead(limits: &Limits) -> &'static str {
    if limits.swap_lists {
        "Make the list anew beside the one in use, fill it, and put it in its place"
    } else {
        "Enter these rows without a pause, at an hour when nobody needs the network"
    }
}

/// What happens to packets before, between and afterwards.
fn interim_words(plan: &Plan, interim: &Interim) -> String {
    let boxes = crate::sheets::boxes::rows(&Wording::new(plan), &interim.packets);
    let packets = boxes.first().map_or_else(|| "some packets".to_owned(), |one| one.short.clone());
    let (before, between) = (effect(interim.before), effect(interim.between));
    let after = match interim.after == interim.before {
        true => format!("{before} before and afterwards"),
        false => format!("{before} before, {} afterwards", effect(interim.after)),
    };
    format!("{packets} is {after}, but would be {between} in between")
}

fn effect(effect: Effect) -> String {
    let log = if effect.log { ", logged" } else { "" };
    let limit = effect.limit_mbps().map(|rate| format!(", at most {rate} Mbit/s"));
    let action = match effect.action {
        bastium_core::plan::Action::Allow => "allowed",
        bastium_core::plan::Action::Block => "blocked",
        bastium_core::plan::Action::Reject => "rejected",
    };
    format!("{action}{log}{}", limit.unwrap_or_default())
}

/// Who is cut off where an interface gets another VLAN, port or address.
fn cut_off(interfaces: &Differences) -> Vec<String> {
    let networks =
        interfaces.altered_in("networks", &["VLAN", "port", "IPv4 address", "IPv6 address"]);
    let uplinks = interfaces.altered_in("uplinks", &["port", "address", "router"]);
    let networks = networks.into_iter().map(|name| {
        format!(
            "devices in {name} are cut off from here on: those with a leased address until they join again or renew it, \
             those with an address of their own until it is set anew"
        )
    });
    let uplinks = uplinks.into_iter().map(|name| {
        format!(
            "what goes out by {name} is cut off until it has its new address; open connections end"
        )
    });
    networks.chain(uplinks).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use bastium_core::proof;

    /// Every value that is typed counts: mistyped, it does not lead to the new rules, or to a rule that is none of theirs.
    #[test]
    fn no_value_of_a_change_can_be_altered_unnoticed() {
        let demo = concat!(env!("CARGO_MANIFEST_DIR"), "/../../demo/clinic.toml");
        let text = std::fs::read_to_string(demo).expect("the demo's plan");
        let text = text.as_str();
        let next = text
            .replace("service = \"printing\"", "service = \"ipp\"")
            .replace("vlan = 60", "vlan = 61")
            .replace("10.44.60.", "10.44.61.");
        let plan = |text: &str| bastium_planfile::read("clinic.toml", text.as_bytes());
        let (old, new) = (plan(text).expect("a plan"), plan(&next).expect("a plan"));
        let day = jiff::civil::date(2026, 11, 29);
        let (old, new) = (Meaning::new(&old, day), Meaning::new(&new, day));
        let (old, new) = (old.expect("a meaning"), new.expect("a meaning"));
        let rules = [&old, &new].map(bastium_core::rules::compile);
        let proved = proof::proved(&new, &rules[1]).expect("proved");
        let sheet = Worksheet::since("old", (&old, &rules[0]), (&new, proved)).expect("a sheet");
        let was = Entered::new(&rules[0]);
        let rows = Rows::of(&was, (old.plan(), new.plan()), proved);
        let version = Version { plan: new.plan(), rules: &rules[1] };
        assert!(sheet.misread_since(&rows, version).is_empty());
        let mut tried = 0;
        for (s, step) in sheet.steps.iter().enumerate().filter(|(_, step)| step.name == "rules") {
            for (t, table) in step.tables.iter().enumerate() {
                for (r, row) in table.rows.iter().enumerate() {
                    // What a row changes is said, not typed; nor is what an altered row was.
                    let alters = row[0][0].starts_with(edits::word::ALTER);
                    let typed = row.len() - 1;
                    for (c, cell) in row.iter().enumerate().take(typed).skip(usize::from(alters)) {
                        if cell.is_empty() {
                            continue;
                        }
                        let mut other = sheet.clone();
                        other.steps[s].tables[t].rows[r][c] = one("71");
                        let found = other.misread_since(&rows, version);
                        assert!(!found.is_empty(), "{} {cell:?}", table.columns[c]);
                        tried += 1;
                    }
                }
            }
        }
        assert!(tried > 50, "{tried}");
    }
}
