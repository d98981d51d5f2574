//! Conditions and formulas in CEL, the Common Expression Language.
//!
//! An [`Expression`] is compiled once. [`Expression::check`] finds unknown names before anything
//! is evaluated, so a slip in a catalogue is found when it is loaded, not on the one PC that
//! takes the branch.

mod mentions;
mod template;

use std::collections::HashMap;
use std::fmt;
use std::sync::{Arc, LazyLock, OnceLock};

use cel::common::ast::{EntryExpr, Expr, IdedExpr};
use cel::objects::{Key, Map};
use cel::{Context, Env, Program};
use serde_json::Value;
use thiserror::Error;

pub use template::Template;

static STANDARD: LazyLock<Arc<Env>> = LazyLock::new(|| {
    let mut environment = Env::stdlib();
    // Of these, only what is listed below can be called: some of the others make long texts of short ones.
    // It fails where a name is taken, which a test would show: `split` would be unknown.
    let _ = environment.add_extension(cel::extensions::strings);
    Arc::new(environment)
});

/// Functions that expressions may call by name. Operators and macros are always allowed.
const FUNCTIONS: [&str; 10] = [
    "size",
    "contains",
    "startsWith",
    "endsWith",
    "split",
    "int",
    "double",
    "string",
    "min",
    "max",
];

/// How long an expression may be, in characters.
const LONGEST: usize = 1000;
/// How many brackets may be open at once: the compiler goes down as deep.
const MOST_BRACKETS: usize = 24;
/// How many signs of operators there may be: so deep is the tree that is evaluated.
const MOST_OPERATORS: usize = 160;
/// How many loops (`all`, `exists`, `map`, `filter`) may be inside of each other.
const MOST_LOOPS: usize = 2;

/// How much stack a thread needs that parses and evaluates expressions, in bytes: for the largest that is taken, where
/// nothing of the compiler is optimised, four times.
pub const STACK_BYTES: usize = 32 << 20;

/// The most brackets open at once, those in texts included.
fn open_brackets(source: &str) -> usize {
    let (mut open, mut most) = (0_usize, 0);
    for character in source.chars() {
        match character {
            '(' | '[' | '{' => open += 1,
            ')' | ']' | '}' => open = open.saturating_sub(1),
            _ => {}
        }
        most = most.max(open);
    }
    most
}

fn operators(source: &str) -> usize {
    source.chars().filter(|c| "+-*/%<>=!&|?.".contains(*c)).count()
}

/// How many loops are inside of each other at most.
fn nested_loops(expression: &IdedExpr) -> usize {
    let most =
        |parts: &mut dyn Iterator<Item = &IdedExpr>| parts.map(nested_loops).max().unwrap_or(0);
    match &expression.expr {
        Expr::Select(select) => nested_loops(&select.operand),
        Expr::Call(call) => most(&mut call.target.as_deref().into_iter().chain(&call.args)),
        Expr::List(list) => most(&mut list.elements.iter()),
        Expr::Map(map) => map
            .entries
            .iter()
            .map(|entry| match &entry.expr {
                EntryExpr::MapEntry(entry) => {
                    nested_loops(&entry.key).max(nested_loops(&entry.value))
                }
                EntryExpr::StructField(field) => nested_loops(&field.value),
            })
            .max()
            .unwrap_or(0),
        Expr::Comprehension(comprehension) => {
            let inside =
                [&comprehension.loop_cond, &comprehension.loop_step, &comprehension.result];
            let inside = inside.into_iter().map(nested_loops).max().unwrap_or(0);
            // A list that is made by a loop may be as long as that loop's.
            1 + inside + nested_loops(&comprehension.iter_range)
        }
        _ => 0,
    }
}

/// Whose an expression is.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub(crate) enum Author {
    /// Somebody's: it is compiled at once, so that what is wrong with it is told where it stands.
    #[default]
    Anybody,
    /// Frevin's own, each of which a test compiles and checks. It is compiled when it is first needed: all of them together
    /// take longer than most commands do.
    Frevin,
}

/// A compiled expression that remembers its text.
#[derive(Clone)]
pub struct Expression {
    source: String,
    /// Nothing until one of Frevin's own is needed.
    program: Arc<OnceLock<Program>>,
}

/// Why an expression cannot be used.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
#[allow(missing_docs, reason = "the messages say what each one is")]
pub enum ExpressionError {
    #[error("`{expression}` is not a CEL expression: {reason}")]
    Syntax { expression: String, reason: String },
    #[error(
        "an expression of {length} characters is longer than any has to be; {LONGEST} are taken"
    )]
    TooLong { length: usize },
    #[error("`{expression}` is nested deeper than any expression has to be")]
    TooDeep { expression: String },
    #[error("`{expression}` speaks of `{name}`, which does not exist; known here: {known}")]
    UnknownName { expression: String, name: String, known: String },
    #[error("`{expression}` calls `{function}`, which does not exist")]
    UnknownFunction { expression: String, function: String },
    #[error("`{expression}` cannot be computed: {reason}")]
    Evaluation { expression: String, reason: String },
    #[error("{reason}")]
    Untold { reason: String },
    #[error("{otherwise}")]
    RuleBroken { otherwise: String },
    #[error("`{parameter}` has to be chosen; it takes {takes}")]
    NotChosen { parameter: String, takes: String },
    #[error("`{expression}` gives the address `{address}`: {reason}")]
    BadAddress { expression: String, address: String, reason: String },
    #[error("`{expression}` gives {given}, where {wanted} is needed")]
    WrongType { expression: String, given: String, wanted: &'static str },
}

impl Expression {
    /// Compiles `source`.
    ///
    /// Expressions come from strangers: what is too long, too deep, or would take too long to
    /// compute is refused before it is.
    ///
    /// # Errors
    /// [`ExpressionError::Syntax`] where it is not CEL, [`ExpressionError::TooLong`] or
    /// [`ExpressionError::TooDeep`] where it is more than anybody needs.
    pub fn parse(source: &str) -> Result<Self, ExpressionError> {
        let program = OnceLock::from(compile(source)?);
        Ok(Self { source: source.to_owned(), program: Arc::new(program) })
    }

    /// The same of an expression of whosever it is.
    ///
    /// # Errors
    /// As [`Self::parse`]; none of Frevin's own.
    pub(crate) fn of(author: Author, source: &str) -> Result<Self, ExpressionError> {
        match author {
            Author::Anybody => Self::parse(source),
            Author::Frevin => Ok(Self { source: source.to_owned(), program: Arc::default() }),
        }
    }

    fn program(&self) -> Result<&Program, ExpressionError> {
        if let Some(program) = self.program.get() {
            return Ok(program);
        }
        let program = compile(&self.source)?;
        Ok(self.program.get_or_init(|| program))
    }
}

fn compile(source: &str) -> Result<Program, ExpressionError> {
    let length = source.chars().count();
    if length > LONGEST {
        return Err(ExpressionError::TooLong { length });
    }
    let too_deep = || ExpressionError::TooDeep { expression: source.to_owned() };
    if open_brackets(source) > MOST_BRACKETS || operators(source) > MOST_OPERATORS {
        return Err(too_deep());
    }
    let program = STANDARD.compile(source).map_err(|errors| ExpressionError::Syntax {
        expression: source.to_owned(),
        reason: errors.errors.first().map_or_else(String::new, |error| error.msg.clone()),
    })?;
    if nested_loops(program.expression()) > MOST_LOOPS {
        return Err(too_deep());
    }
    Ok(program)
}

impl Expression {
    /// The text that was compiled.
    pub fn source(&self) -> &str {
        &self.source
    }

    /// Checks that every name and function exists. `sample` is an object of the variables, with
    /// at least the fields that expressions may speak of; fields of list elements are not checked.
    ///
    /// # Errors
    /// [`ExpressionError::UnknownName`] or [`ExpressionError::UnknownFunction`].
    pub fn check(&self, sample: &Value) -> Result<(), ExpressionError> {
        let checker = Checker { expression: &self.source, sample };
        checker.visit(self.program()?.expression(), &mut Vec::new())
    }

    /// Computes the expression over `variables`, an object of names and values.
    ///
    /// # Errors
    /// [`ExpressionError::Evaluation`] where it divides by zero, mixes types and the like.
    pub fn evaluate(&self, variables: &Value) -> Result<Value, ExpressionError> {
        let mut context = Context::with_env(Arc::clone(&STANDARD));
        for (name, value) in variables.as_object().into_iter().flatten() {
            context.add_variable_from_value(name.as_str(), to_cel(value));
        }
        let failed = |reason: String| ExpressionError::Evaluation {
            expression: self.source.clone(),
            reason,
        };
        let value = self.program()?.execute(&context).map_err(|error| failed(error.to_string()))?;
        from_cel(&value).ok_or_else(|| failed(format!("it gives {value:?}")))
    }

    /// Whether the expression holds.
    ///
    /// # Errors
    /// As [`Self::evaluate`], and [`ExpressionError::WrongType`] where it is neither true nor false.
    pub fn holds(&self, variables: &Value) -> Result<bool, ExpressionError> {
        let value = self.evaluate(variables)?;
        value.as_bool().ok_or_else(|| self.wrong_type(&value, "true or false"))
    }

    pub(crate) fn wrong_type(&self, given: &Value, wanted: &'static str) -> ExpressionError {
        ExpressionError::WrongType {
            expression: self.source.clone(),
            given: given.to_string(),
            wanted,
        }
    }
}

impl fmt::Debug for Expression {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_tuple("Expression").field(&self.source).finish()
    }
}

impl PartialEq for Expression {
    fn eq(&self, other: &Self) -> bool {
        self.source == other.source
    }
}

struct Checker<'a> {
    expression: &'a str,
    sample: &'a Value,
}

impl Checker<'_> {
    /// `bound` holds the names that comprehensions around the expression introduce.
    fn visit(&self, expression: &IdedExpr, bound: &mut Vec<String>) -> Result<(), ExpressionError> {
        match &expression.expr {
            Expr::Ident(_) | Expr::Select(_) => self.visit_path(expression, bound),
            Expr::Call(call) => {
                self.check_function(&call.func_name)?;
                let target = call.target.as_deref();
                target.into_iter().chain(&call.args).try_for_each(|part| self.visit(part, bound))
            }
            Expr::List(list) => list.elements.iter().try_for_each(|part| self.visit(part, bound)),
            Expr::Map(map) => map.entries.iter().try_for_each(|entry| match &entry.expr {
                EntryExpr::MapEntry(entry) => {
                    self.visit(&entry.key, bound)?;
                    self.visit(&entry.value, bound)
                }
                EntryExpr::StructField(field) => self.visit(&field.value, bound),
            }),
            Expr::Comprehension(comprehension) => {
                self.visit(&comprehension.iter_range, bound)?;
                self.visit(&comprehension.accu_init, bound)?;
                let before = bound.len();
                bound.push(comprehension.iter_var.clone());
                bound.extend(comprehension.iter_var2.clone());
                bound.push(comprehension.accu_var.clone());
                self.visit(&comprehension.loop_cond, bound)?;
                self.visit(&comprehension.loop_step, bound)?;
                self.visit(&comprehension.result, bound)?;
                bound.truncate(before);
                Ok(())
            }
            Expr::Struct(structure) => Err(ExpressionError::UnknownName {
                expression: self.expression.to_owned(),
                name: structure.type_name.clone(),
                known: "no types".to_owned(),
            }),
            Expr::Literal(_) | Expr::Unspecified => Ok(()),
        }
    }

    fn check_function(&self, name: &str) -> Result<(), ExpressionError> {
        let is_operator = name.contains('_') || name.starts_with(['@', '!', '-']);
        if is_operator || FUNCTIONS.contains(&name) {
            return Ok(());
        }
        Err(ExpressionError::UnknownFunction {
            expression: self.expression.to_owned(),
            function: name.to_owned(),
        })
    }

    fn visit_path(
        &self,
        expression: &IdedExpr,
        bound: &mut Vec<String>,
    ) -> Result<(), ExpressionError> {
        let mut fields = Vec::new();
        let mut inner = expression;
        while let Expr::Select(select) = &inner.expr {
            fields.push(select.field.as_str());
            inner = &select.operand;
        }
        let Expr::Ident(root) = &inner.expr else { return self.visit(inner, bound) };
        if bound.contains(root) || root.starts_with('@') {
            return Ok(());
        }
        fields.push(root);
        let mut here = self.sample;
        for (depth, field) in fields.iter().rev().enumerate() {
            // What lies under a list or a null of the sample cannot be told from it.
            let Some(object) = here.as_object() else { return Ok(()) };
            here = object.get(*field).ok_or_else(|| {
                let path: Vec<_> = fields.iter().rev().take(depth + 1).copied().collect();
                let known: Vec<_> = object.keys().map(String::as_str).collect();
                ExpressionError::UnknownName {
                    expression: self.expression.to_owned(),
                    name: path.join("."),
                    known: known.join(", "),
                }
            })?;
        }
        Ok(())
    }
}

/// Every whole number becomes a CEL `int`, so that expressions can mix numbers from anywhere.
fn to_cel(value: &Value) -> cel::Value {
    match value {
        Value::Null => cel::Value::Null,
        Value::Bool(flag) => cel::Value::Bool(*flag),
        Value::Number(number) => match number.as_i64() {
            Some(whole) => cel::Value::Int(whole),
            None => cel::Value::Float(number.as_f64().unwrap_or(f64::NAN)),
        },
        Value::String(text) => cel::Value::String(Arc::new(text.clone())),
        Value::Array(items) => cel::Value::List(Arc::new(items.iter().map(to_cel).collect())),
        Value::Object(fields) => {
            let map: HashMap<Key, cel::Value> = fields
                .iter()
                .map(|(name, value)| (Key::String(Arc::new(name.clone())), to_cel(value)))
                .collect();
            cel::Value::Map(Map { map: Arc::new(map) })
        }
    }
}

fn from_cel(value: &cel::Value) -> Option<Value> {
    Some(match value {
        cel::Value::Null => Value::Null,
        cel::Value::Bool(flag) => (*flag).into(),
        cel::Value::Int(whole) => (*whole).into(),
        cel::Value::UInt(whole) => (*whole).into(),
        cel::Value::Float(real) => serde_json::Number::from_f64(*real)?.into(),
        cel::Value::String(text) => text.as_str().into(),
        cel::Value::Map(fields) => {
            let field = |(name, value): (&Key, &cel::Value)| match name {
                Key::String(name) => Some((name.to_string(), from_cel(value)?)),
                _ => None,
            };
            fields.map.iter().map(field).collect::<Option<serde_json::Map<_, _>>>()?.into()
        }
        cel::Value::List(items) => items.iter().map(from_cel).collect::<Option<Vec<_>>>()?.into(),
        _ => return None,
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use serde_json::json;

    fn sample() -> Value {
        json!({
            "facts": {"memory": {"size_mib": 16384}, "drives": [{"kind": "solid-state"}]},
            "params": {"share": 38},
        })
    }

    fn evaluate(source: &str) -> Result<Value, ExpressionError> {
        let expression = Expression::parse(source)?;
        expression.check(&sample())?;
        expression.evaluate(&sample())
    }

    #[test]
    fn formulas_mix_facts_and_parameters() {
        assert_eq!(evaluate("facts.memory.size_mib / 2 + params.share"), Ok(json!(8230)));
        assert_eq!(evaluate("facts.drives.exists(d, d.kind == 'solid-state')"), Ok(json!(true)));
        assert_eq!(evaluate("params.share > 30 ? 'long' : 'short'"), Ok(json!("long")));
    }

    #[test]
    fn unknown_names_are_found_without_evaluating() {
        let error = evaluate("true || facts.memory.siez > 1").unwrap_err();
        assert_eq!(
            error.to_string(),
            "`true || facts.memory.siez > 1` speaks of `facts.memory.siez`, which does not exist; \
             known here: size_mib"
        );
        assert!(matches!(evaluate("nothing"), Err(ExpressionError::UnknownName { .. })));
        assert!(matches!(evaluate("shell('x')"), Err(ExpressionError::UnknownFunction { .. })));
    }

    #[test]
    fn more_than_anybody_needs_is_refused_before_it_is_computed() {
        let deep =
            |text: String| matches!(Expression::parse(&text), Err(ExpressionError::TooDeep { .. }));
        assert!(deep(format!("{}1{}", "(".repeat(200), ")".repeat(200))));
        assert!(deep(format!("{}1{}", "[".repeat(200), "]".repeat(200))));
        assert!(deep(format!("1{} > 0", "+1".repeat(300))));
        assert!(deep(format!("{}true", "!".repeat(400))));
        assert!(deep(format!("a{}", ".b".repeat(300))));
        let list = "[0,1,2,3,4,5,6,7,8,9]";
        let loops = |count: usize| {
            (0..count).fold("true".to_owned(), |inner, at| {
                format!("{list}.all({}, {inner})", char::from(b'a' + u8::try_from(at).unwrap()))
            })
        };
        assert!(Expression::parse(&loops(2)).is_ok());
        assert!(deep(loops(3)));
        assert!(matches!(
            Expression::parse(&"1 + ".repeat(400)),
            Err(ExpressionError::TooLong { .. })
        ));
    }

    #[test]
    fn the_most_that_is_taken_fits_the_stack_that_is_asked_for() {
        let around = |open: &str, inner: &str, close: &str, times: usize| {
            format!("{}{inner}{}", open.repeat(times), close.repeat(times))
        };
        let largest = [
            around("", "1", "+1", MOST_OPERATORS - 1) + " > 0",
            around("(", "1", ")", MOST_BRACKETS) + " > 0",
            around("[", "1", "]", MOST_BRACKETS) + ".size() > 0",
            around("(true && !(1 > 2 ? true : ", "false", "))", MOST_BRACKETS / 2 - 1),
            around("!", "true", "", MOST_OPERATORS),
            around("true?true:", "true", "", MOST_OPERATORS / 2),
        ];
        // Half of it, so that a program has as much again for all else.
        let thread = std::thread::Builder::new().stack_size(STACK_BYTES / 2);
        let results = thread.spawn(move || {
            largest.map(|text| Expression::parse(&text).and_then(|parsed| parsed.holds(&sample())))
        });
        let results = results.unwrap().join().unwrap();
        assert!(results.iter().all(Result::is_ok), "{results:?}");
    }

    #[test]
    fn broken_and_impossible_expressions_say_why() {
        assert!(matches!(evaluate("1 +"), Err(ExpressionError::Syntax { .. })));
        assert!(matches!(evaluate("1 / 0"), Err(ExpressionError::Evaluation { .. })));
        assert!(matches!(evaluate("1 + 'a'"), Err(ExpressionError::Evaluation { .. })));
        let number = Expression::parse("1 + 1").unwrap();
        assert!(matches!(number.holds(&sample()), Err(ExpressionError::WrongType { .. })));
    }
}
