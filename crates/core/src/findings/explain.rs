//! A page for everything that can be reported about a plan: when it is reported, and what is behind it.

use crate::diagnosis::Severity;
use std::sync::LazyLock;

/// What there is to know about one kind of error or finding.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Page {
    /// Its name.
    pub name: &'static str,
    /// How bad it is.
    pub severity: Severity,
    /// When it is reported, and why.
    pub text: &'static str,
}

/// All pages, in alphabetical order.
///
/// They are written in `pages.txt` beside this file: a line with name and severity, a line of text, and
/// an empty one.
pub static PAGES: LazyLock<Vec<Page>> = LazyLock::new(|| {
    let blocks = include_str!("pages.txt").split("\n\n").map(str::trim);
    blocks.filter_map(read).collect()
});

/// The page of that name.
pub fn page(name: &str) -> Option<&'static Page> {
    PAGES.iter().find(|page| page.name == name)
}

fn read(block: &'static str) -> Option<Page> {
    let (head, text) = block.split_once('\n')?;
    let (name, word) = head.split_once(": ")?;
    let all = [Severity::Error, Severity::Warning, Severity::Advice];
    let severity = all.into_iter().find(|severity| severity.word() == word)?;
    Some(Page { name, severity, text })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_page_reads_and_they_are_in_order() {
        let heads = include_str!("pages.txt").split("\n\n").count();
        assert_eq!(PAGES.len(), heads);
        for pair in PAGES.windows(2) {
            assert!(pair[0].name < pair[1].name, "{} is out of order", pair[1].name);
        }
        assert!(PAGES.iter().all(|page| page.text.len() > 20 && !page.text.contains('\n')));
    }
}
