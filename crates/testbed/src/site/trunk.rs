//! One cable to all networks of a site in the kernel: does here what a switch does with VLAN tags.

use super::build::{DEVICE, ip};
use super::{Site, Undone};
use crate::cable::Port;
use crate::kernel::space::Space;
use ipnet::IpNet;
use rustix::event::{PollFd, PollFlags, Timespec, poll};
use smoltcp::wire::{
    EthernetFrame, EthernetProtocol, IpAddress, IpProtocol, Ipv4Packet, Ipv6Packet, TcpPacket,
    UdpPacket,
};
use std::io;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::thread::JoinHandle;
use std::time::Duration;

/// How often is looked whether it is over.
const LOOK: Duration = Duration::from_millis(50);

/// The cable, with whatever carries frames between it and the site, until this is dropped.
pub struct Trunk {
    /// The tester's own network: the interface `trunk`, and `outside`, `outside2`, ... for the uplinks.
    pub tester: Space,
    /// Devices that are there themselves, in the order in which they were named.
    pub devices: Vec<Space>,
    over: Arc<AtomicBool>,
    pulled: Arc<AtomicBool>,
    carrying: Option<JoinHandle<io::Result<()>>>,
}

/// How a cable of the site comes to the tester.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Carried {
    /// Together with others, with that VLAN id, or untagged.
    Together(Option<u16>),
    /// By an interface of its own.
    Alone,
    /// Not at all.
    Not,
}

impl Site {
    /// Puts the tester at the ends of all cables of the site, as is said for each, together with devices that have addresses in a
    /// VLAN. Two VLANs may be joined to one, as by a wrong port of a switch; one of them may be untagged.
    ///
    /// # Errors
    /// What the kernel or the tool for links says against it.
    pub fn trunk(
        &self,
        carried: &[Carried],
        joined: Option<[Option<u16>; 2]>,
        devices: &[(u16, IpNet)],
    ) -> Result<Trunk, Undone> {
        let kernel = |what| move |error| Undone::Kernel(what, error);
        let tester = Space::new().map_err(kernel("make a namespace"))?;
        let switch = Space::new().map_err(kernel("make a namespace"))?;
        let mut names = vec!["trunk".to_owned()];
        names.extend(outside_names(carried));
        let cables = cables(&tester, &names)?;
        // A switch only carries frames and says nothing itself.
        for space in self.ends.iter().chain([&switch, &tester]) {
            space.within(silent).map_err(kernel("silence a cable"))?;
        }
        ip(&switch, &cables)?;
        let up: String = names.iter().map(|name| format!("link set {name} up\n")).collect();
        ip(&tester, &up)?;
        let pulled = Arc::new(AtomicBool::new(false));
        let mut carrier = self.carrier(&switch, carried, joined, &pulled)?;
        let mut spaces = Vec::new();
        for (number, (tag, address)) in devices.iter().enumerate() {
            let space = Space::new().map_err(kernel("make a namespace"))?;
            let port = format!("device{number}");
            plug_in(&switch, &space, &port, *address)?;
            carrier.legs.push((open(&switch, &port)?, (0, Some(*tag))));
            spaces.push(space);
        }
        let over = Arc::new(AtomicBool::new(false));
        let ends = Arc::clone(&over);
        let carrying = std::thread::spawn(move || carrier.carry(&ends));
        Ok(Trunk { tester, devices: spaces, over, pulled, carrying: Some(carrying) })
    }

    /// Takes hold of the switch's ports and of the ends of the site's cables, to carry frames between them.
    fn carrier(
        &self,
        switch: &Space,
        carried: &[Carried],
        joined: Option<[Option<u16>; 2]>,
        pulled: &Arc<AtomicBool>,
    ) -> Result<Carrier, Undone> {
        let mut carrier =
            Carrier { legs: Vec::new(), ports: Vec::new(), joined, pulled: Arc::clone(pulled) };
        carrier.ports.push(open(switch, "port0")?);
        let mut next = 1;
        for (carried, end) in carried.iter().zip(&self.ends) {
            let to = match carried {
                Carried::Not => continue,
                Carried::Together(tag) => (0, *tag),
                Carried::Alone => {
                    carrier.ports.push(open(switch, &format!("port{next}"))?);
                    next += 1;
                    (next - 1, None)
                }
            };
            carrier.legs.push((open(end, DEVICE)?, to));
        }
        Ok(carrier)
    }
}

/// Takes hold of an interface of a namespace, and hears every frame there.
fn open(space: &Space, name: &str) -> Result<Port, Undone> {
    let opened = space.within(|| {
        let port = Port::open(name)?;
        port.hear_all(name)?;
        Ok(port)
    });
    opened.map_err(|error| Undone::Kernel("take hold of a cable", error))
}

/// What makes a cable from each port of the switch to an interface of the tester's.
fn cables(tester: &Space, names: &[String]) -> Result<String, Undone> {
    let path = tester.path().map_err(|error| Undone::Kernel("find a namespace", error))?;
    let path = path.display();
    let cable = |(number, name): (usize, &String)| {
        format!(
            "link add name port{number} type veth peer name {name} netns {path}\nlink set port{number} up\n"
        )
    };
    Ok(names.iter().enumerate().map(cable).collect())
}

/// Puts a device with that address at a port of the switch.
fn plug_in(switch: &Space, device: &Space, port: &str, address: IpNet) -> Result<(), Undone> {
    let path = device.path().map_err(|error| Undone::Kernel("find a namespace", error))?;
    let script = format!(
        "link add name {port} type veth peer name {DEVICE} netns {}\nlink set {port} up\n",
        path.display()
    );
    ip(switch, &script)?;
    let gateway = address.hosts().next().unwrap_or(address.addr());
    let script = format!(
        "link set lo up\nlink set {DEVICE} up\naddr add {address} dev {DEVICE}\nroute add default via {gateway}\n"
    );
    ip(device, &script)
}

/// Takes IPv6 from all interfaces of the network that this thread is in: they would ask for neighbours and routers.
fn silent() -> io::Result<()> {
    for which in ["all", "default"] {
        let file = format!("/proc/sys/net/ipv6/conf/{which}/disable_ipv6");
        match std::fs::write(file, "1") {
            Err(error) if error.kind() != io::ErrorKind::NotFound => return Err(error),
            _ => {}
        }
    }
    Ok(())
}

/// What the cables for the uplinks are called at the tester's end.
fn outside_names(carried: &[Carried]) -> Vec<String> {
    let count = carried.iter().filter(|one| **one == Carried::Alone).count();
    let name = |number| match number {
        1 => "outside".to_owned(),
        number => format!("outside{number}"),
    };
    (1..=count).map(name).collect()
}

/// Carries frames between the ends of a site's cables and the tester's.
struct Carrier {
    /// The end of each cable of the site, and the tester's port that it is carried to, with which tag.
    legs: Vec<(Port, (usize, Option<u16>))>,
    ports: Vec<Port>,
    joined: Option<[Option<u16>; 2]>,
    pulled: Arc<AtomicBool>,
}

impl Carrier {
    /// The other network of two that are joined on the cable that carries several.
    fn other(&self, (port, tag): (usize, Option<u16>)) -> Option<(usize, Option<u16>)> {
        let [one, other] = self.joined.filter(|_| port == 0)?;
        let tags = [(one, other), (other, one)];
        tags.into_iter().find(|(own, _)| *own == tag).map(|(_, other)| (port, other))
    }

    fn carry(mut self, over: &AtomicBool) -> io::Result<()> {
        let wait = Timespec { tv_sec: 0, tv_nsec: LOOK.subsec_nanos().into() };
        while !over.load(Ordering::Relaxed) {
            let all = self.legs.iter().map(|(leg, _)| leg).chain(&self.ports);
            let mut sockets: Vec<PollFd<'_>> =
                all.map(|port| PollFd::new(port, PollFlags::IN)).collect();
            match poll(&mut sockets, Some(&wait)) {
                Ok(_) | Err(rustix::io::Errno::INTR) => {}
                Err(error) => return Err(error.into()),
            }
            self.pass()?;
        }
        Ok(())
    }

    fn pass(&mut self) -> io::Result<()> {
        for number in 0..self.legs.len() {
            while let Some((_, mut frame)) = self.legs[number].0.receive()? {
                if self.pulled.load(Ordering::Relaxed) {
                    continue;
                }
                finish(&mut frame);
                let own = self.legs[number].1;
                for (port, tag) in [Some(own), self.other(own)].into_iter().flatten() {
                    put(&self.ports[port], tag, &frame);
                    self.to_legs((port, tag), Some(number), &frame);
                }
            }
        }
        for number in 0..self.ports.len() {
            while let Some((tag, frame)) = self.ports[number].receive()? {
                if self.pulled.load(Ordering::Relaxed) {
                    continue;
                }
                self.to_legs((number, tag), None, &frame);
                if let Some((port, other)) = self.other((number, tag)) {
                    put(&self.ports[port], other, &frame);
                    self.to_legs((port, other), None, &frame);
                }
            }
        }
        Ok(())
    }

    /// To everyone in a VLAN except the sender.
    fn to_legs(&self, to: (usize, Option<u16>), from: Option<usize>, frame: &[u8]) {
        for (number, (leg, own)) in self.legs.iter().enumerate() {
            if *own == to && Some(number) != from {
                put(leg, None, frame);
            }
        }
    }
}

/// Finishes the checksum of a packet that a kernel has sent: it leaves that to the hardware, which is not there.
fn finish(frame: &mut [u8]) {
    let Ok(mut frame) = EthernetFrame::new_checked(frame) else { return };
    let (source, destination, protocol, body): (IpAddress, IpAddress, _, _) =
        match frame.ethertype() {
            EthernetProtocol::Ipv4 => {
                let Ok(mut packet) = Ipv4Packet::new_checked(frame.payload_mut()) else { return };
                let (source, destination) = (packet.src_addr(), packet.dst_addr());
                let protocol = packet.next_header();
                (source.into(), destination.into(), protocol, packet.payload_mut().to_vec())
            }
            EthernetProtocol::Ipv6 => {
                let Ok(mut packet) = Ipv6Packet::new_checked(frame.payload_mut()) else { return };
                let (source, destination) = (packet.src_addr(), packet.dst_addr());
                let protocol = packet.next_header();
                (source.into(), destination.into(), protocol, packet.payload_mut().to_vec())
            }
            _ => return,
        };
    let mut body = body;
    match protocol {
        IpProtocol::Tcp => {
            let Ok(mut segment) = TcpPacket::new_checked(&mut body[..]) else { return };
            segment.fill_checksum(&source, &destination);
        }
        IpProtocol::Udp => {
            let Ok(mut datagram) = UdpPacket::new_checked(&mut body[..]) else { return };
            datagram.fill_checksum(&source, &destination);
        }
        _ => return,
    }
    match frame.ethertype() {
        EthernetProtocol::Ipv4 => {
            let mut packet = Ipv4Packet::new_unchecked(frame.payload_mut());
            packet.payload_mut().copy_from_slice(&body);
        }
        _ => {
            let mut packet = Ipv6Packet::new_unchecked(frame.payload_mut());
            packet.payload_mut().copy_from_slice(&body);
        }
    }
}

/// Puts a frame on; where there is no room it is lost, as at any switch.
fn put(port: &Port, tag: Option<u16>, frame: &[u8]) {
    for _ in 0..20 {
        match port.send(tag, frame) {
            Err(error) if matches!(error.raw_os_error(), Some(libc::ENOBUFS | libc::EAGAIN)) => {
                std::thread::sleep(Duration::from_micros(200));
            }
            _ => return,
        }
    }
}

impl Trunk {
    /// Pulls the cable somewhere on its way: nothing is carried any more, and the tester's interface does not notice.
    pub fn pull(&self) {
        self.pulled.store(true, Ordering::Relaxed);
    }
}

impl Drop for Trunk {
    fn drop(&mut self) {
        self.over.store(true, Ordering::Relaxed);
        if let Some(carrying) = self.carrying.take() {
            // What it has to tell is that its cables are gone.
            let _ = carrying.join();
        }
    }
}
