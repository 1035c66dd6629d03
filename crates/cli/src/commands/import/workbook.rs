//! Workbooks (Office Open XML) that somebody hands in. They are compressed, name their cells freely, and say how much
//! of something follows: a file of a kilobyte can ask for more memory than there is. So they are looked through before
//! they are read, and read cell by cell.

use calamine::{DataRef, Reader as _, Xlsx};
use quick_xml::events::{BytesStart, Event};
use std::collections::BTreeMap;
use std::io::{Cursor, Read};

/// The most bytes of all parts together, once they are unpacked.
const MOST_BYTES: u64 = 64 << 20;
/// The most parts.
const MOST_PARTS: usize = 4_096;
/// The last row and the last column that a worksheet can have (ECMA-376, 18.3.1.73 and 18.3.1.13).
const LAST_ROW: u64 = 1_048_576;
const LAST_COLUMN: u64 = 16_384;
/// The most columns of a table that are looked at.
const MOST_COLUMNS: u32 = 1_000;
/// The most cells of a table, empty ones included.
const MOST_CELLS: usize = 500_000;

/// Whether a file is a workbook: an archive, which text never looks like.
pub(in crate::commands) fn is_one(bytes: &[u8]) -> bool {
    bytes.starts_with(b"PK\x03\x04")
}

/// A workbook that has been looked through.
pub(in crate::commands) struct Book<'b>(Xlsx<Cursor<&'b [u8]>>);

impl<'b> Book<'b> {
    /// Looks through a workbook.
    ///
    /// # Errors
    /// Says why it cannot be read.
    pub(in crate::commands) fn open(bytes: &'b [u8]) -> Result<Self, String> {
        look_through(bytes)?;
        Xlsx::new(Cursor::new(bytes)).map(Self).map_err(|error| error.to_string())
    }

    /// The names of the sheets that have anything in them, in their order.
    ///
    /// # Errors
    /// Says why one cannot be read.
    pub(in crate::commands) fn used(&mut self) -> Result<Vec<String>, String> {
        let mut used = Vec::new();
        for name in self.0.sheet_names() {
            let mut cells =
                self.0.worksheet_cells_reader(&name).map_err(|error| error.to_string())?;
            while let Some(cell) = cells.next_cell().map_err(|error| error.to_string())? {
                if !words(cell.get_value()).is_empty() {
                    used.push(name);
                    break;
                }
            }
        }
        Ok(used)
    }

    /// The rows of a sheet, up to the last one with anything in it.
    ///
    /// # Errors
    /// Says why it cannot be read, or that there is more in it than in any table of a site.
    pub(in crate::commands) fn rows(
        &mut self,
        name: &str,
        most_rows: usize,
    ) -> Result<Vec<Vec<String>>, String> {
        let mut cells = self.0.worksheet_cells_reader(name).map_err(|error| error.to_string())?;
        let mut rows: BTreeMap<u32, BTreeMap<u32, String>> = BTreeMap::new();
        while let Some(cell) = cells.next_cell().map_err(|error| error.to_string())? {
            let (row, column) = cell.get_position();
            let text = words(cell.get_value());
            if text.is_empty() {
                continue;
            }
            if row as usize >= most_rows || column >= MOST_COLUMNS {
                return Err(format!(
                    "there is something in row {}, column {}, and a table ends at row {most_rows}, column {MOST_COLUMNS}",
                    u64::from(row) + 1,
                    u64::from(column) + 1
                ));
            }
            rows.entry(row).or_default().insert(column, text);
        }
        filled(rows)
    }
}

/// The rows of the first sheet, up to the last one with anything in it.
///
/// # Errors
/// Says why it cannot be read, or that there is more in it than in any table of a site.
pub(super) fn rows(bytes: &[u8], most_rows: usize) -> Result<Vec<Vec<String>>, String> {
    let mut book = Book::open(bytes)?;
    let first = book.0.sheet_names().first().cloned().ok_or("it has no sheet")?;
    book.rows(&first, most_rows)
}

/// The rows one after the other from the first, from the leftmost column on.
fn filled(rows: BTreeMap<u32, BTreeMap<u32, String>>) -> Result<Vec<Vec<String>>, String> {
    let Some(first) = rows.keys().next().copied() else { return Ok(Vec::new()) };
    let left = rows.values().filter_map(|row| row.keys().next()).min().copied().unwrap_or(0);
    let mut all: Vec<Vec<String>> = Vec::new();
    let mut cells = 0;
    for (number, row) in rows {
        cells += row.keys().next_back().map_or(0, |last| (last - left) as usize + 1);
        if cells > MOST_CELLS {
            return Err(format!("it has more than {MOST_CELLS} cells"));
        }
        // Numbers of rows stay those of the sheet, from its first row on.
        all.resize((number - first) as usize, Vec::new());
        let mut line = Vec::new();
        for (column, text) in row {
            line.resize((column - left) as usize, String::new());
            line.push(text);
        }
        all.push(line);
    }
    Ok(all)
}

fn words(value: &DataRef<'_>) -> String {
    match value {
        DataRef::Float(number) if number.fract() == 0.0 => format!("{number:.0}"),
        DataRef::Empty => String::new(),
        other => calamine::Data::from(other.clone()).to_string().trim().to_owned(),
    }
}

/// Unpacks every part, as far as all of them together may reach, and looks at the numbers in them that something would
/// be made room for.
fn look_through(bytes: &[u8]) -> Result<(), String> {
    let mut archive =
        zip::ZipArchive::new(Cursor::new(bytes)).map_err(|error| error.to_string())?;
    if archive.len() > MOST_PARTS {
        return Err(format!("it has more than {MOST_PARTS} parts"));
    }
    let mut left = MOST_BYTES;
    for index in 0..archive.len() {
        let part = archive.by_index(index).map_err(|error| error.to_string())?;
        let mut text = Vec::new();
        part.take(left + 1).read_to_end(&mut text).map_err(|error| error.to_string())?;
        left = left
            .checked_sub(text.len() as u64)
            .ok_or_else(|| format!("unpacked it is larger than {} MiB", MOST_BYTES >> 20))?;
        // Any part can be called a sheet by the others, whatever its own name.
        look_at(&text)?;
    }
    Ok(())
}

/// Looks at a part: cells and rows lie on a sheet, and no more strings are promised than there is text for. It is as
/// lenient as the reader that comes after it, so that nothing is read which was not looked at.
fn look_at(text: &[u8]) -> Result<(), String> {
    let mut reader = quick_xml::Reader::from_reader(text);
    reader.config_mut().check_end_names = false;
    reader.config_mut().check_comments = false;
    reader.config_mut().expand_empty_elements = true;
    loop {
        match reader.read_event() {
            Ok(Event::Start(element) | Event::Empty(element)) => {
                look_at_element(&element, text.len())?
            }
            // What is no XML from here on is none to the other reader either.
            Ok(Event::Eof) | Err(_) => return Ok(()),
            Ok(_) => {}
        }
    }
}

fn look_at_element(element: &BytesStart<'_>, length: usize) -> Result<(), String> {
    let local = element.local_name();
    let name: &[u8] = local.as_ref().as_ref();
    if !matches!(name, b"c" | b"row" | b"dimension" | b"sst") {
        return Ok(());
    }
    for attribute in element.attributes() {
        let attribute = attribute.map_err(|error| error.to_string())?;
        let key: &[u8] = attribute.key.as_ref().as_ref();
        let value = String::from_utf8_lossy(attribute.value.as_ref().as_ref()).into_owned();
        let odd = || format!("`{}` is no place on a sheet", shortened(&value));
        match (name, key) {
            (b"c" | b"row", b"r") if !on_sheet(&value) => return Err(odd()),
            (b"dimension", b"ref") if !value.split(':').all(on_sheet) => return Err(odd()),
            (b"sst", b"uniqueCount" | b"count")
                if value.parse::<usize>().is_ok_and(|count| count > length) =>
            {
                return Err(format!(
                    "it promises {} strings, and has no room for them",
                    shortened(&value)
                ));
            }
            _ => {}
        }
    }
    Ok(())
}

/// Whether a reference like `B7` or `7` names a place that a worksheet can have.
fn on_sheet(reference: &str) -> bool {
    let digits = reference.trim_start_matches(|c: char| c.is_ascii_alphabetic());
    let letters = &reference[..reference.len() - digits.len()];
    let column = letters.bytes().try_fold(0u64, |column, letter| {
        let next = column * 26 + u64::from(letter.to_ascii_uppercase() - b'A') + 1;
        (next <= LAST_COLUMN).then_some(next)
    });
    let row = digits.parse::<u64>().is_ok_and(|row| (1..=LAST_ROW).contains(&row));
    column.is_some() && row && digits.bytes().all(|digit| digit.is_ascii_digit())
}

fn shortened(text: &str) -> String {
    text.chars().take(20).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn references_name_places_that_there_are() {
        for good in ["A1", "xfd1048576", "XFD1", "7", "1048576", "AA10"] {
            assert!(on_sheet(good), "{good}");
        }
        for bad in [
            "",
            "A",
            "XFE1",
            "A1048577",
            "A0",
            "0",
            "ZZZZZZZZZZZZ1",
            "A99999999999999999999",
            "A1B",
            "é1",
            "A+1",
        ] {
            assert!(!on_sheet(bad), "{bad}");
        }
    }
}
