//! What is expected of a conversation, and what its outcome means.

use crate::cable::{Answer, Arrival, Came};
use bastium_core::verdict::Verdict;
use std::net::{IpAddr, Ipv4Addr};

/// What is expected.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Expected {
    /// What the plan means.
    pub verdict: Verdict,
    /// Who is at the other end.
    pub far: Far,
}

/// Who is at the other end.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Far {
    /// We are.
    Own {
        /// In which network.
        lane: usize,
        /// At which address, once everything is translated.
        address: IpAddr,
        /// At which port, if it has one.
        port: Option<u16>,
        /// Under which source it arrives.
        source: Source,
    },
    /// The gateway itself; whether it has to answer what gets through.
    Gateway {
        /// Because something is there that answers.
        answers: bool,
    },
    /// A device of the site.
    Device,
}

/// Under which source something arrives.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Source {
    /// Its own.
    Kept(IpAddr),
    /// One of the gateway's, outside; which one need not be known.
    Gateway(Option<IpAddr>),
    /// Its own, or one of the gateway's: where it goes back to the network that it comes from, gateways differ.
    Any,
}

/// What a conversation shows.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Shown {
    /// All is as planned.
    AsPlanned,
    /// It is not.
    Wrong(Wrong),
    /// Nothing, and why.
    Nothing(Why),
}

/// What is wrong.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Wrong {
    /// It gets through, and should not.
    GetsThrough,
    /// It is refused, where the plan lets it vanish.
    Refused,
    /// It does not get through, and should.
    Stopped,
    /// It gets through, and the answer does not come back.
    NoWayBack,
    /// It arrives somewhere else.
    Elsewhere,
    /// It is sent outside under a private address.
    NotTranslated,
    /// It arrives under another address than its own, though nothing is to be translated.
    Translated,
    /// It vanishes, where the plan refuses it.
    Silent,
}

/// Why a conversation shows nothing.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Why {
    /// It could not be sent: the gateway has not answered there.
    NotSent,
    /// It was silent, and the gateway did not answer both ends before and after.
    NoControl,
    /// It gets through, and nothing need answer there.
    NobodyAnswers,
    /// It is to be refused with an answer, and the gateway answers only so often.
    Limited,
}

/// What came of a conversation, beside what was expected.
pub fn judge(expected: &Expected, came: &Came) -> Shown {
    if !came.sent {
        return Shown::Nothing(Why::NotSent);
    }
    match expected.verdict {
        Verdict::Allow => allowed(expected.far, came),
        Verdict::Block | Verdict::NoRoute | Verdict::NotRouted => {
            let may_say = expected.verdict == Verdict::NoRoute;
            match (came.arrived, came.answer) {
                (Some(_), _) | (_, Some(Answer::Reply)) => Shown::Wrong(Wrong::GetsThrough),
                (None, Some(Answer::Unreachable)) if may_say => Shown::AsPlanned,
                (None, Some(_)) => Shown::Wrong(Wrong::Refused),
                (None, None) => silence(came, Shown::AsPlanned),
            }
        }
        Verdict::Reject => match (came.arrived, came.answer) {
            (Some(_), _) | (_, Some(Answer::Reply)) => Shown::Wrong(Wrong::GetsThrough),
            (None, Some(_)) => Shown::AsPlanned,
            (None, None) => silence(came, Shown::Wrong(Wrong::Silent)),
        },
    }
}

/// Silence shows something only of a network that lives.
fn silence(came: &Came, shows: Shown) -> Shown {
    if came.controlled { shows } else { Shown::Nothing(Why::NoControl) }
}

fn allowed(far: Far, came: &Came) -> Shown {
    match (far, came.arrived, came.answer) {
        (Far::Own { .. }, Some(arrival), answer) => {
            if let Some(wrong) = misled(far, arrival) {
                return Shown::Wrong(wrong);
            }
            match answer {
                Some(Answer::Reply) => Shown::AsPlanned,
                _ => silence(came, Shown::Wrong(Wrong::NoWayBack)),
            }
        }
        (Far::Own { .. }, None, Some(_)) => Shown::Wrong(Wrong::Stopped),
        (Far::Own { .. }, None, None) => silence(came, Shown::Wrong(Wrong::Stopped)),
        // Whether nothing listens there or a rule refuses looks the same.
        (_, _, Some(Answer::Reply)) => Shown::AsPlanned,
        (Far::Gateway { answers: false }, _, Some(Answer::Refused)) => Shown::AsPlanned,
        (_, _, Some(_)) => Shown::Wrong(Wrong::Stopped),
        (Far::Gateway { answers: false }, _, None) => Shown::Nothing(Why::NobodyAnswers),
        (_, _, None) => silence(came, Shown::Wrong(Wrong::Stopped)),
    }
}

/// What is wrong with an arrival.
fn misled(far: Far, arrival: Arrival) -> Option<Wrong> {
    let Far::Own { lane, address, port, source } = far else { return None };
    if (arrival.lane, arrival.destination) != (lane, address) {
        return Some(Wrong::Elsewhere);
    }
    if port.is_some() && arrival.port.is_some() && arrival.port != port {
        return Some(Wrong::Elsewhere);
    }
    match source {
        Source::Kept(own) if own != arrival.source => Some(Wrong::Translated),
        Source::Gateway(Some(own)) if own == arrival.source => None,
        Source::Gateway(_) if is_private(arrival.source) => Some(Wrong::NotTranslated),
        Source::Gateway(Some(_)) => Some(Wrong::Translated),
        _ => None,
    }
}

/// Whether an address is private (RFC 1918), so that nobody outside can answer it.
pub(super) fn is_private(address: IpAddr) -> bool {
    matches!(address, IpAddr::V4(address) if Ipv4Addr::is_private(&address))
}

#[cfg(test)]
mod tests {
    use super::*;

    const OWN: IpAddr = IpAddr::V4(Ipv4Addr::new(10, 44, 24, 250));
    const FAR: IpAddr = IpAddr::V4(Ipv4Addr::new(10, 44, 40, 11));
    const GATEWAY: IpAddr = IpAddr::V4(Ipv4Addr::new(198, 51, 100, 14));

    fn own(source: Source) -> Far {
        Far::Own { lane: 3, address: FAR, port: Some(443), source }
    }

    fn came(arrived: Option<Arrival>, answer: Option<Answer>) -> Came {
        Came { arrived, answer, controlled: true, sent: true }
    }

    fn arrival(source: IpAddr) -> Arrival {
        Arrival { lane: 3, source, destination: FAR, port: Some(443) }
    }

    fn shown(verdict: Verdict, far: Far, came: &Came) -> Shown {
        judge(&Expected { verdict, far }, came)
    }

    #[test]
    fn silence_shows_nothing_without_a_control() {
        for (verdict, with) in [
            (Verdict::Block, Shown::AsPlanned),
            (Verdict::Reject, Shown::Wrong(Wrong::Silent)),
            (Verdict::Allow, Shown::Wrong(Wrong::Stopped)),
        ] {
            let far = own(Source::Kept(OWN));
            assert_eq!(shown(verdict, far, &came(None, None)), with);
            let lost = Came { controlled: false, ..came(None, None) };
            assert_eq!(shown(verdict, far, &lost), Shown::Nothing(Why::NoControl));
            let unsent = Came { sent: false, ..came(None, None) };
            assert_eq!(shown(verdict, far, &unsent), Shown::Nothing(Why::NotSent));
        }
    }

    #[test]
    fn what_gets_through_is_wrong_whether_or_not_anything_answers() {
        let arrived = came(Some(arrival(OWN)), None);
        for verdict in [Verdict::Block, Verdict::Reject, Verdict::NoRoute] {
            let through = Shown::Wrong(Wrong::GetsThrough);
            assert_eq!(shown(verdict, own(Source::Kept(OWN)), &arrived), through);
            let lost = Came { controlled: false, ..arrived.clone() };
            assert_eq!(shown(verdict, own(Source::Kept(OWN)), &lost), through);
            let answered = came(None, Some(Answer::Reply));
            assert_eq!(shown(verdict, Far::Gateway { answers: false }, &answered), through);
        }
        let refused = came(None, Some(Answer::Refused));
        let block = shown(Verdict::Block, own(Source::Kept(OWN)), &refused);
        assert_eq!(block, Shown::Wrong(Wrong::Refused));
        let reject = shown(Verdict::Reject, own(Source::Kept(OWN)), &refused);
        assert_eq!(reject, Shown::AsPlanned);
    }

    #[test]
    fn an_arrival_has_to_be_the_right_one_and_its_answer_has_to_come_back() {
        let kept = own(Source::Kept(OWN));
        let reply = Some(Answer::Reply);
        let is = |far, arrived, answer| shown(Verdict::Allow, far, &came(Some(arrived), answer));
        assert_eq!(is(kept, arrival(OWN), reply), Shown::AsPlanned);
        assert_eq!(is(kept, arrival(OWN), None), Shown::Wrong(Wrong::NoWayBack));
        assert_eq!(is(kept, arrival(GATEWAY), reply), Shown::Wrong(Wrong::Translated));
        let other = Arrival { port: Some(8443), ..arrival(OWN) };
        assert_eq!(is(kept, other, reply), Shown::Wrong(Wrong::Elsewhere));
        let other = Arrival { lane: 4, ..arrival(OWN) };
        assert_eq!(is(kept, other, reply), Shown::Wrong(Wrong::Elsewhere));
        let outside = own(Source::Gateway(Some(GATEWAY)));
        assert_eq!(is(outside, arrival(GATEWAY), reply), Shown::AsPlanned);
        assert_eq!(is(outside, arrival(OWN), None), Shown::Wrong(Wrong::NotTranslated));
        let unknown = own(Source::Gateway(None));
        assert_eq!(is(unknown, arrival(GATEWAY), reply), Shown::AsPlanned);
        assert_eq!(is(unknown, arrival(OWN), reply), Shown::Wrong(Wrong::NotTranslated));
    }

    #[test]
    fn at_the_gateway_a_closed_port_is_an_answer_and_silence_may_be_nobody() {
        let idle = Far::Gateway { answers: false };
        let busy = Far::Gateway { answers: true };
        let refused = came(None, Some(Answer::Refused));
        assert_eq!(shown(Verdict::Allow, idle, &refused), Shown::AsPlanned);
        assert_eq!(shown(Verdict::Allow, busy, &refused), Shown::Wrong(Wrong::Stopped));
        let silent = came(None, None);
        assert_eq!(shown(Verdict::Allow, idle, &silent), Shown::Nothing(Why::NobodyAnswers));
        assert_eq!(shown(Verdict::Allow, busy, &silent), Shown::Wrong(Wrong::Stopped));
        assert_eq!(shown(Verdict::Allow, Far::Device, &silent), Shown::Wrong(Wrong::Stopped));
    }
}
