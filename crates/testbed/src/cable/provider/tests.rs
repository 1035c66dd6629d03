//! Questions of a DHCP client, and the answers of the provider.

use super::{Handout, LEASE, LISTENS, Letter, Provided, Provider};
use smoltcp::wire::{DhcpMessageType, DhcpPacket, DhcpRepr, EthernetAddress};
use std::net::Ipv4Addr;
use std::time::{Duration, Instant};

const GATEWAY: [u8; 6] = [2, 0, 0, 0, 0, 1];
const OTHER: [u8; 6] = [2, 0, 0, 0, 0, 2];
const ROUTER: Ipv4Addr = Ipv4Addr::new(192, 0, 2, 1);
const LEASED: Ipv4Addr = Ipv4Addr::new(192, 0, 2, 2);

/// A provider that has listened long enough, and the time that it is.
fn provider() -> (Provider, Instant) {
    let subnet = "192.0.2.0/30".parse().expect("a subnet");
    let begun = Instant::now();
    let mut provider = Provider::new(Handout { subnet, prefix: None }, begun);
    provider.heard(GATEWAY);
    (provider, begun + LISTENS)
}

/// What a client says: of which server, with which address, and which one it has.
fn says(
    kind: DhcpMessageType,
    of: Option<Ipv4Addr>,
    wants: Option<Ipv4Addr>,
    has: Ipv4Addr,
) -> Vec<u8> {
    let none = Ipv4Addr::UNSPECIFIED;
    let says = DhcpRepr {
        message_type: kind,
        transaction_id: 7,
        secs: 0,
        client_hardware_address: EthernetAddress(GATEWAY),
        client_ip: has,
        your_ip: none,
        server_ip: none,
        router: None,
        subnet_mask: None,
        relay_agent_ip: none,
        broadcast: false,
        requested_ip: wants,
        client_identifier: Some(EthernetAddress(GATEWAY)),
        server_identifier: of,
        parameter_request_list: None,
        dns_servers: None,
        max_size: None,
        lease_duration: None,
        renew_duration: None,
        rebind_duration: None,
        additional_options: &[],
    };
    let mut payload = vec![0; says.buffer_len()];
    says.emit(&mut DhcpPacket::new_unchecked(&mut payload)).expect("room");
    payload
}

fn discovers() -> Vec<u8> {
    says(DhcpMessageType::Discover, None, None, Ipv4Addr::UNSPECIFIED)
}

/// What an answer is.
fn kind(letter: Option<&Letter>) -> Option<DhcpMessageType> {
    let packet = DhcpPacket::new_checked(letter?.payload.as_slice()).ok()?;
    DhcpRepr::parse(&packet).ok().map(|says| says.message_type)
}

#[test]
fn an_address_is_offered_taken_renewed_and_given_back() {
    let (mut provider, now) = provider();
    let none = Ipv4Addr::UNSPECIFIED;
    let offer = provider.answer(&discovers(), now).expect("an offer");
    let packet = DhcpPacket::new_checked(offer.payload.as_slice()).expect("a message");
    let offered = DhcpRepr::parse(&packet).expect("a message");
    assert_eq!(offered.message_type, DhcpMessageType::Offer);
    assert_eq!((offered.your_ip, offered.router, offer.to), (LEASED, Some(ROUTER), LEASED));
    assert_eq!(offered.subnet_mask, Some(Ipv4Addr::new(255, 255, 255, 252)));
    assert_eq!(offered.lease_duration, Some(LEASE.as_secs() as u32));
    assert_eq!(offered.client_identifier, Some(EthernetAddress(GATEWAY)), "its name comes back");
    assert_eq!(provider.state, Provided::NotYet, "an offer is no lease");

    let takes = says(DhcpMessageType::Request, Some(ROUTER), Some(LEASED), none);
    let taken = provider.answer(&takes, now);
    assert_eq!(kind(taken.as_ref()), Some(DhcpMessageType::Ack));
    assert_eq!(provider.state, Provided::Taken(LEASED));

    let renews = says(DhcpMessageType::Request, None, None, LEASED);
    let renewed = provider.answer(&renews, now + LEASE / 2).expect("an answer");
    assert_eq!((kind(Some(&renewed)), renewed.to), (Some(DhcpMessageType::Ack), LEASED));

    let returns = says(DhcpMessageType::Release, Some(ROUTER), None, LEASED);
    assert_eq!(provider.answer(&returns, now), None);
    assert_eq!(provider.state, Provided::NotYet);
}

#[test]
fn what_it_did_not_lease_it_does_not_confirm() {
    let (mut provider, now) = provider();
    let (none, old) = (Ipv4Addr::UNSPECIFIED, Ipv4Addr::new(203, 0, 113, 9));
    let remembers = says(DhcpMessageType::Request, None, Some(old), none);
    let refused = provider.answer(&remembers, now).expect("an answer");
    assert_eq!(kind(Some(&refused)), Some(DhcpMessageType::Nak));
    assert_eq!(refused.to, Ipv4Addr::BROADCAST);
    let renews_other = says(DhcpMessageType::Request, None, None, old);
    assert_eq!(provider.answer(&renews_other, now), None, "another server may know it");
    let of_other = says(DhcpMessageType::Request, Some(old), Some(LEASED), none);
    assert_eq!(provider.answer(&of_other, now), None, "the client has chosen another server");
    assert_eq!(provider.state, Provided::NotYet);
}

#[test]
fn it_leases_nothing_before_it_has_listened_or_where_it_is_not_alone() {
    let (mut early, now) = provider();
    assert_eq!(early.answer(&discovers(), now - Duration::from_millis(1)), None);
    assert!(early.answer(&discovers(), now).is_some());

    let (mut rivalled, now) = provider();
    rivalled.other_server();
    assert_eq!(rivalled.answer(&discovers(), now), None);
    assert_eq!(rivalled.state, Provided::OtherServer);

    let (mut crowded, now) = provider();
    crowded.heard(GATEWAY);
    assert!(crowded.answer(&discovers(), now).is_some(), "the same device again is no other");
    crowded.heard(OTHER);
    assert_eq!(crowded.answer(&discovers(), now), None);
    crowded.other_server();
    assert_eq!(crowded.state, Provided::SeveralDevices);
}

#[test]
fn it_is_a_router_once_it_serves_and_now_and_then() {
    let (mut provider, now) = provider();
    assert!(!provider.advertises(now), "there is no prefix to name");
    provider.handout.prefix = Some("2001:db8:1::/64".parse().expect("a prefix"));
    assert!(!provider.advertises(now - Duration::from_millis(1)));
    assert!(provider.advertises(now));
    assert!(!provider.advertises(now + Duration::from_secs(1)));
    provider.is_asked_for_routers();
    assert!(provider.advertises(now + Duration::from_secs(1)));
    assert!(provider.advertises(now + Duration::from_secs(40)));
}

#[test]
fn what_is_no_question_takes_no_answer() {
    let (mut provider, now) = provider();
    let whole = discovers();
    for length in 0..whole.len() {
        provider.answer(&whole[..length], now);
    }
    for at in 0..whole.len() {
        for value in [0, 1, 0x7f, 0xff] {
            let mut bent = whole.clone();
            bent[at] = value;
            provider.answer(&bent, now);
        }
    }
    let offer = provider.answer(&whole, now).expect("an offer");
    assert_eq!(provider.answer(&offer.payload, now), None, "an answer is not answered");
    assert_eq!(provider.state, Provided::NotYet);
}
