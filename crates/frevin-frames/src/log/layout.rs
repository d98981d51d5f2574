//! How a text of rows is laid out: what separates its cells, and where its rows begin.

use super::number::{clock, number};
use super::quoted::{LONGEST_CELL_LINES, QuotedRows};
use super::{LogError, LogOptions, columns};

/// Separators in the order in which they are tried.
const SEPARATORS: [u8; 5] = [b',', b';', b'\t', b'|', b' '];
/// How many lines may come before the heading.
const LONGEST_PREAMBLE: usize = 200;
/// How many rows below the heading have to be alike.
const ROWS_ALIKE: usize = 3;

pub(super) struct Layout {
    pub(super) separator: u8,
    /// The headings; empty where there are none.
    pub(super) names: Vec<String>,
    /// Lines before the first row.
    pub(super) skipped_lines: u64,
    pub(super) because: Vec<String>,
}

impl Layout {
    /// Where the first row begins in the bytes.
    pub(super) fn offset(&self, bytes: &[u8]) -> usize {
        let mut ends = bytes.iter().enumerate().filter(|(_, byte)| **byte == b'\n');
        match self.skipped_lines {
            0 => 0,
            skipped => {
                let nth = usize::try_from(skipped - 1).unwrap_or(usize::MAX);
                ends.nth(nth).map_or(bytes.len(), |(at, _)| at + 1)
            }
        }
    }
}

fn cells(line: &str, separator: u8) -> Vec<String> {
    if separator == b' ' {
        return line.split_whitespace().map(str::to_owned).collect();
    }
    if !line.contains('"') {
        let cells = line.split(char::from(separator));
        return cells.map(|cell| cell.trim().to_owned()).collect();
    }
    let row = QuotedRows::of(line.as_bytes(), separator, 0).next();
    let cells = row.into_iter().flat_map(|row| row.cells);
    cells.map(|cell| String::from_utf8_lossy(&cell).trim().to_owned()).collect()
}

/// Cells up to the last that is not blank.
fn width(row: &[String]) -> usize {
    row.iter().rposition(|cell| !cell.is_empty()).map_or(0, |last| last + 1)
}

fn numbers_in(cells: &[String]) -> usize {
    let is_number =
        |cell: &&String| number(cell.as_bytes()).is_some() || clock(cell.as_bytes()).is_some();
    cells.iter().filter(is_number).count()
}

/// A table under one separator: the lines before its heading or first row, the heading, and how
/// much speaks for it.
struct Candidate {
    separator: u8,
    heading: Option<Vec<String>>,
    skipped_lines: usize,
    /// The share of cells that are numbers, and how many there are in a row.
    score: (bool, f64, usize),
}

pub(super) fn find(text: &str, options: &LogOptions) -> Result<Layout, LogError> {
    let lines = beginning_lines(text);
    if let Some(column) = &options.column
        && let Some(layout) = with_heading(&lines, column)?
    {
        return Ok(layout);
    }
    let candidates: Vec<Candidate> =
        SEPARATORS.into_iter().filter_map(|separator| candidate(&lines, separator)).collect();
    let Some(best) = candidates.iter().max_by(|a, b| {
        let (a, b) = (a.score, b.score);
        // Of equals the first in the order of separators.
        a.0.cmp(&b.0)
            .then(a.1.total_cmp(&b.1))
            .then(a.2.cmp(&b.2))
            .then(std::cmp::Ordering::Greater)
    }) else {
        return Err(no_table(&lines, options));
    };
    if best.separator == b',' && best.heading.is_none() && is_unclear(&lines[..], best) {
        return Err(LogError::UnclearComma { beginning: beginning(&lines) });
    }
    let name = match best.separator {
        b',' => "commas",
        b';' => "semicolons",
        b'\t' => "tabs",
        b'|' => "bars",
        _ => "blanks",
    };
    let mut because = Vec::new();
    if best.score.2 > 1 {
        because.push(format!("cells are separated by {name}"));
    }
    if best.heading.is_none() {
        because.push("there is no heading".to_owned());
    } else if best.skipped_lines > 1 {
        because.push(format!("the heading is line {}", best.skipped_lines));
    }
    Ok(Layout {
        separator: best.separator,
        names: best.heading.clone().unwrap_or_default(),
        skipped_lines: best.skipped_lines as u64,
        because,
    })
}

/// The first lines that are not blank, each with its number from 0. A line break between quotation marks
/// is part of a cell.
fn beginning_lines(text: &str) -> Vec<(usize, &str)> {
    let mut lines = Vec::new();
    let (mut start, mut first, mut is_quoted) = (0, 0, false);
    let ends = text.match_indices('\n').map(|(at, _)| at).chain([text.len()]);
    for (number, end) in ends.take(LONGEST_PREAMBLE + 50).enumerate() {
        let so_far = &text[start..end];
        // A mark that is never closed is none.
        let spans = number - first;
        is_quoted = so_far.matches('"').count() % 2 == 1 && spans < LONGEST_CELL_LINES;
        if is_quoted {
            continue;
        }
        if !so_far.trim().is_empty() {
            lines.push((first, so_far.trim_end_matches('\r')));
        }
        (start, first) = (end + 1, number + 1);
    }
    if is_quoted {
        lines.extend(
            text.get(start..).filter(|rest| !rest.trim().is_empty()).map(|rest| (first, rest)),
        );
    }
    lines
}

/// The layout in which a line has the column that is asked for.
fn with_heading(lines: &[(usize, &str)], column: &str) -> Result<Option<Layout>, LogError> {
    for (at, line) in lines.iter().take(LONGEST_PREAMBLE) {
        for separator in SEPARATORS {
            let names = cells(line, separator);
            // A number names a column only where there are no headings.
            if column.parse::<f64>().is_ok() || !names.iter().any(|name| name == column) {
                continue;
            }
            let skipped_lines = *at as u64 + 1;
            let because = match skipped_lines {
                1 => Vec::new(),
                line => vec![format!("the heading is line {line}")],
            };
            return Ok(Some(Layout { separator, names, skipped_lines, because }));
        }
    }
    Ok(None)
}

fn candidate(lines: &[(usize, &str)], separator: u8) -> Option<Candidate> {
    for index in 0..lines.len().min(LONGEST_PREAMBLE) {
        let first = cells(lines[index].1, separator);
        let below: Vec<Vec<String>> = lines[index + 1..]
            .iter()
            .take(ROWS_ALIKE)
            .map(|(_, line)| cells(line, separator))
            .collect();
        // Rows may end with a separator where the heading does not, or with blank cells.
        let is_as_wide = |row: &[String]| width(row) <= first.len() && width(&first) <= row.len();
        let is_row = |row: &Vec<String>| is_as_wide(row) && numbers_in(row) > 0;
        if !below.iter().all(is_row) {
            continue;
        }
        let own_numbers = numbers_in(&first);
        let mut heading = (own_numbers == 0 && !below.is_empty()).then(|| first.clone());
        if let (Some(units), Some(above)) = (&heading, index.checked_sub(1)) {
            let names = cells(lines[above].1, separator);
            if units.len() > 1 && names.len() == units.len() && columns::are_units(units) {
                let both = names.iter().zip(units).map(|(name, unit)| format!("{name} {unit}"));
                heading = Some(both.collect());
            }
        }
        if heading.is_none() && own_numbers == 0 {
            continue;
        }
        let rows: &[Vec<String>] =
            if heading.is_some() { &below } else { std::slice::from_ref(&first) };
        let numeric: usize = rows.iter().map(|row| numbers_in(row)).sum();
        let share = numeric as f64 / (rows.len() * first.len()) as f64;
        return Some(Candidate {
            separator,
            skipped_lines: lines[index].0 + usize::from(heading.is_some()),
            score: (heading.is_some(), share, first.len()),
            heading,
        });
    }
    None
}

/// Whether rows of two whole numbers may as well be one with a decimal comma.
fn is_unclear(lines: &[(usize, &str)], best: &Candidate) -> bool {
    let rows = lines.iter().filter(|(at, _)| *at >= best.skipped_lines).take(20);
    let mut rows = rows.map(|(_, line)| cells(line, b','));
    let is_digits = |cell: &String| !cell.is_empty() && cell.bytes().all(|b| b.is_ascii_digit());
    rows.all(|row| row.len() == 2 && row.iter().all(is_digits))
}

fn beginning(lines: &[(usize, &str)]) -> String {
    let shown = lines.iter().take(3).map(|(_, line)| {
        let short: String = line.chars().take(60).collect();
        format!("    {short}")
    });
    shown.collect::<Vec<_>>().join("\n")
}

fn no_table(lines: &[(usize, &str)], options: &LogOptions) -> LogError {
    if let (Some(column), [(_, first), rest @ ..]) = (&options.column, lines) {
        let best = SEPARATORS.into_iter().map(|s| cells(first, s)).max_by_key(Vec::len);
        let names = best.unwrap_or_default();
        if rest.is_empty() || !names.is_empty() {
            let found = columns::list(&names);
            return LogError::NoSuchColumn { column: column.clone(), found };
        }
    }
    LogError::NoTable { beginning: beginning(lines) }
}
