//! Texts with gaps that expressions fill: `adapter:${adapter.name}#power-saving`.

use serde_json::Value;

use super::{Author, Expression, ExpressionError};

/// A text with gaps.
#[derive(Debug, Clone, PartialEq)]
pub struct Template {
    source: String,
    /// Texts and gaps in turn; a gap is filled with what its expression gives.
    pieces: Vec<Piece>,
}

#[derive(Debug, Clone, PartialEq)]
enum Piece {
    Text(String),
    Gap(Expression),
}

impl Template {
    /// Reads a text, which has a gap where it holds `${` and an expression up to the next `}`.
    ///
    /// # Errors
    /// A sentence that says what is wrong.
    pub fn parse(source: &str) -> Result<Self, String> {
        Self::of(Author::Anybody, source)
    }

    /// The same of a text of whosever it is.
    ///
    /// # Errors
    /// As [`Self::parse`].
    pub(crate) fn of(author: Author, source: &str) -> Result<Self, String> {
        let mut pieces = Vec::new();
        let mut rest = source;
        while let Some((text, gap)) = rest.split_once("${") {
            let (expression, behind) = gap
                .split_once('}')
                .ok_or_else(|| format!("`{source}` has a gap `${{` without its `}}`"))?;
            pieces.push(Piece::Text(text.to_owned()));
            let expression =
                Expression::of(author, expression).map_err(|error| error.to_string())?;
            pieces.push(Piece::Gap(expression));
            rest = behind;
        }
        pieces.push(Piece::Text(rest.to_owned()));
        Ok(Self { source: source.to_owned(), pieces })
    }

    /// The text as it was written.
    pub fn source(&self) -> &str {
        &self.source
    }

    /// The expressions in its gaps.
    pub fn gaps(&self) -> impl Iterator<Item = &Expression> {
        self.pieces.iter().filter_map(|piece| match piece {
            Piece::Gap(gap) => Some(gap),
            Piece::Text(_) => None,
        })
    }

    /// The text with `stand_in` in its gaps: for readers who have no PC at hand.
    pub fn unfilled(&self, stand_in: &str) -> String {
        let piece = |piece: &Piece| match piece {
            Piece::Text(text) => text.clone(),
            Piece::Gap(_) => stand_in.to_owned(),
        };
        self.pieces.iter().map(piece).collect()
    }

    /// The text with its gaps filled.
    ///
    /// # Errors
    /// Where a gap cannot be computed, or gives neither a text nor a number.
    pub fn fill(&self, variables: &Value) -> Result<String, ExpressionError> {
        let mut text = String::new();
        for piece in &self.pieces {
            match piece {
                Piece::Text(piece) => text.push_str(piece),
                Piece::Gap(gap) => match gap.evaluate(variables)? {
                    Value::String(filled) => text.push_str(&filled),
                    Value::Number(filled) => text.push_str(&filled.to_string()),
                    other => return Err(gap.wrong_type(&other, "a text or a number")),
                },
            }
        }
        Ok(text)
    }
}
