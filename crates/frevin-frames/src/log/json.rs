//! Logs in JSON: a list of frames, lists that are columns, or an object on each line.

use serde_json::{Map, Value};

use super::LogError;

/// A log as a table over a document that is read: its cells become text one row at a time, since all of
/// them at once would take many times the memory of the document.
pub(super) struct Table<'a> {
    pub(super) names: Vec<String>,
    rows: TableRows<'a>,
}

enum TableRows<'a> {
    /// A list of numbers.
    Numbers(&'a [Value]),
    /// A list of objects.
    Objects(&'a [Value]),
    /// An object that is the only row.
    One(&'a Value),
    /// Lists of equal length, side by side.
    Columns(Vec<&'a [Value]>),
}

impl Table<'_> {
    pub(super) fn len(&self) -> usize {
        match &self.rows {
            TableRows::Numbers(list) | TableRows::Objects(list) => list.len(),
            TableRows::One(_) => 1,
            TableRows::Columns(columns) => columns.first().map_or(0, |column| column.len()),
        }
    }

    pub(super) fn row(&self, row: usize) -> Vec<Option<String>> {
        let fields = |item: &Value| self.names.iter().map(|name| cell(item.get(name))).collect();
        match &self.rows {
            TableRows::Numbers(list) => vec![cell(list.get(row))],
            TableRows::Objects(list) => list.get(row).map_or_else(Vec::new, fields),
            TableRows::One(object) => fields(object),
            TableRows::Columns(columns) => {
                columns.iter().map(|column| cell(column.get(row))).collect()
            }
        }
    }
}

/// Names of fields are looked for in as many objects.
const SAMPLED_OBJECTS: usize = 100;

/// The names of the fields of a log that has an object on each line; nothing where it is not such.
pub(super) fn fields_of_lines(head: &[u8], is_whole: bool) -> Option<Vec<String>> {
    let mut lines: Vec<&[u8]> = head.split(|byte| *byte == b'\n').map(<[u8]>::trim_ascii).collect();
    if !is_whole {
        lines.pop();
    }
    lines.retain(|line| !line.is_empty());
    let objects: Vec<Map<String, Value>> =
        lines.iter().take(SAMPLED_OBJECTS).filter_map(|line| object(line)).collect();
    let begins_so = lines.first().is_some_and(|line| object(line).is_some());
    let is_several = lines.len() > 1 && objects.len() > 1;
    (begins_so && is_several).then(|| names_of(objects.iter()))
}

/// The object that a line is.
pub(super) fn object(line: &[u8]) -> Option<Map<String, Value>> {
    serde_json::from_slice(line).ok()
}

fn names_of<'a>(objects: impl Iterator<Item = &'a Map<String, Value>>) -> Vec<String> {
    let mut names: Vec<String> = Vec::new();
    for name in objects.flat_map(Map::keys) {
        if !names.contains(name) {
            names.push(name.clone());
        }
    }
    names
}

/// What a field holds, as text.
pub(super) fn cell(value: Option<&Value>) -> Option<String> {
    match value {
        Some(Value::Number(number)) => Some(number.to_string()),
        Some(Value::String(text)) => Some(text.clone()),
        _ => None,
    }
}

/// A JSON document; nothing where it is none.
pub(super) fn document(text: &[u8]) -> Option<Value> {
    serde_json::from_slice(text).ok()
}

/// The table of a JSON document, wherever in it the frames are: a list of objects or of numbers, or
/// several lists of numbers that are equally long and side by side.
///
/// Of several the one is taken that has the column which is asked for, or a column of frame times.
pub(super) fn table<'a>(
    document: &'a Value,
    column: Option<&str>,
) -> Result<Option<Table<'a>>, LogError> {
    let mut found = Vec::new();
    tables_in(document, "", &mut found);
    if found.is_empty() {
        return Ok(document.as_object().map(|object| Table {
            names: names_of([object].into_iter()),
            rows: TableRows::One(document),
        }));
    }
    let paths: Vec<String> = found.iter().map(|(path, _)| path.clone()).collect();
    let is_meant = |table: &Table<'_>| match column {
        Some(column) => table.names.iter().any(|name| name == column),
        None => table.names.iter().any(|name| super::columns::speaks_of_frame_times(name)),
    };
    if found.len() > 1 {
        found.retain(|(_, table)| is_meant(table));
    }
    match (found.pop(), found.is_empty()) {
        (Some((_, table)), true) => Ok(Some(table)),
        _ => Err(LogError::SeveralLists { found: super::columns::list(&paths) }),
    }
}

fn tables_in<'a>(value: &'a Value, path: &str, found: &mut Vec<(String, Table<'a>)>) {
    match value {
        Value::Array(list) if list.iter().any(Value::is_number) => {
            let rows = TableRows::Numbers(list);
            let name = path.rsplit('.').next().filter(|name| !name.is_empty());
            found.push((
                path.to_owned(),
                Table { names: name.map(str::to_owned).into_iter().collect(), rows },
            ));
        }
        Value::Array(list) => {
            let is_plain = |item: &Value| {
                item.as_object()
                    .is_some_and(|fields| fields.values().any(|field| cell(Some(field)).is_some()))
            };
            let has_lists = |item: &Value| {
                item.as_object().is_some_and(|fields| {
                    fields.values().any(|field| field.is_object() || field.is_array())
                })
            };
            if list.iter().any(is_plain) && !list.iter().any(has_lists) {
                found.push((path.to_owned(), of_objects(list)));
            } else {
                for (index, item) in list.iter().enumerate() {
                    tables_in(item, &format!("{path}[{}]", index + 1), found);
                }
            }
        }
        Value::Object(fields) => {
            let columns: Vec<(&String, &Vec<Value>)> = fields
                .iter()
                .filter_map(|(name, field)| Some((name, field.as_array()?)))
                .filter(|(_, list)| list.iter().any(Value::is_number))
                .collect();
            let side_by_side =
                columns.len() > 1 && columns.windows(2).all(|two| two[0].1.len() == two[1].1.len());
            if side_by_side {
                let rows =
                    TableRows::Columns(columns.iter().map(|(_, list)| list.as_slice()).collect());
                let names = columns.iter().map(|(name, _)| (*name).clone()).collect();
                found.push((path.to_owned(), Table { names, rows }));
            }
            for (name, field) in fields {
                if !(side_by_side && columns.iter().any(|(column, _)| *column == name)) {
                    let below =
                        if path.is_empty() { name.clone() } else { format!("{path}.{name}") };
                    tables_in(field, &below, found);
                }
            }
        }
        _ => {}
    }
}

fn of_objects(list: &[Value]) -> Table<'_> {
    let objects = list.iter().take(SAMPLED_OBJECTS).filter_map(Value::as_object);
    Table { names: names_of(objects), rows: TableRows::Objects(list) }
}
