//! What a load reports, in words.

use bastium_gateway::clean;
use bastium_report::sheets::LoadState;
use bastium_wire::{
    Beside, BesideKind, Broken, Garbled, Holder, LoadId, Restorable, Status, Stopped,
};

/// What was not done.
pub(super) const NOT_CUT: &str =
    "the gateway did not take the table of connections to cut: they go on";
/// What is left for a person.
pub(super) const NAMES_BY_HAND: &str =
    "the file of dnsmasq is new, and dnsmasq could not be restarted: do it by hand";

/// The gateway's words, fit for a line of ours; what is left out of long ones is marked.
pub(super) fn plain(text: &str) -> String {
    const MOST: usize = 200;
    match text.char_indices().nth(MOST) {
        Some((end, _)) => format!("{}…", clean(&text[..end])),
        None => clean(text).into_owned(),
    }
}

/// `4 min 30 s`.
pub(super) fn time(seconds: i64) -> String {
    match (seconds / 60, seconds % 60) {
        (0, seconds) => format!("{seconds} s"),
        (minutes, 0) => format!("{minutes} min"),
        (minutes, seconds) => format!("{minutes} min {seconds} s"),
    }
}

pub(super) fn confirmed(id: &LoadId) -> String {
    format!("load {id} is confirmed: its rules stay, also after a restart")
}

/// How far a load is, by the word of the gateway.
pub(super) fn state(word: &str) -> LoadState {
    match word {
        "armed" | "loading" => LoadState::Pending,
        "confirmed" | "kept" => LoadState::Confirmed,
        "returning" | "returned" => LoadState::Returned,
        "holder" => LoadState::Begun,
        _ => LoadState::None,
    }
}

/// How far a load was that could not go on.
pub(super) fn state_of(stopped: &Stopped) -> LoadState {
    match stopped {
        Stopped::Refused { state: word, .. } => state(word),
        _ => LoadState::None,
    }
}

/// Who is loading, and whether that is as it should be.
pub(super) fn held(holder: &Holder, ago: u64, status: &Status) -> (bool, String) {
    let ago = time(i64::try_from(ago).unwrap_or(i64::MAX));
    let (id, who) = (plain(&holder.id), plain(&holder.who));
    let who = format!("{who} has been loading for {ago} (load {id})");
    let left = time(status.left.unwrap_or_default().max(0));
    match status.state.as_deref() {
        Some("armed" | "loading") if status.watched => {
            (true, format!("{who}; the old rules come back in {left}, unless it is confirmed"))
        }
        Some("armed" | "loading") => (
            false,
            format!(
                "{who}; it waits for a confirmation, but what would bring the old rules back does not run: confirm it, or return now"
            ),
        ),
        Some("returning") => (true, format!("{who}; the old rules are coming back")),
        Some("confirmed") => {
            (true, format!("{who}; it is confirmed, and being written for a restart"))
        }
        _ => (true, format!("{who}; nothing has been loaded yet")),
    }
}

/// How it was shown that the old rules can come back.
pub(super) fn restorable(how: Restorable) -> &'static str {
    match how {
        Restorable::Nothing => "there are no old rules to restore",
        Restorable::Tried => {
            "the old rules, loaded again beside themselves, are the same program in the kernel"
        }
        Restorable::FromFile => {
            "the old rules can be restored from the file that they were loaded from"
        }
        _ => "nft accepts the old rules again; its programs cannot be compared on this gateway",
    }
}

/// What is wrong, in a sentence, and what to do.
pub(super) fn stopped(stopped: &Stopped) -> (String, String) {
    match stopped {
        Stopped::Broken(Broken::Failed { code: Some(255), says }) => (
            format!("the gateway is not reached: {}", or(says, "ssh gave no reason")),
            "try `ssh HOST true` by hand; `bastium load` uses the same keys, configuration and known hosts".to_owned(),
        ),
        Stopped::Broken(Broken::Failed { says, .. }) => (
            format!("the gateway's shell ended early: {}", or(says, "it gave no reason")),
            "log in as root, or as somebody who may run `sudo -n sh`".to_owned(),
        ),
        Stopped::Broken(broken @ Broken::NoSsh(_)) => (broken.to_string(), "install OpenSSH's client".to_owned()),
        Stopped::Broken(broken) => (broken.to_string(), "look at the line to the gateway, and see `bastium load HOST --status`".to_owned()),
        Stopped::Garbled(garbled @ Garbled::Nothing(says)) => (
            format!("{garbled}; it said: {}", or(says, "nothing")),
            "the account needs a POSIX shell".to_owned(),
        ),
        Stopped::Garbled(garbled) => (garbled.to_string(), "see how far it is with `bastium load HOST --status`".to_owned()),
        Stopped::Locked(holder) => {
            let (id, who) = (plain(&holder.id), plain(&holder.who));
            (
                format!("{who} is loading rules onto this gateway (load {id})"),
                format!("see `bastium load HOST --status`; `--confirm {id}` or `--return {id}` ends it"),
            )
        }
        Stopped::OneOfAPair(program) => (
            format!("this is one of a pair of gateways: {} runs there", plain(program)),
            "a pair is not loaded as one, and half of it would have other rules: load single gateways only".to_owned(),
        ),
        Stopped::Beside(beside) => (
            format!("something decides about packets there that nft does not list: {}", beside_rules(beside)),
            format!("{}; nothing was changed", help_beside(beside.kind)),
        ),
        Stopped::NotRestorable => (
            "the rules that run could not be restored: nft's listing of them is not the same rules".to_owned(),
            "load their own file again with nft, so that it is known; nothing was changed".to_owned(),
        ),
        Stopped::Refused { word, says, state } => refused(word, &or(says, "it gave no reason"), state),
        _ => ("the load was stopped".to_owned(), "see `bastium load HOST --status`".to_owned()),
    }
}

/// What decides beside the rules of nft, in words.
pub(super) fn beside_rules(beside: &Beside) -> String {
    let what = match beside.kind {
        BesideKind::Program => "a program at an interface (XDP)",
        BesideKind::Classifier => "a filter of tc",
        BesideKind::Policy => "an IPsec policy that blocks",
        _ => "a rule of the kernel's older packet filter",
    };
    format!("{what} ({})", plain(&beside.says))
}

fn help_beside(kind: BesideKind) -> &'static str {
    match kind {
        BesideKind::Program => "detach it there (`ip link set dev INTERFACE xdp off`)",
        BesideKind::Classifier => "remove it there (`tc filter`); those of a shaper may stay",
        BesideKind::Policy => "remove it there (`ip xfrm policy`)",
        _ => "write its rules into a table of nft, or into the plan, and remove them there",
    }
}

fn or(says: &str, otherwise: &str) -> String {
    if says.trim().is_empty() { otherwise.to_owned() } else { plain(says) }
}

/// Why the gateway refused a step.
fn refused(word: &str, says: &str, state: &str) -> (String, String) {
    let (says, help) = match word {
        "no-room" => (
            "the gateway cannot write its files".to_owned(),
            "free some room in /run, /etc and /var/lib; nothing was changed",
        ),
        "nft" => (format!("the gateway cannot list its rules: {says}"), "install nftables there"),
        "ip" => ("the gateway cannot list its addresses".to_owned(), "install iproute2 there"),
        "change-refused" | "rules-refused" => (
            format!("nft on the gateway does not accept the rules: {says}"),
            "nothing was changed; is its kernel old?",
        ),
        "old-refused" => (
            format!(
                "nft does not accept the rules that run now, so they could not come back: {says}"
            ),
            "nothing was changed",
        ),
        "names-refused" => (
            format!("dnsmasq on the gateway does not accept its file: {says}"),
            "nothing was changed; is it an old one?",
        ),
        "interfaces-refused" => (
            format!("the gateway does not accept the file for its interfaces: {says}"),
            "nothing was changed",
        ),
        "no-detach" => (
            "the gateway has neither setsid nor nohup, so nothing could bring the old rules back"
                .to_owned(),
            "install util-linux or coreutils there; nothing was changed",
        ),
        "not-armed" => (
            "what would bring the old rules back does not keep running on the gateway".to_owned(),
            "nothing was changed; does the gateway end all processes of a session (KillUserProcesses)?",
        ),
        "late" => (
            "the time ran out before the rules were loaded".to_owned(),
            "the old rules run; give it more time",
        ),
        "changed" => (
            "the gateway's rules were changed by somebody else while this was being prepared"
                .to_owned(),
            "nothing was loaded; try again, and it is compared with what runs now",
        ),
        "load-refused" => {
            (format!("nft refused to load the rules: {says}"), "the old rules run, as before")
        }
        "not-locked" => {
            ("this load no longer holds the lock".to_owned(), "see `bastium load HOST --status`")
        }
        "too-late" => return too_late(state),
        _ => ("the gateway refused a step".to_owned(), "see `bastium load HOST --status`"),
    };
    (says, help.to_owned())
}

fn too_late(state: &str) -> (String, String) {
    let (says, help) = match state {
        "kept" | "confirmed" => {
            ("that load is confirmed already: its rules stay", "to go back, load an earlier plan")
        }
        "returned" | "returning" => {
            ("that load is undone already: the gateway runs its old rules", "load once more")
        }
        "holder" => (
            "that load has loaded nothing yet, so there is nothing to confirm",
            "`--return ID` gives it up",
        ),
        "armed" | "loading" => {
            ("somebody else ended that load at the same moment", "see `bastium load HOST --status`")
        }
        _ => (
            "the gateway knows no load with that id",
            "see `bastium load HOST --status`; a restart ends all loads",
        ),
    };
    (says.to_owned(), help.to_owned())
}
