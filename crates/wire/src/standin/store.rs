//! The state of a simulated gateway, in a folder that its sessions share.

use crate::netconf::{Element, INTERFACES, to_xml};
use serde::{Deserialize, Serialize};
use serde_json::json;
use std::collections::BTreeMap;
use std::fs::{self, File, OpenOptions};
use std::io;
use std::path::{Path, PathBuf};
use std::time::{Duration, SystemTime, UNIX_EPOCH};

/// The folder of a simulated gateway.
#[derive(Clone, Debug)]
pub struct Store {
    folder: PathBuf,
}

/// All that it holds.
#[derive(Clone, Debug, Default, Serialize, Deserialize)]
pub(crate) struct State {
    /// The configuration that runs, as XML.
    pub(crate) running: String,
    /// The one that is being edited.
    pub(crate) candidate: String,
    /// How many sessions there have been.
    pub(crate) sessions: u64,
    /// Which session holds the lock of a store.
    pub(crate) locks: BTreeMap<String, u64>,
    /// A commit that waits to be confirmed.
    pub(crate) pending: Option<Pending>,
    /// What was done, a line each.
    pub(crate) log: Vec<String>,
    /// By how much its clock is ahead of the system's, in milliseconds: time that was let pass.
    #[serde(default)]
    pub(crate) ahead: u128,
    /// How many packets each entry has seen: list, entry, and number.
    pub(crate) counters: Vec<(String, String, u64)>,
}

/// A commit that waits to be confirmed.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub(crate) struct Pending {
    /// By which id, if it outlives its session.
    pub(crate) persist: Option<String>,
    /// Of which session.
    pub(crate) session: u64,
    /// Until when, in milliseconds of the system's clock.
    pub(crate) until: u128,
    /// What ran before.
    pub(crate) before: String,
}

/// A session's own file, held locked while it lives.
#[derive(Debug)]
pub(crate) struct Alive {
    pub(crate) session: u64,
    _file: File,
}

impl Store {
    /// A gateway in a folder. One that is new has these interfaces, and no lists.
    ///
    /// # Errors
    /// If the folder cannot be used.
    pub fn open(folder: &Path, interfaces: &[String]) -> io::Result<Self> {
        fs::create_dir_all(folder.join("sessions"))?;
        let store = Self { folder: folder.to_owned() };
        store.with(|state| {
            if state.running.is_empty() {
                let entry =
                    |name: &String| json!({ "name": name, "type": "iana-if-type:ethernetCsmacd" });
                let all: Vec<_> = interfaces.iter().map(entry).collect();
                let mut config =
                    to_xml(&json!({ "ietf-interfaces:interfaces": { "interface": all } }));
                let config = Element::base("config").with_all(config.drain(..));
                state.running = config.write();
                state.candidate.clone_from(&state.running);
            }
        })?;
        Ok(store)
    }

    /// Looks at what it holds and changes it, while nobody else does. What time and ended sessions bring about has happened
    /// before.
    pub(crate) fn with<T>(&self, work: impl FnOnce(&mut State) -> T) -> io::Result<T> {
        let guard = OpenOptions::new()
            .create(true)
            .truncate(false)
            .write(true)
            .open(self.folder.join("lock"))?;
        guard.lock()?;
        let path = self.folder.join("state.json");
        let mut state: State = match fs::read(&path) {
            Ok(bytes) => serde_json::from_slice(&bytes)?,
            Err(error) if error.kind() == io::ErrorKind::NotFound => State::default(),
            Err(error) => return Err(error),
        };
        self.tidy(&mut state);
        let done = work(&mut state);
        let fresh = self.folder.join("state.new");
        fs::write(&fresh, serde_json::to_vec(&state)?)?;
        fs::rename(&fresh, &path)?;
        Ok(done)
    }

    /// Locks end with their session. A commit that waits is taken back when its time is over, or with its session if nothing
    /// else was said (RFC 6241, sections 7.5 and 8.4).
    fn tidy(&self, state: &mut State) {
        let ended: Vec<u64> =
            state.locks.values().copied().filter(|session| !self.lives(*session)).collect();
        state.locks.retain(|_, session| !ended.contains(session));
        let now = state.now();
        let over =
            |one: &Pending| now >= one.until || one.persist.is_none() && !self.lives(one.session);
        if state.pending.as_ref().is_some_and(over) {
            state.take_back("its time is over, or its session");
        }
        // What a session edited and did not commit goes with it.
        if !state.locks.contains_key("candidate") && !ended.is_empty() {
            state.candidate.clone_from(&state.running);
        }
    }

    fn path_of(&self, session: u64) -> PathBuf {
        self.folder.join("sessions").join(session.to_string())
    }

    fn lives(&self, session: u64) -> bool {
        let Ok(file) = File::open(self.path_of(session)) else { return false };
        // A living process holds it.
        file.try_lock().is_err()
    }

    /// A session more.
    pub(crate) fn begin(&self) -> io::Result<Alive> {
        let session = self.with(|state| {
            state.sessions += 1;
            state.sessions
        })?;
        let file = File::create(self.path_of(session))?;
        file.lock()?;
        Ok(Alive { session, _file: file })
    }

    /// What runs.
    ///
    /// # Errors
    /// If the folder cannot be read.
    pub fn running(&self) -> io::Result<Vec<Element>> {
        self.with(|state| state.config("running"))
    }

    /// Lets time pass for it, in seconds.
    ///
    /// # Errors
    /// If the folder cannot be used.
    pub fn wait(&self, seconds: u32) -> io::Result<()> {
        self.with(|state| state.ahead += u128::from(seconds) * 1000)?;
        // What this brings about has happened when somebody looks next.
        self.with(|_| ())
    }

    /// What was done so far, a line each.
    ///
    /// # Errors
    /// If the folder cannot be read.
    pub fn log(&self) -> io::Result<Vec<String>> {
        self.with(|state| state.log.clone())
    }

    /// The names of its interfaces.
    ///
    /// # Errors
    /// If the folder cannot be read.
    pub fn interfaces(&self) -> io::Result<Vec<String>> {
        let running = self.running()?;
        let all = running.iter().filter(|one| one.namespace == INTERFACES);
        let all = all.flat_map(|one| one.all("interface")).filter_map(|one| one.says("name"));
        Ok(all.map(str::to_owned).collect())
    }
}

impl State {
    /// Its clock, in milliseconds.
    pub(crate) fn now(&self) -> u128 {
        now() + self.ahead
    }

    /// What a store holds.
    pub(crate) fn config(&self, store: &str) -> Vec<Element> {
        let text = if store == "candidate" { &self.candidate } else { &self.running };
        Element::read(text).map(|config| config.children).unwrap_or_default()
    }

    /// Puts something into a store.
    pub(crate) fn put(&mut self, store: &str, config: Vec<Element>) {
        let text = Element::base("config").with_all(config).write();
        match store {
            "candidate" => self.candidate = text,
            _ => self.running = text,
        }
    }

    /// Goes back to what ran before a commit that nobody has confirmed.
    pub(crate) fn take_back(&mut self, why: &str) {
        if let Some(pending) = self.pending.take() {
            self.running = pending.before;
            self.candidate.clone_from(&self.running);
            self.log.push(format!("taken back: {why}"));
        }
    }
}

/// The system's clock, in milliseconds.
fn now() -> u128 {
    let since = SystemTime::now().duration_since(UNIX_EPOCH);
    since.unwrap_or(Duration::ZERO).as_millis()
}
