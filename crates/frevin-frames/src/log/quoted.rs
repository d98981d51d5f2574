//! Rows with cells between quotation marks.
//!
//! A cell between marks may hold separators, line ends, and marks written twice. A mark that is not
//! closed as it should be is a sign like any other: were it taken for the beginning of a cell, all up to
//! the next one, or to the end of the log, would be lost in it. No crate for such tables was found that
//! goes on behind one.

use std::borrow::Cow;

/// A cell between marks does not go over more lines than this.
pub(super) const LONGEST_CELL_LINES: usize = 20;

/// The rows of a piece of a log, one after another.
pub(super) struct QuotedRows<'a> {
    rest: &'a [u8],
    separator: u8,
    /// How many cells a row has where that is known: a row over several lines has as many, or is none.
    columns: Option<usize>,
    line: u64,
}

/// A row, and the line that it begins on, from 1.
pub(super) struct QuotedRow<'a> {
    pub(super) line: u64,
    pub(super) cells: Vec<Cow<'a, [u8]>>,
}

impl<'a> QuotedRows<'a> {
    pub(super) fn of(piece: &'a [u8], separator: u8, columns: usize) -> Self {
        let columns = (columns > 0).then_some(columns);
        Self { rest: piece, separator, columns, line: 0 }
    }
}

impl<'a> Iterator for QuotedRows<'a> {
    type Item = QuotedRow<'a>;

    fn next(&mut self) -> Option<Self::Item> {
        if self.rest.is_empty() {
            return None;
        }
        let first = line_of(self.rest);
        let (cells, length) = match strict(self.rest, self.separator) {
            Some((cells, length))
                if length <= first.len() + 1
                    || self.columns.is_none_or(|columns| cells.len() == columns) =>
            {
                (cells, length)
            }
            _ => (
                strict(first, self.separator)
                    .map_or_else(|| lenient(first, self.separator), |(cells, _)| cells),
                first.len() + 1,
            ),
        };
        let line = self.line + 1;
        let length = length.min(self.rest.len());
        self.line += (memchr::memchr_iter(b'\n', &self.rest[..length]).count() as u64).max(1);
        self.rest = &self.rest[length..];
        Some(QuotedRow { line, cells })
    }
}

fn line_of(rest: &[u8]) -> &[u8] {
    &rest[..memchr::memchr(b'\n', rest).unwrap_or(rest.len())]
}

/// The cells of the first row, and its length with the line end; nothing where a mark is not closed by one
/// that a separator or a line end follows.
fn strict(rest: &[u8], separator: u8) -> Option<(Vec<Cow<'_, [u8]>>, usize)> {
    let (mut cells, mut at) = (Vec::new(), 0);
    loop {
        let cell_end = match rest.get(at) {
            Some(b'"') => {
                let (cell, end) = marked(rest, at + 1)?;
                cells.push(cell);
                end
            }
            _ => {
                let length = memchr::memchr2(separator, b'\n', &rest[at..]);
                let end = length.map_or(rest.len(), |length| at + length);
                let is_last = rest.get(end).is_none_or(|byte| *byte == b'\n');
                let cell = &rest[at..end];
                let cell = cell.strip_suffix(b"\r").filter(|_| is_last).unwrap_or(cell);
                cells.push(Cow::Borrowed(cell));
                end
            }
        };
        match rest.get(cell_end) {
            Some(b'\r') if rest.get(cell_end + 1).is_none_or(|next| *next == b'\n') => {
                return Some((cells, cell_end + 2));
            }
            Some(b'\n') | None => return Some((cells, cell_end + 1)),
            Some(next) if *next == separator => at = cell_end + 1,
            Some(_) => return None,
        }
    }
}

/// What lies between the mark before `start` and the one that closes it, and what comes behind that.
fn marked(rest: &[u8], start: usize) -> Option<(Cow<'_, [u8]>, usize)> {
    let (mut cell, mut from) = (Cow::Borrowed(&rest[start..start]), start);
    loop {
        let mark = from + memchr::memchr(b'"', &rest[from..])?;
        let piece = &rest[from..mark];
        match &mut cell {
            Cow::Borrowed([]) => cell = Cow::Borrowed(piece),
            held => held.to_mut().extend_from_slice(piece),
        }
        if memchr::memchr_iter(b'\n', &cell).count() >= LONGEST_CELL_LINES {
            return None;
        }
        if rest.get(mark + 1) != Some(&b'"') {
            return Some((cell, mark + 1));
        }
        cell.to_mut().push(b'"');
        from = mark + 2;
    }
}

/// The cells of a line in which a mark stands alone: the separators decide, and that mark is left out.
fn lenient(line: &[u8], separator: u8) -> Vec<Cow<'_, [u8]>> {
    let plain = |cell| {
        let cell: &[u8] = cell;
        let inner = cell.strip_prefix(b"\"").unwrap_or(cell);
        Cow::Borrowed(inner.strip_suffix(b"\"").unwrap_or(inner))
    };
    let line = line.strip_suffix(b"\r").unwrap_or(line);
    line.split(|byte| *byte == separator).map(plain).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn rows(text: &str, columns: usize) -> Vec<(u64, Vec<String>)> {
        let row = |row: QuotedRow<'_>| {
            let cells = row.cells.iter().map(|cell| String::from_utf8_lossy(cell).into_owned());
            (row.line, cells.collect())
        };
        QuotedRows::of(text.as_bytes(), b',', columns).map(row).collect()
    }

    #[test]
    fn marks_hold_separators_line_ends_and_marks() {
        let all = rows("\"a,b\",1\r\n\"two\nlines\",\"say \"\"x\"\"\"\n\"\",3", 2);
        let cell = |text: &str| text.to_owned();
        assert_eq!(all[0], (1, vec![cell("a,b"), cell("1")]));
        assert_eq!(all[1], (2, vec![cell("two\nlines"), cell("say \"x\"")]));
        assert_eq!(all[2], (4, vec![cell(""), cell("3")]));
    }

    #[test]
    fn a_mark_that_stands_alone_takes_nothing_else_along() {
        for stray in ["16.6,\"x", "\"16.6,x", "16.6,x\"", "16.6,\"x\"y"] {
            for around in ["16.6,x", "16.6,\"x\"", "\"16.6\",x"] {
                let text = format!("{around}\n{stray}\n{around}\n{around}\n");
                let all = rows(&text, 2);
                assert_eq!(all.len(), 4, "{text}: {all:?}");
                let lines: Vec<u64> = all.iter().map(|(line, _)| *line).collect();
                assert_eq!(lines, [1, 2, 3, 4], "{text}");
                assert!(all.iter().all(|(_, cells)| cells[0] == "16.6"), "{text}: {all:?}");
            }
        }
    }

    proptest! {
        /// What a careful writer wrote is read as it was.
        #[test]
        fn written_rows_are_read(
            table in prop::collection::vec(prop::collection::vec("[a-z,\"\n ]{0,6}", 3), 1..8),
        ) {
            let quoted = |cell: &String| format!("\"{}\"", cell.replace('"', "\"\""));
            let lines = table.iter().map(|row| row.iter().map(quoted).collect::<Vec<_>>().join(","));
            let text = lines.collect::<Vec<_>>().join("\n");
            let read: Vec<Vec<String>> = rows(&text, 3).into_iter().map(|(_, cells)| cells).collect();
            prop_assert_eq!(read, table);
        }
    }
}
