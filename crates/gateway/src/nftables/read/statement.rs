//! Reads one rule: its conditions, and what it does. What is not understood is kept as words, together with the
//! verdict that follows it, so that the possible effect of the rule is known.

use super::cursor::Cursor;
use super::lexer::Token;
use super::ruleset::{
    End, Key, Limit, Looked, Part, Ports, Refusal, Rule, Side, Test, Value, Values,
};
use super::values::{self, Raw};
use bastium_core::space::Family;
use std::net::IpAddr;

/// Reads one rule, up to the end of its line.
///
/// # Errors
/// What makes it no rule at all.
pub(super) fn rule(tokens: &mut Cursor<'_>) -> Result<Rule, String> {
    let mut rule = Rule::default();
    while !tokens.at_end() {
        let begun = *tokens;
        if part(tokens, &mut rule).is_none() {
            *tokens = begun;
            unread(tokens, &mut rule)?;
        } else if tokens.at == begun.at {
            return Err("a sign that belongs to nothing".to_owned());
        }
    }
    Ok(rule)
}

/// Keeps the words of what is not understood, and the verdict behind it.
fn unread(tokens: &mut Cursor<'_>, rule: &mut Rule) -> Result<(), String> {
    let from = tokens.at;
    let mut depth = 0usize;
    let mut verdict = None;
    loop {
        match tokens.peek() {
            None => break,
            Some(Token::NewLine | Token::Sign(';')) if depth == 0 => break,
            Some(Token::Sign('}')) if depth == 0 => break,
            Some(Token::Sign('{')) => depth += 1,
            Some(Token::Sign('}')) => depth -= 1,
            Some(Token::Word(word)) if depth == 0 => {
                let ends = ["accept", "drop", "return", "jump", "goto", "reject", "comment"];
                if ends.contains(&word.as_str()) {
                    let mut ahead = *tokens;
                    if word == "comment" || word == "reject" {
                        break;
                    }
                    if let Some(found) = ahead.verdict() {
                        verdict = Some(found);
                        break;
                    }
                }
            }
            Some(_) => {}
        }
        tokens.at += 1;
    }
    if depth > 0 {
        return Err("a set that is not closed".to_owned());
    }
    let words = tokens.shown_from(from);
    let tests = verdict.is_some() || tokens.sees("reject");
    let what = if tests { Part::UnreadTest(words) } else { Part::UnreadDeed(words) };
    rule.parts.push(what);
    if tokens.at == from {
        return Err("a word that belongs to nothing".to_owned());
    }
    Ok(())
}

/// One condition, or one thing that is done; `None` if it is not understood.
fn part(tokens: &mut Cursor<'_>, rule: &mut Rule) -> Option<()> {
    let Token::Word(word) = tokens.peek()? else { return None };
    match word.as_str() {
        "accept" | "drop" | "return" | "jump" | "goto" => {
            let verdict = tokens.verdict()?;
            rule.parts.push(Part::Verdict(verdict));
        }
        "continue" => {
            tokens.next();
        }
        "reject" => reject(tokens, rule)?,
        "counter" => counter(tokens, rule)?,
        "log" => log(tokens, rule)?,
        "comment" => {
            tokens.next();
            rule.comment = Some(tokens.word()?);
        }
        "limit" => {
            tokens.next();
            if tokens.takes("rate") {
                return rate(tokens, rule);
            }
            if !tokens.takes("name") {
                return None;
            }
            let name = tokens.word()?;
            rule.parts.push(Part::OverLimit(name));
        }
        "dnat" => send_on(tokens, rule)?,
        "snat" => {
            tokens.next();
            family_words(tokens);
            let address = tokens.word()?.parse().ok()?;
            rule.parts.push(Part::Disguise(Some(address)));
        }
        "masquerade" => {
            tokens.next();
            rule.parts.push(Part::Disguise(None));
        }
        _ => condition(tokens, rule)?,
    }
    Some(())
}

/// So many packets in a time; none of what is counted in bytes, or of what is above.
fn rate(tokens: &mut Cursor<'_>, rule: &mut Rule) -> Option<()> {
    let rate = tokens.word()?;
    let (packets, per) = rate.split_once('/')?;
    let enough = super::logged::is_enough(packets.parse().ok()?, per)?;
    if tokens.takes("burst") {
        let _: u32 = tokens.word()?.parse().ok()?;
        if !tokens.takes("packets") {
            return None;
        }
    }
    rule.parts.push(Part::Rate { enough, says: format!("limit rate {rate}") });
    Some(())
}

fn reject(tokens: &mut Cursor<'_>, rule: &mut Rule) -> Option<()> {
    tokens.next();
    let mut how = Refusal::Other;
    if tokens.takes("with") {
        let protocol = tokens.word()?;
        tokens.takes("type");
        how = refusal(&protocol, &tokens.word()?)?;
    }
    rule.parts.push(Part::Reject(how));
    Some(())
}

/// How `reject with` refuses.
pub(super) fn refusal(protocol: &str, kind: &str) -> Option<Refusal> {
    let others = ["port-unreachable", "host-unreachable", "no-route", "net-unreachable"];
    let more = ["prot-unreachable", "net-prohibited", "host-prohibited", "addr-unreachable"];
    Some(match (protocol, kind) {
        ("tcp", "reset") => Refusal::Reset,
        ("icmp" | "icmpv6" | "icmpx", "admin-prohibited") => Refusal::Prohibited,
        ("icmp" | "icmpv6" | "icmpx", kind) if others.contains(&kind) => Refusal::Other,
        ("icmp" | "icmpv6", kind) if more.contains(&kind) => Refusal::Other,
        _ => return None,
    })
}

fn counter(tokens: &mut Cursor<'_>, rule: &mut Rule) -> Option<()> {
    tokens.next();
    if tokens.takes("name") {
        tokens.word()?;
    } else if tokens.takes("packets") {
        rule.hits = Some(tokens.word()?.parse().ok()?);
        if tokens.takes("bytes") {
            tokens.word()?;
        }
    }
    Some(())
}

fn log(tokens: &mut Cursor<'_>, rule: &mut Rule) -> Option<()> {
    tokens.next();
    let mut prefix = None;
    loop {
        if tokens.takes("prefix") {
            let Token::Quoted(words) = tokens.next()? else { return None };
            prefix = Some(words.clone());
        } else if ["group", "level", "snaplen", "queue-threshold"].iter().any(|w| tokens.sees(w)) {
            tokens.next();
            tokens.word()?;
        } else if tokens.takes("flags") {
            tokens.word()?;
        } else {
            rule.parts.push(Part::Log { prefix });
            return Some(());
        }
    }
}

fn family_words(tokens: &mut Cursor<'_>) {
    let _ = tokens.takes("ip") || tokens.takes("ip6");
    tokens.takes("to");
}

fn send_on(tokens: &mut Cursor<'_>, rule: &mut Rule) -> Option<()> {
    tokens.next();
    family_words(tokens);
    let (to, port) = address_and_port(&tokens.word()?)?;
    let ports = if let Some(port) = port {
        Ports::To(port)
    } else if tokens.takes(":") {
        if !["th", "dport", "map"].iter().all(|word| tokens.takes(word)) || !tokens.takes_sign('{')
        {
            return None;
        }
        let mut each = Vec::new();
        loop {
            tokens.skip_lines();
            if tokens.takes_sign('}') {
                break;
            }
            let from = port_word(&tokens.word()?)?;
            if !tokens.takes(":") {
                return None;
            }
            each.push((from, port_word(&tokens.word()?)?));
            tokens.takes_sign(',');
        }
        Ports::Each(each)
    } else {
        Ports::Same
    };
    rule.parts.push(Part::SendOn { to, ports });
    Some(())
}

fn port_word(word: &str) -> Option<u16> {
    match values::value(Key::Port(None), &Raw::of(word)).ok()? {
        Value::Numbers(low, high) if low == high => Some(low),
        _ => None,
    }
}

/// An address, with a port behind it if there is one: `192.0.2.1:80`, `[2001:db8::1]:80`.
fn address_and_port(word: &str) -> Option<(IpAddr, Option<u16>)> {
    if let Ok(address) = word.parse() {
        return Some((address, None));
    }
    let (address, port) = word.rsplit_once(':')?;
    let address = address.strip_prefix('[').and_then(|a| a.strip_suffix(']')).unwrap_or(address);
    Some((address.parse().ok()?, Some(port_word(port)?)))
}

/// What is over a limit of bytes a second.
pub(super) fn limit(tokens: &mut Cursor<'_>) -> Option<Limit> {
    if !tokens.takes("rate") {
        return None;
    }
    let over = tokens.takes("over");
    let number = tokens.word()?.parse::<u64>().ok()?;
    let unit = tokens.word()?;
    let (size, per) = unit.split_once('/')?;
    if per != "second" {
        return None;
    }
    let bytes_per_second = number.checked_mul(bytes(size)?)?;
    let mut burst_bytes = 0;
    if tokens.takes("burst") {
        let number = tokens.word()?.parse::<u64>().ok()?;
        burst_bytes = number.checked_mul(bytes(&tokens.word()?)?)?;
    }
    Some(Limit { bytes_per_second, burst_bytes, over })
}

/// How many bytes a unit of a rate has.
pub(super) fn bytes(unit: &str) -> Option<u64> {
    Some(match unit {
        "bytes" => 1,
        "kbytes" => 1 << 10,
        "mbytes" => 1 << 20,
        _ => return None,
    })
}

/// A condition, or a look-up.
fn condition(tokens: &mut Cursor<'_>, rule: &mut Rule) -> Option<()> {
    let mut keys = vec![key(tokens)?];
    while tokens.takes(".") {
        keys.push(key(tokens)?);
    }
    if tokens.takes("vmap") {
        let map = looked(tokens, &keys)?;
        rule.parts.push(Part::Look { keys, map });
        return Some(());
    }
    if keys == [Key::Mark] && tokens.takes("set") {
        let mark = values::mark(&tokens.word()?)?;
        rule.parts.push(Part::Mark(mark));
        return Some(());
    }
    let mut not = false;
    if keys == [Key::Status] && tokens.takes_sign('&') {
        // `ct status & dnat == 0`
        let zero = tokens.takes("dnat")
            && tokens.takes_sign('=')
            && tokens.takes_sign('=')
            && tokens.takes("0");
        if !zero {
            return None;
        }
        let values = Values::Given(vec![vec![Value::Translated]]);
        rule.parts.push(Part::Test(Test { keys, not: true, values }));
        return Some(());
    }
    if tokens.takes_sign('=') {
        if !tokens.takes_sign('=') {
            return None;
        }
    } else if tokens.takes_sign('!') {
        not = true;
        // `ct status ! dnat` is how the kernel's tool prints that a bit is not set.
        if !tokens.takes_sign('=') && keys != [Key::Status] {
            return None;
        }
    } else if tokens.sees_sign('<') || tokens.sees_sign('>') || tokens.sees_sign('&') {
        return None;
    }
    let values = compared(tokens, &keys)?;
    rule.parts.push(Part::Test(Test { keys, not, values }));
    Some(())
}

fn compared(tokens: &mut Cursor<'_>, keys: &[Key]) -> Option<Values> {
    if let Some(Token::Word(word)) = tokens.peek()
        && let Some(name) = word.strip_prefix('@')
    {
        tokens.next();
        return Some(Values::Set(name.to_owned()));
    }
    let mut all = Vec::new();
    if tokens.takes_sign('{') {
        loop {
            tokens.skip_lines();
            if tokens.takes_sign('}') {
                return Some(Values::Given(all));
            }
            all.push(tuple(tokens, keys)?);
            tokens.skip_lines();
            if !tokens.takes_sign(',') && !tokens.sees_sign('}') {
                return None;
            }
        }
    }
    all.push(tuple(tokens, keys)?);
    // Bits of the connection tracking may be listed: `established,related`.
    while matches!(keys, [Key::State]) && tokens.takes_sign(',') {
        all.push(tuple(tokens, keys)?);
    }
    Some(Values::Given(all))
}

fn tuple(tokens: &mut Cursor<'_>, keys: &[Key]) -> Option<Vec<Value>> {
    let mut values = Vec::new();
    for (place, key) in keys.iter().enumerate() {
        if place > 0 && !tokens.takes(".") {
            return None;
        }
        values.push(values::value(*key, &tokens.raw(*key)?).ok()?);
    }
    Some(values)
}

fn looked(tokens: &mut Cursor<'_>, keys: &[Key]) -> Option<Looked> {
    if let Some(Token::Word(word)) = tokens.peek()
        && let Some(name) = word.strip_prefix('@')
    {
        tokens.next();
        return Some(Looked::Map(name.to_owned()));
    }
    if !tokens.takes_sign('{') {
        return None;
    }
    let mut all = Vec::new();
    loop {
        tokens.skip_lines();
        if tokens.takes_sign('}') {
            return Some(Looked::Given(all));
        }
        let values = tuple(tokens, keys)?;
        if !tokens.takes(":") {
            return None;
        }
        all.push((values, tokens.verdict()?));
        tokens.skip_lines();
        if !tokens.takes_sign(',') && !tokens.sees_sign('}') {
            return None;
        }
    }
}

fn key(tokens: &mut Cursor<'_>) -> Option<Key> {
    let word = tokens.word()?;
    Some(match word.as_str() {
        "meta" => {
            let field = tokens.word()?;
            meta(&field)?
        }
        "iifname" | "oifname" | "iif" | "oif" => meta(&word)?,
        "ip" | "ip6" => {
            let field = tokens.word()?;
            network_field(&word, &field)?
        }
        "tcp" | "udp" | "sctp" | "dccp" | "udplite" | "th" => {
            if !tokens.takes("dport") {
                return None;
            }
            Key::Port(values::protocol(&word))
        }
        "icmp" | "icmpv6" => {
            let family = if word == "icmp" { Family::V4 } else { Family::V6 };
            match tokens.word()?.as_str() {
                "type" => Key::IcmpType(family),
                "code" => Key::IcmpCode(family),
                _ => return None,
            }
        }
        "ct" => match tokens.word()?.as_str() {
            "state" => Key::State,
            "status" => Key::Status,
            "mark" => Key::Mark,
            _ => return None,
        },
        "fib" => {
            let end = match tokens.word()?.as_str() {
                "saddr" => End::Source,
                "daddr" => End::Destination,
                _ => return None,
            };
            if !tokens.takes("type") {
                return None;
            }
            Key::Local(end)
        }
        _ => return None,
    })
}

/// A field of the kernel's own.
pub(super) fn meta(field: &str) -> Option<Key> {
    Some(match field {
        "iifname" | "iif" => Key::Interface(Side::In),
        "oifname" | "oif" => Key::Interface(Side::Out),
        "nfproto" | "protocol" => Key::Family,
        "l4proto" => Key::Protocol(None),
        "day" => Key::Day,
        "hour" => Key::Hour,
        _ => return None,
    })
}

/// A field of the IP header.
pub(super) fn network_field(protocol: &str, field: &str) -> Option<Key> {
    let family = match protocol {
        "ip" => Family::V4,
        "ip6" => Family::V6,
        _ => return None,
    };
    Some(match field {
        "saddr" => Key::Address(family, End::Source),
        "daddr" => Key::Address(family, End::Destination),
        "protocol" if family == Family::V4 => Key::Protocol(Some(family)),
        "nexthdr" if family == Family::V6 => Key::Protocol(Some(family)),
        _ => return None,
    })
}
