//! A session of a simulated gateway.

use super::edit::{Operation, edit};
use super::error::Error;
use super::store::{Alive, Pending, State, Store};
use crate::netconf::{ACL, BASE, Element, Framing, INTERFACES, receive, send, to_json};
use bastium_gateway::list_problems;
use std::io::{self, BufRead, Write};

/// What goes wrong on demand.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Fault {
    /// Somebody else holds the lock of the candidate.
    Locked,
    /// The candidate holds changes that somebody has not committed.
    Edited,
    /// The gateway refuses a value when it is validated.
    Refuses,
    /// The line is cut in the middle of a commit, which has happened.
    Drops,
    /// What is committed to run is not what was validated: one list lets everything pass.
    Forgets,
}

/// The session that stands for somebody else.
const SOMEBODY: u64 = 4_294_967_295;

/// What a server says that it can (RFC 6241, section 8; RFC 8519, its features).
const CAPABILITIES: [&str; 8] = [
    "urn:ietf:params:netconf:base:1.0",
    "urn:ietf:params:netconf:base:1.1",
    "urn:ietf:params:netconf:capability:candidate:1.0",
    "urn:ietf:params:netconf:capability:confirmed-commit:1.1",
    "urn:ietf:params:netconf:capability:validate:1.1",
    "urn:ietf:params:netconf:capability:rollback-on-error:1.0",
    "urn:ietf:params:xml:ns:yang:ietf-interfaces?module=ietf-interfaces&revision=2018-02-20",
    "urn:ietf:params:xml:ns:yang:ietf-access-control-list?module=ietf-access-control-list&revision=2019-03-04&features=\
     match-on-ipv4,match-on-ipv6,match-on-tcp,match-on-udp,match-on-icmp,ipv4,ipv6,interface-attachment,acl-aggregate-stats",
];

/// Serves one session, until it is closed or the stream ends.
///
/// # Errors
/// If the stream or the folder fails.
pub fn serve(
    store: &Store,
    faults: &[Fault],
    from: &mut impl BufRead,
    to: &mut impl Write,
) -> io::Result<()> {
    let alive = store.begin()?;
    let capabilities = CAPABILITIES.map(|one| Element::base("capability").saying(one));
    let hello = Element::base("hello")
        .with(Element::base("capabilities").with_all(capabilities))
        .with(Element::base("session-id").saying(alive.session.to_string()));
    send(to, Framing::EndMark, &hello.write())?;
    let Some(text) = receive(from, Framing::EndMark)? else { return Ok(()) };
    let theirs = Element::read(&text).map_err(io::Error::other)?;
    let can = |version: &str| {
        let all = theirs.child("capabilities").into_iter().flat_map(|all| all.all("capability"));
        all.into_iter().any(|one| one.text.trim().ends_with(version))
    };
    let framing = if can(":base:1.1") { Framing::Chunks } else { Framing::EndMark };
    let session = Session { store, faults, alive };
    while let Some(text) = receive(from, framing)? {
        let (reply, goes_on) = session.answer(&text)?;
        send(to, framing, &reply.write())?;
        if !goes_on {
            break;
        }
    }
    Ok(())
}

struct Session<'a> {
    store: &'a Store,
    faults: &'a [Fault],
    alive: Alive,
}

/// What an operation brings: nothing but that it was done, or data.
type Done = Result<Option<Element>, Error>;

impl Session<'_> {
    fn has(&self, fault: Fault) -> bool {
        self.faults.contains(&fault)
    }

    /// The reply to a message, and whether the session goes on.
    fn answer(&self, text: &str) -> io::Result<(Element, bool)> {
        let mut reply = Element::base("rpc-reply");
        let rpc = match Element::read(text) {
            Ok(rpc) if rpc.name == "rpc" && rpc.namespace == BASE => rpc,
            _ => {
                let error = Error::new("rpc", "malformed-message", "this is no rpc");
                return Ok((reply.with(error.element()), false));
            }
        };
        // All attributes of the question come back (RFC 6241, section 4.2).
        reply.attributes.clone_from(&rpc.attributes);
        let Some(operation) = rpc.children.first() else {
            let error = Error::new("rpc", "missing-element", "there is no operation");
            return Ok((reply.with(error.element()), true));
        };
        if rpc.attribute("message-id").is_none() {
            let error = Error::new("rpc", "missing-attribute", "message-id");
            return Ok((reply.with(error.element()), true));
        }
        let drops = operation.name == "commit" && self.has(Fault::Drops);
        let done = self.store.with(|state| self.operation(operation, state))?;
        if drops {
            return Err(io::Error::new(io::ErrorKind::BrokenPipe, "the line is cut, as asked"));
        }
        let goes_on = operation.name != "close-session";
        let child = match done {
            Ok(Some(data)) => data,
            Ok(None) => Element::base("ok"),
            Err(error) => error.element(),
        };
        Ok((reply.with(child), goes_on))
    }

    fn operation(&self, operation: &Element, state: &mut State) -> Done {
        match operation.name.as_str() {
            "get-config" => {
                let source = store_in(operation, "source")?;
                Ok(Some(filtered(state.config(source), operation)?))
            }
            "get" => Ok(Some(filtered(with_counters(state), operation)?)),
            "lock" => self.lock(store_in(operation, "target")?, state),
            "unlock" => {
                let target = store_in(operation, "target")?;
                match state.locks.get(target) {
                    Some(holder) if *holder == self.alive.session => {
                        state.locks.remove(target);
                        Ok(None)
                    }
                    _ => Err(Error::new(
                        "protocol",
                        "operation-failed",
                        "this session does not hold it",
                    )),
                }
            }
            "edit-config" => self.edit(operation, state),
            "validate" => {
                let source = store_in(operation, "source")?;
                if self.has(Fault::Refuses) {
                    return Err(Error::new("application", "invalid-value", "refused, as asked")
                        .at("/acls/acl[1]"));
                }
                valid(&state.config(source)).map(|()| None)
            }
            "discard-changes" => {
                self.free("candidate", state)?;
                state.candidate.clone_from(&state.running);
                Ok(None)
            }
            "commit" => self.commit(operation, state),
            "cancel-commit" => self.cancel(operation, state),
            "close-session" => Ok(None),
            "kill-session" => {
                Err(Error::new("protocol", "operation-not-supported", "no session is killed here"))
            }
            name => {
                Err(Error::new("protocol", "operation-not-supported", "no such operation").at(name))
            }
        }
    }

    fn lock(&self, target: &str, state: &mut State) -> Done {
        let denied = |session| {
            let error = Error::new("protocol", "lock-denied", "somebody else holds it");
            Err(error.held_by(session))
        };
        if self.has(Fault::Locked) && target == "candidate" {
            return denied(SOMEBODY);
        }
        if let Some(holder) = state.locks.get(target) {
            return denied(*holder);
        }
        let edited = state.candidate != state.running || self.has(Fault::Edited);
        // A candidate with changes is not locked (RFC 6241, section 7.5), nor what waits for its own confirmation by another.
        if target == "candidate" && edited && state.pending.is_none() {
            return denied(0);
        }
        if target == "running" && state.pending.as_ref().is_some_and(|one| one.persist.is_none()) {
            return denied(state.pending.as_ref().map_or(0, |one| one.session));
        }
        state.locks.insert(target.to_owned(), self.alive.session);
        Ok(None)
    }

    /// Whether this session may change a store.
    fn free(&self, target: &str, state: &State) -> Result<(), Error> {
        match state.locks.get(target) {
            Some(holder) if *holder != self.alive.session => {
                let error = Error::new("protocol", "in-use", "somebody else has locked it");
                Err(error.held_by(*holder))
            }
            _ => Ok(()),
        }
    }

    fn edit(&self, operation: &Element, state: &mut State) -> Done {
        if store_in(operation, "target")? != "candidate" {
            return Err(Error::new(
                "protocol",
                "operation-not-supported",
                "only the candidate is edited",
            ));
        }
        self.free("candidate", state)?;
        let default = match operation.says("default-operation").map(str::trim) {
            None => Operation::Merge,
            Some(word) => Operation::of(word)
                .filter(|one| [Operation::Merge, Operation::Replace, Operation::None].contains(one))
                .ok_or_else(|| {
                    Error::new("protocol", "bad-element", "no such default").at("default-operation")
                })?,
        };
        let change = operation.child("config");
        let change = change
            .ok_or_else(|| Error::new("protocol", "missing-element", "there is no config"))?;
        // All of it or nothing.
        let mut config = state.config("candidate");
        for child in &change.children {
            if ![ACL, INTERFACES].contains(&child.namespace.as_str()) {
                return Err(Error::new("application", "unknown-namespace", "no such module here")
                    .at(&child.name));
            }
            edit(&mut config, "config", child, default)?;
        }
        state.put("candidate", config);
        state.log.push(format!("session {} edited the candidate", self.alive.session));
        Ok(None)
    }

    fn commit(&self, operation: &Element, state: &mut State) -> Done {
        let persist_id = operation.says("persist-id").map(str::trim);
        if let Some(pending) = &state.pending {
            let own = match &pending.persist {
                Some(id) => persist_id == Some(id),
                None => pending.session == self.alive.session,
            };
            if !own {
                return Err(Error::new(
                    "protocol",
                    "invalid-value",
                    "another commit waits to be confirmed",
                ));
            }
        } else if persist_id.is_some() {
            return Err(Error::new("protocol", "invalid-value", "no commit waits under that id")
                .at("persist-id"));
        }
        self.free("candidate", state)?;
        self.free("running", state)?;
        valid(&state.config("candidate"))?;
        let before = state.pending.take().map_or_else(|| state.running.clone(), |one| one.before);
        state.running.clone_from(&state.candidate);
        if self.has(Fault::Forgets) {
            forget(state);
        }
        if operation.child("confirmed").is_none() {
            state.log.push(format!("session {} committed", self.alive.session));
            return Ok(None);
        }
        // 600 seconds where nothing is said (RFC 6241, section 8.4.5).
        let seconds =
            operation.says("confirm-timeout").map_or(Ok(600), |text| text.trim().parse::<u32>());
        let seconds = seconds.ok().filter(|seconds| *seconds > 0);
        let seconds = seconds.ok_or_else(|| {
            Error::new("protocol", "invalid-value", "no such time").at("confirm-timeout")
        })?;
        let persist = operation.says("persist").map(|id| id.trim().to_owned());
        state.log.push(format!("session {} committed for {seconds} s", self.alive.session));
        let until = state.now() + u128::from(seconds) * 1000;
        state.pending = Some(Pending { persist, session: self.alive.session, until, before });
        Ok(None)
    }

    fn cancel(&self, operation: &Element, state: &mut State) -> Done {
        let persist_id = operation.says("persist-id").map(str::trim);
        let own = state.pending.as_ref().is_some_and(|pending| match &pending.persist {
            Some(id) => persist_id == Some(id),
            None => persist_id.is_none() && pending.session == self.alive.session,
        });
        if !own {
            return Err(
                Error::new("protocol", "invalid-value", "no such commit waits").at("persist-id")
            );
        }
        state.take_back("cancelled");
        Ok(None)
    }
}

/// The store that an operation names.
fn store_in(operation: &Element, role: &str) -> Result<&'static str, Error> {
    let named = operation.child(role).and_then(|role| role.children.first());
    match named.map(|store| store.name.as_str()) {
        Some("running") => Ok("running"),
        Some("candidate") => Ok("candidate"),
        Some(_) => Err(Error::new("protocol", "invalid-value", "no such store").at(role)),
        None => Err(Error::new("protocol", "missing-element", "no store is named").at(role)),
    }
}

/// The data that a subtree filter selects by its top elements (RFC 6241, section 6).
fn filtered(config: Vec<Element>, operation: &Element) -> Result<Element, Error> {
    let data = Element::base("data");
    let Some(filter) = operation.child("filter") else { return Ok(data.with_all(config)) };
    if filter.attribute("type").is_some_and(|kind| kind != "subtree") {
        return Err(
            Error::new("protocol", "bad-attribute", "filters are subtrees here").at("filter")
        );
    }
    let selected = |one: &Element| {
        let same = |wanted: &&Element| {
            wanted.name == one.name
                && (wanted.namespace == one.namespace || wanted.namespace == BASE)
        };
        filter.children.iter().find(same).map(|wanted| select(one, wanted))
    };
    Ok(data.with_all(config.iter().filter_map(selected)))
}

/// The part of an element that a filter wants.
fn select(element: &Element, wanted: &Element) -> Element {
    if wanted.children.is_empty() {
        return element.clone();
    }
    // A leaf with a text selects the entries that have it.
    let matches = |child: &Element| {
        let texts = wanted
            .children
            .iter()
            .filter(|one| one.children.is_empty() && !one.text.trim().is_empty());
        texts.into_iter().all(|one| child.says(&one.name).map(str::trim) == Some(one.text.trim()))
    };
    if wanted.children.iter().all(|one| one.children.is_empty() && !one.text.trim().is_empty()) {
        let mut part = element.clone();
        if !matches(element) {
            part.children.clear();
        }
        return part;
    }
    let mut part = Element { children: Vec::new(), ..element.clone() };
    for child in &element.children {
        if let Some(one) = wanted.children.iter().find(|one| one.name == child.name) {
            let chosen = select(child, one);
            if !chosen.children.is_empty() || child.children.is_empty() {
                part.children.push(chosen);
            }
        }
    }
    part
}

/// Whether a configuration can run: everything in it is known, and whatever is referred to is there.
fn valid(config: &[Element]) -> Result<(), Error> {
    let json = to_json(config);
    let each = |value: &serde_json::Value| value.as_array().cloned().unwrap_or_default();
    let acls = &json["ietf-access-control-list:acls"];
    let interfaces = each(&json["ietf-interfaces:interfaces"]["interface"]);
    for point in each(&acls["attachment-points"]["interface"]) {
        let id = point["interface-id"].clone();
        if !interfaces.iter().any(|one| one["name"] == id) {
            let error =
                Error::new("application", "data-missing", format!("there is no interface {id}"));
            return Err(error.at("/acls/attachment-points/interface/interface-id"));
        }
    }
    match list_problems(&json).into_iter().next() {
        Some((at, what)) => Err(Error::new("application", "invalid-value", what).at(at)),
        None => Ok(()),
    }
}

/// What runs, with the counters of its entries.
fn with_counters(state: &State) -> Vec<Element> {
    let mut config = state.config("running");
    for acl in config.iter_mut().filter(|one| one.name == "acls").flat_map(|one| &mut one.children)
    {
        let list = acl.says("name").unwrap_or_default().to_owned();
        let aces = acl.children.iter_mut().filter(|one| one.name == "aces");
        for ace in aces.flat_map(|aces| &mut aces.children) {
            let name = ace.says("name").unwrap_or_default();
            let seen = state.counters.iter().find(|(own, entry, _)| *own == list && entry == name);
            let packets = Element::new(ACL, "matched-packets")
                .saying(seen.map_or(0, |one| one.2).to_string());
            ace.children.push(Element::new(ACL, "statistics").with(packets));
        }
    }
    config
}

/// The first entry that runs accepts everything.
fn forget(state: &mut State) {
    let mut config = state.config("running");
    let acls = config.iter_mut().filter(|one| one.name == "acls").flat_map(|one| &mut one.children);
    let aces = acls.flat_map(|acl| &mut acl.children).filter(|one| one.name == "aces");
    if let Some(ace) = aces.flat_map(|aces| &mut aces.children).next() {
        ace.children.retain(|child| child.name == "name");
        let accept = Element::new(ACL, "forwarding").saying("accept");
        ace.children.push(Element::new(ACL, "actions").with(accept));
    }
    state.put("running", config);
}
