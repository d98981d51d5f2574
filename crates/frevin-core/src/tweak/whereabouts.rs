//! Which settings a definition means: one that it names, or one for each of several things.

use serde_json::{Map, Value as Json};

use crate::expression::{Expression, ExpressionError};
use crate::setting::Address;

/// Which settings one entry of a definition means.
#[derive(Debug, Clone, PartialEq)]
pub enum Whereabouts {
    /// The one that it names.
    Fixed(Address),
    /// One or more whose addresses are computed.
    Computed(ComputedAddress),
}

/// An address with gaps: `adapter:${adapter.name}#power-saving`.
#[derive(Debug, Clone, PartialEq)]
pub struct ComputedAddress {
    source: String,
    /// Texts and gaps in turn; a gap is filled with what its expression gives.
    pieces: Vec<Piece>,
    /// What the address is computed for each of, and the name that expressions know it by.
    each: Option<Each>,
}

#[derive(Debug, Clone, PartialEq)]
enum Piece {
    Text(String),
    Gap(Expression),
}

/// The things that an entry is for.
#[derive(Debug, Clone, PartialEq)]
pub(super) struct Each {
    pub(super) things: Expression,
    pub(super) name: String,
}

impl Whereabouts {
    /// Reads an address, which has gaps where it holds `${`.
    pub(super) fn parse(source: &str, each: Option<Each>) -> Result<Self, String> {
        if each.is_none() && !source.contains("${") {
            return source.parse().map(Self::Fixed).map_err(|error| format!("{error}"));
        }
        let mut pieces = Vec::new();
        let mut rest = source;
        while let Some((text, gap)) = rest.split_once("${") {
            let (expression, behind) = gap
                .split_once('}')
                .ok_or_else(|| format!("`{source}` has a gap `${{` without its `}}`"))?;
            pieces.push(Piece::Text(text.to_owned()));
            let expression = Expression::parse(expression).map_err(|error| error.to_string())?;
            pieces.push(Piece::Gap(expression));
            rest = behind;
        }
        pieces.push(Piece::Text(rest.to_owned()));
        Ok(Self::Computed(ComputedAddress { source: source.to_owned(), pieces, each }))
    }

    /// The address as it is written in the definition.
    pub fn source(&self) -> String {
        match self {
            Self::Fixed(address) => address.to_string(),
            Self::Computed(computed) => computed.source.clone(),
        }
    }

    /// What each setting that is meant has for variables: those given, and the thing it is for.
    pub(super) fn instances(&self, variables: &Json) -> Result<Vec<Json>, ExpressionError> {
        let Self::Computed(ComputedAddress { each: Some(each), .. }) = self else {
            return Ok(vec![variables.clone()]);
        };
        let things = each.things.evaluate(variables)?;
        let Json::Array(things) = things else {
            return Err(each.things.wrong_type(&things, "a list of things"));
        };
        Ok(things.into_iter().map(|thing| each.with(variables, thing)).collect())
    }

    /// The setting that is meant for these variables.
    pub(super) fn address(&self, variables: &Json) -> Result<Address, ExpressionError> {
        let computed = match self {
            Self::Fixed(address) => return Ok(address.clone()),
            Self::Computed(computed) => computed,
        };
        let mut text = String::new();
        for piece in &computed.pieces {
            match piece {
                Piece::Text(piece) => text.push_str(piece),
                Piece::Gap(gap) => match gap.evaluate(variables)? {
                    Json::String(filled) => text.push_str(&filled),
                    Json::Number(filled) => text.push_str(&filled.to_string()),
                    other => return Err(gap.wrong_type(&other, "a text or a number")),
                },
            }
        }
        text.parse().map_err(|error| ExpressionError::BadAddress {
            expression: computed.source.clone(),
            address: text,
            reason: format!("{error}"),
        })
    }

    /// Every expression in it, for checking.
    pub(super) fn expressions(&self) -> Vec<&Expression> {
        match self {
            Self::Fixed(_) => Vec::new(),
            Self::Computed(computed) => {
                let gaps = computed.pieces.iter().filter_map(|piece| match piece {
                    Piece::Gap(gap) => Some(gap),
                    Piece::Text(_) => None,
                });
                gaps.collect()
            }
        }
    }

    /// What the entry is for each of, if it is.
    pub(super) fn things(&self) -> Option<&Expression> {
        match self {
            Self::Computed(ComputedAddress { each: Some(each), .. }) => Some(&each.things),
            _ => None,
        }
    }
}

impl Each {
    fn with(&self, variables: &Json, thing: Json) -> Json {
        let mut map: Map<String, Json> = variables.as_object().cloned().unwrap_or_default();
        map.insert(self.name.clone(), thing);
        map.into()
    }
}
