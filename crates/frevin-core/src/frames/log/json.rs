//! Logs in JSON: a list of frames, or one a line.

use serde_json::Value;

use super::LogError;

/// A log as a table of texts.
pub(super) struct Table {
    pub(super) names: Vec<String>,
    /// Each row with the line that it begins on, where that is known.
    pub(super) rows: Vec<(u64, Vec<Option<String>>)>,
}

/// Reads JSON: a list of numbers or objects, an object with one such list in it, or an object or
/// number on each line. What is no JSON is nothing, so that it can be read otherwise.
pub(super) fn table(text: &str) -> Result<Option<Table>, LogError> {
    let frames: Vec<(u64, Value)> = match serde_json::from_str::<Value>(text) {
        Ok(Value::Array(frames)) => frames.into_iter().map(|frame| (1, frame)).collect(),
        Ok(Value::Object(fields)) => {
            let lists: Vec<(&String, &Vec<Value>)> = fields
                .iter()
                .filter_map(|(name, value)| Some((name, value.as_array()?)))
                .filter(|(_, list)| list.iter().any(|item| item.is_number() || item.is_object()))
                .collect();
            match lists[..] {
                [(_, list)] => list.iter().map(|frame| (1, frame.clone())).collect(),
                [] => vec![(1, Value::Object(fields))],
                _ => {
                    let names: Vec<String> =
                        lists.iter().map(|(name, _)| (*name).clone()).collect();
                    return Err(LogError::SeveralColumns { found: super::columns::list(&names) });
                }
            }
        }
        Ok(_) => return Ok(None),
        Err(_) => {
            let mut lines = Vec::new();
            for (index, line) in
                text.lines().enumerate().filter(|(_, line)| !line.trim().is_empty())
            {
                let line_number = index as u64 + 1;
                match serde_json::from_str::<Value>(line) {
                    Ok(frame @ Value::Object(_)) => lines.push((line_number, frame)),
                    // A row that is none is counted as one that holds no frame.
                    _ if !lines.is_empty() => lines.push((line_number, Value::Null)),
                    _ => return Ok(None),
                }
            }
            lines
        }
    };
    let mut names: Vec<String> = Vec::new();
    for (_, frame) in frames.iter().take(100) {
        for name in frame.as_object().into_iter().flatten().map(|(name, _)| name) {
            if !names.contains(name) {
                names.push(name.clone());
            }
        }
    }
    let cell = |value: Option<&Value>| match value {
        Some(Value::Number(number)) => Some(number.to_string()),
        Some(Value::String(text)) => Some(text.clone()),
        _ => None,
    };
    let row = |frame: &Value| match frame {
        Value::Object(fields) => names.iter().map(|name| cell(fields.get(name))).collect(),
        other => vec![cell(Some(other))],
    };
    let rows = frames.iter().map(|(line, frame)| (*line, row(frame))).collect();
    Ok(Some(Table { names, rows }))
}
