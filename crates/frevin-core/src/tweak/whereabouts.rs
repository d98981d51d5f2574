//! Which settings a definition means: one that it names, or one for each of several things.

use serde_json::{Map, Value as Json};

use crate::expression::{Author, Expression, ExpressionError, Template};
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
    template: Template,
    /// What the address is computed for each of, and the name that expressions know it by.
    each: Option<Each>,
}

/// The things that an entry is for.
#[derive(Debug, Clone, PartialEq)]
pub(super) struct Each {
    pub(super) things: Expression,
    pub(super) name: String,
}

impl Whereabouts {
    /// Reads an address, which has gaps where it holds `${`.
    pub(super) fn parse(author: Author, source: &str, each: Option<Each>) -> Result<Self, String> {
        if each.is_none() && !source.contains("${") {
            return source.parse().map(Self::Fixed).map_err(|error| format!("{error}"));
        }
        let template = Template::of(author, source)?;
        Ok(Self::Computed(ComputedAddress { template, each }))
    }

    /// The address as it is written in the definition.
    pub fn source(&self) -> String {
        match self {
            Self::Fixed(address) => address.to_string(),
            Self::Computed(computed) => computed.template.source().to_owned(),
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
        let text = computed.template.fill(variables)?;
        text.parse().map_err(|error| ExpressionError::BadAddress {
            expression: computed.template.source().to_owned(),
            address: text,
            reason: format!("{error}"),
        })
    }

    /// Every expression in it, for checking.
    pub(super) fn expressions(&self) -> Vec<&Expression> {
        match self {
            Self::Fixed(_) => Vec::new(),
            Self::Computed(computed) => computed.template.gaps().collect(),
        }
    }

    /// The name of each thing that the entry is for, and where the things come from, if it is for several.
    pub(super) fn each(&self) -> Option<(&str, &Expression)> {
        match self {
            Self::Computed(ComputedAddress { each: Some(each), .. }) => {
                Some((&each.name, &each.things))
            }
            _ => None,
        }
    }

    /// What stands before a parameter that names the thing a setting is of: `startup:` where each of `params.entries` is
    /// filled into `startup:${entry}#enabled`. Nothing where the parameter is something else.
    pub(super) fn kind_named_by(&self, parameter: &str) -> Option<&str> {
        let Self::Computed(ComputedAddress { template, each }) = self else { return None };
        let (kind, rest) = template.source().split_once("${")?;
        let (gap, rest) = rest.split_once('}')?;
        let whole = format!("params.{parameter}");
        let is_meant = gap == whole
            || each.as_ref().is_some_and(|each| each.name == gap && each.things.source() == whole);
        let is_of_a_thing =
            kind.ends_with(':') && !kind.contains(['\\', '/']) && rest.starts_with('#');
        (is_meant && is_of_a_thing).then_some(kind)
    }

    /// What the entry is for each of, if it is.
    pub(super) fn things(&self) -> Option<&Expression> {
        self.each().map(|(_, things)| things)
    }
}

impl Each {
    fn with(&self, variables: &Json, thing: Json) -> Json {
        let mut map: Map<String, Json> = variables.as_object().cloned().unwrap_or_default();
        map.insert(self.name.clone(), thing);
        map.into()
    }
}
