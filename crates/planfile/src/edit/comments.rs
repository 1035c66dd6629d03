//! Comments above an entry that are not only about it: they stay when the entry is removed.

use toml_edit::{DocumentMut, Item, Table};

/// What stands above a table that is gone, up to the last empty line, goes above the next one.
pub(super) fn keep(document: &mut DocumentMut, gone: &Table) {
    let above = gone.decor().prefix().and_then(|prefix| prefix.as_str()).unwrap_or_default();
    let kept = match above.rfind("\n\n") {
        Some(at) if above[..at].contains('#') => above[..=at].to_owned(),
        _ => return,
    };
    let Some(position) = gone.position() else { return };
    match next(document.as_table_mut(), position) {
        Some(table) => {
            let own = table.decor().prefix().and_then(|prefix| prefix.as_str()).unwrap_or_default();
            let own = format!("{kept}{own}");
            table.decor_mut().set_prefix(own);
        }
        None => {
            let rest = document.trailing().as_str().unwrap_or_default().to_owned();
            document.set_trailing(format!("{kept}{rest}"));
        }
    }
}

/// The table that stands next behind a position.
fn next(table: &mut Table, after: isize) -> Option<&mut Table> {
    fn first(table: &Table, after: isize) -> Option<isize> {
        let own = table.position().filter(|own| *own > after && !table.is_implicit());
        let inner = table.iter().filter_map(|(_, item)| match item {
            Item::Table(inner) => first(inner, after),
            _ => None,
        });
        own.into_iter().chain(inner).min()
    }
    let wanted = first(table, after)?;
    at(table, wanted)
}

fn at(table: &mut Table, position: isize) -> Option<&mut Table> {
    if table.position() == Some(position) && !table.is_implicit() {
        return Some(table);
    }
    table.iter_mut().find_map(|(_, item)| match item {
        Item::Table(inner) => at(inner, position),
        _ => None,
    })
}
