//! The commands of a script, split into words.

use super::ScriptLanguage;

/// How a command stands among the others.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Standing {
    /// It is done whenever the script is run.
    Plain,
    /// It stands in a block, or after a word like `if`.
    Conditional,
    /// It takes another's output or passes its own on.
    Piped,
}

/// A word of a command.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub(super) struct Word {
    pub(super) text: String,
    /// Whether what it comes to is only known when the script runs.
    pub(super) is_computed: bool,
}

/// A command.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct Command {
    pub(super) line: usize,
    pub(super) words: Vec<Word>,
    pub(super) standing: Standing,
}

impl Command {
    /// Its beginning, for messages.
    pub(super) fn shown(&self) -> String {
        const MOST: usize = 60;
        let words: Vec<&str> = self.words.iter().map(|word| word.text.as_str()).collect();
        let text = words.join(" ");
        match text.char_indices().nth(MOST) {
            Some((end, _)) => format!("{}…", &text[..end]),
            None => text,
        }
    }
}

struct Splitter<'a> {
    rest: std::iter::Peekable<std::str::Chars<'a>>,
    language: ScriptLanguage,
    line: usize,
    /// The line that the command begins on.
    begun: usize,
    word: Option<Word>,
    words: Vec<Word>,
    /// How many blocks are open.
    depth: usize,
    /// Whether the rest of the line hangs on a condition.
    is_conditional: bool,
    is_piped: bool,
    found: Vec<Command>,
}

/// Splits a script.
pub(super) fn commands(text: &str, language: ScriptLanguage) -> Vec<Command> {
    let text = text.trim_start_matches('\u{feff}').replace("\r\n", "\n").replace('\r', "\n");
    let mut splitter = Splitter {
        rest: text.chars().peekable(),
        language,
        line: 1,
        begun: 1,
        word: None,
        words: Vec::new(),
        depth: 0,
        is_conditional: false,
        is_piped: false,
        found: Vec::new(),
    };
    while let Some(next) = splitter.rest.next() {
        match language {
            ScriptLanguage::Batch => splitter.batch(next),
            ScriptLanguage::PowerShell => splitter.power_shell(next),
        }
    }
    splitter.end_command(false);
    splitter.found
}

impl Splitter<'_> {
    /// The word that is being read; a new one where there is none.
    fn begin_word(&mut self) -> &mut Word {
        if self.is_at_start() {
            self.begun = self.line;
        }
        self.word.get_or_insert_with(Word::default)
    }

    fn push(&mut self, c: char) {
        self.begin_word().text.push(c);
    }

    fn computed(&mut self, c: char) {
        let word = self.begin_word();
        word.text.push(c);
        word.is_computed = true;
    }

    fn is_at_start(&self) -> bool {
        self.words.is_empty() && self.word.is_none()
    }

    fn end_word(&mut self) {
        let Some(word) = self.word.take() else { return };
        let decides = match self.language {
            ScriptLanguage::Batch => ["if", "for", "else"].as_slice(),
            ScriptLanguage::PowerShell => &[
                "if", "elseif", "else", "foreach", "for", "while", "do", "switch", "function",
                "try", "catch",
            ],
        };
        if self.words.is_empty() && decides.contains(&word.text.to_lowercase().as_str()) {
            self.is_conditional = true;
        }
        self.words.push(word);
    }

    /// Ends a command; `passes_on` says whether its output goes into the next one.
    fn end_command(&mut self, passes_on: bool) {
        self.end_word();
        let words = std::mem::take(&mut self.words);
        let is_discarded =
            words.first().is_some_and(|word| word.text.eq_ignore_ascii_case("out-null"));
        if self.is_piped && is_discarded && !passes_on {
            // Output that is thrown away changes nothing.
            let standing =
                if self.is_in_condition() { Standing::Conditional } else { Standing::Plain };
            if let Some(before) = self.found.last_mut() {
                before.standing = standing;
            }
        } else if !words.is_empty() {
            let standing = if self.is_in_condition() {
                Standing::Conditional
            } else if self.is_piped || passes_on {
                Standing::Piped
            } else {
                Standing::Plain
            };
            self.found.push(Command { line: self.begun, words, standing });
        }
        self.is_piped = passes_on;
    }

    fn is_in_condition(&self) -> bool {
        self.depth > 0 || self.is_conditional
    }

    fn end_line(&mut self) {
        self.end_command(false);
        self.is_conditional = false;
        self.line += 1;
    }

    fn skip_line(&mut self) {
        while self.rest.next_if(|c| *c != '\n').is_some() {}
    }

    /// Passes over where output goes: `>nul`, `2>&1`, `>> a.txt`.
    fn redirect(&mut self) {
        if self.word.as_ref().is_some_and(|word| ["1", "2", "*"].contains(&word.text.as_str())) {
            self.word = None;
        }
        self.end_word();
        while self.rest.next_if(|c| ['>', '<', ' ', '&'].contains(c)).is_some() {}
        let is_quoted = self.rest.next_if_eq(&'"').is_some();
        let ends =
            |c: char| if is_quoted { c == '"' } else { c.is_whitespace() || "&|);".contains(c) };
        while self.rest.next_if(|c| *c != '\n' && !ends(*c)).is_some() {}
        if is_quoted {
            self.rest.next_if_eq(&'"');
        }
    }

    fn batch(&mut self, c: char) {
        match c {
            '\n' => self.end_line(),
            '@' if self.is_at_start() => {}
            ':' if self.is_at_start() => self.skip_line(),
            '"' => self.batch_quoted(),
            '^' => match self.rest.next() {
                Some('\n') => self.line += 1,
                Some(escaped) => self.push(escaped),
                None => {}
            },
            '&' => {
                self.rest.next_if_eq(&'&');
                self.end_command(false);
            }
            '|' => {
                let is_otherwise = self.rest.next_if_eq(&'|').is_some();
                self.end_command(!is_otherwise);
                self.is_conditional |= is_otherwise;
            }
            '>' | '<' => self.redirect(),
            '(' if self.is_at_start() || self.is_conditional => {
                self.end_command(false);
                self.depth += 1;
            }
            ')' if self.depth > 0 => {
                self.end_command(false);
                self.depth -= 1;
            }
            '%' | '!' => self.computed(c),
            c if c.is_whitespace() => {
                self.end_word();
                let is_remark = |word: &Word| word.text.eq_ignore_ascii_case("rem");
                if self.words.first().is_some_and(is_remark) {
                    self.words.clear();
                    self.skip_line();
                }
            }
            c => self.push(c),
        }
    }

    fn batch_quoted(&mut self) {
        self.begin_word();
        while let Some(c) = self.rest.next_if(|c| *c != '\n') {
            match c {
                '"' => return,
                // `reg` takes `\"` for a quote in what is quoted.
                '\\' if self.rest.peek() == Some(&'"') && self.is_quote_inside() => {
                    self.rest.next();
                    self.push('"');
                }
                '%' => self.computed(c),
                c => self.push(c),
            }
        }
    }

    /// Whether the quote after a backslash is one of the text: something that is no end follows it.
    fn is_quote_inside(&self) -> bool {
        let mut ahead = self.rest.clone();
        ahead.next();
        ahead.next().is_some_and(|c| !c.is_whitespace())
    }

    fn power_shell(&mut self, c: char) {
        match c {
            '\n' => self.end_line(),
            ';' => self.end_command(false),
            '#' if self.word.is_none() => self.skip_line(),
            '<' if self.rest.peek() == Some(&'#') => self.block_comment(),
            '`' => match self.rest.next() {
                Some('\n') => self.line += 1,
                Some(escaped) => self.push(escaped),
                None => {}
            },
            '\'' | '"' => self.power_shell_quoted(c),
            '{' => {
                self.is_conditional |= !self.is_at_start();
                self.end_command(false);
                self.depth += 1;
            }
            '}' => {
                self.end_command(false);
                self.depth = self.depth.saturating_sub(1);
            }
            '(' => self.parenthesis(),
            '|' => self.end_command(true),
            '>' => self.redirect(),
            '&' if self.is_at_start() => {}
            '$' => self.computed(c),
            c if c.is_whitespace() => self.end_word(),
            c => self.push(c),
        }
    }

    fn block_comment(&mut self) {
        let mut before = ' ';
        for c in self.rest.by_ref() {
            self.line += usize::from(c == '\n');
            if (before, c) == ('#', '>') {
                return;
            }
            before = c;
        }
    }

    /// What is in parentheses is computed, over lines where it has several.
    fn parenthesis(&mut self) {
        self.computed('(');
        let mut open = 1;
        while open > 0 {
            let Some(c) = self.rest.next() else { return };
            match c {
                '(' => open += 1,
                ')' => open -= 1,
                '\n' => self.line += 1,
                _ => {}
            }
            self.computed(if c == '\n' { ' ' } else { c });
        }
    }

    fn power_shell_quoted(&mut self, quote: char) {
        self.begin_word();
        while let Some(c) = self.rest.next() {
            match c {
                '\n' => {
                    // A text over several lines is no value of a setting.
                    self.line += 1;
                    self.computed(' ');
                }
                c if c == quote => {
                    // Twice is once, as a character of the text.
                    if self.rest.next_if_eq(&quote).is_none() {
                        return;
                    }
                    self.push(c);
                }
                '`' if quote == '"' => {
                    if let Some(escaped) = self.rest.next() {
                        self.push(escaped);
                    }
                }
                '$' if quote == '"' => self.computed(c),
                c => self.push(c),
            }
        }
    }
}
