//! A page of text: headings, lines, tables.

use std::fmt::{Display, Write as _};
use std::io::IsTerminal as _;
use std::ops::Range;

use anstyle::{AnsiColor, Style};
use comfy_table::{Cell, CellAlignment, ColumnConstraint, ContentArrangement, Width, presets};
use unicode_width::UnicodeWidthStr as _;

use super::terminal::for_terminal;

/// Text for a terminal. Its colours are taken out when it is printed where none are wanted.
#[derive(Debug, Default, Clone)]
pub(crate) struct Page {
    text: String,
    /// Where in the text a document is that goes out byte for byte, unless a terminal shows it.
    documents: Vec<Range<usize>>,
}

/// What matters most on a line.
pub(crate) fn strong(text: impl Display) -> String {
    styled(Style::new().bold(), text)
}

/// What is there for completeness.
pub(crate) fn dim(text: impl Display) -> String {
    styled(Style::new().dimmed(), text)
}

/// What is as it should be.
pub(crate) fn good(text: impl Display) -> String {
    styled(AnsiColor::Green.on_default(), text)
}

/// What is wrong.
pub(crate) fn bad(text: impl Display) -> String {
    styled(AnsiColor::Red.on_default(), text)
}

/// What to look at.
pub(crate) fn warn(text: impl Display) -> String {
    styled(AnsiColor::Yellow.on_default(), text)
}

fn styled(style: Style, text: impl Display) -> String {
    format!("{style}{text}{style:#}")
}

/// The characters that a line has room for: as a terminal says, else as `COLUMNS` does. Nothing in a pipe of which
/// nobody says it: a program reads there, and takes a line as long as it is.
fn known_width() -> Option<usize> {
    const NARROWEST: usize = 40;
    const WIDEST: usize = 200;
    let terminal = terminal_size::terminal_size().map(|(width, _)| usize::from(width.0));
    let said = || std::env::var("COLUMNS").ok()?.parse::<usize>().ok();
    Some(terminal.or_else(said)?.clamp(NARROWEST, WIDEST))
}

/// The same for what is laid out in any case, as tables and paragraphs are.
fn width() -> usize {
    const UNKNOWN: usize = 100;
    known_width().unwrap_or(UNKNOWN)
}

/// The same for running text, of which longer lines are hard to read.
fn text_width() -> usize {
    const WIDEST: usize = 110;
    width().min(WIDEST)
}

/// How many characters of a text are seen: all but colours.
fn visible_width(text: &str) -> usize {
    anstream::adapter::strip_str(text).to_string().width()
}

/// How text is wrapped. A word that is longer than a line, as a path is, stays whole, and so does a command with a
/// hyphen in it: people copy them.
fn whole_words<'a>(width: usize) -> textwrap::Options<'a> {
    textwrap::Options::new(width)
        .break_words(false)
        .word_separator(textwrap::WordSeparator::AsciiSpace)
        .word_splitter(textwrap::WordSplitter::NoHyphenation)
}

/// A text in lines no longer than pages are wide.
pub(crate) fn in_lines(text: &str) -> String {
    textwrap::fill(text, whole_words(text_width()))
}

/// The same, where something this wide stands before each line; in a pipe of no known width they stay whole.
pub(crate) fn in_lines_beside(text: &str, before: usize) -> String {
    match known_width() {
        Some(_) => textwrap::fill(text, whole_words(text_width().saturating_sub(before))),
        None => text.to_owned(),
    }
}

/// The same behind a label, with the lines after the first one indented.
pub(crate) fn labelled(label: &str, styled_label: &str, indent: usize, text: &str) -> String {
    let gap = if label.is_empty() { "" } else { " " };
    if known_width().is_none() {
        return format!("{:indent$}{styled_label}{gap}{text}", "");
    }
    let room = text_width();
    let first = format!("{:indent$}{label}{gap}", "");
    let next = " ".repeat(indent + 2);
    let options = whole_words(room).initial_indent(&first).subsequent_indent(&next);
    textwrap::fill(text, options).replacen(label, styled_label, 1)
}

impl Page {
    /// The width of what pages are printed to, in characters.
    pub(crate) fn width() -> usize {
        width()
    }

    /// A heading, with a blank line above it unless it is the first thing.
    pub(crate) fn heading(&mut self, text: impl Display) {
        if !self.text.is_empty() {
            self.blank();
        }
        self.line(strong(text));
    }

    /// A heading of a step, with a rule across the page.
    pub(crate) fn chapter(&mut self, title: &str) {
        let rule = text_width().saturating_sub(title.width() + 4);
        self.blank();
        self.line(format_args!("{} {} {}", dim("──"), strong(title), dim("─".repeat(rule))));
    }

    /// A line, wrapped where it is longer than the page is wide.
    pub(crate) fn line(&mut self, text: impl Display) {
        let text = text.to_string();
        for line in text.split('\n') {
            let Some(width) = known_width().filter(|width| visible_width(line) > *width) else {
                let _ = writeln!(self.text, "{line}");
                continue;
            };
            let begins = line.trim_start();
            let indent = line.len() - begins.len();
            let (first, next) = (" ".repeat(indent), " ".repeat(indent + 2));
            let options = whole_words(width).initial_indent(&first).subsequent_indent(&next);
            for line in textwrap::wrap(begins, options) {
                let _ = writeln!(self.text, "{line}");
            }
        }
    }

    /// A paragraph, wrapped and indented.
    pub(crate) fn paragraph(&mut self, indent: usize, text: &str) {
        self.paragraph_in(indent, |line| line, text);
    }

    /// A document as it is: it may be on its way into a file.
    pub(crate) fn verbatim(&mut self, text: &str) {
        let begin = self.text.len();
        self.text.push_str(text);
        self.documents.push(begin..self.text.len());
    }

    /// The page as it goes out: to a terminal, where nothing of it may be more than text, or elsewhere,
    /// where documents are what they are.
    fn shown(&self, to_terminal: bool) -> String {
        let documents = if to_terminal { &[][..] } else { &self.documents };
        let (mut shown, mut at) = (String::with_capacity(self.text.len()), 0);
        for document in documents {
            shown.push_str(&for_terminal(&self.text[at..document.start]));
            shown.push_str(&self.text[document.clone()]);
            at = document.end;
        }
        shown.push_str(&for_terminal(&self.text[at..]));
        shown
    }

    /// A blank line.
    pub(crate) fn blank(&mut self) {
        self.text.push('\n');
    }

    /// Names and values, a line each, aligned.
    pub(crate) fn pairs<K: Display, V: Display>(
        &mut self,
        pairs: impl IntoIterator<Item = (K, V)>,
    ) {
        let pairs: Vec<_> =
            pairs.into_iter().map(|(name, value)| (name.to_string(), value.to_string())).collect();
        let widest = pairs.iter().map(|(name, _)| name.width()).max().unwrap_or(0);
        let room = known_width().map_or(usize::MAX, |_| text_width().saturating_sub(widest + 4));
        for (name, value) in pairs {
            let gap = widest - name.width() + 2;
            // What fits, or has lines of its own, is taken as it is, and so is a command: it is copied.
            let is_as_it_is = value.contains('\n') || value.starts_with("frevin ");
            if visible_width(&value) <= room || is_as_it_is || room < 24 {
                let _ = writeln!(self.text, "  {}{:gap$}{value}", dim(name), "");
                continue;
            }
            let mut lines = textwrap::wrap(&value, whole_words(room)).into_iter();
            let first = lines.next().unwrap_or_default();
            self.line(format_args!("  {}{:gap$}{first}", dim(name), ""));
            let indent = widest + 4;
            lines.for_each(|line| self.line(format_args!("{:indent$}{line}", "")));
        }
    }

    /// A table.
    pub(crate) fn table(&mut self, table: Table) {
        let text = table.render();
        self.text.push_str(&text);
    }

    /// A paragraph whose every line is styled.
    pub(crate) fn paragraph_in(
        &mut self,
        indent: usize,
        style: impl Fn(String) -> String,
        text: &str,
    ) {
        let options = whole_words(text_width().saturating_sub(indent).max(20));
        for line in textwrap::wrap(text, options) {
            self.line(format_args!("{:indent$}{}", "", style(line.into_owned())));
        }
    }

    /// Prints the page to standard error. Nothing can be told where that cannot be written.
    pub(crate) fn print_aside(&self) {
        use std::io::Write as _;
        let _ = anstream::stderr().lock().write_all(self.shown(true).as_bytes());
    }

    /// Prints the page to standard output, without colours where they are not wanted.
    ///
    /// # Errors
    /// Where it cannot be written, as on a disk that is full. A reader that went away, as `head` does, is
    /// no error.
    pub(crate) fn print(&self) -> std::io::Result<()> {
        use std::io::Write as _;
        written(|| {
            let to_terminal = std::io::stdout().is_terminal();
            let mut out = anstream::stdout().lock();
            out.write_all(self.shown(to_terminal).as_bytes())?;
            out.flush()
        })
    }
}

/// What came of writing to standard output, where a reader that went away is no error.
pub(crate) fn written(write: impl FnOnce() -> std::io::Result<()>) -> std::io::Result<()> {
    match write() {
        Err(error) if error.kind() == std::io::ErrorKind::BrokenPipe => Ok(()),
        other => other,
    }
}

/// Blanks between two columns, and before the first.
const GAP: usize = 2;

/// A table without lines: a quiet heading, then rows.
#[derive(Debug)]
pub(crate) struct Table {
    headings: Vec<&'static str>,
    rows: Vec<Vec<String>>,
    first_is_address: bool,
    /// Widths that its columns have at least, so that they stand below those of other tables.
    as_wide_as: Vec<usize>,
}

impl Table {
    /// A table with these headings. One that begins with `>` is of a column aligned right.
    pub(crate) fn new(headings: impl Into<Vec<&'static str>>) -> Self {
        Self {
            headings: headings.into(),
            rows: Vec::new(),
            first_is_address: false,
            as_wide_as: Vec::new(),
        }
    }

    /// The same table with full addresses in its first column, which break between keys.
    pub(crate) fn of_addresses(mut self) -> Self {
        self.first_is_address = true;
        self
    }

    /// Gives tables with the same headings columns of the same widths, where the page has room for that.
    pub(crate) fn align(tables: &mut [Self]) {
        let columns = tables.iter().map(|table| table.headings.len()).max().unwrap_or(0);
        let widest =
            |column: usize| tables.iter().map(|table| table.width_of(column)).max().unwrap_or(0);
        let widths: Vec<usize> = (0..columns).map(widest).collect();
        if widths.iter().map(|width| width + GAP).sum::<usize>() <= width().saturating_sub(GAP) {
            tables.iter_mut().for_each(|table| table.as_wide_as.clone_from(&widths));
        }
    }

    /// The width that a column has where nothing in it is wrapped.
    fn width_of(&self, column: usize) -> usize {
        let cells = self.rows.iter().filter_map(|row| row.get(column));
        let widest = cells.flat_map(|cell| cell.lines()).map(visible_width).max().unwrap_or(0);
        widest.max(
            self.headings.get(column).map_or(0, |heading| heading.trim_start_matches('>').width()),
        )
    }

    /// Adds a row.
    pub(crate) fn row(&mut self, cells: impl Into<Vec<String>>) {
        self.rows.push(cells.into());
    }

    /// Breaks the addresses in the first column after a backslash, where they do not fit beside
    /// the other columns: a break in the middle of a name would be copied along with it.
    fn break_addresses(&mut self) {
        let column_width = |column: usize| self.width_of(column) + GAP;
        let others: usize = (1..self.headings.len()).map(column_width).sum();
        let room = width().saturating_sub(others + 2 * GAP).max(30);
        for row in &mut self.rows {
            let Some(address) = row.first_mut() else { continue };
            let mut lines = vec![String::new()];
            for part in address.split_inclusive('\\') {
                let line = lines.last().map_or(0, |line| visible_width(line));
                if line > 0 && line + visible_width(part) > room {
                    lines.push("  ".to_owned());
                }
                if let Some(line) = lines.last_mut() {
                    line.push_str(part);
                }
            }
            *address = lines.join("\n");
        }
    }

    /// The width that each column has to have so that no word in it is broken, nor any name in the first.
    fn least_widths<'a>(&'a self) -> Vec<usize> {
        /// Names that people copy are not broken, as long as they leave room for the rest.
        const WIDEST_NAME: usize = 45;
        /// What is longer is an address or a path, and may be broken.
        const LONGEST_WORD: usize = 18;
        let cells = |column: usize| self.rows.iter().filter_map(move |row| row.get(column));
        let of_column = |(column, heading): (usize, &&str)| {
            let lines = || cells(column).flat_map(|cell| cell.lines()).map(visible_width);
            // A figure with its unit is read as one, and so is an interval of two.
            let parts = |cell: &'a String| -> Vec<&'a str> {
                let is_figure = |c: char| c.is_ascii_digit() || "+-−".contains(c);
                match cell.starts_with(is_figure) && visible_width(cell) <= LONGEST_WORD {
                    true => vec![cell],
                    false => cell.split_whitespace().collect(),
                }
            };
            let words = cells(column).flat_map(parts).map(visible_width);
            let word = words.max().unwrap_or(0).min(LONGEST_WORD);
            let name = lines().max().unwrap_or(0);
            let least = if column == 0 && name <= WIDEST_NAME { name } else { word };
            least.max(heading.trim_start_matches('>').width())
        };
        self.headings.iter().enumerate().map(of_column).collect()
    }

    /// The rows one below another, each with its cells a line each: where the page is too narrow for columns.
    fn stacked(self) -> String {
        let mut page = Page::default();
        let headings: Vec<&str> =
            self.headings.iter().map(|heading| heading.trim_start_matches('>')).collect();
        for row in self.rows {
            let mut cells = headings.iter().zip(row).filter(|(_, cell)| visible_width(cell) > 0);
            if let Some((heading, cell)) = cells.next() {
                let heading =
                    if heading.is_empty() { String::new() } else { format!("{heading} ") };
                page.line(format_args!("  {}{}", dim(heading), strong(cell.replace('\n', "\n  "))));
            }
            let mut rest = Page::default();
            rest.pairs(cells.map(|(heading, cell)| (*heading, cell)));
            rest.text.lines().for_each(|line| page.line(format_args!("  {line}")));
        }
        page.text
    }

    fn render(mut self) -> String {
        if self.first_is_address {
            self.break_addresses();
        }
        let least = self.least_widths();
        if least.iter().map(|least| least + GAP).sum::<usize>() > width().saturating_sub(GAP) {
            return self.stacked();
        }
        let alignment = |heading: &str| match heading.starts_with('>') {
            true => CellAlignment::Right,
            false => CellAlignment::Left,
        };
        let alignments: Vec<_> = self.headings.iter().map(|heading| alignment(heading)).collect();
        let mut table = comfy_table::Table::new();
        table.load_style(presets::NOTHING);
        table.set_content_arrangement(ContentArrangement::Dynamic);
        table.set_width(u16::try_from(width()).unwrap_or(100));
        let aligned =
            |(text, alignment): (String, &CellAlignment)| Cell::new(text).set_alignment(*alignment);
        let headings = self.headings.iter().map(|heading| dim(heading.trim_start_matches('>')));
        table.set_header(headings.zip(&alignments).map(aligned).collect::<Vec<_>>());
        for row in self.rows {
            table.add_row(row.into_iter().zip(&alignments).map(aligned).collect::<Vec<_>>());
        }
        let asked = self.as_wide_as.iter().copied().chain(std::iter::repeat(0));
        for (column, (least, asked)) in table.column_iter_mut().zip(least.into_iter().zip(asked)) {
            column.set_padding((0, 2));
            let least = least.max(asked);
            let least = u16::try_from(least + GAP).unwrap_or(u16::MAX);
            column.set_constraint(ColumnConstraint::LowerBoundary(Width::Fixed(least)));
        }
        let mut text = String::new();
        for line in table.lines() {
            let _ = writeln!(text, "  {}", line.trim_end());
        }
        text
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn table(headings: &[&'static str], rows: &[&[&str]]) -> Table {
        let mut table = Table::new(headings.to_vec());
        for row in rows {
            table.row(row.iter().map(|cell| (*cell).to_owned()).collect::<Vec<_>>());
        }
        table
    }

    fn plain(table: Table) -> String {
        anstream::adapter::strip_str(&table.render()).to_string()
    }

    #[test]
    fn tables_with_the_same_headings_stand_below_each_other() {
        let headings = ["setting", "now"];
        let mut both = [
            table(&headings, &[&["a", "balanced"]]),
            table(&headings, &[&["menu delay of all windows", "1"]]),
        ];
        Table::align(&mut both);
        let [first, second] = both.map(plain);
        assert_eq!(first.lines().nth(1), Some("  a                          balanced"));
        assert_eq!(second.lines().nth(1), Some("  menu delay of all windows  1"));
    }

    #[test]
    fn a_table_that_is_too_wide_is_told_row_by_row() {
        let wide = "x".repeat(30);
        let headings = ["visit", "state", ">FPS", "when", "where", "why"];
        let rows: [&[&str]; 1] = [&[&wide, &wide, "84.1", &wide, "", &wide]];
        let told = plain(table(&headings, &rows));
        let lines: Vec<&str> = told.lines().collect();
        assert_eq!(lines[0], format!("  visit {wide}"));
        assert_eq!(lines[1], format!("    state  {wide}"));
        assert_eq!(lines[2], "    FPS    84.1");
        // What is empty is left out.
        assert_eq!(lines.len(), 5, "{told}");
    }

    #[test]
    fn a_figure_and_its_unit_stay_together() {
        let words =
            "a sentence of several words that is longer than the room that is left for it here";
        let told = plain(table(&["", "interval", "found"], &[&["a", "+3.2 % to +5.4 %", words]]));
        assert!(told.contains("+3.2 % to +5.4 %"), "{told}");
        assert!(told.lines().count() > 1);
    }

    #[test]
    fn in_a_pipe_a_sentence_is_a_line() {
        let long = "word ".repeat(60);
        let mut page = Page::default();
        page.line(&long);
        page.pairs([("why", long.trim().to_owned())]);
        assert_eq!(page.text.lines().count(), 2);
        assert_eq!(
            labelled("help:", "<help:>", 2, long.trim()),
            format!("  <help:> {}", long.trim())
        );
        assert_eq!(labelled("", "", 2, "detail"), "  detail");
    }
}
