//! The kernel's packet log: lines like `… IN=core.24 OUT=core.40 … SRC=… DST=… PROTO=TCP SPT=… DPT=443 … SYN`,
//! plain, in syslog (RFC 5424 and before) or in the journal's JSON. Whatever stands around them is skipped.

use crate::nftables::LOG_MARK;
use bastium_core::blocked::Entry;
use bastium_core::space::{Ends, Protocol, ServicePoint};
use serde::Deserialize;
use std::borrow::Cow;
use std::io::{self, BufRead};
use std::net::IpAddr;

/// The longest line that is looked at, in bytes; of a longer one, its beginning.
const LONGEST: usize = 1 << 16;

/// What of a journal's line matters.
#[derive(Deserialize)]
struct Journal<'l> {
    #[serde(rename = "MESSAGE", borrow)]
    message: Message<'l>,
}

/// A message is text; where it is no UTF-8, the journal writes its bytes as numbers.
#[derive(Deserialize)]
#[serde(untagged)]
enum Message<'l> {
    Text(#[serde(borrow)] Cow<'l, str>),
    Bytes(Vec<u8>),
}

/// Reads a log line by line and calls `reported` for each packet in it, with the number of its line. Returns the
/// number of lines. No more than one line is in memory at a time; lines that are no packets are skipped.
///
/// # Errors
/// When the log cannot be read.
///
/// ```
/// use bastium_gateway::read_packet_log;
///
/// let log = b"kernel: IN=core.24 OUT=core.48 SRC=10.44.24.10 DST=10.44.48.7 PROTO=TCP SPT=40000 DPT=22 SYN\nother\n";
/// let mut seen = Vec::new();
/// let lines = read_packet_log(&log[..], |line, packet| seen.push((line, packet.service.destination_port())))?;
/// assert_eq!((lines, seen), (2, vec![(1, Some(22))]));
/// # Ok::<(), std::io::Error>(())
/// ```
pub fn read_packet_log(
    mut log: impl BufRead,
    mut reported: impl FnMut(u64, &Entry<'_>),
) -> io::Result<u64> {
    let mut line = Vec::new();
    let mut number = 0;
    while next_line(&mut log, &mut line)? {
        number += 1;
        let text = String::from_utf8_lossy(&line);
        let text = text.trim_end();
        if text.starts_with('{') {
            if let Ok(Journal { message }) = serde_json::from_str(text) {
                match message {
                    Message::Text(text) => {
                        entry(&text).iter().for_each(|one| reported(number, one))
                    }
                    Message::Bytes(bytes) => {
                        let text = String::from_utf8_lossy(&bytes);
                        entry(&text).iter().for_each(|one| reported(number, one));
                    }
                }
            }
        } else if let Some(one) = entry(text) {
            reported(number, &one);
        }
    }
    Ok(number)
}

/// Reads the next line, or as much of it as is looked at.
fn next_line(log: &mut impl BufRead, line: &mut Vec<u8>) -> io::Result<bool> {
    line.clear();
    let mut any = false;
    loop {
        let chunk = log.fill_buf()?;
        if chunk.is_empty() {
            return Ok(any);
        }
        any = true;
        let end = chunk.iter().position(|byte| *byte == b'\n');
        let taken = end.map_or(chunk.len(), |end| end + 1);
        let room = LONGEST.saturating_sub(line.len());
        line.extend_from_slice(&chunk[..taken.min(room)]);
        log.consume(taken);
        if end.is_some() {
            return Ok(true);
        }
    }
}

/// The packet of a line, if it tells of one.
fn entry(line: &str) -> Option<Entry<'_>> {
    let start = line.match_indices("IN=").map(|(at, _)| at).find(|at| {
        let before = line[..*at].bytes().next_back();
        before.is_none_or(|byte| byte == b' ' || byte == b':')
    })?;
    let prefix = &line[..start];
    let tag = prefix.rfind(LOG_MARK).map(|at| &prefix[at + LOG_MARK.len()..]);
    let tag = tag.map(|tag| tag.trim_end().trim_end_matches(':'));
    let mut fields = Fields::default();
    for word in line[start..].split_ascii_whitespace() {
        // What follows in brackets is the packet that an error is about.
        if word.starts_with('[') {
            break;
        }
        fields.take(word);
    }
    let ends =
        Ends::new(fields.source?.parse::<IpAddr>().ok()?, fields.destination?.parse().ok()?)?;
    Some(Entry {
        tag,
        enters: fields.enters.unwrap_or_default(),
        leaves: fields.leaves.unwrap_or_default(),
        ends,
        service: fields.service()?,
        // Of what could not be read it is not known.
        opens: fields.incomplete || fields.syn && !fields.ack || fields.protocol != Some("TCP"),
    })
}

#[derive(Default)]
struct Fields<'l> {
    enters: Option<&'l str>,
    leaves: Option<&'l str>,
    source: Option<&'l str>,
    destination: Option<&'l str>,
    protocol: Option<&'l str>,
    port: Option<u16>,
    kind: Option<u8>,
    code: Option<u8>,
    syn: bool,
    ack: bool,
    incomplete: bool,
}

impl<'l> Fields<'l> {
    fn take(&mut self, word: &'l str) {
        let Some((key, value)) = word.split_once('=') else {
            match word {
                "SYN" => self.syn = true,
                "ACK" => self.ack = true,
                "INCOMPLETE" => self.incomplete = true,
                _ => {}
            }
            return;
        };
        match key {
            "IN" => self.enters = self.enters.or(Some(value)),
            "OUT" => self.leaves = self.leaves.or(Some(value)),
            "SRC" => self.source = self.source.or(Some(value)),
            "DST" => self.destination = self.destination.or(Some(value)),
            "PROTO" => self.protocol = self.protocol.or(Some(value)),
            "DPT" => self.port = self.port.or(value.parse().ok()),
            "TYPE" => self.kind = self.kind.or(value.parse().ok()),
            "CODE" => self.code = self.code.or(value.parse().ok()),
            _ => {}
        }
    }

    fn service(&self) -> Option<ServicePoint> {
        let word = self.protocol?;
        let protocol = match word {
            "TCP" => Protocol::TCP,
            "UDP" => Protocol::UDP,
            "ICMP" => Protocol::ICMP,
            "ICMPv6" => Protocol::ICMP_V6,
            "UDPLITE" => Protocol(136),
            "SCTP" => Protocol(132),
            "ESP" => Protocol(50),
            "AH" => Protocol(51),
            number => Protocol(number.parse().ok()?),
        };
        if protocol.is_icmp() {
            return Some(ServicePoint::icmp(protocol, self.kind?, self.code.unwrap_or(0)));
        }
        // Of a later fragment the port is not known.
        Some(ServicePoint::port(protocol, self.port.unwrap_or(0)))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const TCP: &str = "bastium cell.guests>tills: IN=core.80 OUT=core.60 MAC=02:00:5e:01:00:09 \
        SRC=10.44.80.20 DST=10.44.60.10 LEN=60 TOS=0x00 PREC=0x00 TTL=63 ID=1 DF PROTO=TCP SPT=40000 \
        DPT=443 WINDOW=64240 RES=0x00 SYN URGP=0";

    fn reported(log: &str) -> Vec<(u64, String)> {
        let mut all = Vec::new();
        let lines = read_packet_log(log.as_bytes(), |line, one| {
            let (from, to) = (one.ends.source(), one.ends.destination());
            let tag = one.tag.unwrap_or("-");
            all.push((
                line,
                format!("{tag} {} {from} {to} {} {}", one.enters, one.service, one.opens),
            ));
        });
        assert_eq!(lines.expect("memory"), log.lines().count() as u64);
        all
    }

    #[test]
    fn a_packet_is_found_in_whatever_stands_around_it() {
        let found = "cell.guests>tills core.80 10.44.80.20 10.44.60.10 tcp/443 true";
        let plain = format!("[  12.5] {TCP}\n");
        let syslog = format!("<4>1 2026-11-24T10:00:00Z gateway kernel - - - {TCP}\n");
        let older = format!("Nov 24 10:00:00 gateway kernel: {TCP}\n");
        let text = serde_json::to_string(TCP).expect("text");
        let journal =
            format!("{{\"PRIORITY\":\"4\",\"MESSAGE\":{text},\"_TRANSPORT\":\"kernel\"}}\n");
        let bytes = serde_json::to_string(TCP.as_bytes()).expect("numbers");
        let numbers = format!("{{\"MESSAGE\":{bytes}}}\n");
        for log in [plain, syslog, older, journal, numbers] {
            assert_eq!(reported(&log), [(1, found.to_owned())], "{log}");
        }
    }

    #[test]
    fn what_tells_of_no_packet_is_skipped() {
        let log = format!(
            "IN=\nPAIN=core.80 SRC=10.44.80.20 DST=10.44.60.10 PROTO=TCP\n{{\"MESSAGE\":\n\
             {{\"MESSAGE\":7}}\nIN=core.80 SRC=10.44.80.20 DST=fd6b:2f4e:91c0:24::1 PROTO=UDP DPT=1\n{TCP}\n"
        );
        assert_eq!(reported(&log).len(), 1);
    }

    #[test]
    fn a_packet_that_is_cut_off_may_be_a_first_one() {
        let log =
            "x: IN=core.24 OUT= SRC=10.44.24.9 DST=10.44.24.1 PROTO=TCP INCOMPLETE [4 bytes] ";
        assert_eq!(reported(log), [(1, "- core.24 10.44.24.9 10.44.24.1 tcp/0 true".to_owned())]);
    }

    #[test]
    fn an_error_is_not_taken_for_the_packet_it_is_about() {
        let log = "x: IN=core.24 OUT= SRC=10.44.24.9 DST=10.44.24.1 PROTO=ICMP TYPE=3 CODE=1 \
                   [SRC=10.44.24.1 DST=10.44.24.9 PROTO=TCP SPT=1 DPT=2 ]";
        assert_eq!(
            reported(log),
            [(1, "- core.24 10.44.24.9 10.44.24.1 icmp/3.1 true".to_owned())]
        );
    }
}
