//! Leads from the running table to another one in a single transaction.
//!
//! A file that takes the place of the whole table also takes away counters, and the addresses that the name server has put
//! into its sets. Where it is known what the running table was loaded from, only what differs is written: rules are named by
//! the handles that the kernel gave them, and what did not change is not touched. Where it is not known, the whole table is
//! replaced, and the name server's addresses are put into the new one. What it found for a domain that stands for other names now
//! is kept in neither case, as far as that is known.

use similar::{Algorithm, DiffOp, capture_diff_slices};
use std::collections::HashMap;
use std::fmt::Write;

/// The table that runs on a gateway.
#[derive(Clone, Copy, Debug, Default)]
#[non_exhaustive]
pub struct RunningTable<'a> {
    /// The file that it was loaded from, if that is known for certain: one of [`nftables`](super::nftables).
    pub loaded_from: Option<&'a str>,
    /// What `nft -a -s list table inet bastium` prints: its lines with their handles.
    pub handles: &'a str,
    /// What `nft list table inet bastium` prints: with counters, and all that its sets hold.
    pub listing: &'a str,
}

impl<'a> RunningTable<'a> {
    /// The table, from its listings and from what it was loaded from.
    pub fn new(listing: &'a str, handles: &'a str, loaded_from: Option<&'a str>) -> Self {
        Self { loaded_from, handles, listing }
    }
}

/// What leads from one table to the other.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct Transaction {
    /// A file for `nft -f`.
    pub text: String,
    /// How many rules stay untouched, with their counters; `None` where the whole table is replaced.
    pub kept: Option<usize>,
    /// How many rules are new.
    pub added: usize,
    /// How many go.
    pub removed: usize,
}

/// From the running table to the one of a file of [`nftables`](super::nftables).
pub fn transaction(running: RunningTable<'_>, new: &str) -> Transaction {
    let differs = running.loaded_from.and_then(|old| {
        let (old, new) = (Source::read(old)?, Source::read(new)?);
        Difference::new(&old, &new, &handles(running.handles))?.write()
    });
    differs.unwrap_or_else(|| replaced(running, new))
}

/// The sets of domains that stand for other names in the one of two files of [`nftables`](super::nftables) than in the other.
fn renamed<'a>(old: &Source<'a>, new: &Source<'a>) -> Vec<&'a str> {
    let of_domains = new.objects.iter().filter(|one| one.name.starts_with("domain_"));
    let other = |one: &&Object<'_>| {
        old.object(one.name, one.kind).is_some_and(|old| old.remark != one.remark)
    };
    of_domains.filter(other).map(|one| one.name).collect()
}

/// The whole table in place of whatever runs.
pub fn replaced(running: RunningTable<'_>, new: &str) -> Transaction {
    let sources =
        running.loaded_from.and_then(|old| Some((Source::read(old)?, Source::read(new)?)));
    let others = sources.map_or_else(Vec::new, |(old, new)| renamed(&old, &new));
    let kept = |name: &str| new.contains(&format!("\tset {name} {{")) && !others.contains(&name);
    let mut text = new.to_owned();
    for (name, elements) in found_names(running.listing).filter(|(name, _)| kept(name)) {
        let _ = writeln!(text, "add element inet {} {name} {{ {elements} }}", super::TABLE);
    }
    let rules = |source: &str| {
        let source = Source::read(source);
        source.map_or(0, |source| source.chains.iter().map(|chain| chain.rules.len()).sum())
    };
    let removed = handles(running.handles).values().map(Vec::len).sum();
    Transaction { text, kept: None, added: rules(new), removed }
}

/// The addresses that the name server has put into its sets, by set: one line each, as they are listed.
fn found_names(listing: &str) -> impl Iterator<Item = (&str, String)> {
    let sets = listing.split("\n\tset domain_").skip(1);
    sets.filter_map(|rest| {
        let block = rest.split("\n\t}").next()?;
        let (name, body) = block.split_once(" {")?;
        let name =
            &listing[offset(listing, name) - "domain_".len()..offset(listing, name) + name.len()];
        let (_, elements) = body.split_once("elements = {")?;
        let words = elements.trim_end().trim_end_matches('}').split(',').map(str::trim);
        Some((name, words.collect::<Vec<_>>().join(", ")))
    })
}

/// Where a part of a text begins in it.
fn offset(whole: &str, part: &str) -> usize {
    part.as_ptr() as usize - whole.as_ptr() as usize
}

/// The handles of the rules of each chain, in their order.
fn handles(listing: &str) -> HashMap<&str, Vec<u64>> {
    let mut chains: HashMap<&str, Vec<u64>> = HashMap::new();
    let mut chain = None;
    for line in listing.lines() {
        if let Some(name) = line.strip_prefix("\tchain ") {
            chain = name.split_once(' ').map(|(name, _)| name);
            chains.extend(chain.map(|name| (name, Vec::new())));
        } else if line.starts_with("\t}") {
            chain = None;
        } else if let Some(handles) = chain.and_then(|name| chains.get_mut(name)) {
            let handle =
                line.rsplit_once("# handle ").and_then(|(_, handle)| handle.parse::<u64>().ok());
            handles.extend(handle);
        }
    }
    chains
}

/// A file of ours, by its lines.
#[derive(Debug, Default)]
struct Source<'a> {
    /// Sets, maps and limits, in their order.
    objects: Vec<Object<'a>>,
    chains: Vec<Chain<'a>>,
}

#[derive(Debug)]
struct Object<'a> {
    kind: &'a str,
    name: &'a str,
    /// What is said above it: of a domain, its names.
    remark: Option<&'a str>,
    /// What it is: all but its elements.
    body: Vec<&'a str>,
    elements: Vec<&'a str>,
}

#[derive(Debug)]
struct Chain<'a> {
    name: &'a str,
    /// Where it hangs, if it hangs anywhere.
    hook: Option<&'a str>,
    rules: Vec<&'a str>,
}

impl<'a> Source<'a> {
    /// `None` where it is not written as ours are.
    fn read(text: &'a str) -> Option<Self> {
        let mut source = Self::default();
        let start = format!("\ntable inet {} {{\n", super::TABLE);
        let (_, table) = text.split_once(start.as_str())?;
        let (table, rest) = table.split_once("\n}\n")?;
        if !rest.trim().is_empty() {
            return None;
        }
        let mut lines = table.lines();
        let mut remark = None;
        while let Some(line) = lines.next() {
            if is_remark(line) {
                remark = Some(line.trim());
                continue;
            }
            let (kind, rest) = line.strip_prefix('\t')?.split_once(' ')?;
            let name = rest.strip_suffix(" {")?;
            let block = lines.by_ref().take_while(|line| *line != "\t}");
            let block: Vec<&str> = block.filter(|line| !is_remark(line)).collect();
            let remark = remark.take();
            match kind {
                "set" | "map" | "limit" => {
                    source.objects.push(Object { remark, ..Object::read(kind, name, &block)? });
                }
                "chain" => source.chains.push(Chain::read(name, &block)?),
                _ => return None,
            }
        }
        Some(source)
    }

    fn object(&self, name: &str, kind: &str) -> Option<&Object<'a>> {
        self.objects.iter().find(|one| one.name == name && one.kind == kind)
    }
}

/// Whether a line says nothing to the kernel.
fn is_remark(line: &str) -> bool {
    let line = line.trim();
    line.is_empty() || line.starts_with('#')
}

impl<'a> Object<'a> {
    fn read(kind: &'a str, name: &'a str, block: &[&'a str]) -> Option<Self> {
        let mut object = Self { kind, name, remark: None, body: Vec::new(), elements: Vec::new() };
        let mut lines = block.iter().map(|line| line.trim());
        while let Some(line) = lines.next() {
            if line == "elements = {" {
                let elements = lines.by_ref().take_while(|line| *line != "}");
                object.elements.extend(elements.map(|line| line.trim_end_matches(',')));
            } else if line.starts_with("elements") {
                return None;
            } else {
                object.body.push(line);
            }
        }
        Some(object)
    }

    fn same_kind(&self, other: &Self) -> bool {
        self.kind == other.kind && self.body == other.body
    }

    fn add(&self, out: &mut String) {
        let (kind, name) = (self.kind, self.name);
        let body = self.body.join("; ");
        let _ = writeln!(out, "add {kind} inet {} {name} {{ {body}; }}", super::TABLE);
        self.fill(out);
    }

    fn fill(&self, out: &mut String) {
        if !self.elements.is_empty() {
            let elements = self.elements.join(", ");
            let _ =
                writeln!(out, "add element inet {} {} {{ {elements} }}", super::TABLE, self.name);
        }
    }
}

impl<'a> Chain<'a> {
    fn read(name: &'a str, block: &[&'a str]) -> Option<Self> {
        let mut rules: Vec<&str> = Vec::new();
        let mut hook = None;
        for line in block.iter().map(|line| line.trim()) {
            match line.starts_with("type ") {
                true => hook = Some(line),
                // A rule over several lines is none of ours.
                false if line.ends_with(['{', ',']) => return None,
                false => rules.push(line),
            }
        }
        Some(Self { name, hook, rules })
    }
}

/// What differs between two files, with the handles of the one that runs.
struct Difference<'a> {
    old: &'a Source<'a>,
    new: &'a Source<'a>,
    handles: &'a HashMap<&'a str, Vec<u64>>,
}

impl<'a> Difference<'a> {
    /// `None` where something has to be made anew that others refer to.
    fn new(
        old: &'a Source<'a>,
        new: &'a Source<'a>,
        handles: &'a HashMap<&'a str, Vec<u64>>,
    ) -> Option<Self> {
        let known = |chain: &&Chain<'_>| {
            handles.get(chain.name).is_some_and(|all| all.len() == chain.rules.len())
        };
        let all_known =
            old.chains.iter().all(|chain| known(&chain)) && handles.len() == old.chains.len();
        let this = Self { old, new, handles };
        let same = new.objects.iter().all(|one| {
            this.old.objects.iter().filter(|old| old.name == one.name).all(|old| old.same_kind(one))
        });
        let hooks = this.pairs().all(|(old, new)| old.is_none_or(|old| old.hook == new.hook));
        let gone = |chain: &&Chain<'_>| new.chains.iter().all(|one| one.name != chain.name);
        let no_hook_goes = old.chains.iter().filter(gone).all(|chain| chain.hook.is_none());
        (all_known && same && hooks && no_hook_goes).then_some(this)
    }

    /// Each chain of the new file, with the one that runs.
    fn pairs(&self) -> impl Iterator<Item = (Option<&'a Chain<'a>>, &'a Chain<'a>)> {
        let old: HashMap<&str, &Chain<'a>> =
            self.old.chains.iter().map(|chain| (chain.name, chain)).collect();
        self.new.chains.iter().map(move |chain| (old.get(chain.name).copied(), chain))
    }

    /// In an order in which whatever is referred to is there, and nothing goes that is still referred to.
    fn write(&self) -> Option<Transaction> {
        let table = super::TABLE;
        let mut out =
            String::from("# What differs between the rules that run and those of the plan\n");
        let fresh = |one: &&Object<'_>| self.old.object(one.name, one.kind).is_none();
        for (_, chain) in self.pairs().filter(|(old, _)| old.is_none()) {
            match chain.hook {
                Some(hook) => writeln!(out, "add chain inet {table} {} {{ {hook}; }}", chain.name),
                None => writeln!(out, "add chain inet {table} {}", chain.name),
            }
            .ok()?;
        }
        self.new.objects.iter().filter(fresh).for_each(|one| one.add(&mut out));
        for one in self.new.objects.iter().filter(|one| !fresh(one)) {
            let old = self.old.object(one.name, one.kind)?;
            if sorted(&old.elements) != sorted(&one.elements) {
                writeln!(out, "flush {} inet {table} {}", one.kind, one.name).ok()?;
                one.fill(&mut out);
            }
        }
        for name in renamed(self.old, self.new) {
            writeln!(out, "flush set inet {table} {name}").ok()?;
        }
        let (mut kept, mut added, mut removed) = (0, 0, 0);
        for (old, new) in self.pairs() {
            let counts = self.chain(old, new, &mut out)?;
            (kept, added, removed) = (kept + counts.0, added + counts.1, removed + counts.2);
        }
        removed += self.take_away(&mut out)?;
        Some(Transaction { text: out, kept: Some(kept), added, removed })
    }

    /// The rules of a chain: how many stay, come and go.
    fn chain(
        &self,
        old: Option<&Chain<'_>>,
        new: &Chain<'_>,
        out: &mut String,
    ) -> Option<(usize, usize, usize)> {
        let table = super::TABLE;
        let nothing = Vec::new();
        let (rules, handles) = match old {
            Some(old) => (&old.rules, self.handles.get(old.name)?),
            None => (&nothing, &Vec::new()),
        };
        let mut counts = (0, 0, 0);
        for op in capture_diff_slices(Algorithm::Myers, rules, &new.rules) {
            let (came, gone) = match op {
                DiffOp::Equal { len, .. } => {
                    counts.0 += len;
                    continue;
                }
                _ => (op.new_range(), op.old_range()),
            };
            // Above the next one that stays; a line that stays is never in the range that goes.
            let before = handles.get(gone.end);
            for rule in &new.rules[came.clone()] {
                match before {
                    Some(handle) => {
                        writeln!(
                            out,
                            "insert rule inet {table} {} handle {handle} {rule}",
                            new.name
                        )
                    }
                    None => writeln!(out, "add rule inet {table} {} {rule}", new.name),
                }
                .ok()?;
            }
            for handle in &handles[gone.clone()] {
                writeln!(out, "delete rule inet {table} {} handle {handle}", new.name).ok()?;
            }
            counts = (counts.0, counts.1 + came.len(), counts.2 + gone.len());
        }
        Some(counts)
    }

    /// Chains, sets, maps and limits that nothing refers to any more; how many rules go with them.
    fn take_away(&self, out: &mut String) -> Option<usize> {
        let table = super::TABLE;
        let gone = |chain: &&Chain<'_>| self.new.chains.iter().all(|one| one.name != chain.name);
        let chains: Vec<_> = self.old.chains.iter().filter(gone).collect();
        for chain in &chains {
            writeln!(out, "flush chain inet {table} {}", chain.name).ok()?;
        }
        let gone = |one: &&Object<'_>| self.new.object(one.name, one.kind).is_none();
        let objects: Vec<_> = self.old.objects.iter().filter(gone).collect();
        // Maps lead to chains: first nothing may lead there.
        for map in objects.iter().filter(|one| one.kind == "map") {
            writeln!(out, "delete map inet {table} {}", map.name).ok()?;
        }
        for chain in &chains {
            writeln!(out, "delete chain inet {table} {}", chain.name).ok()?;
        }
        for one in objects.iter().filter(|one| one.kind != "map") {
            writeln!(out, "delete {} inet {table} {}", one.kind, one.name).ok()?;
        }
        Some(chains.iter().map(|chain| chain.rules.len()).sum())
    }
}

fn sorted<'a>(elements: &[&'a str]) -> Vec<&'a str> {
    let mut elements = elements.to_vec();
    elements.sort_unstable();
    elements
}

#[cfg(test)]
mod tests {
    use super::*;

    fn file(names: &str) -> String {
        format!(
            "#!/usr/sbin/nft -f\n\ntable inet bastium {{\n\t# {names}\n\tset domain_x_v4 {{\n\t\ttype ipv4_addr\n\t}}\n\
             \tchain a {{\n\t\tip daddr @domain_x_v4 accept\n\t}}\n}}\n"
        )
    }

    const LISTING: &str = "table inet bastium {\n\tset domain_x_v4 {\n\t\ttype ipv4_addr\n\
                           \t\telements = { 203.0.113.77 }\n\t}\n}\n";
    const HANDLES: &str =
        "table inet bastium {\n\tchain a {\n\t\tip daddr @domain_x_v4 accept # handle 3\n\t}\n}\n";

    /// What was found for names that a domain has no longer is not kept, whichever way the rules are loaded.
    #[test]
    fn what_was_found_for_other_names_goes() {
        let old = file("a.example.net, b.example.net");
        for (names, stays) in [("a.example.net, b.example.net", true), ("c.example.net", false)] {
            let running = RunningTable::new(LISTING, HANDLES, Some(&old));
            let new = file(names);
            let difference = transaction(running, &new);
            assert_eq!(difference.kept, Some(1), "{}", difference.text);
            let flushed = difference.text.contains("flush set inet bastium domain_x_v4\n");
            assert_eq!(flushed, !stays, "{}", difference.text);
            let whole = replaced(running, &new);
            assert_eq!(whole.text.contains("203.0.113.77"), stays, "{}", whole.text);
        }
    }
}
