//! Probes, and which outcomes count as evidence.
//!
//! What answers is believed at once. Silence is believed only of a network that lives: from the same address and in the same
//! family, the gateway must answer something that it has to answer, before and after, and again at least every
//! [`BETWEEN_CONTROLS`] probes. Whatever comes otherwise than expected is tried [`TRIES`] times.

use super::super::{Tour, words};
use crate::failure::Failure;
use crate::session::Session;
use crate::show::style;
use bastium_core::checklist::{Check, Expect};
use bastium_core::plan::NetworkId;
use bastium_core::space::{Ends, Packet, Protocol, ServicePoint};
use bastium_core::verdict::Verdict;
use bastium_report::count;
use bastium_report::walk::Outcome;
use bastium_testbed::probe::{self, How, Seen, Sight, Task, Whom};
use std::net::IpAddr;
use std::time::Duration;

/// So many silences are believed for one control before and one after them.
const BETWEEN_CONTROLS: usize = 200;
/// How often a surprise is tried, and a control.
const TRIES: usize = 3;

/// A check that this machine can make.
#[derive(Clone)]
pub(super) struct Trial {
    pub(super) place: (usize, usize),
    pub(super) task: Task,
}

/// What is said at the end of what could not be counted.
#[derive(Default)]
struct Uncounted {
    not_tried: Vec<String>,
    /// Silences from an address that nothing answered.
    without_control: usize,
    /// Silences taken back, since the gateway stopped to answer.
    taken_back: usize,
}

/// Makes all trials, and keeps what can be believed.
pub(super) fn make(
    tour: &mut Tour<'_, '_>,
    trials: Vec<Trial>,
    session: &mut Session<'_>,
) -> Result<(), Failure> {
    let (silent, answered): (Vec<Trial>, Vec<Trial>) =
        trials.into_iter().partition(|trial| check(tour, trial).expect == Expect::Silence);
    let total = silent.len() + answered.len();
    let mut uncounted = Uncounted::default();
    let mut made = 0;
    session.doing("trying the checks");
    for batch in answered.chunks(BETWEEN_CONTROLS) {
        let sights = sights(tour, batch, &mut made, total, session);
        for (trial, sight) in batch.iter().zip(sights) {
            keep(tour, trial, &sight, false, &mut uncounted)?;
        }
    }
    for batch in by_sender(silent) {
        let control = control(tour, &batch[0], &answered);
        if !control.as_ref().is_some_and(|(control, _)| answers(tour, control)) {
            made += batch.len();
            uncounted.without_control += batch.len();
            continue;
        }
        let heard = control.as_ref().is_some_and(|(_, is_gateway)| *is_gateway);
        let sights = sights(tour, &batch, &mut made, total, session);
        let lives = control.is_some_and(|(control, _)| answers(tour, &control));
        for (trial, sight) in batch.iter().zip(sights) {
            // What gets through does so whether or not the gateway lives.
            if !lives && seen(sight.seen) == Some(Expect::Silence) {
                uncounted.taken_back += 1;
            } else {
                keep(tour, trial, &sight, heard && lives, &mut uncounted)?;
            }
        }
    }
    session.progress_ends();
    uncounted.tell(session)
}

impl Uncounted {
    fn tell(mut self, session: &mut Session<'_>) -> Result<(), Failure> {
        self.not_tried.sort_unstable();
        for same in self.not_tried.chunk_by(|one, next| one == next) {
            let says = format!("{} could not be tested: {}", count(same.len(), "check"), same[0]);
            session.prose(style::WARN, &says)?;
        }
        if self.without_control > 0 {
            let says = format!(
                "{} not made: silence is expected, and the gateway answers nothing here, so that it would show nothing",
                count(self.without_control, "check")
            );
            session.prose(style::WARN, &says)?;
        }
        if self.taken_back > 0 {
            let says = format!(
                "{} not counted: silence came as expected, but then the gateway did not answer either; is the cable in?",
                count(self.taken_back, "check")
            );
            session.prose(style::WARN, &says)?;
        }
        Ok(())
    }
}

fn check<'t>(tour: &'t Tour<'_, '_>, trial: &Trial) -> &'t Check {
    &tour.stands[trial.place.0].checks[trial.place.1]
}

/// Trials by the address that they come from, as many at a time as one control is good for.
fn by_sender(mut trials: Vec<Trial>) -> Vec<Vec<Trial>> {
    trials.sort_by_key(|trial| (trial.task.from, trial.place));
    let same = trials.chunk_by(|one, next| one.task.from == next.task.from);
    same.flat_map(|same| same.chunks(BETWEEN_CONTROLS)).map(<[Trial]>::to_vec).collect()
}

/// What the gateway has to answer from where a trial comes: an echo where the plan allows it, else a check of the list; and
/// whether it is the gateway that answers it.
fn control(tour: &Tour<'_, '_>, silent: &Trial, answered: &[Trial]) -> Option<(Task, bool)> {
    let from = silent.task.from?;
    let echo = tour.stands[silent.place.0]
        .standpoint
        .network()
        .and_then(|network| echo(tour, network, from));
    let listed = || {
        let same = answered.iter().filter(|trial| trial.task.from == Some(from));
        let replies = same.filter(|trial| check(tour, trial).expect == Expect::Reply);
        let to_gateway = replies.clone().find(|trial| check(tour, trial).is_to_gateway);
        let found = to_gateway.or_else(|| replies.clone().next())?;
        Some((found.task.clone(), check(tour, found).is_to_gateway))
    };
    echo.map(|task| (task, true)).or_else(listed)
}

/// An echo request to the gateway's address in a network, if it has to be answered.
fn echo(tour: &Tour<'_, '_>, network: NetworkId, from: IpAddr) -> Option<Task> {
    let plan = tour.meaning.plan();
    let gateways = plan.network(network).subnets.iter().map(|subnet| subnet.gateway());
    let to = gateways.into_iter().find(|gateway| gateway.is_ipv4() == from.is_ipv4())?;
    let service = match to {
        IpAddr::V4(_) => ServicePoint::icmp(Protocol::ICMP, 8, 0),
        IpAddr::V6(_) => ServicePoint::icmp(Protocol::ICMP_V6, 128, 0),
    };
    let packet = Packet::new(plan.network_interface(network), Ends::new(from, to)?, service);
    let allowed = tour.meaning.decide(&packet).verdict == Verdict::Allow;
    allowed.then_some(Task { how: How::Echo, from: Some(from), whom: Whom::Address(to) })
}

fn patience(tour: &Tour<'_, '_>) -> Duration {
    Duration::try_from(tour.args.patience).unwrap_or(Duration::from_secs(1))
}

/// Whether a control is answered, in one of a few tries.
fn answers(tour: &Tour<'_, '_>, control: &Task) -> bool {
    let patience = patience(tour);
    (0..TRIES).any(|_| control.run(patience).seen == Seen::Reply)
}

/// What comes back of each trial, in their order.
fn sights(
    tour: &Tour<'_, '_>,
    batch: &[Trial],
    made: &mut usize,
    total: usize,
    session: &mut Session<'_>,
) -> Vec<Sight> {
    let tasks: Vec<Task> = batch.iter().map(|trial| trial.task.clone()).collect();
    let mut sights: Vec<Option<Sight>> = tasks.iter().map(|_| None).collect();
    probe::run(&tasks, patience(tour), |number, sight| {
        *made += 1;
        session.progress(*made, total);
        sights[number] = Some(sight);
    });
    let none = || Sight { seen: Seen::NotTried, took: Duration::ZERO, detail: None };
    sights.into_iter().map(|sight| sight.unwrap_or_else(none)).collect()
}

/// What came back, in the words of the list; `None` if it could not be tried.
fn seen(seen: Seen) -> Option<Expect> {
    match seen {
        Seen::Reply => Some(Expect::Reply),
        Seen::Refused => Some(Expect::Refused),
        Seen::Unreachable => Some(Expect::Unreachable),
        Seen::Silence => Some(Expect::Silence),
        Seen::NotTried => None,
    }
}

/// Keeps a result; a surprise once it was one each time.
fn keep(
    tour: &mut Tour<'_, '_>,
    trial: &Trial,
    first: &Sight,
    gateway_answered: bool,
    uncounted: &mut Uncounted,
) -> Result<(), Failure> {
    let Some(came) = seen(first.seen) else {
        uncounted.not_tried.extend(first.detail.clone());
        return Ok(());
    };
    let expect = check(tour, trial).expect;
    let mut notes = Vec::new();
    let mut came = came;
    if came != expect {
        let patience = patience(tour);
        let again = (1..TRIES).filter_map(|_| seen(trial.task.run(patience).seen));
        let as_expected = again.filter(|again| *again == expect).count();
        if as_expected > 0 {
            notes.push(format!("{as_expected} of {TRIES} tries: {}", words(expect)));
        }
        // One that gets through is one too many; an answer that is lost, or not sent since there were many, is not.
        if as_expected > 0 && expect != Expect::Silence {
            came = expect;
        }
    }
    let outcome = if came == expect { Outcome::Pass } else { Outcome::Fail };
    if (came, expect) == (Expect::Refused, Expect::Reply) {
        // The packet got somewhere: to a device on which nothing listens, or to a rule that rejects.
        notes.push("either nothing listens there, or the gateway rejects it".to_owned());
    }
    let said = match &first.detail {
        Some(detail) if seen(first.seen) == Some(came) => format!("{}: {detail}", words(came)),
        _ => words(came),
    };
    let note = (!notes.is_empty()).then(|| notes.join("; "));
    tour.record_heard(trial.place, outcome, Some(said), note, (gateway_answered, false))
}
