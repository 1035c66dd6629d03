//! A load of access lists by NETCONF, in the order in which it is safe.

use super::client::{Client, Failed};
use super::tree::{BASE, Element};
use super::yang::{ACL, INTERFACES, to_json, to_xml};
use crate::LoadId;
use serde_json::Value;
use std::collections::BTreeSet;

/// A load that has locked a gateway's configuration.
#[derive(Debug)]
pub struct NetconfLoading {
    client: Client,
    id: LoadId,
}

/// What becomes of the lists that a gateway has.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct Change {
    /// How many lists are new or take the place of one of the same name.
    pub lists: usize,
    /// Lists that nothing is attached to any more, and that go.
    pub gone: Vec<String>,
    /// Lists that are not of the plan, and stay.
    pub others: Vec<String>,
    /// Interfaces of the plan that the gateway does not have.
    pub missing: Vec<String>,
    edit: Element,
}

impl NetconfLoading {
    /// Locks what runs and the candidate, and reads both. Returns the data of what runs, as JSON (RFC 7951); none where the
    /// candidate holds somebody's changes, which nobody may take away.
    ///
    /// # Errors
    /// If somebody else holds a lock, for one.
    pub fn look(mut client: Client) -> Result<(Self, Option<Value>), Failed> {
        // A lock ends with its session, whatever happens to it (RFC 6241, section 7.5).
        for store in ["running", "candidate"] {
            client.rpc(target("lock", store))?;
        }
        let running = read(&mut client, "running")?;
        let same = read(&mut client, "candidate")? == running;
        Ok((Self { client, id: LoadId::fresh() }, same.then_some(running)))
    }

    /// Its id, by which it is confirmed or undone.
    pub fn id(&self) -> &LoadId {
        &self.id
    }

    /// Edits the candidate, and lets the gateway validate it. Nothing runs of it yet.
    ///
    /// # Errors
    /// If the gateway does not take it: the candidate is as it was then.
    pub fn prepare(&mut self, change: &Change) -> Result<(), Failed> {
        let config = Element::base("config").with(change.edit.clone());
        let edit = target("edit-config", "candidate")
            .with(Element::base("default-operation").saying("merge"))
            .with(config);
        let tried =
            self.client.rpc(edit).and_then(|_| self.client.rpc(source("validate", "candidate")));
        if tried.is_err() {
            self.discard();
        }
        tried.map(drop)
    }

    /// Takes back what was edited and not committed.
    pub fn discard(&mut self) {
        let _ = self.client.rpc(Element::base("discard-changes"));
    }

    /// Lets it run for a number of seconds, unless somebody confirms it by its id; the session may end meanwhile.
    ///
    /// # Errors
    /// If the gateway refuses it. Where the line was cut nobody knows whether it runs; it goes by itself then.
    pub fn commit(&mut self, seconds: u32) -> Result<(), Failed> {
        let commit = Element::base("commit")
            .with(Element::base("confirmed"))
            .with(Element::base("confirm-timeout").saying(seconds.to_string()))
            .with(Element::base("persist").saying(self.id.as_str()));
        self.client.rpc(commit).map(drop)
    }

    /// Ends the session, and with it the locks.
    pub fn close(self) {
        self.client.close();
    }
}

/// What runs, as JSON.
///
/// # Errors
/// If the gateway does not tell.
pub(crate) fn read(client: &mut Client, store: &str) -> Result<Value, Failed> {
    let filter = Element::base("filter")
        .having("", "type", "subtree")
        .with(Element::new(ACL, "acls"))
        .with(Element::new(INTERFACES, "interfaces"));
    let reply = client.rpc(source("get-config", store).with(filter))?;
    let data =
        reply.child("data").ok_or_else(|| Failed::Foreign("an answer without data".to_owned()))?;
    Ok(to_json(&data.children))
}

impl Client {
    /// The data of what runs, as JSON (RFC 7951).
    ///
    /// # Errors
    /// If the gateway does not tell.
    pub fn running(&mut self) -> Result<Value, Failed> {
        read(self, "running")
    }

    /// The same with what was counted (RFC 8519, `statistics`).
    ///
    /// # Errors
    /// If the gateway does not tell.
    pub fn counted(&mut self) -> Result<Value, Failed> {
        let filter =
            Element::base("filter").having("", "type", "subtree").with(Element::new(ACL, "acls"));
        let reply = self.rpc(Element::base("get").with(filter))?;
        let data = reply
            .child("data")
            .ok_or_else(|| Failed::Foreign("an answer without data".to_owned()))?;
        Ok(to_json(&data.children))
    }

    /// Keeps what waits for it under an id. A commit takes whatever is in the candidate then, so that this is locked first, and
    /// has to be what runs.
    ///
    /// # Errors
    /// If nothing waits: it was kept, undone, or its time is over.
    pub fn confirm(&mut self, id: &LoadId) -> Result<(), Failed> {
        self.rpc(target("lock", "candidate"))?;
        if read(self, "candidate")? != read(self, "running")? {
            return Err(Failed::Edited);
        }
        let id = Element::base("persist-id").saying(id.as_str());
        self.rpc(Element::base("commit").with(id)).map(drop)
    }

    /// Takes it back now.
    ///
    /// # Errors
    /// If nothing waits under that id.
    pub fn cancel(&mut self, id: &LoadId) -> Result<(), Failed> {
        let id = Element::base("persist-id").saying(id.as_str());
        self.rpc(Element::base("cancel-commit").with(id)).map(drop)
    }
}

fn target(operation: &str, store: &str) -> Element {
    Element::base(operation).with(Element::base("target").with(Element::base(store)))
}

fn source(operation: &str, store: &str) -> Element {
    Element::base(operation).with(Element::base("source").with(Element::base(store)))
}

impl Change {
    /// From what a gateway has to the lists of a plan, both as JSON. Each list of the plan takes the place of the one of its
    /// name, and the plan's interfaces get just the plan's lists.
    pub fn new(running: &Value, wanted: &Value) -> Self {
        let before = Lists::of(running);
        let after = Lists::of(wanted);
        // What the plan's interfaces have at the moment, and nothing else has.
        let own: BTreeSet<&str> = before
            .points
            .iter()
            .filter(|(at, _)| after.at(at))
            .flat_map(|(_, names)| names.iter().copied())
            .collect();
        let elsewhere: BTreeSet<&str> = before
            .points
            .iter()
            .filter(|(at, _)| !after.at(at))
            .flat_map(|(_, names)| names.iter().copied())
            .collect();
        let gone =
            own.iter().filter(|name| !after.names.contains(*name) && !elsewhere.contains(*name));
        let gone: Vec<String> = gone.map(|name| (*name).to_owned()).collect();
        let others =
            before.names.iter().filter(|name| !after.names.contains(*name) && !own.contains(*name));
        let missing =
            after.points.iter().map(|(at, _)| *at).filter(|at| !before.interfaces.contains(at));
        let edit = edit(wanted, &gone, &before.names);
        Self {
            lists: after.names.len(),
            others: others.map(|name| (*name).to_owned()).collect(),
            missing: missing.map(str::to_owned).collect(),
            gone,
            edit,
        }
    }
}

/// The change of a candidate: the lists and attachments of a plan in place of those of their names.
fn edit(wanted: &Value, gone: &[String], there: &BTreeSet<&str>) -> Element {
    let acls = to_xml(wanted).into_iter().find(|one| one.name == "acls");
    let mut acls = acls.unwrap_or_else(|| Element::new(ACL, "acls"));
    let replaced = |one: Element| one.having(BASE, "operation", "replace");
    let mut children: Vec<Element> = Vec::new();
    for child in std::mem::take(&mut acls.children) {
        match child.name.as_str() {
            "acl" => children.push(replaced(child)),
            "attachment-points" => {
                let mut points = child;
                points.children =
                    std::mem::take(&mut points.children).into_iter().map(replaced).collect();
                children.push(points);
            }
            _ => children.push(child),
        }
    }
    for name in gone.iter().filter(|name| there.contains(name.as_str())) {
        let list = Element::new(ACL, "acl").with(Element::new(ACL, "name").saying(name.as_str()));
        children.push(list.having(BASE, "operation", "remove"));
    }
    // A list is there before anything is attached to it.
    children.sort_by_key(|child| child.name != "acl");
    acls.children = children;
    acls
}

/// The names in some data: of lists, of interfaces, and which lists are attached where.
struct Lists<'a> {
    names: BTreeSet<&'a str>,
    interfaces: BTreeSet<&'a str>,
    points: Vec<(&'a str, Vec<&'a str>)>,
}

impl<'a> Lists<'a> {
    fn of(data: &'a Value) -> Self {
        let each = |value: &'a Value| value.as_array().into_iter().flatten();
        let acls = &data["ietf-access-control-list:acls"];
        let names = each(&acls["acl"]).filter_map(|acl| acl["name"].as_str());
        let interfaces = each(&data["ietf-interfaces:interfaces"]["interface"]);
        let points = each(&acls["attachment-points"]["interface"]).filter_map(|point| {
            let sets = ["ingress", "egress"].into_iter();
            let sets = sets.flat_map(|way| each(&point[way]["acl-sets"]["acl-set"]));
            let names = sets.filter_map(|set| set["name"].as_str()).collect();
            Some((point["interface-id"].as_str()?, names))
        });
        Self {
            names: names.collect(),
            interfaces: interfaces.filter_map(|one| one["name"].as_str()).collect(),
            points: points.collect(),
        }
    }

    fn at(&self, interface: &str) -> bool {
        self.points.iter().any(|(at, _)| *at == interface)
    }
}
