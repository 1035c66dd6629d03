//! `bastium rules`: the ordered rules.

use crate::args::{Format, Rules};
use crate::failure::{Exit, Failure, Named, Unknown};
use crate::session::{self, Session};
use crate::show::{self, style, table};
use bastium_core::diagnosis::Diagnose;
use bastium_core::name::nearest;
use bastium_core::plan::{Form, Place, Plan};
use bastium_core::rules::{Rule, RuleList, Stage, Tagged};
use bastium_core::source::Text;
use bastium_gateway::clean;
use bastium_report::Table;
use bastium_report::count;
use bastium_report::sheets::{RuleColumn, RuleSheet, proved_as_typed};

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
    let tagged = args.tag.as_ref().map(|tag| tagged(&plan, tag)).transpose()?;
    let chosen = |list: &RuleList, rule: &Rule| {
        ends.as_ref().is_none_or(|(from, to)| touches(&plan, list, rule, from, to))
            && word.as_ref().is_none_or(|word| mentions(rule, word))
            && tagged.as_ref().is_none_or(|tagged| tagged.covers(rule))
            && args.action.is_none_or(|action| rule.action == action)
    };
    let keep =
        |list: &RuleList, row: &[Rule]| row.iter().any(|rule| chosen(list, rule)) != args.not;
    let sheet = RuleSheet::new(&meaning, &compiled, keep);
    let columns = if args.columns.is_empty() { &RuleColumn::ALL[..] } else { &args.columns };
    let is_table = matches!(session.options.format, Format::Csv | Format::Md);
    if is_table && sheet.whole && args.columns.is_empty() {
        // What is typed from it are the rules that were proved.
        proved_as_typed(&sheet, &meaning).map_err(|one| super::worksheet::misread(&one))?;
    }
    if show::for_programs(session, &sheet, || sheet.tables_of(columns), "list")? {
        return Ok(Exit::Fine);
    }
    let tables = match session.width() {
        _ if !args.columns.is_empty() => sheet.tables_of(columns),
        0..ROWS_FROM => sheet.short_tables(),
        _ => sheet.row_tables(args.why || session.options.verbose),
    };
    let whole = ends.is_none() && word.is_none() && tagged.is_none() && args.action.is_none();
    print(&sheet, whole, &tables, session)?;
    Ok(Exit::Fine)
}

fn place(plan: &Plan, words: &str) -> Result<Place, Failure> {
    plan.place(&[Text::new(words)]).map_err(|problems| Failure::Words {
        diagnoses: problems.iter().map(Diagnose::diagnose).collect(),
    })
}

fn tagged(plan: &Plan, tag: &str) -> Result<Tagged, Failure> {
    Tagged::with(plan, tag).ok_or_else(|| {
        let words = Tagged::words(plan);
        let near = nearest(tag, words.iter().copied()).map(str::to_owned);
        let known = words.iter().map(ToString::to_string).collect();
        Unknown { what: Named::Tag, word: tag.to_owned(), near, known }.into()
    })
}

/// Whether a rule can match packets from one place to the other.
fn touches(plan: &Plan, list: &RuleList, rule: &Rule, from: &Place, to: &Place) -> bool {
    let Some(product) = rule.packets() else { return false };
    let own = plan.gateway_interface();
    let from_fits = match list.stage {
        Stage::FromGateway => from.gateway,
        _ => {
            let enters = plan
                .zone_ids()
                .filter(|zone| !plan.zone_addresses(*zone).is_disjoint(&from.addresses));
            let mut enters =
                enters.flat_map(|zone| plan.zone_entries(zone)).map(|(interfaces, _)| interfaces);
            !product.source.is_disjoint(&from.addresses)
                && (product.enters.contains(own)
                    || enters.any(|interfaces| !interfaces.is_disjoint(&product.enters)))
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
    let number = rule.number.to_string();
    let endpoints = [&rule.from, &rule.to, &rule.source, &rule.destination];
    let texts = [&rule.name, &rule.reason, &rule.service];
    let mut texts = texts.into_iter().chain(&rule.ports).chain(&rule.hours);
    let has = |text: &str| text.to_lowercase().contains(word);
    number == word
        || has(&rule.id.to_string())
        || texts.any(|text| has(text))
        || endpoints.iter().any(|end| has(&end.to_string()))
}

/// From so many columns on, each rule has a row of its own.
const ROWS_FROM: u16 = 100;

/// How much there is to enter, and what it would be otherwise.
fn size(sheet: &RuleSheet) -> String {
    let size = &sheet.size;
    let mut says = format!("{} to enter", count(size.values, "value"));
    if size.rules < size.rules_for_every_cell {
        says.push_str(&format!(
            "; with a rule for every cell: {}, {}",
            count(size.rules_for_every_cell, "rule"),
            count(size.values_for_every_cell, "value")
        ));
    }
    if let Some(least) = size.at_least {
        let least = count(least, "rule");
        says.push_str(&format!("; without rules that override others: at least {least}"));
    }
    says
}

/// `whole` says that nothing was left out, so that the settings besides the lists are shown too.
fn print(
    sheet: &RuleSheet,
    whole: bool,
    tables: &[Table],
    session: &mut Session<'_>,
) -> Result<(), Failure> {
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
    if whole {
        session.prose(style::FAINT, &size(sheet))?;
    }
    for translation in sheet.translations.iter().filter(|_| whole) {
        let when = if sheet.before_translation {
            "port forward (destination NAT), after the lists"
        } else {
            "port forward (destination NAT)"
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
    for shown in tables {
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
        session.print("No rule matches.\n")?;
    }
    if whole {
        session.print(&format!(
            "\n{}: besides the lists\n",
            style::in_style(style::STRONG, "settings")
        ))?;
        for setting in &sheet.settings {
            session.prose(style::PLAIN, &format!("- {setting}"))?;
        }
    }
    Ok(())
}
