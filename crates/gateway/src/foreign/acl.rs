//! Access control lists of RFC 8519 as lines over pairs of interfaces.

use super::{Foreign, ForeignLine, Named, NotAList, NotUnderstood, Ways, next};
use crate::acl_json::read::{Acls, Entry, List};
use bastium_core::plan::{Action, Plan};
use bastium_core::rules::PlanlessLine;
use bastium_core::space::{Interface, IntervalSet, Match};

/// Reads the lists: those that are put on interfaces, on what enters there; else all of them, in order.
pub(super) fn read(acls: Acls, plan: Option<&Plan>) -> Result<Foreign, NotAList> {
    let ways = plan.map_or_else(|| Ways::between(names(&acls)), Ways::of)?;
    let named = Named::of(plan);
    let not_understood =
        acls.unclear().into_iter().map(|(at, what)| NotUnderstood { at, what }).collect();
    let mut reader = Reader { ways, named, lines: Vec::new(), not_understood };
    for point in acls.points() {
        // These lists see packets as they come, before anything is translated.
        let here = reader.ways.entering(|name| name == point.interface);
        let here = here.difference(&reader.ways.translated());
        if point.lists(true).next().is_some() {
            let what = "lists for what goes out".to_owned();
            reader.not_understood.push(NotUnderstood { at: point.at(), what });
        }
        let lists: Vec<&List> = point.lists(false).filter_map(|name| acls.list(name)).collect();
        for list in &lists {
            reader.list(list, &here);
        }
        if !lists.is_empty() {
            reader.end(&format!("{}, its end", point.at()), here);
        }
    }
    if acls.points().is_empty() {
        let from_outside = reader.ways.some(|from| from != reader.ways.plain, |_| true);
        for list in &acls.lists {
            reader.list(list, &from_outside);
        }
        reader.end("the end", from_outside);
    }
    let rules = reader.lines.iter().filter(|line| !line.end).count();
    Ok(Foreign {
        ways: reader.ways,
        lines: reader.lines,
        not_understood: reader.not_understood,
        replies: None,
        tells_limits: false,
        rules,
        exhausted: false,
        ruleset: None,
        acls: Some(acls).filter(|acls| !acls.points().is_empty()),
    })
}

fn names(acls: &Acls) -> Vec<String> {
    let mut names: Vec<String> = Vec::new();
    let attached = acls.points().iter().map(|point| point.interface.as_str());
    for name in attached.chain(acls.lists.iter().flat_map(List::interfaces)) {
        if !names.iter().any(|known| known == name) {
            names.push(name.to_owned());
        }
    }
    names
}

struct Reader {
    ways: Ways,
    named: Named,
    lines: Vec<ForeignLine>,
    not_understood: Vec<NotUnderstood>,
}

impl Reader {
    fn list(&mut self, list: &List, here: &IntervalSet<Interface>) {
        for mut entry in list.entries() {
            let at = format!("{}, {}", list.name, entry.name);
            // Which packets come from a port is nothing that first packets are distinguished by.
            if entry.from.is_some() && !entry.segments.are_answers() {
                entry.unclear.push("`source-port`".to_owned());
            }
            let sure = entry.unclear.is_empty();
            let not_understood = entry.unclear.iter();
            self.not_understood.extend(
                not_understood.map(|what| NotUnderstood { at: at.clone(), what: what.clone() }),
            );
            let Some(action) = entry.action else { continue };
            let number = next(self.lines.len());
            let matches = vec![self.product(&entry, here)];
            let bare = PlanlessLine::new(&entry.name, number, matches, action, entry.log);
            self.lines.push(ForeignLine {
                bare,
                at,
                sure,
                hits: entry.hits,
                limit: None,
                end: false,
            });
        }
    }

    fn product(&self, entry: &Entry, here: &IntervalSet<Interface>) -> Match {
        let mut enters = here.clone();
        if let Some(name) = &entry.ingress {
            enters = enters.intersection(&self.ways.entering(|own| own == name));
        }
        if let Some(name) = &entry.egress {
            enters = enters.intersection(&self.ways.leaving(|own| own == name));
        }
        if entry.segments.are_answers() {
            enters = IntervalSet::empty();
        }
        Match {
            enters,
            source: self.named.meant_by(entry.source.clone()),
            destination: self.named.meant_by(entry.destination.clone()),
            service: entry.service.clone(),
            ..Match::everything()
        }
    }

    /// What no entry takes is dropped.
    fn end(&mut self, at: &str, here: IntervalSet<Interface>) {
        let rest = vec![Match { enters: here, ..Match::everything() }];
        let bare = PlanlessLine::new("the end", next(self.lines.len()), rest, Action::Block, false);
        self.lines.push(ForeignLine {
            bare,
            at: at.to_owned(),
            sure: true,
            hits: None,
            limit: None,
            end: true,
        });
    }
}
