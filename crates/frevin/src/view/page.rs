//! A page of text: headings, lines, tables.

use std::fmt::{Display, Write as _};
use std::io::IsTerminal as _;
use std::ops::Range;

use anstyle::{AnsiColor, Style};
use comfy_table::{Cell, CellAlignment, ColumnConstraint, ContentArrangement, presets};
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

fn width() -> usize {
    const UNKNOWN: usize = 100;
    const WIDEST: usize = 120;
    terminal_size::terminal_size().map_or(UNKNOWN, |(width, _)| usize::from(width.0)).min(WIDEST)
}

/// How many characters of a text are seen: all but colours.
fn visible_width(text: &str) -> usize {
    anstream::adapter::strip_str(text).to_string().width()
}

/// A text in lines no longer than pages are wide.
pub(crate) fn in_lines(text: &str) -> String {
    textwrap::fill(text, width())
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
        let rule = width().saturating_sub(title.width() + 4);
        self.blank();
        self.line(format_args!("{} {} {}", dim("──"), strong(title), dim("─".repeat(rule))));
    }

    /// A line.
    pub(crate) fn line(&mut self, text: impl Display) {
        let _ = writeln!(self.text, "{text}");
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
        for (name, value) in pairs {
            let gap = widest - name.width() + 2;
            self.line(format_args!("  {}{:gap$}{value}", dim(name), ""));
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
        for line in textwrap::wrap(text, width().saturating_sub(indent).max(20)) {
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

/// A table without lines: a quiet heading, then rows.
#[derive(Debug)]
pub(crate) struct Table {
    headings: Vec<&'static str>,
    rows: Vec<Vec<String>>,
    first_is_address: bool,
}

impl Table {
    /// A table with these headings. One that begins with `>` is of a column aligned right.
    pub(crate) fn new(headings: impl Into<Vec<&'static str>>) -> Self {
        Self { headings: headings.into(), rows: Vec::new(), first_is_address: false }
    }

    /// The same table with full addresses in its first column, which break between keys.
    pub(crate) fn of_addresses(mut self) -> Self {
        self.first_is_address = true;
        self
    }

    /// Adds a row.
    pub(crate) fn row(&mut self, cells: impl Into<Vec<String>>) {
        self.rows.push(cells.into());
    }

    /// Breaks the addresses in the first column after a backslash, where they do not fit beside
    /// the other columns: a break in the middle of a name would be copied along with it.
    fn break_addresses(&mut self) {
        const GAP: usize = 2;
        let column_width = |column: usize| {
            let cells = self.rows.iter().filter_map(|row| row.get(column));
            let widest = cells.map(|cell| visible_width(cell)).max().unwrap_or(0);
            widest.max(self.headings[column].len()) + GAP
        };
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

    fn render(mut self) -> String {
        if self.first_is_address {
            self.break_addresses();
        }
        let names = self.rows.iter().filter_map(|row| row.first());
        let names_width = names.flat_map(|name| name.lines()).map(visible_width).max().unwrap_or(0);
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
        for column in table.column_iter_mut() {
            column.set_padding((0, 2));
        }
        // Names that people copy are not broken, as long as they leave room for the rest.
        const WIDEST_NAME: usize = 45;
        if names_width <= WIDEST_NAME
            && let Some(names) = table.column_mut(0)
        {
            names.set_constraint(ColumnConstraint::ContentWidth);
        }
        let mut text = String::new();
        for line in table.lines() {
            let _ = writeln!(text, "  {}", line.trim_end());
        }
        text
    }
}
