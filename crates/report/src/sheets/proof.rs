//! What was proved about the rules.

use super::boxes::{BoxRow, rows};
use super::{Because, EDITION, PacketView};
use crate::{Cell, Column, Table, Tone, count};
use bastium_core::findings;
use bastium_core::meaning::Meaning;
use bastium_core::plan::{Form, Plan};
use bastium_core::proof::{self, Difference, Idle, Proof, Wording};
use bastium_core::rules::{self, RuleSet};
use bastium_core::verdict::Verdict;
use schemars::JsonSchema;
use serde::Serialize;

/// What was proved, for one form of rules or several.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct ProofSheet {
    /// The edition of this JSON.
    pub bastium: u8,
    /// The day that the rules are for.
    pub day: String,
    /// The proof for the form that was asked about.
    #[serde(flatten)]
    pub first: FormProof,
    /// The proofs for further forms.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub others: Vec<FormProof>,
}

/// What was proved of the rules in one form.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct FormProof {
    /// The form of the rules.
    pub form: &'static str,
    /// How many rules there are.
    pub rules: usize,
    /// The rules that are left out since the others do the same without them, by id.
    pub left_out: Vec<String>,
    /// Whether the rules match the plan, with every packet.
    pub equal: bool,
    /// A packet for which they do not.
    pub counterexample: Option<Counterexample>,
    /// All packets for which they do not, in boxes.
    pub differences: Vec<DifferenceRow>,
    /// What the form cannot say, so that there are no rules to prove.
    pub refused: Vec<String>,
    /// What gets through beyond the plan where the gateway keeps no state.
    pub leak: Vec<LeakRow>,
    /// An allowed packet to which no answer would come back.
    pub unanswered: Option<PacketView>,
    /// How many questions about answers could not be decided in the steps that are allowed.
    pub replies_undecided: usize,
    /// What must never pass, and what must always.
    pub guarantees: Vec<GuaranteeRow>,
    /// Rules that no packet comes to.
    pub shadowed: Vec<IdleRow>,
    /// Rules without one of which everything would stay as it is.
    pub redundant: Vec<IdleRow>,
    /// Pairs of rules that have to stay in their order.
    pub order_dependent: Vec<OrderRow>,
    /// How many questions of whether the rules match the plan could not be decided in the steps that are allowed.
    pub undecided: usize,
    /// For how many rules it could not be decided whether they are needed.
    pub rules_undecided: usize,
    /// What the proof takes for granted.
    pub assumptions: Vec<String>,
    /// How many packets were covered.
    pub packets: String,
}

/// A packet with which rules and plan do different things.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct Counterexample {
    /// The packet.
    pub packet: PacketView,
    /// What the plan means.
    pub meaning: Side,
    /// What the rules do.
    pub rules: Side,
    /// The two in a sentence.
    pub says: String,
}

/// What one side does with a packet.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct Side {
    /// `allow`, `block` or `reject`.
    pub verdict: &'static str,
    /// Whether it is logged.
    pub logged: bool,
    /// The plan entry, for the plan.
    pub because: Option<Because>,
    /// The rule's id, for the rules; none where the end of a list decides.
    pub rule: Option<String>,
}

/// Packets that differ in the same way.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct DifferenceRow {
    /// What the plan means for them.
    pub meaning: Side,
    /// What the rules do.
    pub rules: Side,
    /// The packets.
    pub boxes: Vec<BoxRow>,
}

/// What a rule for replies lets through that the plan does not.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct LeakRow {
    /// The rule; none for what passes no list.
    pub rule: Option<String>,
    /// The ports that it comes from. Of TCP, only what is no opening gets through.
    pub replies_from: Vec<String>,
    /// The packets.
    #[serde(flatten)]
    pub packets: BoxRow,
}

/// A guarantee.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct GuaranteeRow {
    /// Its name.
    pub name: String,
    /// `never` or `always`.
    pub kind: &'static str,
    /// Whether it holds.
    pub holds: bool,
    /// A packet that breaks it.
    pub counterexample: Option<PacketView>,
    /// Why nothing that should always pass can arrive at all.
    pub nothing_arrives: Option<String>,
    /// Members of its ends without a route to the other end; it does not cover them.
    pub without_way: Vec<String>,
}

impl GuaranteeRow {
    /// What breaks it, or what it says nothing about, in a few words.
    pub fn about(&self) -> Option<String> {
        let broken = self.counterexample.as_ref().map(|packet| {
            let at = packet.at.as_ref().map(|at| format!(", {at}")).unwrap_or_default();
            format!("{} -> {}{at}", packet.source, packet.destination)
        });
        let nothing = self.nothing_arrives.as_ref().map(|why| format!("no packet arrives, {why}"));
        let lacking = (!self.without_way.is_empty())
            .then(|| format!("without a way: {}", self.without_way.join(", ")));
        broken.or(nothing).or(lacking)
    }
}

/// A rule that does nothing.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct IdleRow {
    /// Its id.
    pub id: String,
    /// Its number.
    pub number: u32,
    /// The rules that do its work.
    pub covered_by: Vec<String>,
    /// Whether it is there for clarity or for the log: it denies what would be denied without it.
    pub defensive: bool,
}

/// Two rules in their order.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct OrderRow {
    /// The upper one's id.
    pub above: String,
    /// The lower one's id.
    pub below: String,
    /// A packet that both match.
    pub packet: PacketView,
}

impl ProofSheet {
    /// Proves the rules of a plan in these forms; `None` if no form is asked about.
    pub fn new(meaning: &Meaning<'_>, forms: &[Form]) -> Option<Self> {
        let mut proofs = forms.iter().map(|form| FormProof::new(meaning, *form));
        let first = proofs.next()?;
        let day = meaning.day().to_string();
        Some(Self { bastium: EDITION, day, first, others: proofs.collect() })
    }

    /// The proofs of all forms.
    pub fn proofs(&self) -> impl Iterator<Item = &FormProof> {
        std::iter::once(&self.first).chain(&self.others)
    }

    /// The proofs as a table, a line for each statement.
    pub fn tables(&self) -> Vec<Table> {
        let tables = self.proofs().map(|proof| {
            let mut table = Table::new([
                Column::whole("statement"),
                Column::whole("holds"),
                Column::text("about"),
            ])
            .titled(proof.form);
            proof.fill(&mut table);
            table
        });
        tables.collect()
    }
}

impl FormProof {
    fn new(meaning: &Meaning<'_>, form: Form) -> Self {
        let rules = match rules::in_form(meaning, form) {
            Ok(rules) => rules,
            Err(problems) => return Self::refused(meaning, form, &problems),
        };
        Self::of(meaning, &rules, &proof::prove(meaning, &rules))
    }

    /// A form that cannot say what the plan means has no rules to prove.
    fn refused(meaning: &Meaning<'_>, form: Form, problems: &[rules::Inexpressible]) -> Self {
        let plan = meaning.plan();
        let reasons = findings::inexpressible(plan, problems);
        Self {
            form: form.word(),
            rules: 0,
            left_out: Vec::new(),
            equal: false,
            counterexample: None,
            differences: Vec::new(),
            refused: reasons.into_iter().map(|reason| reason.says).collect(),
            leak: Vec::new(),
            unanswered: None,
            replies_undecided: 0,
            guarantees: guarantees(meaning),
            shadowed: Vec::new(),
            redundant: Vec::new(),
            order_dependent: Vec::new(),
            undecided: 0,
            rules_undecided: 0,
            assumptions: Vec::new(),
            packets: "none".to_owned(),
        }
    }

    /// Takes the rows from a proof.
    pub fn of(meaning: &Meaning<'_>, rules: &RuleSet, proof: &Proof<'_>) -> Self {
        let plan = meaning.plan();
        let singles = &proof.singles;
        let idle = |idle: &Idle<'_>| IdleRow {
            id: idle.rule.id.to_string(),
            number: idle.rule.number,
            covered_by: idle.covered_by.iter().map(|rule| rule.id.to_string()).collect(),
            defensive: idle.defensive,
        };
        let view = |packet| PacketView::new(packet, false, plan);
        let answers = proof::answers(meaning, rules);
        let words = Wording::new(plan);
        let ordered = singles.ordered.iter().map(|order| OrderRow {
            above: order.above.id.to_string(),
            below: order.below.id.to_string(),
            packet: view(&order.packet),
        });
        Self {
            form: rules.form.word(),
            rules: rules.rows().count(),
            left_out: rules.left_out.iter().map(|rule| rule.id.to_string()).collect(),
            equal: proof.holds(),
            counterexample: proof.differences.first().map(|first| counterexample(plan, first)),
            differences: proof
                .differences
                .iter()
                .map(|one| difference(plan, &words, one))
                .collect(),
            refused: Vec::new(),
            leak: leak(meaning, rules, &words),
            unanswered: answers.unanswered.as_ref().map(view),
            guarantees: guarantees(meaning),
            shadowed: singles.shadowed.iter().map(idle).collect(),
            redundant: singles.redundant.iter().map(idle).collect(),
            order_dependent: ordered.collect(),
            replies_undecided: answers.undecided,
            undecided: proof.undecided,
            rules_undecided: singles.undecided,
            assumptions: assumptions(rules),
            packets: proof::packets_covered(meaning),
        }
    }

    /// Whether all that was to be shown was.
    pub fn holds(&self) -> bool {
        let kept = self.guarantees.iter().all(|guarantee| guarantee.holds);
        self.equal && self.replies_come_back() && kept
    }

    /// Whether everything that is allowed was shown to get its answers.
    pub fn replies_come_back(&self) -> bool {
        self.unanswered.is_none() && self.replies_undecided == 0
    }

    /// The rules that never match, those left out that stand there in any case.
    pub fn dead(&self) -> impl Iterator<Item = &IdleRow> {
        self.shadowed.iter().filter(|row| !row.defensive)
    }

    /// The rules that change nothing, those left out that are there for clarity.
    pub fn needless(&self) -> impl Iterator<Item = &IdleRow> {
        self.redundant.iter().filter(|row| !row.defensive)
    }

    fn fill(&self, table: &mut Table) {
        let yes = |holds: bool| {
            if holds { Cell::toned("yes", Tone::Good) } else { Cell::toned("NO", Tone::Bad) }
        };
        if self.refused.is_empty() {
            let about = match &self.counterexample {
                Some(found) => found.says.clone(),
                None => format!("{}, {}", count(self.rules, "rule"), self.packets),
            };
            table.row(["rules match the plan".into(), yes(self.equal), about.into()]);
            let undecided = match self.replies_undecided {
                0 => String::new(),
                number => format!("{number} undecided"),
            };
            let none_to = |p: &PacketView| format!("none to {}", p.destination);
            let about = self.unanswered.as_ref().map_or(undecided, none_to);
            table.row(["replies pass".into(), yes(self.replies_come_back()), about.into()]);
        }
        for reason in &self.refused {
            table.row(["the form can express it".into(), yes(false), reason.clone().into()]);
        }
        for guarantee in &self.guarantees {
            let about = guarantee.about();
            table.row([
                format!("{} {}", guarantee.kind, guarantee.name).into(),
                yes(guarantee.holds),
                about.unwrap_or_default().into(),
            ]);
        }
        for row in self.dead() {
            let about = format!("covered by {}", row.covered_by.join(", "));
            table.row([format!("{} is met", row.id).into(), yes(false), about.into()]);
        }
        for row in self.needless() {
            let about = format!("{} would do the same", row.covered_by.join(", "));
            table.row([format!("{} is needed", row.id).into(), yes(false), about.into()]);
        }
        for row in &self.leak {
            let statement = row.rule.clone().unwrap_or_else(|| "no list".to_owned());
            let about = format!("allows {}", row.packets.short);
            table.row([statement.into(), Cell::toned("leaks", Tone::Warn), about.into()]);
        }
    }
}

fn sides(plan: &Plan, one: &Difference<'_>) -> (Side, Side) {
    let meaning = Side {
        verdict: one.meaning.verdict.word(),
        logged: one.meaning.logged,
        because: Some(Because::new(one.meaning.cause, plan)),
        rule: None,
    };
    let rules = Side {
        verdict: Verdict::from(one.rules.action).word(),
        logged: one.rules.logged,
        because: None,
        rule: one.rules.rule.map(|rule| rule.id.to_string()),
    };
    (meaning, rules)
}

fn counterexample(plan: &Plan, one: &Difference<'_>) -> Counterexample {
    let (meaning, rules) = sides(plan, one);
    let log = |side: &Side| if side.logged { " and logs it" } else { "" };
    let rule =
        rules.rule.as_ref().map_or("the end of the list".to_owned(), |id| format!("rule {id}"));
    let says = format!(
        "{}: the plan says {}{} ({}), {rule} says {}{}",
        plan.packet_words(&one.packet),
        meaning.verdict,
        log(&meaning),
        one.meaning.cause.words(plan),
        rules.verdict,
        log(&rules),
    );
    let at = !one.packets.is_timeless();
    Counterexample { packet: PacketView::new(&one.packet, at, plan), meaning, rules, says }
}

fn difference(plan: &Plan, words: &Wording<'_>, one: &Difference<'_>) -> DifferenceRow {
    let (meaning, rules) = sides(plan, one);
    DifferenceRow { meaning, rules, boxes: rows(words, &one.packets) }
}

fn leak(meaning: &Meaning<'_>, rules: &RuleSet, words: &Wording<'_>) -> Vec<LeakRow> {
    let mut leak: Vec<LeakRow> = Vec::new();
    for one in proof::leaks(meaning, rules) {
        for packets in rows(words, &one.packets) {
            let rule = one.rule.map(|rule| rule.id.to_string());
            leak.push(LeakRow { rule, replies_from: one.from.words(), packets });
        }
    }
    leak
}

fn guarantees(meaning: &Meaning<'_>) -> Vec<GuaranteeRow> {
    let plan = meaning.plan();
    let row = |guarantee: &bastium_core::plan::Guarantee| {
        let kept = proof::guarantee(meaning, guarantee);
        let at = kept.at_hours;
        GuaranteeRow {
            name: guarantee.name.to_string(),
            kind: guarantee.word(),
            holds: kept.holds(),
            counterexample: kept.broken_by.map(|(packet, _)| PacketView::new(&packet, at, plan)),
            nothing_arrives: kept.nothing.map(|nothing| nothing.words().to_owned()),
            without_way: kept.without_way,
        }
    };
    plan.guarantees().iter().map(row).collect()
}

fn assumptions(rules: &RuleSet) -> Vec<String> {
    let plan = rules.plan();
    let mut all = Vec::new();
    if !rules.settings.is_empty() {
        all.push("the settings besides the lists are set as `bastium rules` shows them".to_owned());
    }
    for domain in plan.domains() {
        all.push(format!(
            "the addresses of {} are not known in advance, and belong to nothing else in the plan",
            domain.name
        ));
    }
    for uplink in plan.uplinks().iter().filter(|uplink| uplink.dhcp) {
        all.push(format!("the address that {} is leased is no other one of the plan", uplink.name));
    }
    all
}
