//! In the kernel: a site is built, the rules are loaded as they are, and every check is made with real
//! packets from real sockets.

use super::paper::{NOT_FILTERED, judge};
use super::shots::{conversation, heard_as, shot};
use super::{Report, Tried, Wrong, hits, untried, witnesses};
use crate::layout::Layout;
use crate::probe::Seen;
use crate::site::{Action, Asked, Fate, Judged, Names, Shot, Site, Stage, Undone};
use bastium_core::addressing::Family;
use bastium_core::checklist::{Check, Checklist};
use bastium_core::meaning::Meaning;
use bastium_core::plan::Plan;
use bastium_core::rules::RuleSet;
use bastium_core::space::{Ends, Minute, Packet, Protocol, ServicePoint};
use bastium_core::verdict::Verdict;
use std::collections::{HashMap, HashSet};
use std::io;
use std::net::IpAddr;
use std::time::Instant;

/// What a rehearsal is made with.
pub struct Props<'a> {
    /// The name of the table that the rules are in.
    pub table: &'a str,
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
#[derive(Debug)]
pub enum Unrehearsed {
    /// The plan does not name the interfaces.
    NoInterfaces,
    /// The site could not be built, or the rules not be loaded.
    Site(Undone),
    /// The gateway's name and lease server did not start.
    Server(io::Error),
    /// The kernel did not do its part.
    Kernel(io::Error),
}

impl std::fmt::Display for Unrehearsed {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            Self::NoInterfaces => f.write_str("the plan does not name the gateway's interfaces"),
            Self::Site(undone) => write!(f, "{undone}"),
            Self::Server(error) => write!(f, "the name and lease server does not run: {error}"),
            Self::Kernel(error) => write!(f, "the kernel does not do its part: {error}"),
        }
    }
}

impl From<Undone> for Unrehearsed {
    fn from(undone: Undone) -> Self {
        Self::Site(undone)
    }
}

impl From<io::Error> for Unrehearsed {
    fn from(error: io::Error) -> Self {
        Self::Kernel(error)
    }
}

/// Rehearses a checklist in name spaces of this process, in which it must be already. `told` hears how many
/// of how many are done.
///
/// # Errors
/// When the site cannot be built or the rules not be loaded.
pub fn in_kernel(
    meaning: &Meaning<'_>,
    rules: &RuleSet,
    list: &Checklist,
    props: &Props<'_>,
    mut told: impl FnMut(usize, usize),
) -> Result<Report, Unrehearsed> {
    let begun = Instant::now();
    let alive = witnesses(meaning, rules);
    let layout = Layout::of(meaning.plan(), addresses(rules, list, &alive))
        .ok_or(Unrehearsed::NoInterfaces)?;
    more_room_for_files();
    let mut site = Site::build(&layout.wires)?;
    site.load(props.rules, props.table)?;
    let names = Names::new(layout.names.iter().cloned());
    let mut stage = Stage::new(&mut site, names)?;
    let upstream = upstream(meaning.plan(), &layout);
    if let Some((cable, at)) = upstream {
        stage.serve_names(cable, at)?;
    }
    let upstream = upstream.map(|(_, at)| at);
    let servant = stage.start_dnsmasq(props.names_and_leases, upstream);
    let _servant = servant.map_err(Unrehearsed::Server)?;
    let set_up = begun.elapsed();
    let begun = Instant::now();
    let mut play = Play {
        meaning,
        rules,
        layout: &layout,
        props,
        stage,
        counts: HashMap::new(),
        timed: timed(rules),
        alive,
    };
    let all = list.stands.iter().map(|stand| stand.checks.len()).sum();
    let tried = play.all(list, &mut |done| told(done, all))?;
    let fixed = (props.rules_at)(Minute::default()).is_some();
    let timed: HashSet<&str> = timed(rules);
    let alive = play.alive.into_keys().filter(|id| fixed || !timed.contains(id.as_str()));
    let rules = hits(rules, &play.counts, &alive.collect());
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
    let cable = usize::from(plan.uplink_legs().first()?.0);
    let routers = &layout.wires.get(cable)?.routers;
    let router = routers.iter().find(|router| router.is_ipv4()).or(routers.first())?;
    Some((cable, *router))
}

/// How often a trial that came to nothing is made again.
const TRIES: usize = 2;
/// Said of a check that is for other hours, where the rules cannot be fixed to these.
const OTHER_HOURS: &str = "it is for certain hours, to which these rules cannot be fixed";

/// The ids of rules that do not count at all hours.
fn timed(rules: &RuleSet) -> HashSet<&str> {
    let all = rules.lists.iter().flat_map(|list| &list.rules);
    all.filter(|rule| rule.hours.is_some()).map(|rule| rule.id.as_str()).collect()
}

struct Play<'a, 's> {
    meaning: &'a Meaning<'a>,
    rules: &'a RuleSet,
    layout: &'a Layout,
    props: &'a Props<'a>,
    stage: Stage<'s>,
    counts: HashMap<String, u64>,
    timed: HashSet<&'a str>,
    /// For each rule that decides anything, a packet that it decides.
    alive: HashMap<String, Packet>,
}

impl Play<'_, '_> {
    fn all(
        &mut self,
        list: &Checklist,
        told: &mut dyn FnMut(usize),
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
                let Some(rules) = (self.props.rules_at)(at) else {
                    for number in &scene.checks {
                        tried[*number].detail = Some(OTHER_HOURS.to_owned());
                    }
                    continue;
                };
                self.end_scene()?;
                self.stage.site().load(&rules, self.props.table)?;
            }
            self.learn_names()?;
            let before = done;
            for (number, asked) in self.scene(&checks, &scene, &mut |now| told(before + now))? {
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

    /// The checks by the time at which they are made: at any, under the rules as they are; and for each
    /// set of hours, under the rules as they hold then.
    fn scenes(&self, checks: &[&Check]) -> Vec<Scene> {
        let mut scenes = vec![Scene { at: None, hours: Vec::new(), checks: Vec::new() }];
        let hours = self.meaning.plan().hours();
        let witnesses = self.alive.iter();
        let timed = witnesses.filter(|(id, _)| self.has_hours(id)).map(|(_, packet)| packet.at);
        let checked = checks.iter().enumerate().map(|(number, check)| (Some(number), check.when));
        for (number, when) in checked.chain(timed.map(|at| (None, Some(at)))) {
            let now: Vec<bool> = match when {
                Some(at) => hours.iter().map(|hours| hours.minutes.contains(at)).collect(),
                None => Vec::new(),
            };
            let same =
                |scene: &&mut Scene| scene.at.is_some() == when.is_some() && scene.hours == now;
            match scenes.iter_mut().find(same) {
                Some(scene) => scene.checks.extend(number),
                None => scenes.push(Scene {
                    at: when,
                    hours: now,
                    checks: number.into_iter().collect(),
                }),
            }
        }
        scenes
    }

    fn has_hours(&self, id: &str) -> bool {
        self.timed.contains(id)
    }

    /// Adds up the counters before the rules are replaced or given up.
    fn end_scene(&mut self) -> Result<(), Unrehearsed> {
        for (comment, hits) in self.stage.site().hits(self.props.table)? {
            if let Some(id) = self.props.ids.get(&comment) {
                *self.counts.entry(id.clone()).or_default() += hits;
            }
        }
        Ok(())
    }

    /// Asks for all names of domains, so that the gateway fills the sets that its rules ask for.
    fn learn_names(&mut self) -> Result<(), Unrehearsed> {
        for (name, _) in &self.layout.names {
            let name = name.replace("*.", "www.");
            for v6 in [false, true] {
                self.stage.resolve(&name, v6)?;
            }
        }
        Ok(())
    }

    fn scene(
        &mut self,
        checks: &[&Check],
        scene: &Scene,
        told: &mut dyn FnMut(usize),
    ) -> Result<Vec<(usize, Asked)>, Unrehearsed> {
        let plan = self.meaning.plan();
        let filtered = scene
            .checks
            .iter()
            .filter(|number| self.meaning.decide(&checks[**number].packet).verdict.is_filtered());
        let shots: Vec<(usize, Shot)> = filtered
            .filter_map(|number| {
                Some((*number, shot(plan, self.rules, self.layout, checks[*number])?))
            })
            .collect();
        // Two devices at one cable would meet without the gateway.
        let meet =
            |shot: &Shot| shot.cable.is_some() && self.layout.cable_of(plan, shot.to) == shot.cable;
        let (near, far): (Vec<_>, Vec<_>) = shots.into_iter().partition(|(_, shot)| meet(shot));
        let only: Vec<Shot> = far.iter().map(|(_, shot)| shot.clone()).collect();
        let mut asked = self.stage.play(&only, &mut *told)?;
        self.again(&only, &mut asked)?;
        let mut all: Vec<(usize, Asked)> =
            far.into_iter().map(|(number, _)| number).zip(asked).collect();
        for (number, _) in near {
            let packet = &checks[number].packet;
            let Some(raw) = self.layout.by_hand(plan, packet, 49_000) else { continue };
            let judged = self.stage.site().judge(&[raw])?.pop();
            let seen = fate_seen(judged.as_ref(), packet);
            let detail = Some("a packet made by hand: both ends are at one cable".to_owned());
            all.push((number, Asked { seen, judged, heard_as: None, detail }));
        }
        Ok(all)
    }

    /// What got no answer though it was let through, and what left no trace, is tried again: a machine with
    /// much else to do can be late.
    fn again(&mut self, shots: &[Shot], asked: &mut [Asked]) -> Result<(), Unrehearsed> {
        let late = |asked: &Asked| match &asked.judged {
            None => asked.seen != Seen::NotTried,
            Some(judged) => asked.seen == Seen::Silence && judged.fate == Fate::Passes,
        };
        for _ in 0..TRIES {
            let numbers: Vec<usize> =
                (0..asked.len()).filter(|number| late(&asked[*number])).collect();
            let shots: Vec<Shot> = numbers.iter().map(|number| shots[*number].clone()).collect();
            for (number, second) in numbers.into_iter().zip(self.stage.play(&shots, |_| {})?) {
                asked[number] = second;
            }
        }
        Ok(())
    }

    fn id(&self, judged: Option<&Judged>) -> Option<String> {
        let comment = judged?.by.as_ref()?;
        Some(self.props.ids.get(comment).unwrap_or(comment).clone())
    }

    fn settle(&self, one: &mut Tried, check: &Check, asked: Asked) {
        one.seen = asked.seen;
        one.rule = self.id(asked.judged.as_ref());
        one.detail = asked.detail;
        judge(one);
        let wanted = heard_as(self.meaning.plan(), self.layout, &check.packet);
        if let (None, Some(heard), Some(wanted)) = (&one.wrong, asked.heard_as, wanted)
            && heard != wanted
        {
            one.wrong = Some(Wrong::HeardAs { heard, wanted });
        }
    }

    /// Every device with a fixed lease asks for it.
    fn leases(&mut self) -> Result<Vec<Tried>, Unrehearsed> {
        let plan = self.meaning.plan();
        let fixed: Vec<_> = plan
            .hosts()
            .iter()
            .filter_map(|host| {
                let v4 = host.addresses.iter().find(|address| address.is_ipv4())?;
                let mac = host.mac?.into_array();
                let network = plan.network(host.network);
                let subnet = network.subnets.iter().any(|s| s.family() == Family::V4);
                let cable = usize::from(plan.network_leg(host.network).0);
                let shot = Shot {
                    cable: Some(cable),
                    from: IpAddr::from([0, 0, 0, 0]),
                    to: IpAddr::from([255, 255, 255, 255]),
                    action: Action::Lease(Some(mac)),
                    answers: None,
                };
                (network.tunnel.is_none() && subnet).then_some((host, *v4, shot))
            })
            .filter(|(host, ..)| self.may_lease(host.network))
            .collect();
        let shots: Vec<Shot> = fixed.iter().map(|(_, _, shot)| shot.clone()).collect();
        let mut asked = self.stage.play(&shots, |_| {})?;
        self.again(&shots, &mut asked)?;
        let tried = fixed.iter().zip(asked).map(|((host, wanted, _), asked)| {
            let leased = asked.detail.as_deref() == Some(&wanted.to_string());
            Tried {
                id: format!("lease/{}", host.name),
                from: plan.network(host.network).name.to_string(),
                to: "gateway".to_owned(),
                service: "dhcp".to_owned(),
                expect: Some(bastium_core::checklist::Expect::Reply),
                seen: asked.seen,
                proves: None,
                rule: self.id(asked.judged.as_ref()),
                wrong: (!leased).then_some(Wrong::Leased { wanted: *wanted }),
                detail: asked.detail,
            }
        });
        Ok(tried.collect())
    }

    /// Whether what asks for a lease in a network gets as far as the gateway's server.
    fn may_lease(&self, id: bastium_core::plan::NetworkId) -> bool {
        let ends = Ends::new(IpAddr::from([0, 0, 0, 0]), IpAddr::from([255, 255, 255, 255]));
        let service = ServicePoint::port(Protocol::UDP, 67);
        let leg = self.meaning.plan().network_leg(id);
        ends.is_some_and(|ends| {
            let packet = Packet::new(leg, ends, service);
            self.meaning.decide(&packet).verdict == Verdict::Allow
        })
    }

    /// Rules that no check has hit are hit by a packet made by hand, where there is one that they decide.
    fn by_hand(&mut self, at: Option<Minute>) -> Result<Vec<Tried>, Unrehearsed> {
        let hit = self.stage.site().hits(self.props.table)?;
        let hit: HashSet<&String> = hit
            .iter()
            .filter(|(_, hits)| **hits > 0)
            .filter_map(|(comment, _)| self.props.ids.get(comment))
            .collect();
        let hours = self.meaning.plan().hours();
        let holds = |then: Minute| {
            at.is_some_and(|now| {
                hours.iter().all(|h| h.minutes.contains(now) == h.minutes.contains(then))
            })
        };
        let mut due: Vec<(String, Packet)> = self
            .alive
            .iter()
            .filter(|(id, packet)| {
                let timed = self.has_hours(id);
                !hit.contains(id)
                    && !self.counts.contains_key(*id)
                    && (timed == at.is_some())
                    && (!timed || holds(packet.at))
            })
            .map(|(id, packet)| (id.clone(), *packet))
            .collect();
        due.sort_by(|a, b| a.0.cmp(&b.0));
        let mut tried = Vec::new();
        for (number, (id, packet)) in due.into_iter().enumerate() {
            let source_port = 50_000 + (number % 10_000) as u16;
            let mut done = None;
            for packet in std::iter::once(packet).chain(self.others(&id, &packet)) {
                let judged = match self.layout.by_hand(self.meaning.plan(), &packet, source_port) {
                    Some(raw) => self.stage.site().judge(&[raw])?.pop(),
                    None => self.converse(&packet)?,
                };
                let one = self.weigh(id.clone(), &packet, judged);
                let hit = one.rule.as_ref() == Some(&id);
                if done.is_none() || hit {
                    done = Some(one);
                }
                if hit {
                    break;
                }
            }
            tried.extend(done);
        }
        Ok(tried)
    }

    /// Other packets that a rule decides. The kernel drops some before it asks any rule: what has no source
    /// and is not for everyone, what is a part of a conversation that there is not.
    fn others(&self, id: &str, packet: &Packet) -> Vec<Packet> {
        let v6 = packet.source().is_ipv6();
        let everyone =
            if v6 { IpAddr::from([0xff02, 0, 0, 0, 0, 0, 0, 1]) } else { IpAddr::from([255; 4]) };
        let echo = match v6 {
            true => ServicePoint::icmp(Protocol::ICMP_V6, 128, 0),
            false => ServicePoint::icmp(Protocol::ICMP, 8, 0),
        };
        let ports =
            [Protocol::TCP, Protocol::UDP].map(|protocol| ServicePoint::port(protocol, 443));
        let services = [packet.service, ports[0], ports[1], echo];
        let destinations = [packet.destination(), everyone];
        // A source that belongs elsewhere is forged wherever else it comes from.
        let devices = self.layout.wires.iter().filter_map(|wire| wire.devices.first());
        let devices = devices.map(ipnet::IpNet::addr).filter(|device| device.is_ipv6() == v6);
        let sources = std::iter::once(packet.source()).chain(devices);
        let ends = sources.flat_map(|from| destinations.map(|to| Ends::new(from, to)));
        let all = ends.flatten().flat_map(|ends| services.map(|service| (ends, service)));
        let others = all.map(|(ends, service)| Packet { ends, service, ..*packet });
        let decided =
            |other: &Packet| self.rules.first_match(other).rule.is_some_and(|r| r.id == id);
        others.filter(|other| other != packet && decided(other)).collect()
    }

    /// A packet that no cable brings: begun by the gateway itself, or translated on its way in.
    fn converse(&mut self, packet: &Packet) -> Result<Option<Judged>, Unrehearsed> {
        let plan = self.meaning.plan();
        let Some(outside) = self.rules.as_sent(plan, packet) else { return Ok(None) };
        if let Some(raw) = self.layout.by_hand(plan, &outside, 49_999) {
            return Ok(self.stage.site().judge(&[raw])?.pop());
        }
        let Some(shot) = conversation(plan, self.rules, self.layout, &outside) else {
            return Ok(None);
        };
        Ok(self.stage.play(&[shot], |_| {})?.pop().and_then(|asked| asked.judged))
    }

    fn weigh(&self, id: String, packet: &Packet, judged: Option<Judged>) -> Tried {
        let plan = self.meaning.plan();
        let rule = self.id(judged.as_ref());
        let seen = fate_seen(judged.as_ref(), packet);
        let kernel = judged.as_ref().is_some_and(|judged| judged.fate == Fate::NeverAsked);
        let wrong =
            (judged.is_some() && !kernel && rule.as_ref() != Some(&id)).then_some(Wrong::Rule);
        let detail = match (&judged, kernel) {
            (None, _) => Some("no ordinary machine begins this".to_owned()),
            (_, true) => Some("the kernel drops it before any rule is asked".to_owned()),
            _ => None,
        };
        Tried {
            id: format!("by-hand/{id}"),
            from: plan.leg_name(packet.enters).to_owned(),
            to: plan.address_words(packet.destination()),
            service: packet.service.to_string(),
            expect: None,
            seen,
            proves: Some(id),
            rule,
            wrong,
            detail,
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

/// Checks that are made under the same rules.
struct Scene {
    at: Option<Minute>,
    /// Which of the plan's hours it is.
    hours: Vec<bool>,
    checks: Vec<usize>,
}
