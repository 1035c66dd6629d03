//! The words that the kernel's tool prints for numbers.

/// ICMP types by name (RFC 792), as far as they have one there.
const ICMP: [(&str, u8); 12] = [
    ("echo-reply", 0),
    ("destination-unreachable", 3),
    ("source-quench", 4),
    ("redirect", 5),
    ("echo-request", 8),
    ("router-advertisement", 9),
    ("router-solicitation", 10),
    ("time-exceeded", 11),
    ("parameter-problem", 12),
    ("timestamp-request", 13),
    ("timestamp-reply", 14),
    ("info-request", 15),
];
/// The rest of them.
const ICMP_MORE: [(&str, u8); 3] =
    [("info-reply", 16), ("address-mask-request", 17), ("address-mask-reply", 18)];

/// ICMPv6 types by name (RFC 4443, RFC 2710, RFC 4861, RFC 3810).
const ICMP_V6: [(&str, u8); 20] = [
    ("destination-unreachable", 1),
    ("packet-too-big", 2),
    ("time-exceeded", 3),
    ("parameter-problem", 4),
    ("echo-request", 128),
    ("echo-reply", 129),
    ("mld-listener-query", 130),
    ("mld-listener-report", 131),
    ("mld-listener-done", 132),
    ("mld-listener-reduction", 132),
    ("nd-router-solicit", 133),
    ("nd-router-advert", 134),
    ("nd-neighbor-solicit", 135),
    ("nd-neighbor-advert", 136),
    ("nd-redirect", 137),
    ("router-renumbering", 138),
    ("ind-neighbor-solicit", 141),
    ("ind-neighbor-advert", 142),
    ("mld2-listener-report", 143),
    ("mld2-listener-query", 130),
];

/// Codes of "destination unreachable" by name, in IPv4 and in IPv6.
const CODES: [(&str, u8); 8] = [
    ("net-unreachable", 0),
    ("host-unreachable", 1),
    ("prot-unreachable", 2),
    ("port-unreachable", 3),
    ("frag-needed", 4),
    ("net-prohibited", 9),
    ("host-prohibited", 10),
    ("admin-prohibited", 13),
];
const CODES_V6: [(&str, u8); 6] = [
    ("no-route", 0),
    ("admin-prohibited", 1),
    ("addr-unreachable", 3),
    ("port-unreachable", 4),
    ("policy-fail", 5),
    ("reject-route", 6),
];

/// Protocols by the names that are printed for them.
const PROTOCOLS: [(&str, u8); 13] = [
    ("tcp", 6),
    ("udp", 17),
    ("icmp", 1),
    ("ipv6-icmp", 58),
    ("icmpv6", 58),
    ("udplite", 136),
    ("sctp", 132),
    ("dccp", 33),
    ("esp", 50),
    ("ah", 51),
    ("gre", 47),
    ("igmp", 2),
    ("comp", 108),
];

fn find(table: &[(&str, u8)], word: &str) -> Option<u8> {
    table.iter().find(|(name, _)| *name == word).map(|(_, number)| *number)
}

/// An ICMP type.
pub(super) fn icmp_type(word: &str, v6: bool) -> Option<u8> {
    match v6 {
        true => find(&ICMP_V6, word),
        false => find(&ICMP, word).or_else(|| find(&ICMP_MORE, word)),
    }
}

/// An ICMP code.
pub(super) fn icmp_code(word: &str, v6: bool) -> Option<u8> {
    if v6 { find(&CODES_V6, word) } else { find(&CODES, word) }
}

/// An IP protocol.
pub(super) fn protocol(word: &str) -> Option<u8> {
    find(&PROTOCOLS, word)
}
