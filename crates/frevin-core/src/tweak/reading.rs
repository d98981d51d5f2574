//! Reading a tweak definition: TOML in, a checked [`Tweak`] or every problem found out.

use std::collections::BTreeMap;
use std::ops::Range;

use serde::Deserialize;
use serde_json::{Value as Json, json};
use toml::Spanned;

use super::definition::{
    BuildRange, Condition, Danger, Manual, Risk, SettingSpec, SettingsPage, Source, Standing,
    Tweak, TweakId,
};
use super::parameter::{Choice, Parameter, ParameterKind, check_argument};
use super::target::{Target, WrittenType, state_for};
use super::whereabouts::{Each, Whereabouts};
use crate::document::{BadDocument, Problem};
use crate::expression::{Author, Expression, ExpressionError, Template};
use crate::facts::Facts;
use crate::setting::TakesEffect;

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Document {
    id: Spanned<String>,
    title: String,
    what: String,
    why: String,
    may_break: String,
    #[serde(default)]
    also_called: Vec<String>,
    #[serde(default)]
    dangers: Vec<Danger>,
    standing: Standing,
    standing_reason: String,
    risk: Risk,
    takes_effect: TakesEffect,
    felt_within_seconds: Option<Spanned<f64>>,
    long_memory: Option<String>,
    #[serde(default)]
    parameters: BTreeMap<String, ParameterDocument>,
    #[serde(default)]
    settings: Vec<SettingDocument>,
    manual: Option<ManualDocument>,
    #[serde(default)]
    conditions: Vec<ConditionDocument>,
    #[serde(default)]
    rules: Vec<ConditionDocument>,
    #[serde(default)]
    builds: BuildRange,
    #[serde(default)]
    conflicts: Vec<Spanned<String>>,
    #[serde(default)]
    needs: Vec<Spanned<String>>,
    #[serde(default)]
    alternatives: Vec<Spanned<String>>,
    sources: Vec<Source>,
}

/// What is felt later than this cannot be tried in play, in seconds: half a minute of a segment would settle.
const SHORT_MEMORY_SECONDS: f64 = 5.0;

#[derive(Deserialize, Clone, Copy)]
#[serde(rename_all = "kebab-case")]
enum ParameterType {
    Flag,
    Whole,
    Choice,
    Subset,
    Text,
    Names,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct ParameterDocument {
    meaning: String,
    #[serde(rename = "type")]
    parameter_type: Spanned<ParameterType>,
    default: Option<Spanned<toml::Value>>,
    choices: Option<Vec<Choice>>,
    minimum: Option<i64>,
    maximum: Option<i64>,
    unit: Option<String>,
    example: Option<String>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct SettingDocument {
    address: Spanned<String>,
    for_each: Option<Spanned<String>>,
    #[serde(rename = "as")]
    each_name: Option<String>,
    #[serde(rename = "type")]
    written_type: Option<WrittenType>,
    value: Option<Spanned<toml::Value>>,
    formula: Option<Spanned<String>>,
    #[serde(default)]
    absent: bool,
    when: Option<Spanned<String>>,
    takes_effect: Option<TakesEffect>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct ManualDocument {
    steps: Spanned<Vec<String>>,
    done_when: Option<Spanned<String>>,
    page: Option<SettingsPage>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct ConditionDocument {
    holds: Spanned<String>,
    otherwise: String,
}

impl Tweak {
    /// Reads a definition. `name` is how the reader knows the text, for messages.
    ///
    /// # Errors
    /// [`BadDocument`] with every problem found: not TOML, an unknown key, an address that is
    /// none, an expression with unknown names or a wrong result, a default out of range.
    pub fn parse(name: &str, text: &str) -> Result<Self, BadDocument> {
        Self::read(name, text, &mut Reader::default())
    }

    /// Reads one of Frevin's own definitions, whose expressions a test has checked: it would take
    /// most of the time that a command takes to start.
    pub(super) fn parse_own(name: &str, text: &str) -> Result<Self, BadDocument> {
        Self::read(name, text, &mut Reader { author: Author::Frevin, ..Reader::default() })
    }

    fn read(name: &str, text: &str, reader: &mut Reader) -> Result<Self, BadDocument> {
        let document: Document =
            toml::from_str(text).map_err(|error| BadDocument::from_toml(name, text, &error))?;
        let tweak = reader.tweak(document);
        match tweak {
            Some(tweak) if reader.problems.is_empty() => Ok(tweak),
            _ => Err(BadDocument::new(name, text, std::mem::take(&mut reader.problems))),
        }
    }
}

/// Collects problems and goes on, so that an author sees them all at once.
#[derive(Default)]
struct Reader {
    problems: Vec<Problem>,
    /// Whose expressions they are: Frevin's own need not be tried out.
    author: Author,
}

impl Reader {
    fn note<T, E: std::fmt::Display>(
        &mut self,
        span: Range<usize>,
        result: Result<T, E>,
    ) -> Option<T> {
        result.map_err(|error| self.problems.push(Problem::at(span, error.to_string()))).ok()
    }

    fn tweak(&mut self, document: Document) -> Option<Tweak> {
        let id = self.note(document.id.span(), document.id.as_ref().parse::<TweakId>());
        let mut parameters = BTreeMap::new();
        for (name, parameter) in document.parameters {
            if let Some(parameter) = self.parameter(&name, parameter) {
                parameters.insert(name, parameter);
            }
        }
        let first = document.settings.first();
        let settings_span = first.map_or(document.id.span(), |setting| setting.address.span());
        let settings: Vec<SettingSpec> = document
            .settings
            .into_iter()
            .filter_map(|setting| self.setting(setting, document.takes_effect))
            .collect();
        let manual = match document.manual {
            Some(manual) => self.manual(manual),
            None => None,
        };
        if settings.is_empty() == manual.is_none() && self.problems.is_empty() {
            let message = "a tweak wants settings, or is done by hand; not both, and not neither";
            self.problems.push(Problem::at(settings_span.clone(), message));
        }
        let conditions = document
            .conditions
            .into_iter()
            .filter_map(|condition| {
                let holds = self.expression(&condition.holds)?;
                Some((condition.holds.span(), Condition { holds, otherwise: condition.otherwise }))
            })
            .collect::<Vec<_>>();
        let rules: Vec<Condition> = document
            .rules
            .into_iter()
            .filter_map(|rule| {
                Some(Condition { holds: self.expression(&rule.holds)?, otherwise: rule.otherwise })
            })
            .collect();
        let felt_within_seconds = document.felt_within_seconds.and_then(|written| {
            let seconds = *written.get_ref();
            let longest = SHORT_MEMORY_SECONDS;
            let fault = format!("it is from 0 to {longest}; what takes longer has a long memory");
            let checked = (0.0..=longest).contains(&seconds).then_some(()).ok_or(fault);
            self.note(written.span(), checked)?;
            Some(seconds)
        });
        let tweak = Tweak {
            felt_within_seconds,
            long_memory: document.long_memory,
            rules,
            id: id?,
            title: document.title,
            also_called: document.also_called,
            what: document.what,
            why: document.why,
            may_break: document.may_break,
            dangers: document.dangers,
            standing: document.standing,
            standing_reason: document.standing_reason,
            risk: document.risk,
            parameters,
            settings,
            manual,
            takes_effect: document.takes_effect,
            conditions: conditions.iter().map(|(_, condition)| condition.clone()).collect(),
            builds: document.builds,
            conflicts: self.ids(document.conflicts),
            needs: self.ids(document.needs),
            alternatives: self.ids(document.alternatives),
            sources: document.sources,
            is_own: false,
        };
        if self.author == Author::Anybody {
            self.check_expressions(&tweak, &conditions, settings_span);
        }
        Some(tweak)
    }

    fn manual(&mut self, document: ManualDocument) -> Option<Manual> {
        let sample = json!({ "facts": Facts::reference().variables() });
        let done_when = match document.done_when {
            Some(written) => {
                let done_when = self.expression(&written)?;
                if self.author == Author::Anybody {
                    let checked = done_when.check(&sample).and_then(|()| done_when.holds(&sample));
                    self.note(written.span(), checked)?;
                }
                Some(done_when)
            }
            None => None,
        };
        let span = document.steps.span();
        let steps: Vec<Template> = document
            .steps
            .into_inner()
            .iter()
            .filter_map(|step| self.note(span.clone(), Template::of(self.author, step)))
            .collect();
        if steps.is_empty() {
            self.problems.push(Problem::at(span, "what is done by hand has steps"));
            return None;
        }
        Some(Manual { steps, done_when, page: document.page })
    }

    fn ids(&mut self, written: Vec<Spanned<String>>) -> Vec<TweakId> {
        written.into_iter().filter_map(|id| self.note(id.span(), id.as_ref().parse())).collect()
    }

    fn expression(&mut self, written: &Spanned<String>) -> Option<Expression> {
        self.note(written.span(), Expression::of(self.author, written.as_ref()))
    }

    fn parameter(&mut self, name: &str, document: ParameterDocument) -> Option<Parameter> {
        let span = document.parameter_type.span();
        let kind = match (
            document.parameter_type.into_inner(),
            document.choices,
            (document.minimum, document.maximum, document.unit),
            document.example,
        ) {
            (ParameterType::Flag, None, (None, None, None), None) => ParameterKind::Flag,
            (ParameterType::Whole, None, (Some(minimum), Some(maximum), Some(unit)), None) => {
                ParameterKind::Whole { minimum, maximum, unit }
            }
            (ParameterType::Choice, Some(choices), (None, None, None), None) => {
                ParameterKind::Choice { choices }
            }
            (ParameterType::Subset, Some(choices), (None, None, None), None) => {
                ParameterKind::Subset { choices }
            }
            (ParameterType::Text, None, (None, None, None), Some(example)) => {
                ParameterKind::Text { example }
            }
            (ParameterType::Names, None, (None, None, None), Some(example)) => {
                ParameterKind::Names { example }
            }
            _ => {
                let message = "a whole number has `minimum`, `maximum` and `unit`; a choice or a \
                               subset has `choices`; a text or names have an `example`; a flag \
                               has none of these";
                self.problems.push(Problem::at(span, message));
                return None;
            }
        };
        let mut parameter = Parameter { meaning: document.meaning, kind, default: None };
        if let Some(written) = document.default {
            let checked = check_argument(name, &parameter, written.as_ref());
            parameter.default = Some(self.note(written.span(), checked)?);
        }
        Some(parameter)
    }

    fn setting(
        &mut self,
        document: SettingDocument,
        tweak_takes_effect: TakesEffect,
    ) -> Option<SettingSpec> {
        let span = document.address.span();
        let each = match (document.for_each, document.each_name) {
            (None, None) => None,
            (Some(things), Some(name)) if is_name(&name) => {
                Some(Each { things: self.expression(&things)?, name })
            }
            _ => {
                let message = "`for_each` is a list, and `as` a name for each thing of it";
                self.problems.push(Problem::at(span, message));
                return None;
            }
        };
        let whereabouts = self
            .note(span.clone(), Whereabouts::parse(self.author, document.address.as_ref(), each))?;
        let when = match &document.when {
            Some(when) => Some(self.expression(when)?),
            None => None,
        };
        let target = match (document.value, document.formula, document.absent) {
            (Some(value), None, false) => {
                let written = json!(value.as_ref());
                if let Whereabouts::Fixed(address) = &whereabouts {
                    let checked = state_for(address, document.written_type, &written);
                    let wanted = checked.map_err(|takes| format!("this setting takes {takes}"));
                    self.note(value.span(), wanted)?;
                }
                Target::Written { written, written_type: document.written_type }
            }
            (None, Some(formula), false) => Target::Formula {
                formula: self.expression(&formula)?,
                written_type: document.written_type,
            },
            (None, None, true) if document.address.as_ref().starts_with("text:") => {
                let message = "what stands in a settings file is never taken out, since it could \
                               not be put back where it stood; give it a `value`";
                self.problems.push(Problem::at(span, message));
                return None;
            }
            (None, None, true) => Target::Absent,
            _ => {
                let message = "a setting has one of `value`, `formula` and `absent = true`";
                self.problems.push(Problem::at(span, message));
                return None;
            }
        };
        let takes_effect = document.takes_effect.unwrap_or(tweak_takes_effect);
        Some(SettingSpec { whereabouts, target, when, takes_effect })
    }

    /// Names are checked statically; then every setting is computed for each argument worth
    /// trying, so that a choice whose value a setting cannot hold is found here.
    fn check_expressions(
        &mut self,
        tweak: &Tweak,
        conditions: &[(Range<usize>, Condition)],
        settings_span: Range<usize>,
    ) {
        let facts = Facts::reference();
        let sample = tweak.variables(&tweak.complete(&tweak.sample_arguments()), &facts);
        for (span, condition) in conditions {
            let facts_only = json!({ "facts": sample["facts"] });
            let checked = condition.holds.check(&facts_only);
            let holds = checked.and_then(|()| condition.holds.holds(&facts_only));
            self.note(span.clone(), holds);
        }
        for rule in &tweak.rules {
            let checked = rule.holds.check(&sample).and_then(|()| rule.holds.holds(&sample));
            self.note(settings_span.clone(), checked);
        }
        for spec in &tweak.settings {
            if let Err(error) = check_names(spec, &sample) {
                self.problems.push(Problem::at(settings_span.clone(), error.to_string()));
            }
        }
        for step in tweak.manual.iter().flat_map(|manual| &manual.steps) {
            let checked = step.gaps().try_for_each(|gap| gap.check(&sample));
            let filled = checked.and_then(|()| step.fill(&sample));
            self.note(settings_span.clone(), filled);
        }
        if self.problems.is_empty() {
            self.note(settings_span, tweak.sample_settings());
        }
    }
}

/// Checks the names in a setting's expressions, those of the thing that it is for included.
fn check_names(spec: &SettingSpec, sample: &Json) -> Result<(), ExpressionError> {
    if let Some(things) = spec.whereabouts.things() {
        things.check(sample)?;
    }
    let formula = spec.target.formula();
    let expressions = || spec.when.iter().chain(formula).chain(spec.whereabouts.expressions());
    for variables in spec.whereabouts.instances(sample)? {
        expressions().try_for_each(|expression| expression.check(&variables))?;
    }
    Ok(())
}

fn is_name(name: &str) -> bool {
    let good = |c: char| c.is_ascii_lowercase() || c == '_';
    !name.is_empty() && name.chars().all(good) && !["facts", "params"].contains(&name)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::setting::{RegistryData, Value};
    use crate::tweak::{Argument, Arguments};

    const GOOD: &str = r#"
        id = "cpu/share"
        title = "Share"
        what = "w"
        why = "y"
        may_break = "nothing"
        standing = "plausible"
        standing_reason = "r"
        risk = "safe"
        takes_effect = "now"

        [parameters.share]
        meaning = "How much"
        type = "choice"
        default = "long"
        choices = [
            { name = "long", value = 38, meaning = "l" },
            { name = "short", value = 2, meaning = "s" },
        ]

        [[settings]]
        address = 'registry:HKLM\SYSTEM\A#Share'
        type = "dword"
        formula = "params.share"

        [[conditions]]
        holds = "facts.processor.threads > 4"
        otherwise = "few threads"

        [[sources]]
        title = "t"
        states = "s"
    "#;

    fn problems(text: &str) -> Vec<String> {
        let bad = Tweak::parse("t.toml", text).unwrap_err();
        assert!(bad.problems.iter().all(|p| p.span.is_some()), "{bad}");
        bad.problems.into_iter().map(|problem| problem.message).collect()
    }

    #[test]
    fn a_definition_resolves_by_parameter_and_fits_by_fact() {
        let tweak = Tweak::parse("t.toml", GOOD).unwrap();
        let facts = Facts::reference();
        let short = Arguments::from([("share".into(), Argument::Choice("short".into()))]);
        let state =
            |arguments: &Arguments| tweak.resolve(arguments, &facts).unwrap()[0].state.clone();
        assert_eq!(state(&Arguments::new()), Value::Registry(RegistryData::dword(38)).into());
        assert_eq!(state(&short), Value::Registry(RegistryData::dword(2)).into());
        assert!(tweak.misfits(&facts).is_empty());
        let mut small = facts;
        small.processor.threads = 4;
        assert_eq!(tweak.misfits(&small), ["few threads"]);
    }

    #[test]
    fn a_build_range_is_part_of_fitting() {
        let ranged =
            GOOD.replace("[parameters.share]", "[builds]\nfirst = 22000\n[parameters.share]");
        let tweak = Tweak::parse("t.toml", &ranged).unwrap();
        let mut facts = Facts::reference();
        facts.windows.build = 19_045;
        let misfits = tweak.misfits(&facts);
        assert_eq!(misfits, ["it needs Windows build 22000 or later; this is build 19045"]);
    }

    #[test]
    fn addresses_are_computed_for_each_of_several_things() {
        let each = r#"
            for_each = "facts.adapters.filter(a, !a.is_wireless)"
            as = "adapter"
            address = 'registry:HKLM\SYSTEM\A\${adapter.name}-${string(params.share)}#Share'"#;
        let text = GOOD.replace(r"address = 'registry:HKLM\SYSTEM\A#Share'", each);
        let tweak = Tweak::parse("t.toml", &text).unwrap();
        let mut facts = Facts::reference();
        let mut second = facts.adapters[0].clone();
        second.name = "Ethernet 2".into();
        facts.adapters.push(second);
        facts.adapters.push(crate::facts::Adapter {
            name: "Air".into(),
            is_wireless: true,
            ..facts.adapters[0].clone()
        });
        let wanted = tweak.resolve(&Arguments::new(), &facts).unwrap();
        let addresses: Vec<_> = wanted.iter().map(|w| w.address.to_string()).collect();
        let expected = [
            r"registry:HKLM\SYSTEM\A\Ethernet-38#Share",
            r"registry:HKLM\SYSTEM\A\Ethernet 2-38#Share",
        ];
        assert_eq!(addresses, expected);
        facts.adapters[0].name = "x\0y".into();
        let error = tweak.resolve(&Arguments::new(), &facts).unwrap_err();
        assert!(error.to_string().contains("gives the address"), "{error}");

        for (from, to, why) in [
            ("adapter.name", "adapter.nam", "adapter.nam"),
            ("facts.adapters.filter(a, !a.is_wireless)", "facts.form", "a list of things"),
            ("as = \"adapter\"", "as = \"facts\"", "`as` a name"),
            ("${adapter.name}", "${adapter.name", "not a CEL"),
            ("registry:HKLM", "registry:HKXX", "HKXX"),
        ] {
            let found = problems(&text.replace(from, to)).join("; ");
            assert!(found.contains(why), "{to}: {found}");
        }
    }

    #[test]
    fn what_is_done_by_hand_has_steps_and_a_check() {
        let start = GOOD.find("[parameters.share]").unwrap();
        let end = GOOD.find("[[conditions]]").unwrap();
        let manual = r#"
        [manual]
        steps = ["Restart into the firmware.", "Switch the memory profile on."]
        done_when = "facts.memory.actual_mt_s >= facts.memory.rated_mt_s"
        "#;
        let text = [&GOOD[..start], manual, &GOOD[end..]].concat();
        let tweak = Tweak::parse("t.toml", &text).unwrap();
        let mut facts = Facts::reference();
        let manual = tweak.manual.unwrap();
        assert_eq!(manual.is_done(&facts), Some(false));
        facts.memory.actual_mt_s = facts.memory.rated_mt_s;
        assert_eq!(manual.is_done(&facts), Some(true));
        let without = [&GOOD[..start], &GOOD[end..]].concat();
        assert!(problems(&without)[0].contains("not neither"));
        assert!(problems(&text.replace("rated_mt_s", "rated"))[0].contains("facts.memory.rated"));
    }

    #[test]
    fn a_page_of_the_settings_is_an_address_and_nothing_else() {
        let start = GOOD.find("[parameters.share]").unwrap();
        let end = GOOD.find("[[conditions]]").unwrap();
        let with = |page: &str| {
            let manual = format!("[manual]\nsteps = [\"Do it.\"]\npage = '{page}'\n\n");
            [&GOOD[..start], &manual, &GOOD[end..]].concat()
        };
        let tweak = Tweak::parse("t.toml", &with("ms-settings:display-advanced")).unwrap();
        assert_eq!(tweak.manual.unwrap().page.unwrap().as_str(), "ms-settings:display-advanced");
        // What a stranger writes there is handed to Windows: it can be a page, and no program, file or address of the web.
        for stranger in [
            "ms-settings:",
            "ms-settings:display?x=1",
            r"ms-settings:..\\evil",
            "https://example.org",
            r"C:\Windows\System32\cmd.exe",
            "file:///etc/passwd",
            "MS-SETTINGS:display",
            "ms-settings:display /x",
        ] {
            let found = problems(&with(stranger)).join("; ");
            assert!(found.contains("is no page of the settings"), "{stranger}: {found}");
        }
    }

    #[test]
    fn a_parameter_that_names_a_thing_tells_of_which_kind() {
        let catalogue = crate::tweak::Catalogue::built_in().unwrap();
        let kind = |tweak: &str, parameter: &str| {
            let tweak = catalogue.get(&tweak.parse().unwrap()).unwrap();
            tweak.kind_named_by(parameter).map(str::to_owned)
        };
        for (tweak, parameter, named) in [
            ("startup/entries", "entries", Some("startup:")),
            ("graphics/display-mode", "display", Some("display:")),
            ("graphics/display-mode", "mode", None),
            ("services/one-service", "service", Some("service:")),
            ("tasks/one-task", "task", Some("task:")),
            ("apps/any-app", "apps", Some("app:")),
            ("network/name-servers", "adapter", Some("adapter:")),
            ("cpu/event-timer-device", "device", Some("device:")),
            // Of a program's path in a registry key no PC has a list.
            ("graphics/program-gpu", "program", None),
            ("storage/write-cache-flushing", "drive", None),
            ("startup/entries", "nothing", None),
        ] {
            assert_eq!(kind(tweak, parameter).as_deref(), named, "{tweak} {parameter}");
        }
    }

    #[test]
    fn names_and_texts_of_the_owner_are_parameters() {
        let start = GOOD.find("[parameters.share]").unwrap();
        let end = GOOD.find("[[conditions]]").unwrap();
        let middle = r#"
        [parameters.entries]
        meaning = "m"
        type = "names"
        default = []
        example = "user-registry/Launcher"
        [[settings]]
        for_each = "params.entries"
        as = "entry"
        address = "startup:${entry}#enabled"
        value = false
        "#;
        let text = [&GOOD[..start], middle, &GOOD[end..]].concat();
        let tweak = Tweak::parse("t.toml", &text).unwrap();
        let names = ["user-folder/B.lnk".to_owned(), "user-registry/A".to_owned()];
        let arguments = Arguments::from([("entries".into(), Argument::Names(names.into()))]);
        let wanted = tweak.resolve(&arguments, &Facts::reference()).unwrap();
        assert_eq!(wanted.len(), 2);
        assert_eq!(wanted[0].address.to_string(), "startup:user-folder/B.lnk#enabled");
        let settings = tweak.sample_settings().unwrap();
        assert_eq!(settings[0].address.to_string(), "startup:user-registry/Launcher#enabled");
        let slip = text.replace("value = false", "value = 3");
        assert!(problems(&slip).join("; ").contains("true or false"));
        let gone = text.replace("startup:${entry}#enabled", "text:documents/${entry}#ini:x");
        assert!(
            problems(&gone.replace("value = false", "absent = true"))[0].contains("never taken")
        );
    }

    #[test]
    fn slips_of_an_author_are_found_when_the_definition_is_read() {
        let broken = |from: &str, to: &str| problems(&GOOD.replace(from, to)).join("; ");
        assert!(
            broken("formula = \"params.share\"", "formula = \"params.shar\"")
                .contains("params.shar")
        );
        assert!(
            broken("facts.processor.threads > 4", "facts.processor.threads")
                .contains("true or false")
        );
        assert!(broken("value = 2,", "value = \"two\",").contains("a number from 0"));
        assert!(
            broken("default = \"long\"", "default = \"lonh\"").contains("did you mean \"long\"")
        );
        assert!(broken("registry:HKLM", "registry:HKXX").contains("HKXX"));
        assert!(
            broken("type = \"dword\"", "type = \"dword\"\nvalue = 1").contains("one of `value`")
        );
        assert!(broken("risk = \"safe\"", "risk = \"none\"").contains("unknown variant"));
        assert!(broken("title =", "titel =").contains("unknown field `titel`"));
    }
}
