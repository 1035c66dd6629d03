//! `bastium export`: files for gateways, and sheets for people.

use super::leased;
use crate::args::{Export, ExportFormat, SheetName, SystemName};
use crate::failure::{CallProblem, Exit, Failure, Meaningless};
use crate::files;
use crate::session::{self, Session};
use bastium_core::checklist;
use bastium_core::diagnosis::{Diagnosis, Severity};
use bastium_core::meaning::Meaning;
use bastium_core::plan::{Form, Plan};
use bastium_core::proof::Proved;
use bastium_core::rules::RuleSet;
use bastium_gateway::boot::boot_files;
use bastium_gateway::escape_hidden;
use bastium_gateway::interfaces::{InterfaceFiles, Manager, interface_files};
use bastium_gateway::nftables::{self, Held, NftOptions, NoInterface, NoProof, ProvenFile};
use bastium_gateway::{HeldLists, ProvenLists, Unsaid, Why, acl_json, proven_lists};
use bastium_report::count;
use bastium_report::sheets::{
    AddressSheet, ChecklistSheet, GroupSheet, MatrixSheet, PortSheet, RuleSheet, ServiceSheet,
    proved_as_typed,
};

use bastium_report::{Book, Part};
use serde_json::Value;
use std::path::Path;

pub(super) fn run(args: &Export, session: &mut Session<'_>) -> Result<Exit, Failure> {
    let given = &args.uplink_address;
    if !given.is_empty() && args.what != ExportFormat::AclJson {
        return Err(Meaningless::UplinkAddress { loading: false }.into());
    }
    let plan = leased::known(session.plan()?, given)?;
    let meaning = session::meaning(&plan, args.day.day)?;
    match (contents(args, &meaning, session)?, &args.to) {
        (Contents::Files(files), Some(folder)) => folder_of(&files, folder, args.force, session),
        (Contents::Files(_), None) => Err(CallProblem::NeedsFolder.into()),
        (Contents::File(bytes), Some(path)) => {
            files::put(path, &bytes, args.force, session)?;
            session.remark(&format!("wrote {}", path.display()));
            Ok(Exit::Fine)
        }
        (Contents::File(bytes), None) => {
            session.print(&String::from_utf8_lossy(&bytes))?;
            Ok(Exit::Fine)
        }
    }
}

/// What an export consists of.
enum Contents {
    /// One file, which may go to standard output.
    File(Vec<u8>),
    /// Files with their names, which belong in a folder.
    Files(Vec<(String, Vec<u8>)>),
}

fn contents(
    args: &Export,
    meaning: &Meaning<'_>,
    session: &mut Session<'_>,
) -> Result<Contents, Failure> {
    let plan = meaning.plan();
    let file = match args.what {
        ExportFormat::Nftables => for_nft(args, meaning)?.into_bytes(),
        ExportFormat::Boot => {
            let files = boot_files(plan, &for_nft(args, meaning)?).into_iter();
            let files = files.map(|one| (one.name.to_owned(), one.text.into_bytes()));
            return Ok(Contents::Files(files.collect()));
        }
        ExportFormat::Networkd => {
            return Ok(Contents::Files(for_interfaces(plan, Manager::Networkd, session)?));
        }
        ExportFormat::Ifupdown => {
            let mut files = for_interfaces(plan, Manager::Ifupdown, session)?;
            files.pop().map(|(_, text)| text).unwrap_or_default()
        }
        ExportFormat::Dnsmasq => names_and_leases(meaning)?.into_bytes(),
        ExportFormat::AclJson => {
            // These lists have no state, and each is on an interface.
            let form = args.form.map_or(Form::PerInterface, Form::from);
            acl(meaning, &session::in_form(meaning, form)?, session)?
        }
        ExportFormat::Csv | ExportFormat::Md | ExportFormat::Xlsx | ExportFormat::Json => {
            let own = args.form.map_or(plan.gateway().form, Form::from);
            return sheets(args, &book(meaning, &session::in_form(meaning, own)?)?);
        }
    };
    Ok(Contents::File(file))
}

/// The files by which a gateway makes its interfaces; what they cannot say is remarked.
fn for_interfaces(
    plan: &Plan,
    manager: Manager,
    session: &mut Session<'_>,
) -> Result<Vec<(String, Vec<u8>)>, Failure> {
    let made = interfaces(plan, manager)?;
    for says in left_out(&made) {
        session.remark(&says);
    }
    Ok(made.files.into_iter().map(|one| (one.name, one.text.into_bytes())).collect())
}

fn sheets(args: &Export, book: &Book) -> Result<Contents, Failure> {
    let parts = parts(args.sheet);
    let file = match args.what {
        ExportFormat::Csv => match (parts.as_slice(), &args.to) {
            ([one], _) => book.csv(*one).into_bytes(),
            (_, Some(_)) => return Ok(Contents::Files(tables(book))),
            (_, None) => return Err(CallProblem::WhichTable.into()),
        },
        ExportFormat::Md => book.markdown(&parts).into_bytes(),
        ExportFormat::Xlsx if args.to.is_none() => {
            return Err(CallProblem::WorkbookToTerminal.into());
        }
        ExportFormat::Xlsx => book.xlsx(&parts).map_err(std::io::Error::other)?,
        _ => json_text(&book.json(&parts).map_err(std::io::Error::from)?)?,
    };
    Ok(Contents::File(file))
}

fn parts(sheet: Option<SheetName>) -> Vec<Part> {
    match sheet {
        None => Part::ALL.to_vec(),
        Some(SheetName::Addresses) => vec![Part::Addresses],
        Some(SheetName::Ports) => vec![Part::Ports],
        Some(SheetName::Groups) => vec![Part::Groups],
        Some(SheetName::Services) => vec![Part::Services],
        Some(SheetName::Matrix) => vec![Part::Matrix],
        Some(SheetName::Rules) => vec![Part::Rules],
        Some(SheetName::Worksheet) => vec![Part::Worksheet],
        Some(SheetName::Checklist) => vec![Part::Checklist],
    }
}

fn book(meaning: &Meaning<'_>, rules: &RuleSet) -> Result<Book, Failure> {
    let plan = meaning.plan();
    let proved = session::proved(meaning, rules)?;
    let list = checklist::carried(meaning, proved);
    let table = RuleSheet::new(meaning, rules, |_, _| true);
    proved_as_typed(&table, meaning).map_err(|one| super::worksheet::misread(&one))?;
    Ok(Book {
        site: plan.site().name.clone(),
        addresses: AddressSheet::new(plan, false),
        groups: GroupSheet::new(plan),
        services: ServiceSheet::named_in(plan),
        ports: PortSheet::new(plan),
        matrix: MatrixSheet::whole(meaning, rules),
        rules: table,
        worksheet: super::worksheet::checked(meaning, proved)?,
        checklist: ChecklistSheet::carried(meaning, rules, &list),
        // The person who takes it along has such a machine.
        system: SystemName::default().into(),
    })
}

/// A file for each sheet.
fn tables(book: &Book) -> Vec<(String, Vec<u8>)> {
    let file = |part: Part| (format!("{}.csv", part.word()), book.csv(part).into_bytes());
    Part::ALL.map(file).into()
}

/// Files by their names, in a folder that is made if it is not there.
fn folder_of(
    files: &[(String, Vec<u8>)],
    folder: &Path,
    force: bool,
    session: &mut Session<'_>,
) -> Result<Exit, Failure> {
    // None is written if one of them is in the way.
    let mut paths = files.iter().map(|(name, _)| folder.join(name));
    if let Some(there) = paths.find(|path| path.exists() && !force) {
        return Err(Failure::Exists { path: there });
    }
    std::fs::create_dir_all(folder).map_err(|error| Failure::File {
        path: folder.to_owned(),
        doing: "make the folder",
        error,
    })?;
    for (name, text) in files {
        files::put(&folder.join(name), text, force, session)?;
    }
    session.remark(&format!("wrote {} to {}", count(files.len(), "file"), folder.display()));
    Ok(Exit::Fine)
}

/// The rules for a Linux gateway, in the form that is asked for.
fn for_nft(args: &Export, meaning: &Meaning<'_>) -> Result<ProvenFile, Failure> {
    let form = args.form.map_or(Form::PerPair, Form::from);
    if matches!(form, Form::PerInterface | Form::Ranked) {
        return Err(CallProblem::FormWithoutState(form).into());
    }
    nftables(meaning, &session::in_form(meaning, form)?, NftOptions::default())
}

fn json_text(json: &Value) -> Result<Vec<u8>, Failure> {
    let text = serde_json::to_string_pretty(json).map_err(std::io::Error::from)?;
    Ok(format!("{}\n", escape_hidden(&text)).into_bytes())
}

/// The rules as access control lists; what they do not say is reported.
fn acl(
    meaning: &Meaning<'_>,
    rules: &RuleSet,
    session: &mut Session<'_>,
) -> Result<Vec<u8>, Failure> {
    let proven = lists(meaning, session::proved(meaning, rules)?)?;
    let file = proven.file();
    for one in &file.unsaid {
        session.remark(&format!("not in these lists: {}, {}", one.rule, why(one.why)));
    }
    session
        .remark(&format!("entries: {} in place of {}, rule by rule", file.entries, file.written));
    Ok(file.text.clone().into_bytes())
}

/// The rules as access control lists, read back and proved.
///
/// # Errors
/// Where leaving something out would open something, or the lists do not do what their rules do.
pub(super) fn lists(meaning: &Meaning<'_>, proved: Proved<'_>) -> Result<ProvenLists, Failure> {
    let file = acl_json(proved.rules());
    let opens: Vec<&Unsaid> = file.unsaid.iter().filter(|one| one.opens).collect();
    if !opens.is_empty() {
        return Err(Failure::Words { diagnoses: unsayable(&opens) });
    }
    proven_lists(meaning, proved, file)
        .map_err(|held| Failure::Unproved { faults: list_faults(meaning.plan(), &held) })
}

/// What differs between lists and their rules, a sentence each.
fn list_faults(plan: &Plan, held: &HeldLists) -> Vec<String> {
    let mut faults = bastium_report::sheets::list_sentences(plan, &held.faults);
    faults.extend(held.unread.iter().map(|(at, what)| format!("{at}: {what}")));
    if held.undecided > 0 {
        faults.push(format!("{} could not be decided", count(held.undecided, "question")));
    }
    faults
}

/// What keeps the lists from being written, reason by reason.
fn unsayable(opens: &[&Unsaid]) -> Vec<Diagnosis> {
    let mut reasons: Vec<Why> = Vec::new();
    for one in opens {
        if !reasons.contains(&one.why) {
            reasons.push(one.why);
        }
    }
    let reported = reasons.into_iter().map(|reason| {
        let rules: Vec<&str> =
            opens.iter().filter(|one| one.why == reason).map(|one| one.rule.as_str()).collect();
        let rest = match rules.len() {
            1 => String::new(),
            2 => " and one more rule".to_owned(),
            many => format!(" and {} more rules", many - 1),
        };
        let help = match reason {
            Why::Leased => {
                "say which address it has at the moment: --uplink-address UPLINK=ADDRESS/LENGTH; \
                 `bastium export nftables` does without"
            }
            Why::Translated => {
                "take the form per-interface, whose lists see packets before they are translated"
            }
            Why::Names => "write addresses instead of the domain",
            _ => "let the rule do without it, or use another format",
        };
        Diagnosis::new("unsayable", Severity::Error, None)
            .says(format!("RFC 8519 cannot express {}{rest}: {}", rules[0], why(reason)))
            .help(help)
    });
    reported.collect()
}

fn why(why: Why) -> &'static str {
    match why {
        Why::State => "the device has to let replies back by itself",
        Why::Hours => {
            "there are no hours (what it allows is left out, what it denies is denied always)"
        }
        Why::Names => "there are no names, only addresses",
        Why::Leased => "a leased address is not known",
        Why::Rate => "there are no rates",
        Why::Rare => "replies are let back for the usual protocols only",
        Why::Translated => "translated packets cannot be distinguished from others",
        Why::Ports => "there are ports of TCP and UDP alone",
    }
}

/// Names and leases as a file for dnsmasq, read back and proved.
///
/// # Errors
/// When it would serve otherwise than the plan says.
pub(super) fn names_and_leases(meaning: &Meaning<'_>) -> Result<String, Failure> {
    let file = bastium_gateway::dnsmasq(meaning).map_err(|faults| Failure::Unproved { faults })?;
    Ok(file.text().to_owned())
}

/// The interfaces of a Linux gateway as files, read back.
///
/// # Errors
/// When a file does not say what the plan does.
pub(super) fn interfaces(plan: &Plan, manager: Manager) -> Result<InterfaceFiles, Failure> {
    interface_files(plan, manager).map_err(|names| Failure::Unproved {
        faults: names.iter().map(|name| format!("the file for {name} is not what it is")).collect(),
    })
}

/// What is not in files for interfaces, a sentence each.
pub(super) fn left_out(made: &InterfaceFiles) -> Vec<String> {
    let tunnels = made
        .tunnels
        .iter()
        .map(|name| format!("not in these files: {name}, whose tunnel is set up apart"));
    let nowhere =
        made.nowhere.iter().map(|name| format!("not in these files: {name}, which has no port"));
    tunnels.chain(nowhere).collect()
}

/// The rules as a file for `nft -f`, read back and proved.
///
/// # Errors
/// When the plan does not name every interface, or the file would not do what the plan says.
pub(super) fn nftables(
    meaning: &Meaning<'_>,
    rules: &RuleSet,
    options: NftOptions,
) -> Result<ProvenFile, Failure> {
    nftables::proven(meaning, rules, options).map_err(|why| match why {
        NoProof::NoInterface(missing) => without_interface(&missing),
        NoProof::Differs(held) => Failure::Unproved { faults: unproved(meaning, &held) },
    })
}

fn without_interface(missing: &[NoInterface]) -> Failure {
    let says = |missing: &NoInterface| {
        let (kind, name) = match missing {
            NoInterface::Network(name) => ("network", name),
            NoInterface::Uplink(name) => ("uplink", name),
        };
        Diagnosis::new("no-port", Severity::Error, None)
            .says(format!("{kind} `{name}` has no port, so its interface has no name"))
            .help(format!("give it one: `bastium set {kind} {name} port=…`"))
    };
    Failure::Words { diagnoses: missing.iter().map(says).collect() }
}

/// What differs between a file and its plan, a sentence each, with a packet and both verdicts.
fn unproved(meaning: &Meaning<'_>, held: &Held) -> Vec<String> {
    let mut faults = bastium_report::sheets::fault_sentences(meaning.plan(), &held.faults);
    faults.extend(held.unread.iter().map(|(at, what)| format!("{at}: {what}")));
    if held.undecided > 0 {
        faults.push(format!("{} could not be decided", count(held.undecided, "question")));
    }
    faults
}
