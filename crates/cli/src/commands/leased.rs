//! A plan with the leased addresses filled in that its gateway has at the moment.

use crate::failure::{Failure, Malformed, Meaningless};
use bastium_core::plan::Plan;
use bastium_planfile::edit::{Edit, Setting, apply};

/// The plan with the addresses that uplinks have at the moment, each as `UPLINK=ADDRESS/LENGTH`; an uplink may have one of each
/// family.
///
/// # Errors
/// When an uplink is not there, has a fixed address, or cannot have that one.
pub(super) fn known(plan: Plan, given: &[String]) -> Result<Plan, Failure> {
    if given.is_empty() {
        return Ok(plan);
    }
    let mut by_uplink: Vec<(&str, Vec<&str>)> = Vec::new();
    for word in given {
        let (name, address) = word
            .split_once('=')
            .ok_or_else(|| Failure::from(Malformed::UplinkAddress(word.clone())))?;
        let uplink = plan.uplinks().iter().find(|uplink| uplink.name.as_str() == name);
        match uplink {
            None => return Err(Malformed::Uplink(name.to_owned()).into()),
            Some(uplink) if !uplink.dhcp => {
                return Err(Meaningless::FixedAddress { uplink: name.to_owned() }.into());
            }
            Some(_) => {}
        }
        match by_uplink.iter_mut().find(|(own, _)| *own == name) {
            Some((_, addresses)) => addresses.push(address),
            None => by_uplink.push((name, vec![address])),
        }
    }
    let mut text = plan.source().text().to_owned();
    for (name, addresses) in by_uplink {
        let setting = Setting::from_words(&format!("address={}", addresses.join(",")));
        let edit = Edit::Set {
            kind: "uplink".to_owned(),
            name: Some(name.to_owned()),
            settings: setting.into_iter().collect(),
        };
        text = apply(&text, &edit).map_err(Failure::Edit)?;
    }
    bastium_planfile::read(plan.source().name(), text.as_bytes()).map_err(crate::plans::refused)
}
