//! Rules as the kernel's tool prints them in JSON: chains and jumps made into one ordered list.

mod fields;
mod hooks;

use super::{Foreign, ForeignLine, Named, NotAList, Obscure, Ways};
use bastium_core::plan::{Action, Plan};
use bastium_core::space::{AddressSet, IntervalSet, Leg, Match, PacketSet};
use fields::of_family;
use hooks::{Passing, Said};
use serde_json::Value;
use std::collections::{BTreeSet, HashMap};

/// How deep chains may lead into each other, as in the kernel.
const DEEPEST: usize = 16;
/// How many lines a list may come to.
const MOST_LINES: usize = 200_000;

/// By table (family and name) and chain: the rules.
type ChainKey = (String, String, String);

struct Reader<'j> {
    ways: Ways,
    chains: HashMap<ChainKey, Vec<&'j Value>>,
    /// Sets and maps, by table and name.
    sets: HashMap<ChainKey, &'j Value>,
    /// What the plan's domains stand for, by the name of the set that is filled with it.
    domains: HashMap<String, AddressSet>,
    named: Named,
    marks_decide: bool,
    lines: Vec<ForeignLine>,
    obscure: Vec<Obscure>,
    replies: bool,
    /// What is known of a chain that others at the same place follow.
    passing: Option<Passing>,
}

/// Reads the objects that the tool prints.
pub(super) fn read(objects: &[Value], plan: Option<&Plan>) -> Result<Foreign, NotAList> {
    let ways = plan.map_or_else(|| Ways::between(interfaces(objects)), Ways::of)?;
    let mut reader = Reader {
        ways,
        chains: HashMap::new(),
        sets: HashMap::new(),
        domains: domains(plan),
        named: Named::of(plan),
        marks_decide: marks_decide(objects),
        lines: Vec::new(),
        obscure: Vec::new(),
        replies: false,
        passing: None,
    };
    let mut hooks = Vec::new();
    for object in objects {
        let Some((kind, body)) = object.as_object().and_then(|object| object.iter().next()) else {
            continue;
        };
        let key = |name: &str| (word(body, "family"), word(body, "table"), word(body, name));
        match kind.as_str() {
            "chain" => {
                reader.chains.entry(key("name")).or_default();
                if body.get("hook").is_some() {
                    hooks.push(body);
                }
            }
            "rule" => reader.chains.entry(key("chain")).or_default().push(body),
            "set" | "map" => {
                reader.sets.insert(key("name"), body);
            }
            _ => {}
        }
    }
    hooks.sort_by_key(|hook| hook["prio"].as_i64().unwrap_or(0));
    reader.hooks(&hooks);
    Ok(Foreign {
        ways: reader.ways,
        lines: reader.lines,
        obscure: reader.obscure,
        replies: Some(reader.replies),
    })
}

fn word(value: &Value, key: &str) -> String {
    value[key].as_str().unwrap_or_default().to_owned()
}

/// Every interface that some rule, set or map names.
fn interfaces(objects: &[Value]) -> Vec<String> {
    fn keyed(left: &Value, key: &str) -> bool {
        matches!(left["meta"]["key"].as_str(), Some(k) if k == key)
    }
    fn strings(value: &Value, found: &mut BTreeSet<String>) {
        match value {
            Value::String(text) if !text.starts_with('@') && text != "lo" => {
                found.insert(text.clone());
            }
            Value::Array(all) => all.iter().for_each(|one| strings(one, found)),
            Value::Object(all) => all.values().for_each(|one| strings(one, found)),
            _ => {}
        }
    }
    fn walk(value: &Value, found: &mut BTreeSet<String>) {
        if let Some(test) = value.get("match") {
            let named = ["iifname", "oifname", "iif", "oif"];
            if named.iter().any(|key| keyed(&test["left"], key)) {
                strings(&test["right"], found);
            }
        }
        match value {
            Value::Array(all) => all.iter().for_each(|one| walk(one, found)),
            Value::Object(all) => all.values().for_each(|one| walk(one, found)),
            _ => {}
        }
    }
    let mut found = BTreeSet::new();
    for object in objects {
        walk(object, &mut found);
        for kind in ["set", "map"] {
            let body = &object[kind];
            let types: Vec<&str> = match &body["type"] {
                Value::String(one) => vec![one],
                Value::Array(all) => all.iter().filter_map(Value::as_str).collect(),
                _ => Vec::new(),
            };
            for element in body["elem"].as_array().into_iter().flatten() {
                let key = element.get(0).unwrap_or(element);
                let parts = key["concat"].as_array().cloned().unwrap_or_else(|| vec![key.clone()]);
                let named = types.iter().zip(&parts).filter(|(kind, _)| **kind == "ifname");
                named.for_each(|(_, part)| strings(part, &mut found));
            }
        }
    }
    found.into_iter().collect()
}

fn domains(plan: Option<&Plan>) -> HashMap<String, AddressSet> {
    let all = plan.into_iter().flat_map(Plan::domains);
    let named = all.flat_map(|domain| {
        let set = domain.stand_in.set();
        let v4 = AddressSet { v4: set.v4.clone(), ..AddressSet::empty() };
        let v6 = AddressSet { v6: set.v6, ..AddressSet::empty() };
        [(format!("domain_{}_v4", domain.name), v4), (format!("domain_{}_v6", domain.name), v6)]
    });
    named.collect()
}

/// Whether a packet that begins a conversation can have a mark by the time a rule asks for it: some rule
/// gives one and lets the packet go on.
fn marks_decide(objects: &[Value]) -> bool {
    let rules = objects.iter().filter_map(|object| object.get("rule"));
    let mut saying = rules.filter_map(|rule| rule["expr"].as_array());
    saying.any(|says| {
        let marks = says.iter().any(|one| one.get("mangle").is_some());
        let ends = ["accept", "drop", "reject"];
        marks && !says.iter().any(|one| ends.iter().any(|end| one.get(end).is_some()))
    })
}

/// What a rule's conditions come to.
struct Condition {
    packets: PacketSet,
    sure: bool,
}

/// What happens to what a rule matches.
enum Verdict {
    Decides(Action),
    Jump(String),
    Goto(String),
    Return,
    /// It is looked up: the key's packets, and what happens to them.
    Looked(Vec<(PacketSet, Verdict)>),
    GoesOn,
}

impl PartialEq for Verdict {
    fn eq(&self, other: &Self) -> bool {
        match (self, other) {
            (Self::Decides(a), Self::Decides(b)) => a == b,
            (Self::Jump(a), Self::Jump(b)) | (Self::Goto(a), Self::Goto(b)) => a == b,
            (Self::Return, Self::Return) | (Self::GoesOn, Self::GoesOn) => true,
            _ => false,
        }
    }
}

impl<'j> Reader<'j> {
    fn everything(&self) -> PacketSet {
        let legs = IntervalSet::range(Leg(0), Leg((self.ways.legs() - 1) as u16));
        Match { enters: legs, ..Match::everything() }.into()
    }

    fn on(&self, legs: IntervalSet<Leg>) -> PacketSet {
        Match { enters: legs, ..Match::everything() }.into()
    }

    fn unclear(&mut self, at: &str, what: impl Into<String>) {
        let obscure = Obscure { at: at.to_owned(), what: what.into() };
        if !self.obscure.contains(&obscure) {
            self.obscure.push(obscure);
        }
    }

    /// Goes through a chain with the packets that come to it.
    fn walk(&mut self, key: &ChainKey, region: PacketSet, sure: bool, depth: usize) {
        if depth > DEEPEST || self.lines.len() > MOST_LINES {
            self.unclear(&format!("chain {} {}", key.1, key.2), "chains that lead too deep");
            return;
        }
        let mut here = region;
        let rules = self.chains.get(key).cloned().unwrap_or_default();
        for rule in rules {
            if here.is_empty() {
                return;
            }
            let at = place(rule);
            let expressions = rule["expr"].as_array().map(Vec::as_slice).unwrap_or_default();
            let named = self.obscure.len();
            let condition = self.condition(key, &at, expressions);
            let packets = condition.packets.intersection(&here).tidied();
            if packets.is_empty() {
                // Nothing comes of it, whatever else it asks.
                self.obscure.truncate(named);
            }
            let verdict = self.verdict(key, &at, expressions);
            let sure = sure && condition.sure;
            let gone = self.carry_out(key, rule, &at, packets, verdict, sure, depth);
            if let Some(gone) = gone {
                here = here.difference(&gone).tidied();
            }
        }
    }

    /// Does what a rule says; what leaves the chain for good is returned.
    #[expect(clippy::too_many_arguments, reason = "all of it is the state of one walk")]
    fn carry_out(
        &mut self,
        key: &ChainKey,
        rule: &Value,
        at: &str,
        packets: PacketSet,
        verdict: Verdict,
        sure: bool,
        depth: usize,
    ) -> Option<PacketSet> {
        let log = says(rule, "log").is_some();
        match verdict {
            Verdict::Decides(action) => {
                let name = rule["comment"].as_str().unwrap_or_default();
                let hits = says(rule, "counter").and_then(|c| c["packets"].as_u64());
                let end = false;
                self.push(&Said { at, name, action, log, sure, hits, end }, packets);
                None
            }
            Verdict::Jump(chain) => {
                let to = (key.0.clone(), key.1.clone(), chain);
                self.walk(&to, packets, sure, depth + 1);
                None
            }
            Verdict::Goto(chain) => {
                let to = (key.0.clone(), key.1.clone(), chain);
                self.walk(&to, packets.clone(), sure, depth + 1);
                Some(packets)
            }
            Verdict::Return => Some(packets),
            Verdict::Looked(all) => {
                let mut gone = PacketSet::empty();
                for (own, verdict) in all {
                    let own = own.intersection(&packets);
                    if let Some(left) = self.carry_out(key, rule, at, own, verdict, sure, depth) {
                        gone = gone.union(&left);
                    }
                }
                (!gone.is_empty()).then_some(gone)
            }
            Verdict::GoesOn => None,
        }
    }

    fn verdict(&mut self, key: &ChainKey, at: &str, expressions: &[Value]) -> Verdict {
        for one in expressions {
            if let Some(looked) = one.get("vmap") {
                return self.looked(key, at, looked);
            }
            if let Some(verdict) = plain_verdict(one) {
                return verdict;
            }
            if one.get("queue").is_some()
                || one.get("xt").is_some()
                || one.get("synproxy").is_some()
            {
                let (what, _) = first(one);
                self.unclear(at, format!("`{what}`"));
                return Verdict::Decides(Action::Allow);
            }
        }
        Verdict::GoesOn
    }

    /// A map of verdicts.
    fn looked(&mut self, key: &ChainKey, at: &str, map: &Value) -> Verdict {
        let data = &map["data"];
        let elements = match data.as_str().and_then(|name| name.strip_prefix('@')) {
            Some(name) => {
                let named = (key.0.clone(), key.1.clone(), name.to_owned());
                self.sets.get(&named).and_then(|set| set["elem"].as_array())
            }
            None => data["set"].as_array(),
        };
        let elements: Vec<Value> = elements.cloned().unwrap_or_default();
        let mut all: Vec<(PacketSet, Verdict)> = Vec::new();
        for element in &elements {
            let (Some(value), Some(does)) = (element.get(0), element.get(1)) else { continue };
            let test = serde_json::json!({ "op": "==", "left": map["key"], "right": value });
            let Some(packets) = self.test(key, &test) else {
                self.unclear(at, format!("`vmap` over {}", shown(&map["key"])));
                continue;
            };
            let Some(verdict) = plain_verdict(does) else { continue };
            // What goes the same way is looked at once.
            match all.iter_mut().find(|(_, known)| *known == verdict) {
                Some((known, _)) => *known = packets.union(known),
                None => all.push((packets, verdict)),
            }
        }
        Verdict::Looked(all)
    }

    fn condition(&mut self, key: &ChainKey, at: &str, expressions: &[Value]) -> Condition {
        let mut packets = self.everything();
        let mut sure = true;
        for one in expressions {
            if let Some(test) = one.get("match") {
                match self.test(key, test) {
                    Some(own) => packets = packets.intersection(&own),
                    None => {
                        sure = false;
                        let (left, right) = (shown(&test["left"]), shown(&test["right"]));
                        let op = test["op"].as_str().unwrap_or_default();
                        self.unclear(at, format!("`{left} {op} {right}`"));
                    }
                }
            } else if ["limit", "quota", "ct count", "xt", "socket"]
                .iter()
                .any(|w| one.get(w).is_some())
            {
                sure = false;
                let (what, _) = first(one);
                self.unclear(at, format!("`{what}`: it holds at some times only"));
            }
        }
        if expressions.iter().any(|one| one.get("accept").is_some()) {
            self.replies |= expressions.iter().any(lets_replies);
        }
        Condition { packets, sure }
    }
}

fn plain_verdict(says: &Value) -> Option<Verdict> {
    let target = |kind: &str| says.get(kind).map(|jump| word(jump, "target"));
    if says.get("accept").is_some() {
        return Some(Verdict::Decides(Action::Allow));
    }
    if says.get("drop").is_some() {
        return Some(Verdict::Decides(Action::Block));
    }
    if says.get("reject").is_some() {
        return Some(Verdict::Decides(Action::Reject));
    }
    if says.get("return").is_some() {
        return Some(Verdict::Return);
    }
    target("jump").map(Verdict::Jump).or_else(|| target("goto").map(Verdict::Goto))
}

fn lets_replies(says: &Value) -> bool {
    let test = &says["match"];
    let words = |value: &Value| shown(value).contains("established");
    test["left"]["ct"]["key"] == "state" && test["op"] != "!=" && words(&test["right"])
}

/// The first of a rule's expressions of that kind.
fn says<'r>(rule: &'r Value, kind: &str) -> Option<&'r Value> {
    rule["expr"].as_array()?.iter().find_map(|one| one.get(kind))
}

fn place(rule: &Value) -> String {
    let handle = rule["handle"].as_u64().map(|handle| format!(" handle {handle}"));
    format!("{} {}{}", word(rule, "table"), word(rule, "chain"), handle.unwrap_or_default())
}

fn first(value: &Value) -> (String, &Value) {
    let mut all = value.as_object().into_iter().flatten();
    all.next().map_or((String::new(), &Value::Null), |(key, value)| (key.clone(), value))
}

/// A piece of JSON as few words, for naming it.
fn shown(value: &Value) -> String {
    match value {
        Value::String(word) => word.clone(),
        Value::Number(number) => number.to_string(),
        Value::Array(all) => all.iter().map(shown).collect::<Vec<_>>().join(", "),
        Value::Object(all) => match (all.get("protocol"), all.get("field"), all.get("key")) {
            (Some(protocol), Some(field), _) => format!("{} {}", shown(protocol), shown(field)),
            (_, _, Some(key)) => shown(key),
            _ => all.values().map(shown).collect::<Vec<_>>().join(" "),
        },
        _ => String::new(),
    }
}
