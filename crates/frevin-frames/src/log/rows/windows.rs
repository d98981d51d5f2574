//! Where the wanted cells of a row are looked for: in windows of 64 bytes, each of which begins at a mark.
//!
//! A mark is a separator or a line end. Rows of one log are much alike: the same window of each holds the same cells.
//! Which ones is found out from the first rows of a piece; a later row that differs is noticed by its marks.

use crate::log::lanes::WINDOW;

/// How far the mark behind a cell may be from the beginning of its window in the rows that are looked at first: later
/// ones may be some bytes longer.
const REACH: usize = WINDOW - 7;
/// How many rows those are.
const SAMPLED_ROWS: usize = 8;

/// A window of a row, and what is in it.
#[derive(Debug, PartialEq)]
pub(super) struct Window {
    /// Of each wanted cell in it how many marks lie between the one before it and the one behind the wanted cell
    /// before, or the beginning of the window.
    pub(super) passed: Vec<u32>,
    pub(super) next: Next,
}

/// What is behind a window.
#[derive(Debug, Clone, Copy, PartialEq)]
pub(super) enum Next {
    /// Another one, which begins as many marks behind the last wanted cell, or the beginning of this one.
    AfterMarks(u32),
    /// Another one, which begins at the next mark, behind a cell that may be longer than a window.
    AfterCell { is_wanted: bool },
    /// The end of the row: at least as many marks are behind the beginning of this one.
    End { marks: u32 },
}

/// The windows of rows that are like the ones that come behind a line end of a piece, of which cells of these columns are
/// wanted, which ascend; none where there is no row like that.
pub(super) fn find(wanted: &[usize], piece: &[u8], line_end: usize, separator: u8) -> Vec<Window> {
    let Some(last) = wanted.last() else { return Vec::new() };
    let rows = sampled(piece, line_end, separator, last + 2);
    if rows.is_empty() {
        return Vec::new();
    }
    let mut walk = Walk { rows: &rows, windows: Vec::new(), passed: Vec::new(), begin: 0, met: 0 };
    wanted.iter().for_each(|column| walk.to(*column));
    walk.end_window(Next::End { marks: (last + 1 - walk.begin) as u32 }, 0);
    walk.windows
}

/// How far the marks of some rows are from the line end before each of them, which is the first; only of rows that
/// have as many.
fn sampled(piece: &[u8], line_end: usize, separator: u8, fewest_marks: usize) -> Vec<Vec<usize>> {
    let lines = piece[line_end + 1..].split_inclusive(|byte| *byte == b'\n').take(SAMPLED_ROWS);
    lines
        .filter(|line| line.ends_with(b"\n"))
        .map(|line| {
            let marks = memchr::memchr2_iter(separator, b'\n', line).map(|at| at + 1);
            std::iter::once(0).chain(marks).collect::<Vec<usize>>()
        })
        .filter(|marks| marks.len() >= fewest_marks)
        .collect()
}

/// Goes from window to window of some rows. Marks are counted from the line end before the row, which is 0.
struct Walk<'a> {
    rows: &'a [Vec<usize>],
    windows: Vec<Window>,
    /// Of the window that is not yet at its end.
    passed: Vec<u32>,
    /// The mark that the window begins with.
    begin: usize,
    /// The mark behind the last of its cells, or that it begins with.
    met: usize,
}

impl Walk<'_> {
    /// Whether a window reaches from its beginning to this mark in all rows.
    fn reaches(&self, mark: usize) -> bool {
        self.rows.iter().all(|row| row[mark] - row[self.begin] <= REACH)
    }

    fn end_window(&mut self, next: Next, begin: usize) {
        self.windows.push(Window { passed: std::mem::take(&mut self.passed), next });
        (self.begin, self.met) = (begin, begin);
    }

    /// Goes on to the cell of a wanted column.
    fn to(&mut self, column: usize) {
        while !self.reaches(column + 1) {
            let furthest = (self.met..=column).take_while(|mark| self.reaches(*mark)).last();
            match furthest {
                Some(mark) if mark > self.begin => {
                    self.end_window(Next::AfterMarks((mark - self.met) as u32), mark);
                }
                _ if self.begin < column => {
                    self.end_window(Next::AfterCell { is_wanted: false }, self.begin + 1);
                }
                _ => return self.end_window(Next::AfterCell { is_wanted: true }, column + 1),
            }
        }
        self.passed.push((column - self.met) as u32);
        self.met = column + 1;
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn found(wanted: &[usize], row: &str) -> Vec<(Vec<u32>, Next)> {
        let piece = format!("a heading\n{row}\n{row}\nshort\n");
        let windows = find(wanted, piece.as_bytes(), 9, b',');
        windows.into_iter().map(|window| (window.passed, window.next)).collect()
    }

    #[test]
    fn cells_of_a_short_row_are_in_one_window() {
        let row = "moor.exe,1,8.0006,7,99";
        assert_eq!(found(&[0, 2, 4], row), [(vec![0, 1, 1], Next::End { marks: 5 })]);
        assert_eq!(found(&[5], row), [], "the rows have no such cell");
    }

    #[test]
    fn cells_far_apart_are_in_windows_that_begin_where_the_one_before_ends() {
        // Ten bytes from mark to mark: five of them are within reach.
        let row = ["123456789"; 20].join(",");
        assert_eq!(
            found(&[1, 9, 10], &row),
            [
                (vec![1], Next::AfterMarks(3)),
                (vec![4], Next::AfterMarks(0)),
                (vec![0], Next::End { marks: 1 }),
            ]
        );
    }

    #[test]
    fn a_cell_longer_than_a_window_is_between_two() {
        let row = format!("1,{},3,4", "x".repeat(80));
        let beyond = (vec![1], Next::End { marks: 2 });
        let wanted = Next::AfterCell { is_wanted: true };
        assert_eq!(
            found(&[1], &row)[..],
            [(vec![], Next::AfterMarks(1)), (vec![], wanted), (vec![], Next::End { marks: 0 })]
        );
        let passed = Next::AfterCell { is_wanted: false };
        assert_eq!(
            found(&[0, 3], &row)[..],
            [(vec![0], Next::AfterMarks(0)), (vec![], passed), beyond]
        );
    }
}
