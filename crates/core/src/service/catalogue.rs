//! The built-in services, by their IANA names where the registry has one.
//!
//! Source: IANA "Service Name and Transport Protocol Port Number Registry" (RFC 6335). A name that
//! everyone says instead of the registered one (`dns` for `domain`, `ping` for the ICMP echo) is kept.

use super::parse_literal;
use crate::space::{Protocol, ServiceSet};

/// A service that every plan may name without declaring it.
#[derive(Clone, Copy, Debug)]
pub struct BuiltIn {
    /// Its name.
    pub name: &'static str,
    /// What it is made of, as literals.
    pub ports: &'static [&'static str],
    /// What it is for.
    pub about: &'static str,
}

impl BuiltIn {
    /// The packets it stands for.
    pub fn set(&self) -> ServiceSet {
        if self.name == "dhcp" {
            // The two families use different ports (RFC 2131, RFC 8415).
            return ServiceSet {
                v4: ServiceSet::ports(Protocol::UDP, 67, 67).v4,
                v6: ServiceSet::ports(Protocol::UDP, 547, 547).v6,
            };
        }
        self.ports
            .iter()
            .filter_map(|word| parse_literal(word)?.ok())
            .fold(ServiceSet::empty(), |all, part| all.union(&part))
    }
}

/// The built-in service of that name.
pub fn built_in(name: &str) -> Option<&'static BuiltIn> {
    BUILT_IN.iter().find(|service| service.name == name)
}

const fn entry(name: &'static str, ports: &'static [&'static str], about: &'static str) -> BuiltIn {
    BuiltIn { name, ports, about }
}

/// All of them, in alphabetical order.
pub const BUILT_IN: &[BuiltIn] = &[
    entry("amqp", &["tcp/5672"], "message queue"),
    entry("amqps", &["tcp/5671"], "message queue over TLS"),
    entry("bgp", &["tcp/179"], "routing between networks"),
    entry("bittorrent-tracker", &["tcp/6969"], "file sharing tracker"),
    entry("coap", &["udp/5683"], "small devices' messages"),
    entry("coaps", &["udp/5684"], "small devices' messages over DTLS"),
    entry("dhcp", &["udp/67", "udp/547"], "addresses for devices, asked of a server"),
    entry("dicom", &["tcp/104", "tcp/11112"], "medical pictures"),
    entry("dns", &["udp/53", "tcp/53"], "names to addresses"),
    entry("dns-over-tls", &["tcp/853"], "names to addresses over TLS"),
    entry("ftp", &["tcp/21"], "file transfer, control"),
    entry("git", &["tcp/9418"], "source code, read only"),
    entry("h323", &["tcp/1720"], "video calls, set-up"),
    entry("hl7", &["tcp/2575"], "medical records between systems"),
    entry("http", &["tcp/80"], "web"),
    entry("http-alt", &["tcp/8080"], "web, other port"),
    entry("https", &["tcp/443"], "web over TLS"),
    entry("https-alt", &["tcp/8443"], "web over TLS, other port"),
    entry("imap", &["tcp/143"], "reading mail"),
    entry("imaps", &["tcp/993"], "reading mail over TLS"),
    entry("ipp", &["tcp/631"], "printing"),
    entry("ipsec", &["udp/500", "udp/4500", "esp"], "encrypted tunnels"),
    entry("iscsi", &["tcp/3260"], "disks over the network"),
    entry("kerberos", &["tcp/88", "udp/88"], "signing in to a domain"),
    entry("ldap", &["tcp/389"], "directory of people and devices"),
    entry("ldaps", &["tcp/636"], "directory over TLS"),
    entry("mdns", &["udp/5353"], "devices announce their names"),
    entry("modbus", &["tcp/502"], "controllers of machines"),
    entry("mqtt", &["tcp/1883"], "gadgets' messages"),
    entry("mqtts", &["tcp/8883"], "gadgets' messages over TLS"),
    entry("mysql", &["tcp/3306"], "database"),
    entry("nfs", &["tcp/2049"], "shared folders"),
    entry("ntp", &["udp/123"], "time"),
    entry("opc-ua", &["tcp/4840"], "controllers of machines"),
    entry("ping", &["icmp/echo"], "is it there?"),
    entry("pop3", &["tcp/110"], "fetching mail"),
    entry("pop3s", &["tcp/995"], "fetching mail over TLS"),
    entry("postgresql", &["tcp/5432"], "database"),
    entry("printer-raw", &["tcp/9100"], "printing without a queue"),
    entry("quic", &["udp/443"], "web over QUIC"),
    entry("radius", &["udp/1812-1813"], "who may join a network"),
    entry("rdp", &["tcp/3389", "udp/3389"], "remote desktop"),
    entry("redis", &["tcp/6379"], "cache"),
    entry("rtmp", &["tcp/1935"], "live video to a server"),
    entry("rtp", &["udp/5004-5005"], "sound and pictures"),
    entry("rtsp", &["tcp/554"], "camera streams"),
    entry("sip", &["udp/5060", "tcp/5060"], "phone calls, set-up"),
    entry("sips", &["tcp/5061"], "phone calls, set-up over TLS"),
    entry("smb", &["tcp/445"], "shared folders"),
    entry("smtp", &["tcp/25"], "mail between servers"),
    entry("snmp", &["udp/161"], "asking devices how they are"),
    entry("snmptrap", &["udp/162"], "devices report"),
    entry("ssdp", &["udp/1900"], "devices announce what they offer"),
    entry("ssh", &["tcp/22"], "remote shell"),
    entry("stun", &["udp/3478", "tcp/3478"], "calls find their way"),
    entry("submission", &["tcp/587"], "sending mail"),
    entry("submissions", &["tcp/465"], "sending mail over TLS"),
    entry("syslog", &["udp/514"], "log messages"),
    entry("syslog-tls", &["tcp/6514"], "log messages over TLS"),
    entry("tacacs", &["tcp/49"], "who may manage devices"),
    entry("telnet", &["tcp/23"], "remote shell, not encrypted"),
    entry("tftp", &["udp/69"], "devices fetch their software"),
    entry("vnc", &["tcp/5900"], "remote desktop"),
    entry("xmpp-client", &["tcp/5222"], "chat"),
];

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_entry_is_whole_and_in_order() {
        for pair in BUILT_IN.windows(2) {
            assert!(pair[0].name < pair[1].name, "{} is out of order", pair[1].name);
        }
        for service in BUILT_IN {
            assert!(crate::name::Name::new(service.name).is_ok(), "{}", service.name);
            for literal in service.ports {
                assert!(matches!(parse_literal(literal), Some(Ok(_))), "{literal}");
            }
            assert!(!service.set().is_empty() && !service.about.is_empty());
        }
    }

    #[test]
    fn dhcp_is_another_port_in_each_family() {
        let dhcp = built_in("dhcp").expect("built in").set();
        assert_eq!(dhcp.words(), ["udp/67 (IPv4)", "udp/547 (IPv6)"]);
    }
}
