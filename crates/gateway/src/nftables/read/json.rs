//! Reads what `nft -j list ruleset` prints (libnftables-json(5)). Each object is read into types; an object that does
//! not fit them is reported as unread, with its words.

use super::objects::{ChainObject, Compared, LimitObject, LookedUp, RuleObject, SetObject};
use super::ruleset::{
    Chain, End, Hook, Key, Limit, Looked, Map, Part, Ports, Problem, Refusal, Rule, Ruleset, Set,
    Table, Test, Value as Meant, Values, Verdict,
};
use super::statement::{bytes, meta, network_field, refusal};
use super::text::named_priority;
use super::values::{self, Raw, typed};
use bastium_core::space::Family;
use serde::Deserialize as _;
use serde_json::Value;
use std::collections::HashMap;

/// How much of an expression is shown.
const MOST_SHOWN: usize = 120;

/// Reads the objects that the tool prints.
pub(crate) fn ruleset(objects: &[Value]) -> Ruleset {
    let mut reader = Reader::default();
    // Rules come after what they speak of, but nothing says that they must.
    let (rules, others): (Vec<_>, Vec<_>) =
        objects.iter().partition(|object| object.get("rule").is_some());
    for object in others.into_iter().chain(rules) {
        let Some((kind, body)) = object.as_object().and_then(|object| object.iter().next()) else {
            reader.unread("an object", "it says nothing");
            continue;
        };
        reader.object(kind, body);
    }
    reader.read
}

#[derive(Default)]
struct Reader {
    read: Ruleset,
    places: HashMap<(String, String), usize>,
}

impl Reader {
    fn unread(&mut self, at: &str, what: impl Into<String>) {
        self.read.unread.push(Problem { at: at.to_owned(), what: what.into() });
    }

    fn table(&mut self, family: &str, name: &str) -> &mut Table {
        let key = (family.to_owned(), name.to_owned());
        let tables = &mut self.read.tables;
        let place = *self.places.entry(key).or_insert_with(|| {
            let (family, name) = (family.to_owned(), name.to_owned());
            tables.push(Table { family, name, ..Table::default() });
            tables.len() - 1
        });
        &mut self.read.tables[place]
    }

    fn object(&mut self, kind: &str, body: &Value) {
        let name = body["name"].as_str().unwrap_or_default();
        let at = format!("{kind} {name}");
        let done = match kind {
            "table" if body.get("flags").is_some() => {
                // One that is dormant decides nothing at all.
                self.unread(&at, "a table with flags");
                Some(())
            }
            "metainfo" | "table" | "counter" | "quota" | "ct helper" | "ct timeout" => Some(()),
            "chain" => self.chain(body),
            "rule" => self.rule(body),
            "set" => self.set(body),
            "map" => self.map(body),
            "limit" => self.limit(body),
            "flowtable" => {
                self.unread(&at, "a flow table: what goes by it passes no chain");
                Some(())
            }
            _ => None,
        };
        if done.is_none() {
            self.unread(&at, format!("`{}`", shown(body)));
        }
    }

    fn chain(&mut self, body: &Value) -> Option<()> {
        let object = ChainObject::deserialize(body).ok()?;
        let hook = match (object.hook, object.kind) {
            (Some(hook), Some(kind)) => {
                if object.dev.is_some() {
                    let at = format!("chain {}", object.name);
                    self.unread(&at, "a hook on a device");
                }
                let priority = match &object.prio {
                    Some(Value::Number(number)) => number.as_i64()?,
                    Some(Value::String(word)) => named_priority(word)?,
                    _ => 0,
                };
                let drops = object.policy.as_deref() == Some("drop");
                Some(Hook { kind, hook, priority, drops })
            }
            _ => None,
        };
        let table = self.table(&object.family, &object.table);
        if let Some(place) = table.chain(&object.name) {
            table.chains[place].hook = hook;
        } else {
            table.chains.push(Chain { name: object.name, hook, rules: Vec::new() });
        }
        Some(())
    }

    fn rule(&mut self, body: &Value) -> Option<()> {
        let object = RuleObject::deserialize(body).ok()?;
        let handle = object.handle.map(|handle| format!(" handle {handle}"));
        let at = format!("{} {}{}", object.table, object.chain, handle.unwrap_or_default());
        let mut rule = Rule { at, comment: object.comment, ..Rule::default() };
        for one in &object.expr {
            expression(one, &mut rule);
        }
        let says: Vec<String> = object.expr.iter().map(shown).collect();
        rule.says = says.join(" ").chars().take(MOST_SHOWN).collect();
        let table = self.table(&object.family, &object.table);
        let place = table.chain(&object.chain).unwrap_or_else(|| {
            table.chains.push(Chain { name: object.chain.clone(), ..Chain::default() });
            table.chains.len() - 1
        });
        table.chains[place].rules.push(rule);
        Some(())
    }

    fn set(&mut self, body: &Value) -> Option<()> {
        let object = SetObject::deserialize(body).ok()?;
        let mut set = Set { filled: is_filled(&object.flags), ..Set::default() };
        match types(&object.kind) {
            Some(types) => {
                for element in &object.elem {
                    match tuple(&types, inner(element)) {
                        Ok(values) => set.elements.push(values),
                        Err(odd) => set.unread = Some(format!("the element `{odd}`")),
                    }
                }
                set.types = types;
            }
            None => set.unread = Some("a type that is not known here".to_owned()),
        }
        self.table(&object.family, &object.table).sets.insert(object.name, set);
        Some(())
    }

    fn map(&mut self, body: &Value) -> Option<()> {
        let object = SetObject::deserialize(body).ok()?;
        let mut map = Map::default();
        let verdicts = object.map == Some(Value::String("verdict".to_owned()));
        match types(&object.kind).filter(|_| verdicts && !is_filled(&object.flags)) {
            Some(types) => {
                for element in &object.elem {
                    let pair = element.as_array().map(Vec::as_slice);
                    let Some([key, does]) = pair else {
                        map.unread = Some("an element without a verdict".to_owned());
                        continue;
                    };
                    match (tuple(&types, inner(key)), verdict(does)) {
                        (Ok(values), Some(verdict)) => map.elements.push((values, verdict)),
                        _ => map.unread = Some(format!("the element `{}`", shown(element))),
                    }
                }
                map.types = types;
            }
            None => map.unread = Some("a map of other things".to_owned()),
        }
        self.table(&object.family, &object.table).maps.insert(object.name, map);
        Some(())
    }

    fn limit(&mut self, body: &Value) -> Option<()> {
        let object = LimitObject::deserialize(body).ok()?;
        let bytes = |unit: &Option<String>| unit.as_deref().and_then(bytes);
        if object.per != "second" {
            return None;
        }
        let bytes_per_second = object.rate.checked_mul(bytes(&object.rate_unit)?)?;
        let burst_bytes = object.burst.checked_mul(bytes(&object.burst_unit).unwrap_or(1))?;
        let limit = Limit { bytes_per_second, burst_bytes, over: object.inv };
        self.table(&object.family, &object.table).limits.insert(object.name, limit);
        Some(())
    }
}

fn is_filled(flags: &Value) -> bool {
    let all: Vec<&str> = match flags {
        Value::String(one) => vec![one],
        Value::Array(all) => all.iter().filter_map(Value::as_str).collect(),
        _ => Vec::new(),
    };
    all.iter().any(|flag| ["dynamic", "timeout"].contains(flag))
}

fn types(kind: &Value) -> Option<Vec<Key>> {
    match kind {
        Value::String(one) => Some(vec![typed(one)?]),
        Value::Array(all) => all.iter().map(|word| typed(word.as_str()?)).collect(),
        _ => None,
    }
}

/// An element without how long it stays and what it counts.
fn inner(element: &Value) -> &Value {
    element.get("elem").map_or(element, |elem| &elem["val"])
}

fn tuple(keys: &[Key], value: &Value) -> Result<Vec<Meant>, String> {
    let odd = || shown(value);
    if let [key] = keys {
        return Ok(vec![single(*key, value)?]);
    }
    let parts = value["concat"].as_array().ok_or_else(odd)?;
    if parts.len() != keys.len() {
        return Err(odd());
    }
    keys.iter().zip(parts).map(|(key, part)| single(*key, part)).collect()
}

fn single(key: Key, value: &Value) -> Result<Meant, String> {
    let word = |value: &Value| match value {
        Value::String(word) => Some(word.clone()),
        Value::Number(number) => Some(number.to_string()),
        _ => None,
    };
    let raw = if let Some(prefix) = value.get("prefix") {
        word(&prefix["addr"]).zip(word(&prefix["len"])).map(|(a, l)| Raw::Prefix(a, l))
    } else if let Some([low, high]) = value["range"].as_array().map(Vec::as_slice) {
        word(low).zip(word(high)).map(|(low, high)| Raw::Span(low, high))
    } else {
        // An interface by its number has no name here.
        let named = !matches!(key, Key::Interface(_)) || value.is_string();
        word(value).filter(|_| named).map(Raw::One)
    };
    values::value(key, &raw.ok_or_else(|| shown(value))?)
}

fn verdict(says: &Value) -> Option<Verdict> {
    let (kind, body) = says.as_object()?.iter().next()?;
    let target = || body["target"].as_str().map(str::to_owned);
    Some(match kind.as_str() {
        "accept" => Verdict::Accept,
        "drop" => Verdict::Drop,
        "return" => Verdict::Return,
        "jump" => Verdict::Jump(target()?),
        "goto" => Verdict::Goto(target()?),
        _ => return None,
    })
}

fn expression(one: &Value, rule: &mut Rule) {
    let Some((kind, body)) = one.as_object().and_then(|object| object.iter().next()) else {
        rule.parts.push(Part::UnreadTest(shown(one)));
        return;
    };
    let part = match kind.as_str() {
        "counter" => {
            rule.hits = body["packets"].as_u64().or(rule.hits);
            return;
        }
        "continue" => return,
        "match" => condition(body),
        "vmap" => look_up(body),
        "reject" => refuse(body),
        "log" => Some(Part::Log { prefix: body["prefix"].as_str().map(str::to_owned) }),
        "limit" => super::logged::limited(body),
        "mangle" => mark(body),
        "dnat" => send_on(body),
        "snat" => body["addr"].as_str().and_then(|a| a.parse().ok()).and_then(|address| {
            body.get("port").is_none().then_some(Part::Disguise(Some(address)))
        }),
        "masquerade" => Some(Part::Disguise(None)),
        _ => verdict(one).map(Part::Verdict),
    };
    let tests = ["match", "limit", "vmap", "quota", "ct count", "xt", "socket"];
    rule.parts.push(part.unwrap_or_else(|| match tests.contains(&kind.as_str()) {
        true => Part::UnreadTest(shown(one)),
        false => Part::UnreadDeed(shown(one)),
    }));
}

fn condition(body: &Value) -> Option<Part> {
    let test = Compared::deserialize(body).ok()?;
    let not = match test.op.as_str() {
        "==" | "in" => false,
        "!=" | "!" => true,
        _ => return None,
    };
    if let Some([left, bit]) = test.left["&"].as_array().map(Vec::as_slice) {
        // Whether a bit of the status is set.
        let status = keys(left)? == [Key::Status] && bit == "dnat";
        let zero = test.right == 0;
        if !status || !zero {
            return None;
        }
        let values = Values::Given(vec![vec![Meant::Translated]]);
        return Some(Part::Test(Test { keys: vec![Key::Status], not: !not, values }));
    }
    let keys = keys(&test.left)?;
    let values = match &test.right {
        Value::String(word) if word.starts_with('@') => Values::Set(word[1..].to_owned()),
        right => {
            let all = match right.get("set").unwrap_or(right) {
                Value::Array(all) => all.iter().map(|one| tuple(&keys, inner(one))).collect(),
                one => tuple(&keys, one).map(|values| vec![values]),
            };
            Values::Given(all.ok()?)
        }
    };
    Some(Part::Test(Test { keys, not, values }))
}

fn look_up(body: &Value) -> Option<Part> {
    let looked = LookedUp::deserialize(body).ok()?;
    let keys = keys(&looked.key)?;
    if let Some(name) = looked.data.as_str() {
        let map = Looked::Map(name.strip_prefix('@')?.to_owned());
        return Some(Part::Look { keys, map });
    }
    let pairs = looked.data["set"].as_array()?.iter().map(|element| {
        let pair = element.as_array()?;
        Some((tuple(&keys, inner(pair.first()?)).ok()?, verdict(pair.get(1)?)?))
    });
    let map = Looked::Given(pairs.collect::<Option<_>>()?);
    Some(Part::Look { keys, map })
}

fn refuse(body: &Value) -> Option<Part> {
    let Some(kind) = body["type"].as_str() else { return Some(Part::Reject(Refusal::Other)) };
    if kind == "tcp reset" {
        return Some(Part::Reject(Refusal::Reset));
    }
    let error = body["expr"].as_str().unwrap_or("port-unreachable");
    refusal(kind, error).map(Part::Reject)
}

fn mark(body: &Value) -> Option<Part> {
    let of_conversation = body["key"]["ct"]["key"] == "mark";
    let mark = u32::try_from(body["value"].as_u64()?).ok()?;
    of_conversation.then_some(Part::Mark(mark))
}

fn send_on(body: &Value) -> Option<Part> {
    let to = body["addr"].as_str()?.parse().ok()?;
    let port = |value: &Value| u16::try_from(value.as_u64()?).ok();
    let ports = match body.get("port") {
        None => Ports::Same,
        Some(Value::Object(looked)) => {
            let map = looked.get("map")?;
            let by_port = map["key"]["payload"]["field"] == "dport";
            let pairs = map["data"]["set"].as_array()?.iter().map(|pair| {
                let pair = pair.as_array()?;
                Some((port(pair.first()?)?, port(pair.get(1)?)?))
            });
            Ports::Each(pairs.collect::<Option<_>>().filter(|_| by_port)?)
        }
        Some(only) => Ports::To(port(only)?),
    };
    Some(Part::SendOn { to, ports })
}

/// What an expression looks at.
fn keys(left: &Value) -> Option<Vec<Key>> {
    if let Some(parts) = left["concat"].as_array() {
        return parts.iter().map(key).collect();
    }
    Some(vec![key(left)?])
}

fn key(left: &Value) -> Option<Key> {
    if let Some(field) = left["meta"]["key"].as_str() {
        return meta(field);
    }
    if let Some(field) = left["ct"]["key"].as_str() {
        return Some(match field {
            "state" => Key::State,
            "status" => Key::Status,
            "mark" => Key::Mark,
            _ => return None,
        });
    }
    if left["fib"]["result"] == "type" {
        let flags = &left["fib"]["flags"];
        let flag = flags.as_str().or_else(|| match flags.as_array()?.as_slice() {
            [one] => one.as_str(),
            _ => None,
        });
        return match flag? {
            "saddr" => Some(Key::Local(End::Source)),
            "daddr" => Some(Key::Local(End::Destination)),
            _ => None,
        };
    }
    let payload = &left["payload"];
    let (protocol, field) = (payload["protocol"].as_str()?, payload["field"].as_str()?);
    Some(match (protocol, field) {
        ("ip" | "ip6", field) => network_field(protocol, field)?,
        ("tcp" | "udp" | "sctp" | "dccp" | "udplite" | "th", "dport") => {
            Key::Port(values::protocol(protocol))
        }
        ("icmp", "type") => Key::IcmpType(Family::V4),
        ("icmp", "code") => Key::IcmpCode(Family::V4),
        ("icmpv6", "type") => Key::IcmpType(Family::V6),
        ("icmpv6", "code") => Key::IcmpCode(Family::V6),
        _ => return None,
    })
}

/// A piece of JSON in few words, for naming it.
fn shown(value: &Value) -> String {
    let words = match value {
        Value::String(word) => word.clone(),
        Value::Number(number) => number.to_string(),
        Value::Array(all) => all.iter().map(shown).collect::<Vec<_>>().join(", "),
        Value::Object(all) => match (all.get("protocol"), all.get("field"), all.get("key")) {
            (Some(protocol), Some(field), _) => format!("{} {}", shown(protocol), shown(field)),
            (_, _, Some(key)) => shown(key),
            _ if all.contains_key("op") => ["left", "op", "right"]
                .map(|part| all.get(part).map(shown).unwrap_or_default())
                .join(" "),
            _ => all.iter().map(|(key, one)| named(key, one)).collect::<Vec<_>>().join(" "),
        },
        _ => String::new(),
    };
    words.trim().chars().take(MOST_SHOWN).collect()
}

fn named(key: &str, value: &Value) -> String {
    let plain = ["match", "left", "right", "payload", "meta", "ct", "set", "val"];
    let words = shown(value);
    if plain.contains(&key) || words.is_empty() && key == "op" {
        words
    } else {
        format!("{key} {words}")
    }
}
