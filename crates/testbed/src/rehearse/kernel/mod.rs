//! The rehearsal in the kernel: a site is built, the rules are loaded unchanged, and every check is made with real
//! packets from real sockets.

mod by_hand;
mod leases;
mod time_slots;

use super::attempts::{attempt, heard_as};
use super::paper::{NOT_FILTERED, judge};
use super::{Report, Tried, Wrong, hits, untried, witnesses};
use crate::layout::Layout;
use crate::probe::Seen;
use crate::site::{Asked, Attempt, Fate, Judged, Names, Site, Testbed, Undone};
use bastium_core::checklist::{Check, Checklist};
use bastium_core::meaning::Meaning;
use bastium_core::plan::Plan;
use bastium_core::rules::RuleSet;
use bastium_core::space::{Minute, Packet, Protocol};
use std::collections::{HashMap, HashSet};
use std::io;
use std::net::IpAddr;
use std::time::Instant;
use time_slots::TimeSlot;

/// What a rehearsal is made with.
pub struct Inputs<'a> {
    /// The rules, as they are loaded.
    pub rules: &'a str,
    /// Writes the rules fixed as they hold in a minute of the week; `None` where they cannot be.
    pub rules_at: &'a dyn Fn(Minute) -> Option<String>,
    /// The file for the gateway's name and lease server.
    pub names_and_leases: &'a str,
    /// The ids of rules, by the comments of their lines.
    pub ids: HashMap<String, String>,
}

/// Why there was no rehearsal.
#[derive(Debug, thiserror::Error)]
pub enum Unrehearsed {
    /// The plan does not name the interfaces.
    #[error("the plan does not name the gateway's interfaces")]
    NoInterfaces,
    /// The site could not be built, or the rules not be loaded.
    #[error(transparent)]
    Site(#[from] Undone),
    /// The gateway's name and lease server did not start.
    #[error("the name and lease server does not run: {0}")]
    Server(#[source] io::Error),
    /// The kernel did not do its part.
    #[error("the kernel does not do its part: {0}")]
    Kernel(#[from] io::Error),
}

/// Rehearses a checklist in namespaces of this process, in which it must be already. `reported` gets how many
/// of how many are done.
///
/// # Errors
/// When the site cannot be built or the rules not be loaded.
pub fn in_kernel(
    meaning: &Meaning<'_>,
    rules: &RuleSet,
    list: &Checklist,
    inputs: &Inputs<'_>,
    mut reported: impl FnMut(usize, usize),
) -> Result<Report, Unrehearsed> {
    let begun = Instant::now();
    let alive = witnesses(meaning, rules);
    let layout = Layout::of(meaning.plan(), addresses(rules, list, &alive))
        .ok_or(Unrehearsed::NoInterfaces)?;
    more_room_for_files();
    let mut site = Site::build(&layout.wires)?;
    site.answer_by_uplink(&layout.wires)?;
    site.load(inputs.rules)?;
    let names = Names::new(layout.names.iter().cloned());
    let mut testbed = Testbed::new(&mut site, names)?;
    let upstream = upstream(meaning.plan(), &layout);
    if let Some((cable, at)) = upstream {
        testbed.serve_names(cable, at)?;
    }
    let upstream = upstream.map(|(_, at)| at);
    let servant = testbed.start_dnsmasq(inputs.names_and_leases, upstream);
    let _servant = servant.map_err(Unrehearsed::Server)?;
    let set_up = begun.elapsed();
    let begun = Instant::now();
    let mut play = Runner {
        meaning,
        rules,
        layout: &layout,
        inputs,
        testbed,
        counts: HashMap::new(),
        moments: meaning.plan().moments(),
        alive,
        beyond: HashSet::new(),
    };
    let all = list.stands.iter().map(|stand| stand.checks.len()).sum();
    let tried = play.all(list, &mut |done| reported(done, all))?;
    let fixed = (inputs.rules_at)(Minute::default()).is_some();
    let may_match = |(id, packet): (&String, &Packet)| {
        let tried = fixed || play.was_hit(id) || play.time_of(packet).is_none();
        tried.then(|| id.clone())
    };
    let alive = play.alive.iter().filter_map(may_match);
    let rules = hits(rules, &play.counts, &alive.collect(), &play.beyond);
    Ok(Report { tried, rules, set_up, took: begun.elapsed() })
}

/// A site of many networks needs more open files than most processes.
fn more_room_for_files() {
    use rustix::process::{Resource, getrlimit, setrlimit};
    let mut limit = getrlimit(Resource::Nofile);
    limit.current = limit.maximum;
    // With less, a large site says itself what it lacks.
    let _ = setrlimit(Resource::Nofile, limit);
}

/// Every address that some check needs somebody at.
fn addresses(
    rules: &RuleSet,
    list: &Checklist,
    alive: &HashMap<String, Packet>,
) -> HashSet<IpAddr> {
    let checks = list.stands.iter().flat_map(|stand| &stand.checks).map(|check| check.packet);
    let packets = checks.chain(alive.values().copied());
    packets
        .flat_map(|packet| {
            [packet.source(), packet.destination(), rules.as_filtered(&packet).destination()]
        })
        .collect()
}

/// Where the gateway's name server asks for what it does not know: the first uplink's router.
fn upstream(plan: &Plan, layout: &Layout) -> Option<(usize, IpAddr)> {
    let cable = usize::from(plan.uplink_interfaces().first()?.0);
    let routers = &layout.wires.get(cable)?.routers;
    let router = routers.iter().find(|router| router.is_ipv4()).or(routers.first())?;
    Some((cable, *router))
}

/// Said of a check that is for other hours, where the rules cannot be fixed to these.
const OTHER_HOURS: &str = "it is for certain hours, to which these rules cannot be fixed";

struct Runner<'a, 's> {
    meaning: &'a Meaning<'a>,
    rules: &'a RuleSet<'a>,
    layout: &'a Layout,
    inputs: &'a Inputs<'a>,
    testbed: Testbed<'s>,
    counts: HashMap<String, u64>,
    /// A minute for each set of hours that can hold at once.
    moments: Vec<Minute>,
    /// For each rule that decides anything, a packet that it decides.
    alive: HashMap<String, Packet>,
    /// Rules of which no packet could be sent.
    beyond: HashSet<String>,
}

impl Runner<'_, '_> {
    fn all(
        &mut self,
        list: &Checklist,
        reported: &mut dyn FnMut(usize),
    ) -> Result<Vec<Tried>, Unrehearsed> {
        let mut tried: Vec<Tried> = Vec::new();
        let mut checks: Vec<&Check> = Vec::new();
        for stand in &list.stands {
            let from = stand.standpoint.name(self.meaning);
            tried.extend(stand.checks.iter().map(|check| {
                let filtered = self.meaning.decide(&check.packet).verdict.is_filtered();
                let detail = (!filtered).then(|| NOT_FILTERED.to_owned());
                Tried { detail, ..untried(check, from.clone()) }
            }));
            checks.extend(&stand.checks);
        }
        let mut done = 0;
        for scene in self.scenes(&checks) {
            if let Some(at) = scene.at {
                let Some(rules) = (self.inputs.rules_at)(at) else {
                    for number in &scene.checks {
                        tried[*number].detail = Some(OTHER_HOURS.to_owned());
                    }
                    continue;
                };
                self.end_scene()?;
                self.testbed.site().load(&rules)?;
            }
            self.learn_names()?;
            let before = done;
            for (number, asked) in self.scene(&checks, &scene, &mut |now| reported(before + now))? {
                self.settle(&mut tried[number], checks[number], asked);
            }
            done += scene.checks.len();
            if scene.at.is_none() {
                tried.extend(self.leases()?);
            }
            tried.extend(self.by_hand(scene.at)?);
        }
        self.end_scene()?;
        Ok(tried)
    }

    /// Adds up the counters before the rules are replaced or given up.
    fn end_scene(&mut self) -> Result<(), Unrehearsed> {
        for (comment, hits) in self.testbed.site().hits()? {
            if let Some(id) = self.inputs.ids.get(&comment) {
                *self.counts.entry(id.clone()).or_default() += hits;
            }
        }
        Ok(())
    }

    /// Whether a rule was hit in a scene that has ended.
    fn was_hit(&self, id: &str) -> bool {
        self.counts.get(id).is_some_and(|hits| *hits > 0)
    }

    /// Asks for all names of domains, so that the gateway fills the sets that its rules ask for.
    fn learn_names(&mut self) -> Result<(), Unrehearsed> {
        let names = self.layout.names.iter().map(|(name, _)| name.replace("*.", "www."));
        Ok(self.testbed.learn(names)?)
    }

    fn scene(
        &mut self,
        checks: &[&Check],
        scene: &TimeSlot,
        reported: &mut dyn FnMut(usize),
    ) -> Result<Vec<(usize, Asked)>, Unrehearsed> {
        let plan = self.meaning.plan();
        let filtered = scene
            .checks
            .iter()
            .filter(|number| self.meaning.decide(&checks[**number].packet).verdict.is_filtered());
        let attempts: Vec<(usize, Attempt)> = filtered
            .filter_map(|number| {
                Some((*number, attempt(self.rules, self.layout, checks[*number])?))
            })
            .collect();
        let (near, far): (Vec<_>, Vec<_>) =
            attempts.into_iter().partition(|(_, attempt)| self.needs_a_hand(attempt).is_some());
        let only: Vec<Attempt> = far.iter().map(|(_, attempt)| attempt.clone()).collect();
        let asked = self.testbed.run(&only, &mut *reported)?;
        let mut all: Vec<(usize, Asked)> =
            far.into_iter().map(|(number, _)| number).zip(asked).collect();
        for (number, attempt) in near {
            let packet = &checks[number].packet;
            let Some(raw) = self.layout.by_hand(plan, packet, 49_000) else { continue };
            let judged = self.testbed.site().judge(&[raw])?.pop();
            let seen = fate_seen(judged.as_ref(), packet);
            let why = self.needs_a_hand(&attempt).unwrap_or_default();
            let detail = Some(format!("a packet made by hand: {why}"));
            all.push((number, Asked { seen, judged, heard_as: None, detail }));
        }
        Ok(all)
    }

    /// Why no two devices could try it as it is.
    fn needs_a_hand(&self, attempt: &Attempt) -> Option<&'static str> {
        let cable = self.layout.cable_of(self.meaning.plan(), attempt.to);
        let answers = attempt.answers.map_or(attempt.to, |who| who.at);
        let at_home = |cable: usize| self.layout.wires[cable].beyond.contains(&attempt.from);
        if attempt.cable.is_some() && cable == attempt.cable {
            // They would meet without the gateway.
            Some("both ends are at one cable")
        } else if attempt.cable.is_some() && cable.is_some_and(at_home) {
            Some("the answer would go round outside, not back by the gateway")
        } else if attempt.cable.is_some() && self.layout.is_nobodys(answers) {
            Some("no device can have that address")
        } else {
            None
        }
    }

    fn id(&self, judged: Option<&Judged>) -> Option<String> {
        let comment = judged?.by.as_ref()?;
        Some(self.inputs.ids.get(comment).unwrap_or(comment).clone())
    }

    fn settle(&self, one: &mut Tried, check: &Check, asked: Asked) {
        one.seen = asked.seen;
        one.rule = self.id(asked.judged.as_ref());
        one.detail = asked.detail;
        judge(one);
        let heard_at = self.rules.as_filtered(&check.packet).destination();
        let wanted = heard_as(self.meaning.plan(), self.layout, &check.packet, heard_at);
        if let (None, Some(heard), Some(wanted)) = (&one.wrong, asked.heard_as, wanted)
            && heard != wanted
        {
            one.wrong = Some(Wrong::HeardAs { heard, wanted });
        }
    }
}

/// What a device would have seen of a packet made by hand.
fn fate_seen(judged: Option<&Judged>, packet: &Packet) -> Seen {
    match judged.map(|judged| judged.fate) {
        Some(Fate::Passes) => Seen::Reply,
        Some(Fate::Rejected) if packet.service.protocol() == Protocol::TCP => Seen::Refused,
        Some(Fate::Rejected) => Seen::Unreachable,
        Some(Fate::Dropped | Fate::NeverAsked) => Seen::Silence,
        None => Seen::NotTried,
    }
}
