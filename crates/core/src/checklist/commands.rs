//! What to type for a check on Windows, macOS and Debian, with programs that a stock installation has.

use crate::space::{Family, Packet, Protocol, ServicePoint};
use std::net::IpAddr;

/// A name that is there for examples and answers (RFC 2606, RFC 6761).
const OUTSIDE_NAME: &str = "example.org";
/// Stands in a command for an address outside that the person knows to answer.
const OUTSIDE_ADDRESS: &str = "OUTSIDE_ADDRESS";

/// Addresses, router and resolver; where a resolver of the machine's own stands between, it knows the network's.
const LINUX_LEASE: &str =
    "ip -brief address; ip route show default; resolvectl dns || cat /etc/resolv.conf";
const MACOS_LEASE: &str =
    "ifconfig | grep inet; route -n get default | grep gateway; scutil --dns | grep nameserver";

/// The systems that commands are given for.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum System {
    /// Linux, with the usual tools.
    Linux,
    /// macOS.
    Macos,
    /// Windows, in PowerShell.
    Windows,
}

/// How a check is sent.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Probe {
    /// Look at the address that the network gave.
    Lease,
    /// An echo request.
    Ping,
    /// Opening a TCP connection.
    Tcp(u16),
    /// A UDP packet.
    Udp(u16),
    /// A DNS question to that address.
    Dns,
    /// A question for the time.
    Time,
    /// A web page, by name.
    Web,
    /// Looking for names that devices announce.
    Browse,
}

/// Where a check goes.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Target {
    /// To this address.
    Address(IpAddr),
    /// To anyone on the internet who answers: the plan has nobody in particular there.
    Anyone {
        /// Over which of the two.
        family: Family,
    },
    /// To what this name leads to, or to the address that a word in capitals stands for.
    Named(String),
}

impl std::fmt::Display for Target {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            Self::Address(address) => write!(f, "{address}"),
            Self::Anyone { .. } => f.write_str(OUTSIDE_ADDRESS),
            Self::Named(name) => f.write_str(name),
        }
    }
}

/// The same test for each system.
#[derive(Clone, Debug, PartialEq, Eq)]
#[expect(missing_docs, reason = "the fields are the systems by name")]
pub struct Commands {
    pub linux: String,
    pub macos: String,
    pub windows: String,
}

impl Probe {
    /// The probe that asks for a service; `None` for one that no ordinary tool can ask for.
    pub fn for_service(service: ServicePoint) -> Option<Self> {
        let port = service.destination_port();
        match (service.protocol(), port, service.icmp_kind()) {
            (Protocol::ICMP, _, Some((8, 0))) | (Protocol::ICMP_V6, _, Some((128, 0))) => {
                Some(Self::Ping)
            }
            (Protocol::TCP, Some(port), _) if port > 0 => Some(Self::Tcp(port)),
            (Protocol::UDP, Some(53), _) => Some(Self::Dns),
            (Protocol::UDP, Some(123), _) => Some(Self::Time),
            (Protocol::UDP, Some(port), _) if port > 0 => Some(Self::Udp(port)),
            _ => None,
        }
    }

    /// The probe that sends a packet; `None` if no ordinary tool can send it.
    pub(super) fn of(packet: &Packet) -> Option<Self> {
        if packet.source().is_unspecified() {
            return Some(Self::Lease);
        }
        if packet.destination().is_multicast() {
            return Some(Self::Browse);
        }
        Self::for_service(packet.service)
    }

    /// What is asked for, in a word.
    pub fn words(self) -> String {
        match self {
            Self::Lease => "dhcp".to_owned(),
            Self::Ping => "ping".to_owned(),
            Self::Tcp(port) => format!("tcp/{port}"),
            Self::Udp(port) => format!("udp/{port}"),
            Self::Dns => "dns".to_owned(),
            Self::Time => "ntp".to_owned(),
            Self::Web => "https".to_owned(),
            Self::Browse => "mdns".to_owned(),
        }
    }

    /// What to type. For anyone on the internet a word in capitals stands for the address.
    pub fn commands(self, target: &Target) -> Commands {
        let command = |system| self.command(system, target);
        Commands {
            linux: command(System::Linux),
            macos: command(System::Macos),
            windows: command(System::Windows),
        }
    }

    fn command(self, system: System, target: &Target) -> String {
        use System::{Linux, Macos, Windows};
        let family = match target {
            Target::Address(address) => Family::of(*address),
            Target::Anyone { family } => *family,
            Target::Named(_) => Family::V4,
        };
        match (self, system) {
            (Self::Lease, Linux) => LINUX_LEASE.to_owned(),
            (Self::Lease, Macos) => MACOS_LEASE.to_owned(),
            (Self::Lease, Windows) => "ipconfig /all".to_owned(),
            (Self::Ping, Linux) => format!("ping -c 3 -W 2 {target}"),
            (Self::Ping, Macos) if family == Family::V6 => format!("ping6 -c 3 {target}"),
            (Self::Ping, Macos) => format!("ping -c 3 -t 4 {target}"),
            (Self::Ping, Windows) => format!("ping -n 3 -w 2000 {target}"),
            (Self::Tcp(port), Linux) => format!("nc -vz -w 3 {target} {port}"),
            (Self::Tcp(port), Macos) => format!("nc -vz -G 3 {target} {port}"),
            (Self::Tcp(port), Windows) => format!("Test-NetConnection {target} -Port {port}"),
            (Self::Udp(port), Linux | Macos) => format!("echo test | nc -u -w 3 {target} {port}"),
            (Self::Udp(port), Windows) => windows_udp(target, family, port),
            (Self::Dns, Linux | Macos) => format!("dig +time=3 +tries=1 @{target} {OUTSIDE_NAME}"),
            (Self::Dns, Windows) => format!("Resolve-DnsName {OUTSIDE_NAME} -Server {target}"),
            (Self::Time, Linux) => linux_time(target),
            (Self::Time, Macos) => format!("sntp -t 3 {target}"),
            (Self::Time, Windows) => {
                format!("w32tm /stripchart /computer:{target} /samples:1 /dataonly")
            }
            (Self::Browse, Linux) => "avahi-browse -at".to_owned(),
            (Self::Browse, Macos) => "dns-sd -B _services._dns-sd._udp".to_owned(),
            (Self::Browse, Windows) => {
                "Resolve-DnsName _services._dns-sd._udp.local -Type PTR".to_owned()
            }
            (Self::Web, Linux) => {
                format!("wget -q -T 5 -t 1 -O /dev/null https://{OUTSIDE_NAME}/ && echo reply")
            }
            (Self::Web, Macos) => format!("curl -sSI -m 5 https://{OUTSIDE_NAME}/"),
            (Self::Web, Windows) => format!("curl.exe -sSI -m 5 https://{OUTSIDE_NAME}/"),
        }
    }

    /// What has to be at the target so that something answers there; `None` where nothing is needed.
    pub fn listener(self, target: IpAddr) -> Option<SetUp> {
        match self {
            Self::Ping => Some(SetUp::Device(target)),
            Self::Tcp(_) | Self::Udp(_) => Some(SetUp::Listener(target, self.words())),
            Self::Dns => Some(SetUp::Server(target, "resolver")),
            Self::Time => Some(SetUp::Server(target, "time server")),
            Self::Lease | Self::Web | Self::Browse => None,
        }
    }
}

/// Something to set up before a check, at an address where the plan has nothing that answers.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum SetUp {
    /// Any device.
    Device(IpAddr),
    /// A device that listens: `tcp/443`.
    Listener(IpAddr, String),
    /// A server of that kind.
    Server(IpAddr, &'static str),
}

impl std::fmt::Display for SetUp {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            Self::Device(at) => write!(f, "connect a device with the address {at}"),
            Self::Listener(at, what) => {
                write!(f, "listen on {what} at {at}: bastium listen {what}")
            }
            Self::Server(at, what) => write!(f, "set up a {what} at {at}"),
        }
    }
}

impl SetUp {
    /// Several of them as few lines: one for all devices, one for each address that listens.
    pub fn lines(all: &[Self]) -> Vec<String> {
        let mut devices: Vec<IpAddr> = Vec::new();
        let mut listeners: Vec<(IpAddr, Vec<&str>)> = Vec::new();
        let mut servers: Vec<String> = Vec::new();
        for one in all {
            match one {
                Self::Device(at) if !devices.contains(at) => devices.push(*at),
                Self::Listener(at, what) => match listeners.iter_mut().find(|(own, _)| own == at) {
                    Some((_, ports)) if !ports.contains(&what.as_str()) => ports.push(what),
                    Some(_) => {}
                    None => listeners.push((*at, vec![what])),
                },
                Self::Server(..) if !servers.contains(&one.to_string()) => {
                    servers.push(one.to_string());
                }
                Self::Device(_) | Self::Server(..) => {}
            }
        }
        // A laptop that listens somewhere is there.
        devices.retain(|at| !listeners.iter().any(|(own, _)| own == at));
        let mut lines = Vec::new();
        if !devices.is_empty() {
            let devices: Vec<String> = devices.iter().map(IpAddr::to_string).collect();
            lines.push(match devices.as_slice() {
                [one] => format!("connect a device with the address {one}"),
                several => format!("connect devices with the addresses {}", several.join(", ")),
            });
        }
        lines.extend(
            listeners
                .into_iter()
                .map(|(at, ports)| format!("at {at} run: bastium listen {}", ports.join(" "))),
        );
        lines.extend(servers);
        lines
    }
}

impl Target {
    /// What the word in capitals in its commands stands for.
    pub fn remark(&self, probe: Probe) -> Option<String> {
        let asked =
            matches!(self, Self::Anyone { .. }) && !matches!(probe, Probe::Lease | Probe::Web);
        asked.then(|| {
            format!(
                "{OUTSIDE_ADDRESS} means a server on the internet that is known to answer {}, where that is allowed",
                probe.words()
            )
        })
    }
}

/// A question for the time (RFC 5905: version 3, from a client) in what every Linux has.
fn linux_time(target: &Target) -> String {
    format!(
        "bash -c 'exec 3<>/dev/udp/{target}/123; printf \"\\x1b%047d\" 0 >&3; timeout 3 head -c 1 <&3 >/dev/null && echo reply'"
    )
}

/// Sends a packet and waits for an answer; how long it was is printed, and an error without one.
fn windows_udp(target: &Target, family: Family, port: u16) -> String {
    let (family, any) =
        if family == Family::V6 { ("InterNetworkV6", "IPv6Any") } else { ("InterNetwork", "Any") };
    format!(
        "$u = New-Object Net.Sockets.UdpClient([Net.Sockets.AddressFamily]::{family}); \
         $u.Client.ReceiveTimeout = 3000; $u.Connect('{target}', {port}); \
         [void]$u.Send([byte[]](116,101,115,116), 4); \
         $e = New-Object Net.IPEndPoint([Net.IPAddress]::{any}, 0); $u.Receive([ref]$e).Length"
    )
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_probe_has_a_command_for_every_system() {
        let probes = [
            Probe::Lease,
            Probe::Ping,
            Probe::Tcp(443),
            Probe::Udp(5000),
            Probe::Dns,
            Probe::Time,
            Probe::Web,
        ];
        for target in ["10.44.40.10", "fd6b:2f4e:91c0:40::10"] {
            let target = Target::Address(target.parse().expect("an address"));
            for probe in probes {
                let Commands { linux, macos, windows } = probe.commands(&target);
                let outside = matches!(probe, Probe::Lease | Probe::Web);
                for command in [linux, macos, windows] {
                    assert!(outside || command.contains(&target.to_string()), "{command}");
                }
            }
        }
    }

    #[test]
    fn services_that_no_tool_can_ask_for_have_no_probe() {
        let esp = ServicePoint::new(Protocol(50), 0);
        assert_eq!(Probe::for_service(esp), None);
        assert_eq!(
            Probe::for_service(ServicePoint::port(Protocol::TCP, 443)),
            Some(Probe::Tcp(443))
        );
        assert_eq!(
            Probe::for_service(ServicePoint::icmp(Protocol::ICMP_V6, 128, 0)),
            Some(Probe::Ping)
        );
    }
}
