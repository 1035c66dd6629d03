//! Near misses: entries that almost decided a packet, and what would have to be different for them to do so (another
//! source, another port, another hour). They answer the question "why not?".

use crate::meaning::Meaning;
use crate::plan::{Exception, ExceptionId, Plan};
use crate::space::{Ends, Packet};
use crate::verdict::{Cause, Decision, Verdict};

/// An entry that would have decided otherwise, but for one thing.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct NearMiss {
    /// The entry.
    pub exception: ExceptionId,
    /// What stands between.
    pub but: But,
}

/// The one thing in which an entry does not fit a packet.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum But {
    /// It is for other sources.
    Source,
    /// It is for other destinations.
    Destination,
    /// It is for other services.
    Service,
    /// It holds at other hours.
    Hours,
    /// It is switched off.
    Off,
    /// Its last day is over.
    Ended,
    /// It fits, but another one goes before it.
    Outranked(ExceptionId),
}

impl But {
    /// The thing in a word.
    pub fn word(self) -> &'static str {
        match self {
            Self::Source => "source",
            Self::Destination => "destination",
            Self::Service => "service",
            Self::Hours => "hours",
            Self::Off => "off",
            Self::Ended => "ended",
            Self::Outranked(_) => "order",
        }
    }
}

impl NearMiss {
    /// What would have to be otherwise, in a clause.
    pub fn words(self, plan: &Plan) -> String {
        let exception = plan.exception(self.exception);
        match self.but {
            But::Source => format!("it is from {}", exception.from.text),
            But::Destination => format!("it is to {}", exception.to.text),
            But::Service => format!("it is for {}", exception.service.text),
            But::Hours => {
                let hours = exception.hours.as_ref().map(|hours| hours.name.to_string());
                format!("it holds only in {}", hours.unwrap_or_default())
            }
            But::Off => "it is switched off".to_owned(),
            But::Ended => {
                format!("its last day was {}", exception.until.unwrap_or_default())
            }
            But::Outranked(by) => {
                format!("{} goes before it", plan.exception(by).name)
            }
        }
    }
}

/// The exceptions that would have decided otherwise about a packet, but for one thing each.
pub fn near_misses(meaning: &Meaning<'_>, packet: &Packet, decision: Decision) -> Vec<NearMiss> {
    let plan = meaning.plan();
    let passes = decision.verdict == Verdict::Allow;
    let would =
        |exception: &Exception| (Verdict::from(exception.action) == Verdict::Allow) != passes;
    let all = plan.exceptions().iter().enumerate().filter(|(_, exception)| would(exception));
    all.filter_map(|(index, exception)| {
        let but = but(meaning, exception, packet, decision)?;
        Some(NearMiss { exception: ExceptionId(index), but })
    })
    .collect()
}

/// The one thing in which an exception does not fit; `None` if there are several.
fn but(
    meaning: &Meaning<'_>,
    exception: &Exception,
    packet: &Packet,
    decision: Decision,
) -> Option<But> {
    let plan = meaning.plan();
    let line = match packet.ends {
        Ends::V4 { .. } => &exception.service.set.v4,
        Ends::V6 { .. } => &exception.service.set.v6,
    };
    let own = plan.gateway_addresses();
    let by_gateway = packet.enters == plan.gateway_interface();
    let to_gateway = own.contains(packet.destination());
    let from = if by_gateway {
        exception.from.gateway
    } else {
        exception.from.addresses.contains(packet.source())
    };
    let to = if to_gateway {
        exception.to.gateway
    } else {
        exception.to.addresses.contains(packet.destination())
    };
    let fits = [
        (But::Source, from),
        (But::Destination, to),
        (But::Service, line.contains(packet.service)),
        (But::Hours, exception.minutes().contains(packet.at)),
        (But::Off, !exception.off),
        (But::Ended, exception.until.is_none_or(|last| meaning.day() <= last)),
    ];
    let mut not = fits.into_iter().filter(|(_, fits)| !fits).map(|(but, _)| but);
    match (not.next(), not.next(), decision.cause) {
        (Some(only), None, _) => Some(only),
        (None, None, Cause::Exception(by) | Cause::Offered(by)) => Some(But::Outranked(by)),
        _ => None,
    }
}
