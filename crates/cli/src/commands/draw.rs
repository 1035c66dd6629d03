//! `bastium draw`: pictures of the site, its zones and its matrix.

use crate::args::{Draw, PictureName};
use crate::failure::{CallProblem, Exit, Failure, Meaningless};
use crate::files;
use crate::session::{self, Session};
use bastium_core::rules;
use bastium_picture::{MOST_ZONES, Picture, Theme, png, svg};
use bastium_report::sheets::{matrix_grid, site_tree, zone_map};
use std::path::Path;

/// How a picture is written.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Kind {
    Svg,
    Png,
}

pub(super) fn run(args: &Draw, session: &mut Session<'_>) -> Result<Exit, Failure> {
    let kind = args.to.as_deref().map_or(Ok(Kind::Svg), kind)?;
    if args.width.is_some() && kind == Kind::Svg {
        return Err(Meaningless::Width.into());
    }
    let picture = picture(args, session)?;
    let theme = Theme::from(args.theme);
    let Some(path) = &args.to else {
        session.print(&svg(&picture, theme))?;
        return Ok(Exit::Fine);
    };
    let bytes = match kind {
        Kind::Svg => svg(&picture, theme).into_bytes(),
        Kind::Png => png(&picture, theme, args.width).map_err(CallProblem::Picture)?,
    };
    files::put(path, bytes, args.force, session)?;
    session.remark(&format!("wrote {}", path.display()));
    Ok(Exit::Fine)
}

fn picture(args: &Draw, session: &mut Session<'_>) -> Result<Picture, Failure> {
    let plan = session.plan()?;
    let meaning = session::meaning(&plan, args.day.day)?;
    if args.picture == PictureName::Site {
        return Ok(site_tree(&plan).picture());
    }
    let zones = plan.zones().len() - 1;
    if args.picture == PictureName::Zones && zones <= MOST_ZONES {
        return Ok(zone_map(&meaning).picture());
    }
    if args.picture == PictureName::Zones {
        session.remark(&format!(
            "{zones} zones are too many for arrows (at most {MOST_ZONES}); drawing the matrix instead"
        ));
    }
    let rules = rules::compile(&meaning);
    Ok(matrix_grid(&meaning, &rules).picture())
}

/// How a file is written, by the ending of its name.
fn kind(path: &Path) -> Result<Kind, Failure> {
    let ending = path.extension().map(|ending| ending.to_string_lossy().to_lowercase());
    match ending.as_deref() {
        Some("svg") => Ok(Kind::Svg),
        Some("png") => Ok(Kind::Png),
        _ => Err(CallProblem::Ending { path: path.to_owned(), endings: [".svg", ".png"] }.into()),
    }
}
