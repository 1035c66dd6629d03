//! Reads text into a rule set: tables, sets, maps, limits and chains, as nft(8) describes them.

mod sets;

use super::cursor::Cursor;
use super::lexer::tokens;
use super::ruleset::{Chain, Hook, Limit, Problem, Ruleset, Table};
use super::statement;
use std::collections::HashSet;

/// The longest part of a rule that is shown.
const MOST_SHOWN: usize = 160;

/// Reads a text.
///
/// # Errors
/// The first place that is no rule set at all.
pub(crate) fn ruleset(text: &str) -> Result<Ruleset, Problem> {
    let lines: Vec<&str> = text.lines().collect();
    let all = tokens(text).map_err(|(line, what)| at_line(line, what))?;
    let mut reader = Reader {
        lines: &lines,
        tokens: Cursor::new(&all),
        read: Ruleset::default(),
        known: HashSet::new(),
        emptied: HashSet::new(),
        fresh: true,
    };
    reader.all()?;
    reader.read.replaces = reader.fresh && !reader.read.tables.is_empty();
    Ok(reader.read)
}

fn at_line(line: usize, what: impl Into<String>) -> Problem {
    Problem { at: format!("line {line}"), what: what.into() }
}

type Name = (String, String);

struct Reader<'t> {
    lines: &'t [&'t str],
    tokens: Cursor<'t>,
    read: Ruleset,
    /// The tables that are there for sure at this place of the file.
    known: HashSet<Name>,
    /// Those that are empty by then, whatever the gateway had.
    emptied: HashSet<Name>,
    /// Whether all that was filled so far was empty before.
    fresh: bool,
}

impl Reader<'_> {
    fn problem<T>(&self, what: impl Into<String>) -> Result<T, Problem> {
        Err(at_line(self.tokens.line(), what))
    }

    fn all(&mut self) -> Result<(), Problem> {
        loop {
            self.tokens.skip_ends();
            let Some(word) = self.tokens.word() else {
                return match self.tokens.next() {
                    None => Ok(()),
                    Some(_) => self.problem("a sign where a command should begin"),
                };
            };
            match word.as_str() {
                "table" => self.table()?,
                "add" if self.tokens.takes("table") => self.table()?,
                "delete" | "flush" if self.tokens.takes("table") => {
                    let name = self.table_name()?;
                    self.empty(name, word == "delete")?;
                    self.end()?;
                }
                "flush" if self.tokens.takes("ruleset") => {
                    self.read.tables.clear();
                    self.known.clear();
                    // Whatever table comes now was not there before.
                    self.emptied.insert((String::new(), String::new()));
                    self.fresh = true;
                    self.end()?;
                }
                other => return self.problem(format!("the command `{other}`")),
            }
        }
    }

    fn end(&mut self) -> Result<(), Problem> {
        if self.tokens.at_end() { Ok(()) } else { self.problem("more than a command says") }
    }

    /// A family, if it is said, and a name.
    fn table_name(&mut self) -> Result<Name, Problem> {
        let families = ["ip", "ip6", "inet", "arp", "bridge", "netdev"];
        let Some(first) = self.tokens.word() else { return self.problem("a table without a name") };
        if families.contains(&first.as_str())
            && let Some(name) = self.tokens.word()
        {
            return Ok((first, name));
        }
        Ok(("ip".to_owned(), first))
    }

    fn empty(&mut self, name: Name, gone: bool) -> Result<(), Problem> {
        if !self.known.contains(&name) {
            return self.problem(format!("table {} {} may not be there", name.0, name.1));
        }
        let filled = |table: &Table| table.family == name.0 && table.name == name.1;
        if gone {
            self.read.tables.retain(|table| !filled(table));
            self.known.remove(&name);
            self.emptied.insert(name);
        } else {
            // Its sets and chains stay; only the rules go.
            for table in self.read.tables.iter_mut().filter(|table| filled(table)) {
                table.chains.iter_mut().for_each(|chain| chain.rules.clear());
            }
        }
        Ok(())
    }

    fn table(&mut self) -> Result<(), Problem> {
        let name = self.table_name()?;
        self.known.insert(name.clone());
        if !self.tokens.takes_sign('{') {
            return self.end();
        }
        let whole = (String::new(), String::new());
        self.fresh &= self.emptied.contains(&name) || self.emptied.contains(&whole);
        let place = self.read.tables.iter().position(|t| t.family == name.0 && t.name == name.1);
        let place = place.unwrap_or_else(|| {
            let (family, name) = name.clone();
            self.read.tables.push(Table { family, name, ..Table::default() });
            self.read.tables.len() - 1
        });
        loop {
            self.tokens.skip_ends();
            if self.tokens.takes_sign('}') {
                return Ok(());
            }
            let Some(kind) = self.tokens.word() else {
                return self.problem("a table that is not closed");
            };
            self.part(place, &kind)?;
        }
    }

    fn part(&mut self, table: usize, kind: &str) -> Result<(), Problem> {
        match kind {
            "set" | "map" | "limit" | "chain" => {}
            "comment" => {
                self.tokens.next();
                return Ok(());
            }
            "flags" => return self.problem("a table with flags"),
            // Counters, quotas and helpers decide nothing until a rule asks for one.
            "counter" | "quota" | "secmark" | "synproxy" | "flowtable" | "ct" => {
                let line = self.tokens.line();
                if kind == "flowtable" {
                    let what = "a flow table: what goes by it passes no chain";
                    self.read.unread.push(at_line(line, what));
                }
                return self.tokens.skip_block().map_err(|what| at_line(self.tokens.line(), what));
            }
            other => return self.problem(format!("`{other}` in a table")),
        }
        let Some(name) = self.tokens.word() else { return self.problem("a name is missing") };
        if !self.tokens.takes_sign('{') {
            return self.problem(format!("{kind} {name} has no content"));
        }
        let known = &self.read.tables[table];
        let twice = match kind {
            "set" | "map" => known.sets.contains_key(&name) || known.maps.contains_key(&name),
            "limit" => known.limits.contains_key(&name),
            _ => known.chain(&name).is_some(),
        };
        if twice {
            return self.problem(format!("{kind} {name} for the second time"));
        }
        match kind {
            "set" => {
                let set = sets::set(&mut self.tokens)?;
                self.read.tables[table].sets.insert(name, set);
            }
            "map" => {
                let map = sets::map(&mut self.tokens)?;
                self.read.tables[table].maps.insert(name, map);
            }
            "limit" => {
                let limit = self.limit()?;
                self.read.tables[table].limits.insert(name, limit);
            }
            _ => {
                let chain = self.chain(name, table)?;
                self.read.tables[table].chains.push(chain);
            }
        }
        Ok(())
    }

    fn limit(&mut self) -> Result<Limit, Problem> {
        self.tokens.skip_ends();
        let limit = statement::limit(&mut self.tokens);
        let Some(limit) = limit else {
            return self.problem("a limit that is not of bytes a second");
        };
        self.tokens.skip_ends();
        if self.tokens.takes("comment") {
            self.tokens.next();
            self.tokens.skip_ends();
        }
        if self.tokens.takes_sign('}') { Ok(limit) } else { self.problem("a limit not closed") }
    }

    fn chain(&mut self, name: String, table: usize) -> Result<Chain, Problem> {
        let mut chain = Chain { name, ..Chain::default() };
        loop {
            self.tokens.skip_ends();
            if self.tokens.takes_sign('}') {
                return Ok(chain);
            }
            if self.tokens.is_done() {
                return self.problem("a chain that is not closed");
            }
            if self.tokens.sees("type") {
                if chain.hook.is_some() || !chain.rules.is_empty() {
                    return self.problem("a chain with two hooks, or one below its rules");
                }
                chain.hook = Some(self.hook()?);
                continue;
            }
            if self.tokens.takes("policy") {
                let (Some(hook), Some(word)) = (&mut chain.hook, self.tokens.word()) else {
                    return self.problem("a policy without a hook");
                };
                match word.as_str() {
                    "drop" => hook.drops = true,
                    "accept" => hook.drops = false,
                    other => return self.problem(format!("the policy `{other}`")),
                }
                continue;
            }
            let line = self.tokens.line();
            let mut rule = statement::rule(&mut self.tokens).map_err(|what| at_line(line, what))?;
            let written = self.lines.get(line - 1).map_or("", |text| text.trim());
            rule.says = written.chars().take(MOST_SHOWN).collect();
            let table = &self.read.tables[table];
            rule.at = format!("{} {}, line {line}", table.name, chain.name);
            chain.rules.push(rule);
        }
    }

    fn hook(&mut self) -> Result<Hook, Problem> {
        self.tokens.takes("type");
        let (kind, hook) = (self.tokens.word(), self.tokens.takes("hook"));
        let (Some(kind), true, Some(hook)) = (kind, hook, self.tokens.word()) else {
            return self.problem("a hook that is not known");
        };
        if self.tokens.takes("device") || self.tokens.takes("devices") {
            return self.problem("a hook on a device");
        }
        if !self.tokens.takes("priority") {
            return self.problem("a hook without a priority");
        }
        let Some(priority) = self.priority() else { return self.problem("the priority") };
        Ok(Hook { kind, hook, priority, drops: false })
    }

    fn priority(&mut self) -> Option<i64> {
        let word = self.tokens.word()?;
        let Some(named) = named_priority(&word) else { return word.parse().ok() };
        let sign = if self.tokens.takes("+") {
            1
        } else if self.tokens.takes("-") {
            -1
        } else {
            return Some(named);
        };
        Some(named + sign * self.tokens.word()?.parse::<u32>().map(i64::from).ok()?)
    }
}

/// The names of priorities (nft(8), table 6).
pub(super) fn named_priority(word: &str) -> Option<i64> {
    Some(match word {
        "raw" => -300,
        "mangle" => -150,
        "dstnat" => -100,
        "filter" => 0,
        "security" => 50,
        "srcnat" => 100,
        _ => return None,
    })
}
