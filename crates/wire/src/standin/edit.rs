//! Edits of a configuration (RFC 6241, section 7.2).

use super::error::Error;
use crate::netconf::{BASE, Element, key_of};

/// What is done with an element.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Operation {
    Merge,
    Replace,
    Create,
    Delete,
    Remove,
    /// Nothing, but with what is in it.
    None,
}

impl Operation {
    /// By its word.
    pub(crate) fn of(word: &str) -> Option<Self> {
        Some(match word {
            "merge" => Self::Merge,
            "replace" => Self::Replace,
            "create" => Self::Create,
            "delete" => Self::Delete,
            "remove" => Self::Remove,
            "none" => Self::None,
            _ => return None,
        })
    }
}

/// Changes the children of an element of that name.
pub(crate) fn edit(
    config: &mut Vec<Element>,
    parent: &str,
    change: &Element,
    around: Operation,
) -> Result<(), Error> {
    let said =
        change.attributes.iter().find(|(space, name, _)| space == BASE && name == "operation");
    let operation = match said {
        Some((_, _, word)) => Operation::of(word)
            .filter(|operation| *operation != Operation::None)
            .ok_or_else(|| Error::new("protocol", "bad-attribute", "no such operation"))?,
        None => around,
    };
    let key = key_of(parent, &change.name);
    if key.is_some_and(|key| change.says(key).is_none()) {
        return Err(
            Error::new("application", "missing-element", "an entry has no key").at(&change.name)
        );
    }
    let is = |one: &Element| {
        one.name == change.name
            && one.namespace == change.namespace
            && key.is_none_or(|key| one.says(key) == change.says(key))
    };
    let place = config.iter().position(is);
    match (operation, place) {
        (Operation::Create, Some(_)) => {
            return Err(Error::new("application", "data-exists", "it is there").at(&change.name));
        }
        (Operation::Delete | Operation::None, None) => {
            return Err(
                Error::new("application", "data-missing", "it is not there").at(&change.name)
            );
        }
        (Operation::Remove, None) => {}
        (Operation::Delete | Operation::Remove, Some(place)) => drop(config.remove(place)),
        (Operation::Replace, Some(place)) => config[place] = plain(change),
        (Operation::Replace | Operation::Create, None) => config.push(plain(change)),
        (Operation::Merge | Operation::None, Some(place)) => {
            let there = &mut config[place];
            if change.children.is_empty() && there.children.is_empty() {
                if operation == Operation::Merge {
                    there.text.clone_from(&change.text);
                }
                return Ok(());
            }
            for child in change.children.iter().filter(|child| Some(child.name.as_str()) != key) {
                edit(&mut there.children, &change.name, child, operation)?;
            }
        }
        (Operation::Merge, None) => {
            let mut fresh = Element { children: Vec::new(), ..plain(change) };
            for child in &change.children {
                edit(&mut fresh.children, &change.name, child, operation)?;
            }
            config.push(fresh);
        }
    }
    Ok(())
}

/// An element without the operations in it.
fn plain(element: &Element) -> Element {
    let mut plain = element.clone();
    plain.attributes.retain(|(space, _, _)| space != BASE);
    plain.children = plain.children.iter().map(self::plain).collect();
    plain
}
