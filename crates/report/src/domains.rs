//! What rules cannot show of the domains in a plan: their addresses are whatever a name server finds.

use bastium_core::plan::Plan;

/// The names of a plan's domains.
pub fn domains(plan: &Plan) -> Vec<String> {
    plan.domains().iter().map(|domain| domain.name.to_string()).collect()
}

/// What a conclusion from rules leaves out, as a sentence; `None` where there are no domains.
pub fn unseen(domains: &[String]) -> Option<String> {
    let names = domains.join(", ");
    (!domains.is_empty())
        .then(|| format!("Rules do not show what the gateway's name server looks up for {names}."))
}
