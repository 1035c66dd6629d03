//! The files with which a Linux gateway starts: closed until its rules are loaded, and closed for good if they cannot
//! be loaded.
//!
//! A rule file that the kernel refuses leaves no rules at all, and a gateway that passes everything on. So the unit loads a
//! small file first that passes nothing on and lets in those who manage the gateway, and takes it away only after the rules are
//! there; packets are passed on only from then on. The unit is one of systemd's, for the gateway's own tools.

use crate::clean;
use crate::nftables::ProvenFile;
use bastium_core::plan::Plan;
use bastium_core::space::{AddressSet, Family, Protocol, ServiceSet};
use std::fmt::Write;

/// Where the files are put on the gateway.
pub const FOLDER: &str = "/etc/bastium";
/// The table that is there until the rules are.
pub const CLOSED_TABLE: &str = "bastium_closed";

/// One of the files.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct BootFile {
    /// Its name.
    pub name: &'static str,
    /// What is in it.
    pub text: String,
}

/// The files for a plan and its rules.
pub fn boot_files(plan: &Plan, rules: &ProvenFile) -> Vec<BootFile> {
    let file = |name, text| BootFile { name, text };
    vec![
        file("closed.nft", closed(plan)),
        file("rules.nft", rules.text().to_owned()),
        file("forwarding.conf", forwarding(plan)),
        file("bastium-gateway.service", unit(plan)),
    ]
}

/// A table that passes nothing on, and lets in replies, neighbour discovery (RFC 4861) and those who manage the gateway.
fn closed(plan: &Plan) -> String {
    let mut out = format!(
        "#!/usr/sbin/nft -f\n# Until the rules of {} are loaded: nothing is passed on, and only management comes in\n\n\
         table inet {CLOSED_TABLE}\ndelete table inet {CLOSED_TABLE}\n\ntable inet {CLOSED_TABLE} {{\n\tchain input {{\n\
         \t\ttype filter hook input priority filter; policy drop\n\t\tiifname \"lo\" accept\n\
         \t\tct state established,related accept\n\
         \t\ticmpv6 type {{ nd-neighbor-solicit, nd-neighbor-advert, nd-router-advert }} accept\n",
        site(plan)
    );
    for line in management(plan) {
        let _ = writeln!(out, "\t\t{line} accept");
    }
    out.push_str("\t}\n\n\tchain forward {\n\t\ttype filter hook forward priority filter; policy drop\n\t}\n}\n");
    out
}

/// Who may manage the gateway, by addresses alone: which interface is which is known only to the rules.
fn management(plan: &Plan) -> Vec<String> {
    let Some(manage) = &plan.gateway().manage else { return Vec::new() };
    let inside = manage.from.addresses.intersection(plan.inside());
    let mut lines = Vec::new();
    for (family, header) in [(Family::V4, "ip"), (Family::V6, "ip6")] {
        let sources = inside.of_family(family);
        if sources.is_empty() {
            continue;
        }
        for (protocol, word) in [(Protocol::TCP, "tcp"), (Protocol::UDP, "udp")] {
            let ports = ports(&manage.service.set, protocol, family);
            if !ports.is_empty() {
                let sources = listed(&sources);
                lines.push(format!(
                    "{header} saddr {{ {sources} }} {word} dport {{ {} }}",
                    ports.join(", ")
                ));
            }
        }
    }
    lines
}

fn listed(set: &AddressSet) -> String {
    set.words().join(", ")
}

/// The ports of a protocol among some services, each or from one to another.
fn ports(services: &ServiceSet, protocol: Protocol, family: Family) -> Vec<String> {
    let own = services.intersection(&ServiceSet::protocol(protocol));
    let line = own.line(family);
    let words = line.by_protocol().map(|(_, low, high)| match (low, high) {
        (low, high) if low == high => low.to_string(),
        (low, high) => format!("{low}-{high}"),
    });
    words.collect()
}

/// What is set in the kernel once the rules are there.
fn forwarding(plan: &Plan) -> String {
    let v6 = plan.networks().iter().any(|network| network.has_v6());
    let mut out = String::from(
        "# Only loaded by bastium-gateway.service, after the rules: do not put it into /etc/sysctl.d\n\
         net.ipv4.ip_forward = 1\n\
         # Nobody but the plan says which way packets go\n\
         net.ipv4.conf.all.accept_redirects = 0\nnet.ipv4.conf.all.send_redirects = 0\n\
         net.ipv4.conf.all.accept_source_route = 0\n",
    );
    if v6 {
        out.push_str(
            "net.ipv6.conf.all.forwarding = 1\nnet.ipv6.conf.all.accept_redirects = 0\n\
             net.ipv6.conf.all.accept_source_route = 0\n",
        );
    }
    out
}

fn unit(plan: &Plan) -> String {
    format!(
        "# Loads the rules of {site} when the gateway starts, before there is a network.\n\
         # Copy the four files to {FOLDER}, this one to /etc/systemd/system, and take away what passes packets on by itself:\n\
         #   ip_forward or forwarding in /etc/sysctl.conf and /etc/sysctl.d, and other services that load rules\n\
         #   systemctl disable nftables && systemctl enable bastium-gateway\n\
         # If the rules cannot be loaded, nothing is passed on, and only whoever manages the gateway reaches it, from inside and\n\
         # with an address that is set by hand: nobody is given one.\n\
         [Unit]\nDescription=Rules of the gateway\nDefaultDependencies=no\nAfter=local-fs.target systemd-modules-load.service\n\
         Before=network-pre.target shutdown.target\nWants=network-pre.target\nConflicts=shutdown.target\n\n\
         [Service]\nType=oneshot\nRemainAfterExit=yes\n\
         ExecStart=/usr/sbin/nft -f {FOLDER}/closed.nft\n\
         ExecStart=/usr/sbin/nft -f {FOLDER}/rules.nft\n\
         ExecStart=/usr/sbin/nft delete table inet {CLOSED_TABLE}\n\
         ExecStart=/usr/sbin/sysctl -q -p {FOLDER}/forwarding.conf\n\
         ExecReload=/usr/sbin/nft -f {FOLDER}/rules.nft\n\n\
         [Install]\nWantedBy=sysinit.target\n",
        site = site(plan)
    )
}

/// The site's name, as it fits into a remark.
fn site(plan: &Plan) -> String {
    const MOST: usize = 100;
    clean(&plan.site().name).chars().filter(|one| !one.is_control()).take(MOST).collect()
}
