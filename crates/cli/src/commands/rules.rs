//! `bastium rules`

use super::count;
use crate::args::Rules;
use crate::failure::{Exit, Failure};
use crate::session::{self, Session};
use crate::show::{self, style, table};
use bastium_core::diagnosis::Diagnose;
use bastium_core::plan::{Form, Place, Plan};
use bastium_core::rules::{Rule, RuleList, Stage};
use bastium_core::source::Text;
use bastium_export::clean;
use bastium_export::sheets::RuleSheet;

pub(super) fn run(args: &Rules, session: &mut Session<'_>) -> Result<Exit, Failure> {
    let plan = session.plan()?;
    let meaning = session::meaning(&plan, args.day.day)?;
    let form = args.form.map_or(plan.gateway().form, Form::from);
    let compiled = session::in_form(&meaning, form)?;
    let ends = match (&args.from, &args.to) {
        (Some(from), Some(to)) => Some((place(&plan, from)?, place(&plan, to)?)),
        _ => None,
    };
    let word = args.find.as_ref().map(|word| word.to_lowercase());
    let keep = |list: &RuleList, rule: &Rule| {
        ends.as_ref().is_none_or(|(from, to)| touches(&plan, list, rule, from, to))
            && word.as_ref().is_none_or(|word| mentions(rule, word))
    };
    let sheet = RuleSheet::new(&plan, &compiled, keep);
    if show::for_programs(session, &sheet, || sheet.tables(), "list")? {
        return Ok(Exit::Fine);
    }
    print(&sheet, ends.is_none() && word.is_none(), session)?;
    Ok(Exit::Fine)
}

fn place(plan: &Plan, words: &str) -> Result<Place, Failure> {
    plan.place(&[Text::new(words)]).map_err(|problems| Failure::Words {
        diagnoses: problems.iter().map(Diagnose::diagnose).collect(),
    })
}

/// Whether a rule can match packets from one place to the other.
fn touches(plan: &Plan, list: &RuleList, rule: &Rule, from: &Place, to: &Place) -> bool {
    let Some(product) = &rule.matches else { return false };
    let own = plan.gateway_leg();
    let from_fits = match list.stage {
        Stage::FromGateway => from.gateway,
        _ => {
            let enters = plan
                .zone_ids()
                .filter(|zone| !plan.zone_addresses(*zone).is_disjoint(&from.addresses));
            let mut enters = enters.flat_map(|zone| plan.zone_entries(zone)).map(|(legs, _)| legs);
            !product.source.is_disjoint(&from.addresses)
                && (product.enters.contains(own)
                    || enters.any(|legs| !legs.is_disjoint(&product.enters)))
        }
    };
    let to_fits = match list.stage {
        Stage::ToGateway => to.gateway,
        Stage::Opening => false,
        _ => !product.destination.is_disjoint(&to.addresses),
    };
    from_fits && to_fits
}

fn mentions(rule: &Rule, word: &str) -> bool {
    let texts = [
        &rule.id,
        &rule.name,
        &rule.reason,
        &rule.from,
        &rule.to,
        &rule.source,
        &rule.destination,
        &rule.service,
    ];
    let number = rule.number.to_string();
    texts
        .into_iter()
        .chain(&rule.ports)
        .chain(&rule.hours)
        .any(|text| text.to_lowercase().contains(word))
        || number == word
}

/// `whole` says that nothing was left out, so that what stands beside the lists is told too.
fn print(sheet: &RuleSheet, whole: bool, session: &mut Session<'_>) -> Result<(), Failure> {
    let until = match &sheet.changes_on {
        Some(day) => format!("; they change on {day}"),
        None => String::new(),
    };
    let heading = format!(
        "{}, form {}, for {}{until}\n",
        count(sheet.count(), "rule"),
        sheet.form,
        sheet.day
    );
    session.print(&heading)?;
    for translation in sheet.translations.iter().filter(|_| whole) {
        let when = if sheet.before_translation {
            "translated after the lists"
        } else {
            "translated first"
        };
        let says = format!(
            "{when}: {} at {} goes to {} ({}) as {}",
            translation.outside,
            translation.at.join(", "),
            translation.to,
            translation.address,
            translation.inside
        );
        session.prose(style::FAINT, &says)?;
    }
    let tables = sheet.short_tables();
    for shown in &tables {
        let list =
            sheet.lists.iter().find(|list| Some(list.name.as_str()) == shown.title.as_deref());
        let (about, otherwise) =
            list.map_or(("", ""), |list| (list.about.as_str(), list.otherwise));
        let title =
            style::in_style(style::STRONG, &clean(shown.title.as_deref().unwrap_or_default()));
        session.print(&format!("\n{title}: {about}\n"))?;
        session.print(&table::draw(shown, session.look(), 2))?;
        session.print(&style::in_style(style::FAINT, &format!("otherwise: {otherwise}\n")))?;
    }
    if tables.is_empty() {
        session.print("No rule fits.\n")?;
    }
    if whole {
        session.print(&format!(
            "\n{}: beside the lists\n",
            style::in_style(style::STRONG, "settings")
        ))?;
        for setting in &sheet.settings {
            session.prose(style::PLAIN, &format!("- {setting}"))?;
        }
    }
    Ok(())
}
