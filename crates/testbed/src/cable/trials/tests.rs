//! Assigns answers to conversations.

use super::*;

fn address(word: &str) -> IpAddr {
    word.parse().expect("an address")
}

fn conversation(ask: Ask) -> Conversation {
    let (from, to) = (address("10.44.24.250"), address("10.44.40.11"));
    Conversation { lane: 1, from, near: from, to, ask, far: Some((3, to)) }
}

/// One that is under way, with its first packet.
fn begun(ask: Ask) -> (Trials, Packet) {
    let mut trials = Trials::new();
    let one = conversation(ask);
    for number in 0..3 {
        trials.came.push(Came::default());
        trials.asked.push((one.lane, one.from, one.to));
        trials.by_port.insert((one.lane, one.from, port_of(number)), number);
    }
    let packet = trials.first(2, &one);
    (trials, packet)
}

const ASKS: [Ask; 4] = [Ask::Tcp(443), Ask::Udp(161), Ask::Echo, Ask::Other(50)];

#[test]
fn what_arrives_is_answered_and_the_answer_belongs_to_it() {
    for ask in ASKS {
        let (mut trials, packet) = begun(ask);
        assert_eq!(trials.answered(3, &packet), None, "it is no answer itself");
        let content = trials.arrived(3, &packet).expect("an answer");
        let arrived = trials.came[2].arrived.expect("an arrival");
        assert_eq!((arrived.lane, arrived.source), (3, packet.source));
        let answer = Packet { source: packet.destination, destination: packet.source, content };
        assert_eq!(trials.arrived(1, &answer), None, "an answer is not answered");
        assert_eq!(trials.answered(1, &answer), Some(2));
        assert_eq!(trials.came[2].answer, Some(Answer::Reply));
        assert_eq!(trials.came[..2], [Came::default(), Came::default()]);
    }
}

#[test]
fn nobody_answers_for_another() {
    for ask in ASKS {
        let (mut trials, packet) = begun(ask);
        let content = trials.arrived(3, &packet).expect("an answer");
        let answer = Packet { source: packet.destination, destination: packet.source, content };
        let stranger = Packet { source: address("10.44.40.12"), ..answer.clone() };
        assert_eq!(trials.answered(1, &stranger), None, "{ask:?}: from another address");
        assert_eq!(trials.answered(2, &answer), None, "{ask:?}: in another network");
        let other = Packet { destination: address("10.44.24.251"), ..answer };
        assert_eq!(trials.answered(1, &other), None, "{ask:?}: to another address");
        assert_eq!(trials.came[2].answer, None);
    }
}

#[test]
fn another_run_is_another_run() {
    for ask in ASKS {
        let (mut trials, packet) = begun(ask);
        trials.key ^= 0x5555_0000;
        assert_eq!(trials.arrived(3, &packet), None, "{ask:?}");
    }
}

#[test]
fn a_notice_comes_from_whoever_is_on_the_way_and_counts_less_than_a_reply() {
    for ask in ASKS {
        let (mut trials, packet) = begun(ask);
        let about = Box::new(packet.clone());
        let content = Content::Unreachable { port: false, about };
        let gateway = address("10.44.24.1");
        let notice = Packet { source: gateway, destination: packet.source, content };
        assert_eq!(trials.answered(1, &notice), Some(2), "{ask:?}");
        assert_eq!(trials.came[2].answer, Some(Answer::Unreachable));
        let content = trials.arrived(3, &packet).expect("an answer");
        let answer = Packet { source: packet.destination, destination: packet.source, content };
        trials.answered(1, &answer);
        trials.answered(1, &notice);
        assert_eq!(trials.came[2].answer, Some(Answer::Reply), "{ask:?}");
    }
}

#[test]
fn a_refusal_is_known_by_what_it_acknowledges() {
    let (mut trials, packet) = begun(Ask::Tcp(443));
    let Content::Tcp { from, to, number, .. } = packet.content else { panic!("a segment") };
    let refuses = |answers: u32| {
        let segment = Segment::Reset;
        let content = Content::Tcp { from: to, to: from, segment, number: 0, answers };
        Packet { source: packet.destination, destination: packet.source, content }
    };
    // A number next to it may be another one's of this run; one from far away is nobody's.
    let far = number.wrapping_add(0x4000_0000);
    assert_eq!(trials.answered(1, &refuses(far)), None, "that is none of ours");
    assert_eq!(trials.answered(1, &refuses(number.wrapping_add(1))), Some(2));
    assert_eq!(trials.came[2].answer, Some(Answer::Refused));
}
