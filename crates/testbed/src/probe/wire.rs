//! Probes over TCP and UDP.

use simple_dns::{CLASS, Name, Packet, QCLASS, QTYPE, Question, TYPE};
use socket2::{Domain, Protocol, SockAddr, Socket, Type};
use std::io::{self, Read, Write};
use std::net::{IpAddr, SocketAddr, TcpStream, UdpSocket};
use std::time::Duration;

/// A name that is there for examples (RFC 6761).
const ASKED_FOR: &str = "example.org";

fn socket(
    from: Option<IpAddr>,
    to: SocketAddr,
    kind: Type,
    protocol: Protocol,
) -> io::Result<Socket> {
    let socket = Socket::new(Domain::for_address(to), kind, Some(protocol))?;
    if let Some(from) = from {
        socket.bind(&SockAddr::from(SocketAddr::new(from, 0)))?;
    }
    Ok(socket)
}

/// Opens a connection. On port 80 it asks for a page, and gives the status line.
pub(super) fn connect(
    from: Option<IpAddr>,
    to: SocketAddr,
    patience: Duration,
) -> io::Result<Option<String>> {
    let socket = socket(from, to, Type::STREAM, Protocol::TCP)?;
    socket.connect_timeout(&SockAddr::from(to), patience)?;
    if to.port() != 80 {
        return Ok(None);
    }
    socket.set_read_timeout(Some(patience))?;
    socket.set_write_timeout(Some(patience))?;
    // The connection is the answer; a page is only more about it.
    Ok(status(TcpStream::from(socket)).ok().flatten())
}

/// Asks for a page (RFC 9110) and reads the first line of the answer.
fn status(mut stream: TcpStream) -> io::Result<Option<String>> {
    write!(stream, "HEAD / HTTP/1.1\r\nHost: {ASKED_FOR}\r\nConnection: close\r\n\r\n")?;
    let mut buffer = [0; 256];
    let length = stream.read(&mut buffer)?;
    let answer = String::from_utf8_lossy(&buffer[..length]);
    let line = answer.lines().next().unwrap_or_default();
    Ok(line.starts_with("HTTP/").then(|| line.to_owned()))
}

/// Sends a packet and waits for any answer from there.
pub(super) fn ask(
    from: Option<IpAddr>,
    to: SocketAddr,
    question: &[u8],
    patience: Duration,
) -> io::Result<Vec<u8>> {
    let socket = UdpSocket::from(socket(from, to, Type::DGRAM, Protocol::UDP)?);
    // Only a connected socket receives refusals and ICMP errors.
    socket.connect(to)?;
    socket.set_read_timeout(Some(patience))?;
    socket.send(question)?;
    let mut buffer = [0; 2048];
    let length = socket.recv(&mut buffer)?;
    Ok(buffer[..length].to_vec())
}

/// Asks a resolver for a name, and gives the kind of its answer.
pub(super) fn resolve(
    from: Option<IpAddr>,
    to: SocketAddr,
    patience: Duration,
) -> io::Result<Option<String>> {
    let question = dns_question().map_err(io::Error::other)?;
    let answer = ask(from, to, &question, patience)?;
    let words = Packet::parse(&answer).map(|packet| format!("{:?}", packet.rcode()));
    Ok(Some(words.unwrap_or_else(|_| "an answer that is no DNS".to_owned())))
}

fn dns_question() -> Result<Vec<u8>, simple_dns::SimpleDnsError> {
    let mut packet = Packet::new_query(0x6261);
    packet.set_flags(simple_dns::PacketFlag::RECURSION_DESIRED);
    let name = Name::new(ASKED_FOR)?;
    packet.questions.push(Question::new(
        name,
        QTYPE::TYPE(TYPE::A),
        QCLASS::CLASS(CLASS::IN),
        false,
    ));
    packet.build_bytes_vec()
}

/// A client's question for the time (RFC 5905 7.3): version 4, mode 3.
pub(crate) fn time_question() -> [u8; 48] {
    let mut question = [0; 48];
    question[0] = 4 << 3 | 3;
    question
}
