//! Many questions, one after the other.
//!
//! Endpoints and services are resolved once for all questions. A question about two single addresses and one service
//! is looked up in tables that are laid out once; any other is asked as [`ask`](super::ask) does.

use super::{End, NoAnswer, found};
use crate::diagnosis::{Diagnose, Diagnosis};
use crate::meaning::Meaning;
use crate::plan::{Plan, Services};
use crate::proof::{self, Ready};
use crate::rules::{Rule, RuleIndex, RuleSet};
use crate::source::Text;
use crate::space::{Ends, Interface, IntervalSet, Minute, Packet, ServicePoint};
use crate::verdict::{Cause, Decision, Verdict};
use std::collections::HashMap;
use std::net::IpAddr;

/// A short answer.
#[derive(Clone, Copy, Debug)]
#[non_exhaustive]
pub struct Brief<'r> {
    /// What happens to all of the packets; `None` if it is not the same to all.
    pub verdict: Option<Verdict>,
    /// Whether the first of them is logged.
    pub logged: bool,
    /// What decides the first of them.
    pub cause: Cause,
    /// The rule that does, if one does.
    pub rule: Option<&'r Rule>,
    /// Whether the rules match the plan. Always so, or Bastium has a fault.
    pub agrees: bool,
}

/// Why a question has no answer.
#[derive(Clone, Debug)]
pub enum Unasked {
    /// Its words mean nothing here.
    Words(Vec<Diagnosis>),
    /// It is about nothing.
    Nothing(NoAnswer),
}

/// Answers question after question.
pub struct Asker<'a> {
    meaning: &'a Meaning<'a>,
    rules: RuleIndex<'a>,
    ready: Ready<'a>,
    /// A minute for each set of the plan's hours that can hold at once: whatever fares alike in all of them
    /// does so all week.
    slots: Vec<Minute>,
    ends: HashMap<String, Result<End, Vec<Diagnosis>>>,
    services: HashMap<String, Result<Service, Vec<Diagnosis>>>,
    answers: HashMap<Question, Result<Brief<'a>, Unasked>>,
}

/// The words of a question: from, to, service; and the minutes.
type Question = (String, String, String, IntervalSet<Minute>);

#[derive(Clone, Debug)]
struct Service {
    services: Services,
    /// The one point that it is in IPv4, and in IPv6.
    points: [Option<ServicePoint>; 2],
}

/// Words that are remembered at most; a file with more addresses than that asks about each once.
const MOST_WORDS: usize = 100_000;

impl<'a> Asker<'a> {
    /// Gets ready.
    pub fn new(meaning: &'a Meaning<'a>, rules: &'a RuleSet<'a>, ready: Ready<'a>) -> Self {
        let slots = meaning.plan().moments();
        let (ends, services, answers) = (HashMap::new(), HashMap::new(), HashMap::new());
        let rules = RuleIndex::new(rules);
        Self { meaning, rules, ready, slots, ends, services, answers }
    }

    /// Answers one question, about the minutes of the week in `at`.
    ///
    /// # Errors
    /// Why it has no answer.
    pub fn ask(
        &mut self,
        from: &str,
        to: &str,
        service: &str,
        at: &IntervalSet<Minute>,
    ) -> Result<Brief<'a>, Unasked> {
        if let Some(packet) = self.packet(from, to, service)
            && let Some(brief) = self.at_all(packet, at)
        {
            return Ok(brief);
        }
        // Tables of questions repeat themselves.
        let question = (from.to_owned(), to.to_owned(), service.to_owned(), at.clone());
        if let Some(known) = self.answers.get(&question) {
            return known.clone();
        }
        let answer = self.as_a_whole(&question);
        if self.answers.len() < MOST_WORDS {
            self.answers.insert(question, answer.clone());
        }
        answer
    }

    fn as_a_whole(&mut self, question: &Question) -> Result<Brief<'a>, Unasked> {
        let (from, to, service, at) = question;
        let (meaning, plan) = (self.meaning, self.meaning.plan());
        let mut problems = Vec::new();
        let mut known = |result: Result<End, Vec<Diagnosis>>| {
            result.map_err(|found| problems.extend(found)).ok()
        };
        let (from, to) = (known(self.end(plan, from)), known(self.end(plan, to)));
        let service = self.service(plan, service).map_err(|found| problems.extend(found)).ok();
        let (Some(from), Some(to), Some(service)) = (from, to, service) else {
            return Err(Unasked::Words(problems));
        };
        let answer = found(meaning, (&from, &to, &service.services, at));
        let answer = answer.map_err(Unasked::Nothing)?;
        let first = answer.shares.first().ok_or(Unasked::Nothing(NoAnswer::NoCommonFamily))?;
        let filtered = first.decision.verdict.is_filtered();
        Ok(Brief {
            verdict: answer.verdict,
            logged: first.decision.logged,
            cause: first.decision.cause,
            rule: self.ready.outcome(&first.packet).rule.filter(|_| filtered),
            agrees: proof::differences_by(meaning, &self.rules, &answer.packets).is_empty(),
        })
    }

    /// The one packet that a question is about, if it is about just one, and that from where it belongs.
    fn packet(&mut self, from: &str, to: &str, service: &str) -> Option<Packet> {
        let (source, destination): (IpAddr, IpAddr) = (from.parse().ok()?, to.parse().ok()?);
        let ends = Ends::new(source, destination)?;
        let plan = self.meaning.plan();
        if [source, destination].iter().any(|end| plan.stand_in_words(*end).is_some()) {
            return None;
        }
        let v6 = usize::from(source.is_ipv6());
        if !self.services.contains_key(service) {
            let _ = self.service(plan, service);
        }
        let point = self.services.get(service)?.as_ref().ok()?.points[v6]?;
        let enters = self.enters(source)?;
        Some(Packet::new(enters, ends, point))
    }

    /// What happens to a packet at all of these minutes, if it is always the same.
    fn at_all(&self, packet: Packet, at: &IntervalSet<Minute>) -> Option<Brief<'a>> {
        let minutes = match at.spans() {
            [(first, last)] if first == last => std::slice::from_ref(first),
            _ if at.is_full() => self.slots.as_slice(),
            _ => return None,
        };
        let mut briefs = minutes.iter().map(|at| self.look_up(&Packet { at: *at, ..packet }));
        let first = briefs.next()?;
        let same = |brief: Brief<'_>| {
            (brief.verdict, brief.logged, brief.cause) == (first.verdict, first.logged, first.cause)
                && brief.agrees == first.agrees
        };
        briefs.all(same).then_some(first)
    }

    /// The interface where a source belongs, if it is the only one.
    fn enters(&self, source: IpAddr) -> Option<Interface> {
        let plan = self.meaning.plan();
        let belongs = |interface: &Interface| self.ready.belongs(*interface, source);
        let mut interfaces = (0..plan.gateway_interface().0).map(Interface).filter(belongs);
        // What asks from outside for an offered host is asked by the way of the offer.
        let only = interfaces.next().filter(|_| interfaces.next().is_none())?;
        let offered = plan.uplink_on(only).is_some() && !plan.inbounds().is_empty();
        (!offered).then_some(only)
    }

    fn look_up(&self, packet: &Packet) -> Brief<'a> {
        let Decision { verdict, logged, cause } = self.ready.decision(packet);
        let brief = Brief { verdict: Some(verdict), logged, cause, rule: None, agrees: true };
        if !verdict.is_filtered() {
            return brief;
        }
        let outcome = self.ready.outcome(packet);
        let agrees = proof::agrees(Decision { verdict, logged, cause }, outcome);
        Brief { rule: outcome.rule, agrees, ..brief }
    }

    fn end(&mut self, plan: &Plan, words: &str) -> Result<End, Vec<Diagnosis>> {
        if let Some(known) = self.ends.get(words) {
            return known.clone();
        }
        let end = End::new(plan, words)
            .map_err(|problems| problems.iter().map(Diagnose::diagnose).collect());
        if self.ends.len() < MOST_WORDS {
            self.ends.insert(words.to_owned(), end.clone());
        }
        end
    }

    fn service(&mut self, plan: &Plan, words: &str) -> Result<Service, Vec<Diagnosis>> {
        if let Some(known) = self.services.get(words) {
            return known.clone();
        }
        let items = words.split([',', ' ']).filter(|word| !word.is_empty());
        let items: Vec<Text> = items.map(Text::new).collect();
        let items = if items.is_empty() { vec![Text::new("any")] } else { items };
        let service = plan.service(&items).map(|services| {
            let point = |line: &IntervalSet<ServicePoint>| match line.spans() {
                [(low, high)] if low == high => Some(*low),
                _ => None,
            };
            let points = [point(&services.set.v4), point(&services.set.v6)];
            Service { services, points }
        });
        let service =
            service.map_err(|problems| problems.iter().map(Diagnose::diagnose).collect::<Vec<_>>());
        if self.services.len() < MOST_WORDS {
            self.services.insert(words.to_owned(), service.clone());
        }
        service
    }
}
