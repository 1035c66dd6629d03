//! Conditions as products of sets.

use super::super::ruleset::{End, Key, Looked, Rule, Side, State, Test, Value, Values, Verdict};
use super::super::world::left_untracked;
use super::service_line::{icmp, joined, line_of, protocols, with_ports};
use super::{Conversation, Headers, Lowering, Place, Said, has_state};
use bastium_core::space::{
    AddressSet, Family, Interface, IntervalSet, Match, Minute, PacketSet, ServiceSet,
};
use std::collections::HashMap;

impl Lowering<'_> {
    /// What a condition leaves of the packets that come to it.
    pub(super) fn narrowed(
        &mut self,
        table: usize,
        rule: &Rule,
        here: &[Match],
        test: &Test,
        said: &mut Said,
    ) -> Vec<Match> {
        let asked = self.asked(table, test, said.headers);
        said.headers.see(test);
        match asked {
            Ok(wanted) => self.both(here, &wanted),
            Err(what) => {
                said.sure = false;
                self.problem(&rule.at, what);
                here.to_vec()
            }
        }
    }

    /// The packets that pass a condition.
    fn asked(&self, table: usize, test: &Test, headers: Headers) -> Result<Vec<Match>, String> {
        if test.keys == [Key::Mark] {
            return self.marked(test);
        }
        let filled = match (&test.values, test.keys.as_slice()) {
            (Values::Set(name), [Key::Address(..)]) => self.world.filled(name),
            _ => None,
        };
        if let (Some(own), [Key::Address(family, end)]) = (filled, test.keys.as_slice()) {
            let Values::Set(name) = &test.values else { return Err("a set".to_owned()) };
            if !self.ruleset.tables[table].sets.contains_key(name) {
                return Err(format!("set {name} is not there"));
            }
            let wanted = if test.not { own.complement() } else { own };
            return Ok(vec![self.at_end(*end, only(wanted, *family))]);
        }
        let values = self.values(table, test)?;
        if let [key] = test.keys.as_slice() {
            return Ok(self.one(*key, values.iter().map(|tuple| &tuple[0]), test.not, headers));
        }
        let whole: Vec<Match> =
            values.iter().flat_map(|tuple| self.tuple(&test.keys, tuple, headers)).collect();
        let whole = merged(whole);
        if !test.not {
            return Ok(whole);
        }
        let could = test
            .keys
            .iter()
            .fold(Match::everything(), |all, key| all.intersection(&self.has(*key, headers)));
        let passed: PacketSet = whole.into_iter().collect();
        Ok(PacketSet::from(could).difference(&passed).tidied().products().collect())
    }

    fn values<'t>(&'t self, table: usize, test: &'t Test) -> Result<&'t [Vec<Value>], String> {
        match &test.values {
            Values::Given(values) => Ok(values),
            Values::Set(name) => {
                let Some(set) = self.ruleset.tables[table].sets.get(name) else {
                    return Err(format!("set {name} is not there"));
                };
                if let Some(why) = &set.unread {
                    return Err(format!("set {name}: {why}"));
                }
                if set.filled {
                    return Err(format!("set {name} is filled while the gateway runs"));
                }
                let alike = set.types.len() == test.keys.len()
                    && set.types.iter().zip(&test.keys).all(|(a, b)| same_kind(*a, *b));
                if !alike {
                    return Err(format!("set {name} holds other things"));
                }
                Ok(&set.elements)
            }
        }
    }

    /// A mark: what begins a conversation has none, unless a rule gives it one on its way.
    fn marked(&self, test: &Test) -> Result<Vec<Match>, String> {
        let Values::Given(values) = &test.values else { return Err("a set of marks".to_owned()) };
        if self.limits.marks_decide || self.which != Conversation::Begins {
            return Err("a mark that a conversation may have".to_owned());
        }
        let zero = values.iter().any(|tuple| tuple.as_slice() == [Value::Mark(0)]);
        Ok(if zero == test.not { Vec::new() } else { vec![Match::everything()] })
    }

    /// The packets that have what a key looks at.
    fn has(&self, key: Key, headers: Headers) -> Match {
        let all = Match::everything();
        match key {
            Key::Address(family, _) | Key::Protocol(Some(family)) => of_family(family),
            Key::Port(protocol) => Match { service: with_ports(protocol), ..all },
            Key::IcmpType(family) | Key::IcmpCode(family) => {
                let service = ServiceSet::protocol(icmp(family));
                let both = headers.protocol && headers.family.is_none();
                let packets = if both { all } else { of_family(headers.family.unwrap_or(family)) };
                Match { service, ..packets }
            }
            Key::Interface(Side::In) => {
                let (input, forward) = (self.world.at(Place::Input), self.world.at(Place::Forward));
                Match { enters: input.enters.union(&forward.enters), ..all }
            }
            _ => all,
        }
    }

    fn at_end(&self, end: End, set: AddressSet) -> Match {
        match end {
            End::Source => Match { source: set, ..Match::everything() },
            End::Destination => Match { destination: set, ..Match::everything() },
        }
    }

    /// The packets of which one thing has one of these values; or, with `not`, none of them.
    fn one<'v>(
        &self,
        key: Key,
        values: impl Iterator<Item = &'v Value> + Clone,
        not: bool,
        headers: Headers,
    ) -> Vec<Match> {
        let all = Match::everything();
        match key {
            Key::Interface(side) => self.interfaces(side, values, not),
            Key::Family => {
                let mut some = AddressSet::empty();
                for value in values {
                    if let Value::Family(family) = value {
                        some = some.union(&of_family(*family).source);
                    }
                }
                let source = if not { some.complement() } else { some };
                vec![Match { source, ..all }]
            }
            Key::Protocol(_) | Key::Port(_) | Key::IcmpType(_) | Key::IcmpCode(_) => {
                let could = self.has(key, headers);
                let some = values.map(|value| line_of(key, value));
                let some = IntervalSet::from_spans(some.flat_map(|own| own.spans().to_vec()));
                let some = ServiceSet::both(some);
                let service = match not {
                    true => could.service.difference(&some),
                    false => could.service.intersection(&some),
                };
                vec![Match { service, ..could }]
            }
            Key::Address(family, end) => {
                let written = values.filter_map(|value| match value {
                    Value::Addresses(low, high) => Some(AddressSet::range(*low, *high)),
                    _ => None,
                });
                let set = self.world.meant(gathered(written));
                let set = if not { set.complement() } else { set };
                vec![self.at_end(end, only(set, family))]
            }
            Key::Day | Key::Hour => {
                let spans = values.flat_map(minutes);
                let at = IntervalSet::from_spans(spans);
                let at = if not { at.complement() } else { at };
                vec![Match { at, ..all }]
            }
            Key::State => self.in_state(values, not),
            Key::Status => {
                let moved = self.world.translated();
                let enters = if not { moved.enters.complement() } else { moved.enters };
                vec![Match { enters, ..all }]
            }
            Key::Local(end) => {
                let own = self.world.own();
                let own = match end {
                    End::Source => own,
                    // Of link-local ones only the gateway's come to it.
                    End::Destination => own.union(&bastium_core::addressing::link_local()),
                };
                vec![self.at_end(end, if not { own.complement() } else { own })]
            }
            Key::Mark => Vec::new(),
        }
    }

    /// The packets of which the connection tracking says one of these; or, with `not`, none of them. What it leaves alone
    /// begins nothing for it.
    fn in_state<'v>(
        &self,
        values: impl Iterator<Item = &'v Value> + Clone,
        not: bool,
    ) -> Vec<Match> {
        let has = |wanted: &dyn Fn(State) -> bool| {
            let mut states = values.clone();
            states.any(|value| matches!(value, Value::State(state) if wanted(*state))) != not
        };
        let tracked = has(&|state| has_state(self.which, state));
        let untracked = match self.which {
            Conversation::Begins => has(&|state| state == State::Untracked),
            // There it is looked at as what begins.
            _ => tracked,
        };
        let service = match (tracked, untracked) {
            (false, false) => return Vec::new(),
            (true, true) => ServiceSet::any(),
            (true, false) => ServiceSet::any().difference(&left_untracked()),
            (false, true) => left_untracked(),
        };
        vec![Match { service, ..Match::everything() }]
    }

    fn interfaces<'v>(
        &self,
        side: Side,
        values: impl Iterator<Item = &'v Value>,
        not: bool,
    ) -> Vec<Match> {
        let mut some = Vec::new();
        for value in values {
            if let Value::Name(name) = value {
                some.extend(self.interface(side, name));
            }
        }
        let some = merged(some);
        if !not {
            return some;
        }
        // What has no such interface passes no test about it.
        let could = match side {
            Side::In => vec![self.has(Key::Interface(Side::In), Headers::default())],
            Side::Out => vec![self.world.at(Place::Forward), self.world.at(Place::Output)],
        };
        let (could, some): (PacketSet, PacketSet) =
            (could.into_iter().collect(), some.into_iter().collect());
        joined_families(could.difference(&some).tidied().products().collect())
    }

    /// The packets that have all of these values.
    fn tuple(&self, keys: &[Key], values: &[Value], headers: Headers) -> Vec<Match> {
        let mut whole = vec![Match::everything()];
        let mut service = None;
        for (key, value) in keys.iter().zip(values) {
            match (key, value) {
                (Key::Protocol(_), Value::Numbers(low, high)) => {
                    let spans = protocols(*low, *high);
                    service = Some(joined(service, spans));
                }
                (Key::Port(_) | Key::IcmpType(_) | Key::IcmpCode(_), value) => {
                    service = Some(joined(service, line_of(*key, value)));
                    whole = self.both(&whole, &[self.has(*key, headers)]);
                }
                _ => {
                    let own = self.one(*key, std::iter::once(value), false, headers);
                    whole = self.both(&whole, &own);
                }
            }
        }
        if let Some(line) = service {
            let asked = Match { service: ServiceSet::both(line), ..Match::everything() };
            whole = self.both(&whole, &[asked]);
        }
        whole
    }

    /// A map of verdicts: for each verdict the packets of which it holds.
    pub(super) fn looked(
        &mut self,
        table: usize,
        rule: &Rule,
        keys: &[Key],
        map: &Looked,
        said: &mut Said,
    ) -> Vec<(Vec<Match>, Verdict)> {
        let named = match map {
            Looked::Given(elements) => Ok((elements, keys.to_vec())),
            Looked::Map(name) => match self.ruleset.tables[table].maps.get(name) {
                None => Err(format!("map {name} is not there")),
                Some(map) => match &map.unread {
                    Some(why) => Err(format!("map {name}: {why}")),
                    None => Ok((&map.elements, map.types.clone())),
                },
            },
        };
        let alike = |types: &[Key]| {
            types.len() == keys.len() && types.iter().zip(keys).all(|(a, b)| same_kind(*a, *b))
        };
        let elements = match named {
            Ok((elements, types)) if alike(&types) => elements,
            Ok(_) => {
                said.sure = false;
                self.problem(&rule.at, "a map of other things");
                return Vec::new();
            }
            Err(what) => {
                said.sure = false;
                self.problem(&rule.at, what);
                return Vec::new();
            }
        };
        let mut places: HashMap<&Verdict, usize> = HashMap::new();
        let mut all: Vec<(Vec<Match>, Verdict)> = Vec::new();
        for (values, verdict) in elements {
            let packets = match values.as_slice() {
                [value] => self.one(keys[0], std::iter::once(value), false, said.headers),
                values => self.tuple(keys, values, said.headers),
            };
            let place = *places.entry(verdict).or_insert_with(|| {
                all.push((Vec::new(), verdict.clone()));
                all.len() - 1
            });
            all[place].0.extend(packets);
        }
        all.into_iter().map(|(packets, verdict)| (merged(packets), verdict)).collect()
    }
}

impl Headers {
    /// Takes note of what a condition asks of headers.
    fn see(&mut self, test: &Test) {
        for key in &test.keys {
            let family = match key {
                Key::Address(family, _) | Key::Protocol(Some(family)) => Some(*family),
                Key::IcmpType(family) | Key::IcmpCode(family) if !self.protocol => Some(*family),
                Key::Family => single(test).and_then(|value| match value {
                    Value::Family(family) => Some(*family),
                    _ => None,
                }),
                _ => None,
            };
            self.family = self.family.or(family);
            self.protocol |= match key {
                Key::Protocol(_) => single(test).is_some(),
                Key::IcmpType(_) | Key::IcmpCode(_) => true,
                _ => false,
            };
        }
    }
}

/// The only value that a condition lets pass.
fn single(test: &Test) -> Option<&Value> {
    match &test.values {
        Values::Given(values) if !test.not => match values.as_slice() {
            [one] => one.first(),
            _ => None,
        },
        _ => None,
    }
}

/// Sets as one.
fn gathered(sets: impl Iterator<Item = AddressSet> + Clone) -> AddressSet {
    AddressSet {
        v4: IntervalSet::from_spans(sets.clone().flat_map(|set| set.v4.spans().to_vec())),
        v6: IntervalSet::from_spans(sets.flat_map(|set| set.v6.spans().to_vec())),
    }
}

/// The members of one family.
fn only(set: AddressSet, family: Family) -> AddressSet {
    match family {
        Family::V4 => set.only_v4(),
        Family::V6 => set.only_v6(),
    }
}

fn of_family(family: Family) -> Match {
    Match { source: only(AddressSet::full(), family), ..Match::everything() }
}

fn minutes(value: &Value) -> Vec<(Minute, Minute)> {
    let span = |low: u16, high: u16| (Minute::new(low), Minute::new(high));
    match value {
        Value::Day(day) => {
            let first = day * Minute::PER_DAY;
            vec![span(first, first + Minute::PER_DAY - 1)]
        }
        Value::Minutes(low, high) => (0..7)
            .map(|day| span(day * Minute::PER_DAY + low, day * Minute::PER_DAY + high))
            .collect(),
        _ => Vec::new(),
    }
}

/// Whether a set of the one can be asked about the other.
fn same_kind(one: Key, other: Key) -> bool {
    match (one, other) {
        (Key::Address(a, _), Key::Address(b, _)) => a == b,
        (Key::Interface(_), Key::Interface(_))
        | (Key::Protocol(_), Key::Protocol(_))
        | (Key::Port(_), Key::Port(_)) => true,
        (one, other) => one == other,
    }
}

/// Products in fewer ones: those that differ only in where they enter, then those that differ only in their
/// destinations, are one.
pub(super) fn merged(products: Vec<Match>) -> Vec<Match> {
    if products.len() < 2 {
        return products;
    }
    let mut order: Vec<Match> = Vec::new();
    let mut by_rest: HashMap<Match, Vec<(Interface, Interface)>> = HashMap::new();
    for product in products {
        let spans = product.enters.spans().to_vec();
        let rest = Match { enters: IntervalSet::empty(), ..product };
        by_rest
            .entry(rest)
            .or_insert_with_key(|rest| {
                order.push(rest.clone());
                Vec::new()
            })
            .extend(spans);
    }
    let joined = order.into_iter().map(|rest| {
        let spans = by_rest.remove(&rest).unwrap_or_default();
        Match { enters: IntervalSet::from_spans(spans), ..rest }
    });
    let mut order: Vec<Match> = Vec::new();
    let mut by_rest: HashMap<Match, Vec<AddressSet>> = HashMap::new();
    for product in joined {
        let rest = Match { destination: AddressSet::empty(), ..product.clone() };
        by_rest
            .entry(rest)
            .or_insert_with_key(|rest| {
                order.push(rest.clone());
                Vec::new()
            })
            .push(product.destination);
    }
    let joined = order.into_iter().map(|rest| {
        let sets = by_rest.remove(&rest).unwrap_or_default();
        Match { destination: gathered(sets.iter().cloned()), ..rest }
    });
    joined.filter(|product| !product.is_empty()).collect()
}

/// Products of one family each that say the same otherwise, as products of both.
fn joined_families(products: Vec<Match>) -> Vec<Match> {
    let mut all: Vec<Match> = Vec::new();
    for product in products {
        let twin = all.iter_mut().find(|other| {
            other.enters == product.enters
                && other.at == product.at
                && other.source.v4.is_empty() != product.source.v4.is_empty()
                && other.source.v6.is_empty() != product.source.v6.is_empty()
        });
        match twin {
            Some(other) => {
                other.source = other.source.union(&product.source);
                other.destination = other.destination.union(&product.destination);
                other.service = other.service.union(&product.service);
            }
            None => all.push(product),
        }
    }
    all
}
