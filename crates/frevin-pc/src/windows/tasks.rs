//! Scheduled tasks.

use frevin_core::setting::{State, Value};

use super::os_error::{OsError, state_of};
use crate::contract::{WriteError, Written};

/// The task scheduler as Windows offers it.
pub(crate) trait TasksApi {
    /// Whether the task at a path is enabled; nothing where there is no such task.
    fn is_enabled(&self, path: &str) -> Result<Option<bool>, OsError>;
    /// Enables or disables a task, the way of its own.
    fn set_enabled(&self, path: &str, enabled: bool) -> Result<(), OsError>;
    /// The definition of a task, as XML.
    fn definition(&self, path: &str) -> Result<String, OsError>;
    /// Puts another definition in the place of a task's.
    fn define(&self, path: &str, xml: &str) -> Result<(), OsError>;
    /// The paths of all tasks.
    fn paths(&self) -> Result<Vec<String>, OsError>;
}

pub(super) fn read(tasks: &dyn TasksApi, path: &str) -> State {
    state_of(tasks.is_enabled(path).map(|enabled| enabled.map(|on| Value::Flag(on).into())))
}

pub(super) fn write(
    tasks: &dyn TasksApi,
    path: &str,
    enabled: bool,
) -> Result<Written, WriteError> {
    let no_such = || WriteError::Refused(format!("there is no task {path}"));
    if tasks.is_enabled(path)?.ok_or_else(no_such)? == enabled {
        return Ok(Written::Done);
    }
    tasks.set_enabled(path, enabled)?;
    if tasks.is_enabled(path)? == Some(enabled) {
        return Ok(Written::Done);
    }
    // Where the scheduler accepts that and does nothing, the definition itself is changed. A task
    // that runs under a kept password would lose it: such a task is left alone.
    let xml = tasks.definition(path)?;
    if xml.contains("<LogonType>Password") || xml.contains("InteractiveTokenOrPassword") {
        return Err(WriteError::Refused(format!("{path} runs under a password of its own")));
    }
    let changed = with_enabled(&without_empty_registration(&xml), enabled)
        .ok_or_else(|| WriteError::Refused(format!("the definition of {path} is unusual")))?;
    tasks.define(path, &changed)?;
    // A scheduler that does not know all of a definition would have dropped what it does not know.
    if bare(&tasks.definition(path)?) != bare(&changed) {
        tasks.define(path, &xml)?;
        return Err(WriteError::Refused(format!("the scheduler would change more of {path}")));
    }
    Ok(Written::Done)
}

/// A definition without what says nothing: spaces, and an empty description of who registered it.
fn bare(xml: &str) -> String {
    let xml: String = xml.split_whitespace().collect();
    without_empty_registration(&xml)
}

/// A definition without an empty description of who registered the task. It says nothing, and a
/// scheduler may keep one that it is handed in another way than the one it had.
fn without_empty_registration(xml: &str) -> String {
    const OPEN: &str = "<RegistrationInfo>";
    const CLOSE: &str = "</RegistrationInfo>";
    if let Some((before, rest)) = xml.split_once(OPEN)
        && let Some((inside, after)) = rest.split_once(CLOSE)
        && inside.trim().is_empty()
    {
        return format!("{before}{after}");
    }
    xml.replace("<RegistrationInfo/>", "")
}

/// What is written where a definition does not say whether it is enabled: legal XML, and told apart
/// from what anybody else writes, so that taking it out again leaves the very text there was.
const INSERTED: &str = "<Enabled >false</Enabled >";

/// The definition with its task enabled or disabled, all else as it was; nothing where it has no
/// plain `<Settings>`.
fn with_enabled(xml: &str, enabled: bool) -> Option<String> {
    if xml.matches(INSERTED).count() == 1 {
        return Some(if enabled { xml.replace(INSERTED, "") } else { xml.to_owned() });
    }
    let begin = xml.find("<Settings>")? + "<Settings>".len();
    let end = begin + xml.get(begin..)?.find("</Settings>")?;
    let settings = xml.get(begin..end)?;
    // Only what stands directly in the settings counts: an element inside another is its own.
    let (open, close) = ("<Enabled>", "</Enabled>");
    let direct = settings.match_indices(open).find(|(at, _)| depth(&settings[..*at]) == 0);
    let settings = match direct {
        Some((at, _)) => {
            let value = at + open.len();
            let length = settings.get(value..)?.find(close)?;
            let (before, after) = (settings.get(..value)?, settings.get(value + length..)?);
            format!("{before}{enabled}{after}")
        }
        None if enabled => settings.to_owned(),
        None => format!("{INSERTED}{settings}"),
    };
    Some(format!("{}{settings}{}", xml.get(..begin)?, xml.get(end..)?))
}

/// How many elements are open at the end of a piece of XML.
fn depth(xml: &str) -> i32 {
    let tags = xml.split('<').skip(1);
    tags.map(|tag| {
        let is_empty = tag.split('>').next().is_some_and(|tag| tag.ends_with('/'));
        match tag.chars().next() {
            Some('/') => -1,
            Some('!' | '?') => 0,
            _ if is_empty => 0,
            _ => 1,
        }
    })
    .sum()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_definition_comes_back_to_the_very_text_it_was() {
        let task = |settings: &str| {
            format!(
                "<Task><Triggers><X><Enabled>true</Enabled></X></Triggers><Settings>{settings}</Settings></Task>"
            )
        };
        for settings in [
            "",
            "<Hidden>true</Hidden>",
            "<Enabled>true</Enabled><Hidden>false</Hidden>",
            "<IdleSettings><Enabled>true</Enabled></IdleSettings><Priority/>\r\n",
            "<IdleSettings><Enabled>true</Enabled></IdleSettings><Enabled>true</Enabled>",
        ] {
            let xml = task(settings);
            let off = with_enabled(&xml, false).unwrap();
            assert_ne!(off, xml);
            assert!(off.contains("false</Enabled"), "{off}");
            assert_eq!(off.matches("<X><Enabled>true").count(), 1, "another element moved: {off}");
            assert_eq!(with_enabled(&off, false).as_deref(), Some(off.as_str()));
            assert_eq!(with_enabled(&off, true).unwrap(), xml);
        }
        let off = task("<Enabled>false</Enabled>");
        let on = with_enabled(&off, true).unwrap();
        assert_eq!(on, task("<Enabled>true</Enabled>"));
        assert_eq!(with_enabled("<Task/>", false), None);
    }
}
