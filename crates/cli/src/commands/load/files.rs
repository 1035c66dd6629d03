//! Files that are replaced only after a load is confirmed.

use super::wanted::Wanted;
use super::{Reporter, words};
use crate::args::{InterfaceFilesFor, Load};
use crate::commands::export;
use crate::failure::Failure;
use bastium_gateway::interfaces::{InterfaceFile, Manager};
use bastium_report::count;
use bastium_report::sheets::LoadFile;
use bastium_wire::Running;

/// A file for the interfaces: folder, name and text.
pub(super) type FileThere = (&'static str, String, String);

/// The files beside the rules that change once the load is confirmed, and those that are no longer wanted.
pub(super) fn files(
    args: &Load,
    wanted: &Wanted<'_>,
    running: &Running,
    reporter: &mut Reporter<'_, '_>,
) -> Result<(Vec<FileThere>, Vec<String>), Failure> {
    let mut says = Vec::new();
    let names = "/etc/dnsmasq.d/bastium.conf";
    if running.has_dnsmasq {
        let old = running.names.as_deref().unwrap_or_default();
        reporter.sheet.files.extend(LoadFile::new(names, old, &wanted.names));
    }
    let mut made = Vec::new();
    if let Some(kind) = args.interfaces {
        let manager = match kind {
            InterfaceFilesFor::Networkd => Manager::Networkd,
            InterfaceFilesFor::Ifupdown => Manager::Ifupdown,
        };
        let files = export::interfaces(wanted.meaning.plan(), manager)?;
        says.extend(export::left_out(&files));
        let there = |one: InterfaceFile| (manager.folder(), one.name, one.text);
        made = files.files.into_iter().map(there).collect();
    }
    let path = |(folder, name, _): &FileThere| format!("{folder}/{name}");
    for one in &made {
        let old = running.files.get(&path(one)).map(String::as_str).unwrap_or_default();
        reporter.sheet.files.extend(LoadFile::new(&path(one), old, &one.2));
    }
    let kept: Vec<String> = made.iter().map(path).collect();
    let own = |there: &&String| {
        args.interfaces == Some(InterfaceFilesFor::Networkd) && !kept.contains(there)
    };
    let gone: Vec<String> = running.files.keys().filter(own).cloned().collect();
    for path in &gone {
        reporter.sheet.files.extend(LoadFile::new(path, &running.files[path], ""));
    }
    says.extend(reporter.sheet.files.iter().flat_map(file_lines));
    if !says.is_empty() {
        let says = says.join("\n");
        reporter.step("files", format!("once the load is confirmed, these change; nothing reads the interfaces' before the next start\n{says}"))?;
    }
    Ok((made, gone))
}

/// A file that changes: how much of it, and for interfaces what.
fn file_lines(file: &LoadFile) -> Vec<String> {
    let (come, go) = file.counts();
    let mut lines = vec![format!(
        "- {}: {} added, {go} removed",
        words::plain(&file.path),
        count(come, "line")
    )];
    if !file.path.ends_with(".conf") {
        let shown = file.lines.iter().filter(|line| !line.text.trim().is_empty());
        lines.extend(shown.map(|line| format!("    {} {}", line.sign, words::plain(&line.text))));
    }
    lines
}
