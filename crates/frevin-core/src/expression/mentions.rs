//! What an expression speaks of.

use std::collections::BTreeSet;

use cel::common::ast::{EntryExpr, Expr, IdedExpr};

use super::Expression;

impl Expression {
    /// The paths that the expression speaks of, `facts.memory.size_mib`. A field of what a loop goes
    /// over is a field of the list: `facts.drives.kind`.
    pub fn mentions(&self) -> BTreeSet<String> {
        let mut found = BTreeSet::new();
        // What does not compile speaks of nothing; evaluating it says why.
        if let Ok(program) = self.program() {
            visit(program.expression(), &mut Vec::new(), &mut found);
        }
        found
    }

    /// The path of the list that the expression gives, or chooses from.
    pub fn list(&self) -> Option<String> {
        visit(self.program().ok()?.expression(), &mut Vec::new(), &mut BTreeSet::new())
    }

    /// Whether the expression compares a path with null, and so has an answer where it is not known.
    pub fn asks_whether_known(&self, path: &str) -> bool {
        // Inside a loop the path is spelled with the loop's own name: the last word tells it.
        let field = path.rsplit('.').next().unwrap_or(path);
        let source: String = self.source.split_whitespace().collect();
        source.contains(&format!("{field}!=null")) || source.contains(&format!("{field}==null"))
    }
}

/// Names that loops introduce, each with the path of the list that it goes over.
type Bound = Vec<(String, Option<String>)>;

/// Collects what `expression` speaks of; gives its path where it is one, or a choice of a list that is.
fn visit(expression: &IdedExpr, bound: &mut Bound, found: &mut BTreeSet<String>) -> Option<String> {
    match &expression.expr {
        Expr::Ident(name) => match bound.iter().rev().find(|(known, _)| known == name) {
            Some((_, path)) => path.clone(),
            None => {
                found.insert(name.clone());
                Some(name.clone())
            }
        },
        Expr::Select(select) => {
            let inner = visit(&select.operand, bound, found)?;
            let path = format!("{inner}.{}", select.field);
            found.insert(path.clone());
            Some(path)
        }
        Expr::Call(call) => {
            for part in call.target.as_deref().into_iter().chain(&call.args) {
                visit(part, bound, found);
            }
            None
        }
        Expr::List(list) => {
            list.elements.iter().for_each(|part| drop(visit(part, bound, found)));
            None
        }
        Expr::Map(map) => {
            for entry in &map.entries {
                match &entry.expr {
                    EntryExpr::MapEntry(entry) => {
                        visit(&entry.key, bound, found);
                        visit(&entry.value, bound, found);
                    }
                    EntryExpr::StructField(field) => drop(visit(&field.value, bound, found)),
                }
            }
            None
        }
        Expr::Comprehension(comprehension) => {
            let over = visit(&comprehension.iter_range, bound, found);
            visit(&comprehension.accu_init, bound, found);
            let before = bound.len();
            bound.push((comprehension.iter_var.clone(), over.clone()));
            bound.extend(comprehension.iter_var2.clone().map(|name| (name, over.clone())));
            bound.push((comprehension.accu_var.clone(), None));
            for part in [&comprehension.loop_cond, &comprehension.loop_step, &comprehension.result]
            {
                visit(part, bound, found);
            }
            bound.truncate(before);
            over
        }
        Expr::Struct(_) | Expr::Literal(_) | Expr::Unspecified => None,
    }
}
