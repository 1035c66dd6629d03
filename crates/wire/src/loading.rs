//! The steps of a load, in the order in which they are safe.

use crate::answer::{Answer, Garbled};
use crate::line::{Broken, Line, Reached};
use crate::restorable::same_program;
use crate::running::{Connection, Running, connections, settings};
use crate::script::{LoadId, Script, watcher};
use bastium_gateway::boot::{BootFile, FOLDER};
use bastium_gateway::nftables::TABLE;
use std::collections::BTreeMap;

/// A load of rules, from the lock on the gateway until they are confirmed or gone again.
///
/// The steps are to be taken in their order; the gateway refuses them in any other. After [`load`](Self::load) the new rules
/// run, and the old ones come back by themselves after the time that [`arm`](Self::arm) was given, unless [`confirm`] is
/// earlier; nothing that a restart would read is changed before that.
#[derive(Debug)]
pub struct Loading<'a, L> {
    line: &'a L,
    id: LoadId,
}

/// What goes onto a gateway.
#[derive(Clone, Debug)]
pub struct Staged {
    /// The transaction from what runs to the rules.
    pub change: String,
    /// The rules as a whole file.
    pub rules: String,
    /// What a restart is to read; the rules among them.
    pub boot: Vec<BootFile>,
    /// Files for the interfaces: folder, name and text.
    pub interfaces: Vec<(&'static str, String, String)>,
    /// The paths of files for interfaces that are no longer wanted.
    pub gone: Vec<String>,
    /// The file of the name server, if it has to change.
    pub names: Option<String>,
    /// The sets that it fills with the addresses of other names than before: once it has its new file, they are emptied.
    pub refilled: Vec<String>,
    /// What is written down beside the rules: of which plan they are.
    pub about: String,
}

/// Why a load came to nothing. Until [`Loading::load`] nothing has changed on the gateway.
#[derive(Debug)]
#[non_exhaustive]
pub enum Stopped {
    /// Nothing came back.
    Broken(Broken),
    /// What came back is no answer.
    Garbled(Garbled),
    /// Somebody else loads: the id, who it is, and for how many seconds already.
    Locked(Holder),
    /// The gateway refused a step.
    Refused {
        /// The word that its script ended with.
        word: String,
        /// What a program there said about it (foreign text).
        says: String,
        /// How far the load was, where that was why.
        state: String,
    },
    /// What runs would not be the same when loaded again from its listing.
    NotRestorable,
    /// It is one of a pair of gateways that take over from each other: the program that does it (foreign text).
    OneOfAPair(String),
    /// Something decides about packets there beside the rules of nft.
    Beside(Beside),
}

/// Something that decides about packets on a gateway and is in no listing of nft, so that nothing can be said of what runs there.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct Beside {
    /// What it is.
    pub kind: BesideKind,
    /// The first of its kind, in the words of the gateway (foreign text).
    pub says: String,
}

/// What can decide about packets beside the rules of nft.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum BesideKind {
    /// Rules of the kernel's older packet filter.
    OlderFilter,
    /// A program at an interface (XDP), which sees packets before any rule.
    Program,
    /// A filter of `tc` that drops, changes or redirects packets.
    Classifier,
    /// A policy of IPsec that blocks.
    Policy,
}

impl Beside {
    /// What a gateway's script says: a kind, and words.
    fn read(text: &str) -> Self {
        let (kind, says) = text.split_once(' ').unwrap_or((text, ""));
        let kind = match kind {
            "programs" => BesideKind::Program,
            "classifiers" => BesideKind::Classifier,
            "policies" => BesideKind::Policy,
            _ => BesideKind::OlderFilter,
        };
        Self { kind, says: says.to_owned() }
    }
}

/// Who holds the lock of a gateway.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
#[non_exhaustive]
pub struct Holder {
    /// Of which load.
    pub id: String,
    /// User and machine (foreign text).
    pub who: String,
    /// When, in seconds since the gateway's start.
    pub since: u64,
}

/// How it was shown that the old rules can come back.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum Restorable {
    /// There were none.
    Nothing,
    /// Their listing was loaded again where it does nothing, and is the same program.
    Tried,
    /// Their listing is not, but it is known which file they were loaded from.
    FromFile,
    /// Only `nft` was asked, which on that gateway shows no programs.
    Accepted,
}

/// A load that waits for a confirmation.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct Pending {
    /// What `nft list ruleset` prints now.
    pub ruleset: String,
    /// The settings of the kernel now.
    pub settings: BTreeMap<String, String>,
    /// What decides beside the rules of nft, where there is such a thing by now.
    pub beside: Option<Beside>,
    /// `armed`, or how it went on since.
    pub state: String,
    /// In how many seconds the old rules come back.
    pub left: i64,
    /// Whether what brings them back still runs.
    pub watched: bool,
    /// The connections that the gateway follows now, each with for how long it could remember it; none where its kernel
    /// does not list them.
    pub connections: Option<Vec<Connection>>,
}

/// What is left to be done by hand after a load is confirmed.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
#[non_exhaustive]
pub struct LeftOver {
    /// The name server has to be started again.
    pub names: bool,
    /// The connections could not be cut.
    pub cut: bool,
}

/// What a gateway says of loads.
#[derive(Clone, Debug, Default)]
#[non_exhaustive]
pub struct Status {
    /// Who holds the lock.
    pub holder: Option<Holder>,
    /// How far that load is.
    pub state: Option<String>,
    /// In how many seconds the old rules come back.
    pub left: Option<i64>,
    /// Whether what brings them back runs.
    pub watched: bool,
    /// For how many seconds the gateway has been up.
    pub up: u64,
    /// The states that are kept there, the last one first.
    pub kept: Vec<String>,
}

impl<'a, L: Line> Loading<'a, L> {
    /// Takes the lock, and reads what runs.
    ///
    /// # Errors
    /// If somebody holds the lock, or the gateway cannot be read.
    pub fn look(line: &'a L, who: &str) -> Result<(Self, Running), Stopped> {
        let id = LoadId::fresh();
        let script = Script::with("look", &id, who, 0, &[]);
        let answer = asked(line, &script, Reached::Anyhow)?;
        Ok((Self { line, id }, Running::new(&answer)))
    }

    /// Its id, by which anybody confirms it or returns.
    pub fn id(&self) -> &LoadId {
        &self.id
    }

    /// Brings the files there, lets the gateway's own programs try them, and tries that the old rules can come back.
    ///
    /// # Errors
    /// If one of them is refused, or the old rules could not come back as they are.
    pub fn stage(&self, staged: &Staged, running: &Running) -> Result<Restorable, Stopped> {
        let Some(table) = &running.table else {
            self.stage_with(staged, &taken_away(), None)?;
            return Ok(Restorable::Nothing);
        };
        let old = format!("{}{table}", taken_away());
        let answer = self.stage_with(staged, &old, Some(&beside(table)))?;
        let code = |name| answer.text(name).unwrap_or_default();
        match (same_program(&code("code.old"), &code("code.try")), &running.loaded_from) {
            (Some(true), _) => Ok(Restorable::Tried),
            (_, Some(file)) => {
                self.stage_with(staged, file, None)?;
                Ok(Restorable::FromFile)
            }
            (Some(false), None) => Err(Stopped::NotRestorable),
            (None, None) => Ok(Restorable::Accepted),
        }
    }

    fn stage_with(
        &self,
        staged: &Staged,
        old: &str,
        trial: Option<&str>,
    ) -> Result<Answer, Stopped> {
        let mut names: Vec<String> =
            staged.boot.iter().map(|file| format!("{} {FOLDER}", file.name)).collect();
        names.extend(staged.interfaces.iter().map(|(folder, name, _)| format!("{name} {folder}")));
        let gone = staged.gone.join("\n");
        let mut files = vec![
            ("change.nft", staged.change.as_str()),
            ("rules.nft", &staged.rules),
            ("old.nft", old),
            ("about", &staged.about),
            ("gone", &gone),
        ];
        files
            .extend(staged.interfaces.iter().map(|(_, name, text)| (name.as_str(), text.as_str())));
        files.extend(trial.map(|text| ("try.nft", text)));
        let boot = staged.boot.iter().filter(|file| file.name != "rules.nft");
        files.extend(boot.map(|file| (file.name, file.text.as_str())));
        let emptied = staged.refilled.iter().map(|set| format!("flush set inet {TABLE} {set}\n"));
        let emptied: String = emptied.collect();
        if !emptied.is_empty() {
            files.push(("emptied.nft", &emptied));
        }
        if let Some(text) = &staged.names {
            files.push(("dnsmasq.conf", text));
            names.push("dnsmasq.conf /etc/dnsmasq.d".to_owned());
        }
        let names = names.join("\n");
        files.push(("for-restart", &names));
        asked(self.line, &Script::with("stage", &self.id, "", 0, &files), Reached::Anyhow)
    }

    /// Starts what brings the old rules back after a number of seconds, and sees it run.
    ///
    /// # Errors
    /// If it does not run.
    pub fn arm(&self, seconds: u32) -> Result<(), Stopped> {
        let watcher = watcher(&self.id);
        let files = [("gateway.sh", watcher.as_str())];
        asked(self.line, &Script::with("arm", &self.id, "", seconds, &files), Reached::Anyhow)?;
        Ok(())
    }

    /// Loads the rules, if what brings the old ones back still runs, and what runs is still what was looked at.
    ///
    /// # Errors
    /// If it is not so, or the kernel refuses them: then nothing has changed.
    pub fn load(&self) -> Result<(), Stopped> {
        asked(self.line, &Script::new("load", &self.id), Reached::Anyhow).map(drop)
    }

    /// Reads what runs now, by a connection of its own.
    ///
    /// # Errors
    /// If the gateway cannot be reached any more, for one.
    pub fn reread(&self) -> Result<Pending, Stopped> {
        let answer = asked(self.line, &Script::new("reread", &self.id), Reached::Anew)?;
        let text = |name| answer.text(name).unwrap_or_default();
        Ok(Pending {
            ruleset: text("ruleset"),
            settings: settings(&text("settings")),
            beside: answer.text("beside").as_deref().map(Beside::read),
            state: text("state"),
            left: text("left").parse().unwrap_or_default(),
            watched: answer.text("watched").is_some(),
            connections: answer.text("connections").map(|listed| remembered(&listed, &answer)),
        })
    }

    /// Leaves a table with the gateway, which it loads once the load is confirmed: what is to be cut.
    ///
    /// # Errors
    /// If it is too late for that, or the kernel does not take the table.
    pub fn cut(&self, table: &str) -> Result<(), Stopped> {
        let files = [("cut.new", table)];
        asked(self.line, &Script::with("cut", &self.id, "", 0, &files), Reached::Anyhow).map(drop)
    }

    /// Ends a load of which nothing has been loaded yet, and gives the lock back.
    ///
    /// # Errors
    /// If the gateway cannot be reached.
    pub fn leave(&self) -> Result<(), Stopped> {
        asked(self.line, &Script::new("leave", &self.id), Reached::Anyhow).map(drop)
    }
}

/// Connections, each with the longest time for which the gateway could remember it from now on: packets renew it until
/// it is cut.
fn remembered(listed: &str, answer: &Answer) -> Vec<Connection> {
    /// What the kernel has where nothing else was set (nf_conntrack-sysctl).
    const DEFAULTS: [(&str, u64); 2] =
        [("tcp_timeout_established", 432_000), ("udp_timeout_stream", 120)];
    let [tcp, udp] = DEFAULTS.map(|(name, usual)| {
        answer.text(name).and_then(|text| text.trim().parse().ok()).unwrap_or(usual)
    });
    let mut all = connections(listed);
    for one in &mut all {
        one.seconds = one.seconds.max(if one.begun.protocol == 6 { tcp } else { udp });
    }
    all
}

/// Keeps what was loaded, for a restart, too. Returns what is left to be done by hand.
///
/// # Errors
/// If it is too late, or was done before: [`Stopped::Refused`] with how far it is.
pub fn confirm(line: &impl Line, id: &LoadId) -> Result<LeftOver, Stopped> {
    let answer = asked(line, &Script::new("confirm", id), Reached::Anew)?;
    Ok(LeftOver {
        names: answer.text("names-by-hand").is_some(),
        cut: answer.text("not-cut").is_some(),
    })
}

/// Brings the old rules back now.
///
/// # Errors
/// If it is too late, or was done before: [`Stopped::Refused`] with how far it is.
pub fn back(line: &impl Line, id: &LoadId) -> Result<(), Stopped> {
    asked(line, &Script::new("back", id), Reached::Anew).map(drop)
}

/// What `nft list ruleset` prints on a gateway.
///
/// # Errors
/// If it cannot be reached, or has no such program.
pub fn ruleset(line: &impl Line) -> Result<String, Stopped> {
    let answer = asked(line, &Script::new("peek", &LoadId::fresh()), Reached::Anyhow)?;
    Ok(answer.text("ruleset").unwrap_or_default())
}

/// What a gateway says of loads.
///
/// # Errors
/// If it cannot be reached.
pub fn status(line: &impl Line) -> Result<Status, Stopped> {
    let answer = asked(line, &Script::new("status", &LoadId::fresh()), Reached::Anyhow)?;
    let text = |name| answer.text(name).unwrap_or_default();
    Ok(Status {
        holder: answer.text("holder").map(|text| holder(&text)),
        state: answer.text("state"),
        left: answer.text("left").and_then(|left| left.parse().ok()),
        watched: answer.text("watched").is_some(),
        up: text("up").parse().unwrap_or_default(),
        kept: answer.texts("kept-state").collect(),
    })
}

fn asked(line: &impl Line, script: &Script, reached: Reached) -> Result<Answer, Stopped> {
    let bytes = line.run(script.text(), reached).map_err(Stopped::Broken)?;
    let answer = Answer::read(&bytes, &script.mark).map_err(Stopped::Garbled)?;
    match answer.end().as_str() {
        "done" => Ok(answer),
        "pair" => Err(Stopped::OneOfAPair(answer.text("pair").unwrap_or_default())),
        "beside" => Err(Stopped::Beside(Beside::read(&answer.text("beside").unwrap_or_default()))),
        "locked" => Err(Stopped::Locked(holder(&answer.text("holder").unwrap_or_default()))),
        word => Err(Stopped::Refused {
            word: word.to_owned(),
            says: first_line(&answer.text("error").unwrap_or_default()),
            state: answer.text("state").unwrap_or_default(),
        }),
    }
}

fn first_line(text: &str) -> String {
    text.lines().next().unwrap_or_default().to_owned()
}

fn holder(text: &str) -> Holder {
    let mut lines = text.lines().map(str::to_owned);
    let mut next = || lines.next().unwrap_or_default();
    Holder { id: next(), who: next(), since: next().parse().unwrap_or_default() }
}

/// A file for `nft -f` after which Bastium's table is not there, whether it was before or not.
fn taken_away() -> String {
    format!("table inet {TABLE}\ndelete table inet {TABLE}\n")
}

/// The same table under another name, where it does nothing.
fn beside(table: &str) -> String {
    table.replacen(
        &format!("table inet {TABLE} {{\n"),
        &format!("table inet {TABLE}_try {{\n\tflags dormant\n"),
        1,
    )
}
