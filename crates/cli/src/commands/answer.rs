//! `bastium answer`

use crate::args::Answer;
use crate::failure::{Exit, Failure};
use crate::session::Session;
use bastium_core::space::Protocol;
use bastium_rehearsal::answer::{Port, Visit, listen};
use jiff::ZonedDateTime;
use std::sync::mpsc;
use std::time::{Duration, Instant};

pub(super) fn run(args: &Answer, session: &mut Session<'_>) -> Result<Exit, Failure> {
    let ports = ports(&args.ports)?;
    let (sender, visits) = mpsc::channel();
    for port in &ports {
        listen(*port, args.at, &sender).map_err(|error| Failure::Machine {
            says: format!("cannot listen on {port}: {error}"),
            cure: "stop what listens there already; a port below 1024 may need the administrator"
                .to_owned(),
        })?;
    }
    let shown: Vec<String> = ports.iter().map(Port::to_string).collect();
    session.remark(&format!("listening on {}; stop with Ctrl-C", shown.join(", ")));
    let lasting = args.lasting.and_then(|lasting| Duration::try_from(lasting).ok());
    let until = lasting.map(|lasting| Instant::now() + lasting);
    while let Some(visit) = next(&visits, until) {
        let now = ZonedDateTime::now().strftime("%H:%M:%S").to_string();
        session.print(&format!("{now} {} reached by {}\n", visit.port, visit.from.ip()))?;
        session.flush()?;
    }
    Ok(Exit::Fine)
}

/// The next visit; `None` when the time is over.
fn next(visits: &mpsc::Receiver<Visit>, until: Option<Instant>) -> Option<Visit> {
    let Some(until) = until else { return visits.recv().ok() };
    visits.recv_timeout(until.saturating_duration_since(Instant::now())).ok()
}

/// The ports that are meant by `tcp/443`, `udp/5000-5003` and the like.
fn ports(words: &[String]) -> Result<Vec<Port>, Failure> {
    let mut found = Vec::new();
    for word in words {
        let wrong = |why: &str| Failure::Call {
            says: format!("`{word}` is nothing to listen on: {why}"),
            cure: "write tcp/443 or udp/5000-5003".to_owned(),
        };
        let (protocol, numbers) = word.split_once('/').ok_or_else(|| wrong("it has no port"))?;
        let (low, high) = numbers.split_once('-').unwrap_or((numbers, numbers));
        let number = |word: &str| word.parse::<u16>().ok().filter(|number| *number > 0);
        let (Some(low), Some(high)) = (number(low), number(high)) else {
            return Err(wrong("a port is a number from 1 to 65535"));
        };
        if low > high {
            return Err(wrong("the range ends before it begins"));
        }
        if high - low >= 100 {
            return Err(wrong("a range has at most 100 ports here"));
        }
        let port = match Protocol::from_keyword(protocol) {
            Some(Protocol::TCP) => Port::Tcp,
            Some(Protocol::UDP) => Port::Udp,
            _ => return Err(wrong("only tcp and udp have ports to listen on")),
        };
        found.extend((low..=high).map(port));
    }
    found.dedup();
    Ok(found)
}
