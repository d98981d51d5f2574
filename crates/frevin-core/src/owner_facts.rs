//! Questions to the owner: facts that the PC does not tell, that some tweak or finding needs, and that a
//! person can look up.

use schemars::JsonSchema;
use serde::Serialize;
use serde_json::{Map, Value, json};
use std::collections::BTreeMap;
use std::fmt;

use crate::facts::Facts;
use crate::findings::FindingRule;
use crate::tweak::{Tweak, TweakId};

/// A fact that an owner can look up where the PC does not tell it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, JsonSchema, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum OwnersFact {
    /// Desktop, laptop or handheld.
    Form,
    /// Home, Pro and so on.
    Edition,
    /// Whether the processor has fast and frugal cores.
    MixedCores,
    /// The clock that the processor is sold for.
    BaseClock,
    /// The clock that it holds under load.
    SustainedClock,
    /// The speed that memory is sold for.
    RatedMemorySpeed,
    /// The speed that memory runs at.
    ActualMemorySpeed,
    /// How many modules of memory there are.
    MemoryModules,
    /// What a drive is.
    DriveKind,
    /// Whether a graphics card is one of its own.
    CardIsDiscrete,
    /// The memory of a graphics card.
    CardMemory,
    /// The date of a graphics card's driver.
    CardDriverDate,
    /// Whether a graphics card can schedule its own work.
    CardSchedulesItself,
    /// The scaling of a display.
    DisplayScaling,
    /// Whether a display's rate can follow the frames.
    DisplayVariesRefresh,
    /// Whether the owner prints.
    Printer,
    /// Whether the owner runs virtual machines.
    VirtualMachines,
    /// Whether the owner records or streams play.
    Recording,
    /// Whether the owner searches files from the task bar.
    FileSearch,
    /// Whether the owner touches the display or draws with a pen.
    TouchOrPen,
    /// Whether the owner uses a camera.
    Camera,
    /// Whether the owner uses Bluetooth.
    Bluetooth,
    /// Whether there is an anti-virus other than Windows' own.
    OtherAntivirus,
    /// Whether the owner reaches the PC from another.
    RemoteDesktop,
    /// Whether the owner shares files or printers in the house.
    FileSharing,
    /// Whether the owner scans or faxes.
    Scanner,
    /// Whether the owner signs in by face or finger.
    Biometrics,
    /// Whether the owner plays games from Windows' store.
    StoreGames,
    /// Whether the owner plays with the game bar.
    GameBar,
    /// Whether the owner uses apps that want to know where the PC is.
    Location,
    /// Whether the firmware lets the processor run virtual machines.
    Virtualization,
    /// Whether Windows starts in the firmware's compatibility mode.
    CompatibilityStart,
    /// Whether the processor sees all of the card's memory at once.
    LargeGraphicsWindow,
    /// Memory set aside for graphics in the processor.
    GraphicsCarveOut,
    /// Whether the maker of the PC has power modes of its own.
    VendorPowerModes,
}

/// What an answer to a question can be.
#[derive(Debug, Clone, Copy, PartialEq, Eq, JsonSchema, Serialize)]
#[serde(rename_all = "kebab-case", tag = "kind")]
pub enum AnswerKind {
    /// Yes or no.
    YesOrNo,
    /// One of some words.
    OneOf {
        /// The words.
        words: &'static [&'static str],
    },
    /// A whole number.
    Whole {
        /// What it counts.
        unit: &'static str,
        /// The smallest that can be true.
        smallest: u32,
        /// The largest that can be true.
        largest: u32,
    },
    /// A day, year-month-day.
    Day,
}

impl fmt::Display for AnswerKind {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::YesOrNo => f.write_str("yes or no"),
            Self::OneOf { words } => f.write_str(&words.join(", ")),
            Self::Whole { unit, smallest, largest } => {
                write!(f, "{smallest} to {largest} {unit}")
            }
            Self::Day => f.write_str("a day, 2026-05-20"),
        }
    }
}

impl AnswerKind {
    /// What an answer says; nothing where it is none.
    pub fn read(self, answer: &str) -> Option<Value> {
        let answer = answer.trim().to_lowercase();
        match self {
            Self::YesOrNo => match answer.as_str() {
                "y" | "yes" => Some(json!(true)),
                "n" | "no" => Some(json!(false)),
                _ => None,
            },
            Self::OneOf { words } => {
                let is_it = |word: &&&str| word.to_lowercase() == answer;
                words.iter().find(is_it).map(|word| json!(word))
            }
            Self::Whole { smallest, largest, .. } => {
                let number: u32 = answer.split(' ').next()?.parse().ok()?;
                (smallest..=largest).contains(&number).then(|| json!(number))
            }
            Self::Day => {
                let day: jiff::civil::Date = answer.parse().ok()?;
                Some(json!(day))
            }
        }
    }
}

const MHZ: AnswerKind = AnswerKind::Whole { unit: "MHz", smallest: 400, largest: 12_000 };
const MT_S: AnswerKind = AnswerKind::Whole { unit: "MT/s", smallest: 200, largest: 30_000 };

impl OwnersFact {
    /// Every one.
    pub const ALL: [Self; 35] = [
        Self::Form,
        Self::Edition,
        Self::MixedCores,
        Self::BaseClock,
        Self::SustainedClock,
        Self::RatedMemorySpeed,
        Self::ActualMemorySpeed,
        Self::MemoryModules,
        Self::DriveKind,
        Self::CardIsDiscrete,
        Self::CardMemory,
        Self::CardDriverDate,
        Self::CardSchedulesItself,
        Self::DisplayScaling,
        Self::DisplayVariesRefresh,
        Self::Printer,
        Self::VirtualMachines,
        Self::Recording,
        Self::FileSearch,
        Self::TouchOrPen,
        Self::Camera,
        Self::Bluetooth,
        Self::OtherAntivirus,
        Self::RemoteDesktop,
        Self::FileSharing,
        Self::Scanner,
        Self::Biometrics,
        Self::StoreGames,
        Self::GameBar,
        Self::Location,
        Self::Virtualization,
        Self::CompatibilityStart,
        Self::LargeGraphicsWindow,
        Self::GraphicsCarveOut,
        Self::VendorPowerModes,
    ];

    /// The path of its field, as [`Facts::unknown`] names it, and what an answer can be.
    pub const fn field(self) -> (&'static str, AnswerKind) {
        use AnswerKind::{Day, OneOf, Whole, YesOrNo};
        match self {
            Self::Form => ("form", OneOf { words: &["desktop", "laptop", "handheld"] }),
            Self::Edition => {
                let words = &["Home", "Pro", "Enterprise", "Education"];
                ("windows.edition", OneOf { words })
            }
            Self::MixedCores => ("processor.mixed_cores", YesOrNo),
            Self::BaseClock => ("processor.base_mhz", MHZ),
            Self::SustainedClock => ("processor.sustained_mhz", MHZ),
            Self::RatedMemorySpeed => ("memory.rated_mt_s", MT_S),
            Self::ActualMemorySpeed => ("memory.actual_mt_s", MT_S),
            Self::MemoryModules => {
                ("memory.modules", Whole { unit: "modules", smallest: 1, largest: 64 })
            }
            Self::DriveKind => ("drives.kind", OneOf { words: &["solid-state", "spinning"] }),
            Self::CardIsDiscrete => ("graphics.is_discrete", YesOrNo),
            Self::CardMemory => {
                ("graphics.video_memory_mib", Whole { unit: "MiB", smallest: 16, largest: 1 << 20 })
            }
            Self::CardDriverDate => ("graphics.driver_date", Day),
            Self::CardSchedulesItself => ("graphics.can_schedule_itself", YesOrNo),
            Self::DisplayScaling => {
                ("displays.scaling_percent", Whole { unit: "percent", smallest: 100, largest: 500 })
            }
            Self::DisplayVariesRefresh => ("displays.can_vary_refresh", YesOrNo),
            Self::Printer => ("uses.printer", YesOrNo),
            Self::VirtualMachines => ("uses.virtual_machines", YesOrNo),
            Self::Recording => ("uses.recording", YesOrNo),
            Self::FileSearch => ("uses.file_search", YesOrNo),
            Self::TouchOrPen => ("uses.touch_or_pen", YesOrNo),
            Self::Camera => ("uses.camera", YesOrNo),
            Self::Bluetooth => ("uses.bluetooth", YesOrNo),
            Self::OtherAntivirus => ("uses.other_antivirus", YesOrNo),
            Self::RemoteDesktop => ("uses.remote_desktop", YesOrNo),
            Self::FileSharing => ("uses.file_sharing", YesOrNo),
            Self::Scanner => ("uses.scanner", YesOrNo),
            Self::Biometrics => ("uses.biometrics", YesOrNo),
            Self::StoreGames => ("uses.store_games", YesOrNo),
            Self::GameBar => ("uses.game_bar", YesOrNo),
            Self::Location => ("uses.location", YesOrNo),
            Self::Virtualization => ("firmware.virtualization", YesOrNo),
            Self::CompatibilityStart => ("firmware.compatibility_start", YesOrNo),
            Self::LargeGraphicsWindow => ("firmware.large_graphics_window", YesOrNo),
            Self::GraphicsCarveOut => (
                "firmware.graphics_carve_out_mib",
                Whole { unit: "MiB", smallest: 0, largest: 1 << 17 },
            ),
            Self::VendorPowerModes => ("has_vendor_power_modes", YesOrNo),
        }
    }
}

/// A question to the owner of a PC.
#[derive(Debug, Clone, PartialEq, JsonSchema, Serialize)]
pub struct Question {
    /// What is asked.
    pub fact: OwnersFact,
    /// The path of its field.
    pub path: &'static str,
    /// Which drive, card or display it is asked of, where there may be several.
    pub of: Option<String>,
    /// What an answer can be.
    pub answer: AnswerKind,
    /// Tweaks that cannot be judged without it.
    pub tweaks: Vec<TweakId>,
    /// Findings that cannot be told without it.
    pub findings: Vec<String>,
    /// Why the PC does not tell it.
    pub reason: String,
}

impl Question {
    /// The keys that an answer stands under in the owner's facts: `graphics`, the card, `is_discrete`.
    pub fn keys(&self) -> Vec<&str> {
        match (&self.of, self.path.split_once('.')) {
            (Some(thing), Some((list, field))) => vec![list, thing, field],
            _ => self.path.split('.').collect(),
        }
    }

    /// Enters an answer among what the owner tells.
    pub fn tell(&self, told: &mut Map<String, Value>, answer: Value) {
        let keys = self.keys();
        let Some((last, above)) = keys.split_last() else { return };
        let mut table = told;
        for key in above {
            let below = table.entry(*key).or_insert_with(|| json!({}));
            if !below.is_object() {
                *below = json!({});
            }
            let Value::Object(below) = below else { return };
            table = below;
        }
        table.insert((*last).to_owned(), answer);
    }
}

/// What is to be asked of the owner of a PC: what most tweaks and findings need comes first.
pub fn questions<'a>(
    facts: &Facts,
    tweaks: impl IntoIterator<Item = &'a Tweak>,
    rules: &[FindingRule],
) -> Vec<Question> {
    let mut needed: BTreeMap<String, (Vec<TweakId>, Vec<String>)> = BTreeMap::new();
    for tweak in tweaks {
        // What this Windows has nothing of needs no answer.
        if tweak.builds.misfit(facts.windows.build).is_none() {
            for fact in tweak.facts_needed() {
                needed.entry(fact).or_default().0.push(tweak.id.clone());
            }
        }
    }
    for rule in rules {
        for fact in rule.facts_needed() {
            needed.entry(fact).or_default().1.push(rule.id().to_owned());
        }
    }
    let known = json!(facts);
    let mut questions = Vec::new();
    for fact in OwnersFact::ALL {
        let (path, answer) = fact.field();
        let Some(reason) = facts.unknown.get(path) else { continue };
        let Some((tweaks, findings)) = needed.remove(path) else { continue };
        for of in things_without(&known, path) {
            questions.push(Question {
                fact,
                path,
                of,
                answer,
                tweaks: tweaks.clone(),
                findings: findings.clone(),
                reason: reason.clone(),
            });
        }
    }
    questions.sort_by_key(|one| {
        (std::cmp::Reverse(one.tweaks.len() + one.findings.len()), one.fact, one.of.clone())
    });
    questions
}

/// The things of a list that have nothing in the field of a path; one of no name where it is no list.
fn things_without(known: &Value, path: &str) -> Vec<Option<String>> {
    let listed = path.split_once('.').and_then(|(list, field)| {
        let things = known[list].as_array()?;
        let name = |thing: &Value| {
            let name = [&thing["name"], &thing["letter"]].into_iter().find_map(Value::as_str);
            name.map(|name| Some(name.to_owned()))
        };
        Some(things.iter().filter(|thing| thing[field].is_null()).filter_map(name).collect())
    });
    listed.unwrap_or_else(|| vec![None])
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::facts::tell;
    use crate::findings::rules;
    use crate::tweak::Catalogue;

    fn asked(facts: &Facts) -> Vec<Question> {
        let catalogue = Catalogue::built_in().unwrap();
        questions(facts, catalogue.iter(), &rules().unwrap())
    }

    #[test]
    fn a_fact_is_a_field_and_its_answers_are_what_the_field_can_hold() {
        for fact in OwnersFact::ALL {
            let (path, kind) = fact.field();
            let mut facts = Facts::reference();
            facts.unknown.insert(path.to_owned(), "nobody said".to_owned());
            let answer = kind.read(match kind {
                AnswerKind::YesOrNo => "Yes",
                AnswerKind::OneOf { words } => words[0],
                AnswerKind::Whole { .. } => "500",
                AnswerKind::Day => "2026-01-02",
            });
            let answer = answer.or_else(|| kind.read("2")).unwrap();
            let of = match path.split_once('.') {
                Some(("drives", _)) => Some(facts.drives[0].letter.clone()),
                Some(("graphics", _)) => Some(facts.graphics[0].name.clone()),
                Some(("displays", _)) => Some(facts.displays[0].name.clone()),
                _ => None,
            };
            let question = Question {
                fact,
                path,
                of,
                answer: kind,
                tweaks: Vec::new(),
                findings: Vec::new(),
                reason: String::new(),
            };
            let mut told = Map::new();
            question.tell(&mut told, answer.clone());
            let heard = tell(&facts, &Value::Object(told)).unwrap();
            assert_eq!(heard.unheard, [""; 0], "{path}");
            assert!(heard.facts.unknown.is_empty(), "{path}");
            let now = json!(heard.facts);
            let field = question.keys().into_iter().fold(&now, |value, key| match value {
                Value::Array(things) => &things[0],
                other => &other[key],
            });
            assert_eq!(*field, answer, "{path}");
        }
    }

    #[test]
    fn only_what_something_needs_is_asked_the_most_needed_first() {
        let mut facts = Facts::reference();
        assert_eq!(asked(&facts), []);
        for path in ["uses.printer", "uses.file_sharing", "graphics.is_discrete", "load.processes"]
        {
            facts.unknown.insert(path.to_owned(), "nobody said".to_owned());
        }
        facts.graphics.push(facts.graphics[0].clone());
        facts.graphics[1].name = "Second".to_owned();
        facts.graphics[1].is_discrete = None;
        facts.uses.printer = None;
        let asked = asked(&facts);
        let needs: Vec<usize> = asked.iter().map(|q| q.tweaks.len() + q.findings.len()).collect();
        assert!(needs.is_sorted_by(|a, b| a >= b) && needs.iter().all(|needs| *needs > 0));
        let discrete = asked.iter().find(|one| one.fact == OwnersFact::CardIsDiscrete).unwrap();
        assert_eq!(discrete.keys(), ["graphics", "Second", "is_discrete"]);
        assert!(asked.iter().all(|one| one.path != "load.processes"), "nobody can look it up");
        let printer = asked.iter().find(|one| one.fact == OwnersFact::Printer).unwrap();
        assert!(printer.tweaks.iter().any(|id| id.to_string().contains("print")));
    }

    #[test]
    fn an_answer_that_is_none_is_heard_as_none() {
        let whole = AnswerKind::Whole { unit: "MHz", smallest: 400, largest: 9000 };
        let words = AnswerKind::OneOf { words: &["solid-state", "spinning"] };
        for (kind, bad) in [
            (AnswerKind::YesOrNo, "perhaps"),
            (whole, "12"),
            (whole, "-1"),
            (whole, ""),
            (words, "floppy"),
            (AnswerKind::Day, "2026-02-31"),
        ] {
            assert_eq!(kind.read(bad), None, "{bad}");
        }
        assert_eq!(whole.read(" 3600 MHz"), Some(json!(3600)));
        assert_eq!(words.read("Spinning"), Some(json!("spinning")));
    }
}
