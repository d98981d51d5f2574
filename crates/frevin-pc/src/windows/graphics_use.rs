//! Which programs use which graphics card, and for what: Windows' own counters of the engines of graphics cards.
//!
//! Their instances are named `pid_4321_luid_0x00000000_0x0000C4F9_phys_0_eng_3_engtype_VideoEncode`: the program,
//! the card by its locally unique identifier, and the kind of engine (performance counter set `GPU Engine`, which
//! Windows has since version 1709 of Windows 10).

use super::os_error::OsError;
use super::starts::Process;

/// A use of an engine below this share of its time, in percent, is nobody's wish: a desktop draws something now and then.
const IN_USE_PERCENT: f64 = 1.0;

/// A graphics card of this start of Windows: its locally unique identifier, the high part first.
pub type CardId = (u32, u32);

/// A graphics card and its name.
pub type NamedCard = (CardId, String);

/// What Windows offers about the use of graphics cards.
pub trait GraphicsUseApi {
    /// The engines that are in use, by the names of their counters, and how much in percent.
    fn engines(&self) -> Result<Vec<(String, f64)>, OsError>;
    /// The graphics cards.
    fn cards(&self) -> Result<Vec<NamedCard>, OsError>;
}

/// An engine of a graphics card in use by a program.
#[derive(Debug, Clone, PartialEq)]
pub(super) struct EngineUse {
    pub(super) process: u32,
    pub(super) card: CardId,
    pub(super) kind: String,
    pub(super) percent: f64,
}

impl EngineUse {
    /// What a counter's name says; nothing where it is of another form.
    fn of(name: &str, percent: f64) -> Option<Self> {
        let rest = name.strip_prefix("pid_")?;
        let (process, rest) = rest.split_once("_luid_0x")?;
        let (high, rest) = rest.split_once("_0x")?;
        let (low, rest) = rest.split_once("_phys_")?;
        let (_, kind) = rest.split_once("_engtype_")?;
        let hexadecimal = |text: &str| u32::from_str_radix(text, 16).ok();
        let card = (hexadecimal(high)?, hexadecimal(low)?);
        Some(Self { process: process.parse().ok()?, card, kind: kind.to_owned(), percent })
    }
}

/// The engines that programs use.
pub(super) fn uses(api: &dyn GraphicsUseApi) -> Result<Vec<EngineUse>, OsError> {
    let engines = api.engines()?.into_iter();
    let uses = engines.filter_map(|(name, percent)| EngineUse::of(&name, percent));
    Ok(uses.filter(|engine| engine.percent >= IN_USE_PERCENT).collect())
}

/// The programs that encode video, by the names of their files, each once: recorders, and whoever sends pictures over
/// a network.
pub(super) fn encoders(uses: &[EngineUse], processes: &[Process]) -> Vec<String> {
    // Some drivers call it by another word, and number their engines.
    let encodes =
        |engine: &&EngineUse| engine.kind.to_lowercase().replace(' ', "").contains("encode");
    let mut found: Vec<String> = uses
        .iter()
        .filter(encodes)
        .filter_map(|engine| processes.iter().find(|process| process.id == engine.process))
        .map(|process| process.file.clone())
        .collect();
    found.sort();
    found.dedup();
    found
}

/// The card on which a program draws most, by its name.
pub(super) fn card_of(uses: &[EngineUse], process: u32, cards: &[NamedCard]) -> Option<String> {
    let draws = |engine: &&EngineUse| engine.process == process && engine.kind.starts_with("3D");
    let most = uses.iter().filter(draws).max_by(|a, b| a.percent.total_cmp(&b.percent))?;
    cards.iter().find(|(card, _)| *card == most.card).map(|(_, name)| name.clone())
}

#[cfg(test)]
mod tests {
    use super::*;

    struct Counters(Vec<(&'static str, f64)>);

    impl GraphicsUseApi for Counters {
        fn engines(&self) -> Result<Vec<(String, f64)>, OsError> {
            Ok(self.0.iter().map(|(name, percent)| ((*name).to_owned(), *percent)).collect())
        }

        fn cards(&self) -> Result<Vec<NamedCard>, OsError> {
            Ok(vec![((0, 0xC4F9), "Fast".to_owned()), ((0, 0xD001), "Frugal".to_owned())])
        }
    }

    #[test]
    fn counters_tell_who_encodes_and_which_card_draws() {
        let api = Counters(vec![
            ("pid_10_luid_0x00000000_0x0000C4F9_phys_0_eng_0_engtype_3D", 88.5),
            ("pid_10_luid_0x00000000_0x0000D001_phys_0_eng_0_engtype_3D", 4.0),
            ("pid_10_luid_0x00000000_0x0000C4F9_phys_0_eng_4_engtype_VideoEncode", 0.0),
            ("pid_20_luid_0x00000000_0x0000C4F9_phys_0_eng_5_engtype_VideoEncode", 17.0),
            ("pid_20_luid_0x00000000_0x0000C4F9_phys_0_eng_6_engtype_Video Encode 1", 3.0),
            ("pid_30_luid_0x00000000_0x0000D001_phys_0_eng_2_engtype_Copy", 60.0),
            ("_Total", 100.0),
            ("pid_x_luid_0x0_0x0_phys_0_eng_0_engtype_3D", 9.0),
        ]);
        let uses = uses(&api).unwrap();
        assert_eq!(uses.len(), 5);
        let process = |id, file: &str| Process { id, file: file.to_owned(), created: None };
        let processes = [process(10, "game.exe"), process(20, "grab.exe"), process(30, "x.exe")];
        assert_eq!(encoders(&uses, &processes), ["grab.exe"]);
        let cards = api.cards().unwrap();
        assert_eq!(card_of(&uses, 10, &cards).as_deref(), Some("Fast"));
        assert_eq!(card_of(&uses, 30, &cards), None, "it copies, and draws nothing");
    }
}
