//! `bastium listen`: answers at the far end of checks.

use crate::args::Listen;
use crate::failure::{Exit, Failure, MachineProblem, Malformed};
use crate::session::Session;
use bastium_core::space::Protocol;
use bastium_testbed::answer::{Port, Visits, listen, visits};
use jiff::ZonedDateTime;
use std::time::{Duration, Instant};

pub(super) fn run(args: &Listen, session: &mut Session<'_>) -> Result<Exit, Failure> {
    let ports = ports(&args.ports)?;
    let (teller, visits) = visits();
    for port in &ports {
        listen(*port, args.at, &teller)
            .map_err(|error| MachineProblem::Listening { port: port.to_string(), error })?;
    }
    let shown: Vec<String> = ports.iter().map(Port::to_string).collect();
    session.remark(&format!("listening on {}; stop with Ctrl-C", shown.join(", ")));
    let lasting = args.lasting.and_then(|lasting| Duration::try_from(lasting).ok());
    let until = lasting.and_then(|lasting| Instant::now().checked_add(lasting));
    if let Some(lasting) = lasting.filter(|_| until.is_some()) {
        ends_in(lasting);
    }
    let patience = || until.map(|until| until.saturating_duration_since(Instant::now()));
    while let Ok(visit) = visits.next(patience()) {
        let now = ZonedDateTime::now().strftime("%H:%M:%S").to_string();
        session.print(&format!("{now} {} reached by {}\n", visit.port, visit.from.ip()))?;
        session.flush()?;
        tell_untold(&visits, session);
    }
    tell_untold(&visits, session);
    Ok(Exit::Fine)
}

/// Ends the process a moment after that time, if it has not ended by then: where nobody reads the output, writing
/// it never ends. Nothing is held that would have to be put in order.
fn ends_in(lasting: Duration) {
    std::thread::spawn(move || {
        std::thread::sleep(lasting.saturating_add(Duration::from_millis(500)));
        std::process::exit(Exit::Fine.code().into());
    });
}

fn tell_untold(visits: &Visits, session: &mut Session<'_>) {
    match visits.untold() {
        0 => {}
        more => session.remark(&format!("{more} more came too fast to be shown or answered")),
    }
}

/// The ports that are meant by `tcp/443`, `udp/5000-5003` and the like.
fn ports(words: &[String]) -> Result<Vec<Port>, Failure> {
    let mut found = Vec::new();
    for word in words {
        let wrong = |why| Failure::from(Malformed::Listening { word: word.clone(), why });
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
