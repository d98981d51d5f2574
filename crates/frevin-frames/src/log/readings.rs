//! Columns of a log beside its frames: latency, how busy what was, graphics memory, and how warm, how fast
//! and how hungry processor and graphics card were.
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::TimeUnit;
use super::columns::{unit_in, words};
use super::lanes::LANES;
use super::number::number;
use crate::metrics::quantile;
use crate::stream::ranks::Counts;

/// What a log tells of a run beside its frames.
#[derive(Debug, Clone, Default, PartialEq, JsonSchema, Serialize, Deserialize)]
#[serde(default)]
pub struct LogReadings {
    /// Latency, where a column holds it.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub latency: Option<LatencyFigures>,
    /// The share of the run's time in which the graphics card was busy, from 0 to 1.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub graphics_busy_share: Option<f64>,
    /// The share of the run's time in which the thread that makes frames was busy, from 0 to 1.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub processor_busy_share: Option<f64>,
    /// The most graphics memory in use, in mebibytes.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub graphics_memory_mib: Option<f64>,
    /// The graphics card's temperature, in degrees Celsius.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub graphics_celsius: Option<Levels>,
    /// The processor's temperature, in degrees Celsius.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub processor_celsius: Option<Levels>,
    /// The graphics card's clock, in MHz.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub graphics_mhz: Option<Levels>,
    /// The processor's clock, in MHz.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub processor_mhz: Option<Levels>,
    /// What the graphics card took, in watts.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub graphics_watts: Option<Levels>,
    /// What the processor took, in watts.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub processor_watts: Option<Levels>,
}

/// A level over the rows of a run that tell it, in the unit of its field.
#[derive(Debug, Clone, Copy, PartialEq, JsonSchema, Serialize, Deserialize)]
pub struct Levels {
    /// The mean of the rows.
    pub average: f64,
    /// The lowest.
    pub lowest: f64,
    /// The highest.
    pub highest: f64,
}

/// Latency over the frames of a run that have one.
#[derive(Debug, Clone, PartialEq, JsonSchema, Serialize, Deserialize)]
pub struct LatencyFigures {
    /// The column, whose name says from what to what it is measured.
    pub column: String,
    /// Frames that have one: a click is not made in each.
    pub frames: u64,
    /// The median, in milliseconds.
    pub median_ms: f64,
    /// What one frame of twenty takes longer than, in milliseconds.
    pub percentile_95_ms: f64,
}

/// What a column beside the frames holds.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum SideKind {
    Latency(TimeUnit),
    GraphicsBusy(TimeUnit),
    /// In percent.
    GraphicsLoad,
    ProcessorBusy(TimeUnit),
    /// In units of so many kibibytes.
    GraphicsMemory {
        kib: u32,
    },
    Level(Part, Quantity),
}

/// What part of a PC a level is told of.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Part {
    Graphics,
    Processor,
}

/// What a level is one of.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Quantity {
    Temperature { is_fahrenheit: bool },
    Clock { is_ghz: bool },
    Power { is_milliwatts: bool },
}

impl Quantity {
    /// Whether it is written in the unit that it is told in.
    fn is_plain(self) -> bool {
        match self {
            Self::Temperature { is_fahrenheit } => !is_fahrenheit,
            Self::Clock { is_ghz } => !is_ghz,
            Self::Power { is_milliwatts } => !is_milliwatts,
        }
    }

    /// In degrees Celsius, MHz or watts.
    fn plain(self, value: f64) -> f64 {
        match self {
            Self::Temperature { is_fahrenheit: true } => (value - 32.0) / 1.8,
            Self::Clock { is_ghz: true } => value * 1000.0,
            Self::Power { is_milliwatts: true } => value / 1000.0,
            Self::Temperature { is_fahrenheit: false }
            | Self::Clock { is_ghz: false }
            | Self::Power { is_milliwatts: false } => value,
        }
    }
}

impl SideKind {
    /// Whether a number above zero stands for itself.
    pub(super) fn is_as_written(self) -> bool {
        match self {
            Self::Latency(unit) | Self::GraphicsBusy(unit) | Self::ProcessorBusy(unit) => {
                unit == TimeUnit::Milliseconds
            }
            Self::GraphicsLoad => true,
            Self::GraphicsMemory { kib } => kib == 1024,
            Self::Level(_, quantity) => quantity.is_plain(),
        }
    }

    fn fills_the_field_of(self, other: Self) -> bool {
        match (self, other) {
            (Self::Level(part, quantity), Self::Level(other_part, other_quantity)) => {
                let kind = std::mem::discriminant(&quantity);
                part == other_part && kind == std::mem::discriminant(&other_quantity)
            }
            _ => std::mem::discriminant(&self) == std::mem::discriminant(&other),
        }
    }
}

/// A column beside the frames.
#[derive(Debug, Clone, PartialEq)]
pub(super) struct SideColumn {
    pub(super) index: usize,
    pub(super) kind: SideKind,
    name: String,
}

impl SideColumn {
    /// What a cell says: milliseconds, percent or mebibytes; nothing of one that is blank, no number or below zero.
    pub(super) fn value(&self, cell: &[u8]) -> Option<f64> {
        let value = number(cell.trim_ascii()).filter(|value| value.is_finite() && *value >= 0.0)?;
        self.of_number(value)
    }

    /// What a number of it says, which is finite and not below zero.
    #[inline(always)]
    pub(super) fn of_number(&self, value: f64) -> Option<f64> {
        match self.kind {
            // Where no click was made, some write 0.
            SideKind::Latency(unit) => Some(unit.to_ms(value)).filter(|ms| *ms > 0.0),
            SideKind::GraphicsBusy(unit) | SideKind::ProcessorBusy(unit) => Some(unit.to_ms(value)),
            SideKind::GraphicsLoad => Some(value),
            SideKind::GraphicsMemory { kib } => Some(value * f64::from(kib) / 1024.0),
            // A sensor that is not there is written as 0.
            SideKind::Level(_, quantity) => {
                (value > 0.0).then(|| quantity.plain(value)).filter(|value| *value > 0.0)
            }
        }
    }

    pub(super) fn holds_latency(&self) -> bool {
        matches!(self.kind, SideKind::Latency(_))
    }
}

/// The columns beside the frames that say by their names what they hold, one of each kind. A time without a
/// unit is in the unit of the frames.
pub(super) fn side_columns(names: &[String], frames: usize, unit: TimeUnit) -> Vec<SideColumn> {
    let mut found: Vec<SideColumn> = Vec::new();
    for (index, name) in names.iter().enumerate().filter(|(index, _)| *index != frames) {
        let Some(kind) = kind_of(name, unit) else { continue };
        let column = SideColumn { index, kind, name: name.clone() };
        let is_same = |other: &&mut SideColumn| other.kind.fills_the_field_of(kind);
        match found.iter_mut().find(is_same) {
            Some(other) if weight(&column) > weight(other) => *other = column,
            Some(_) => {}
            None => found.push(column),
        }
    }
    found
}

/// How much speaks for a column, of several of one kind: latency from a person's hand on, else up to the
/// display; and a name with fewer words, as the whole has one beside its parts.
fn weight(column: &SideColumn) -> (u8, std::cmp::Reverse<usize>) {
    let name = column.name.to_lowercase();
    let has = |any: &[&str]| any.iter().any(|part| name.contains(part));
    let reach = match column.holds_latency() {
        true if has(&["click", "input", "key", "mouse", "button"]) => 2,
        true if has(&["display", "photon", "screen", "total", "system", "end"]) => 1,
        _ => 0,
    };
    (reach, std::cmp::Reverse(name.len()))
}

fn kind_of(name: &str, unit_of_frames: TimeUnit) -> Option<SideKind> {
    let lower = name.to_lowercase();
    let has = |any: &[&str]| any.iter().any(|part| lower.contains(part));
    let words = words(name);
    let unit = unit_in(&words).unwrap_or(unit_of_frames);
    if has(&["average", "avg", "mean", "min", "max"]) {
        return None;
    }
    let is_latency = has(&["latency"])
        || words.iter().any(|word| word == "lag")
        || (has(&["input", "click"]) && has(&["delay"]));
    if is_latency {
        let is_elsewhere = has(&["network", "ping", "server", "audio", "disk", "dpc", "memory"]);
        return (!is_elsewhere).then_some(SideKind::Latency(unit));
    }
    let is_graphics = has(&["gpu", "graphics"]);
    let is_processor = has(&["cpu", "processor"]);
    if let Some(level) = level_of(&lower, &words, is_graphics, is_processor) {
        return Some(level);
    }
    let is_memory = has(&["vram"]) || (is_graphics && has(&["mem"]));
    if is_memory {
        let is_other =
            has(&["total", "clock", "free", "load", "%", "percent", "temp", "controller", "mhz"]);
        let kib = match () {
            () if has(&["gib", "gb"]) => 1 << 20,
            () if has(&["mib", "mb"]) => 1 << 10,
            () => return None,
        };
        return (!is_other).then_some(SideKind::GraphicsMemory { kib });
    }
    if has(&["busy"]) {
        return match (is_graphics, is_processor) {
            (true, false) => Some(SideKind::GraphicsBusy(unit)),
            (false, true) => Some(SideKind::ProcessorBusy(unit)),
            _ => None,
        };
    }
    let is_load = has(&["load", "usage", "utilization", "utilisation", "util"]);
    (is_graphics && is_load).then_some(SideKind::GraphicsLoad)
}

/// The level that a heading names, where it is one of the whole card or the whole processor: not of memory, of one
/// core or of a fan, and no limit.
fn level_of(
    name: &str,
    words: &[String],
    is_graphics: bool,
    is_processor: bool,
) -> Option<SideKind> {
    let has = |any: &[&str]| any.iter().any(|part| name.contains(part));
    let is_word = |any: &[&str]| words.iter().any(|word| any.contains(&word.as_str()));
    let part = match (is_graphics, is_processor) {
        (true, false) => Part::Graphics,
        (false, true) => Part::Processor,
        _ => return None,
    };
    let is_elsewhere = has(&[
        "mem", "vram", "hot", "junction", "fan", "limit", "max", "target", "throttl", "%",
        "percent",
    ]);
    let is_one_core = part == Part::Processor
        && name.split("core").skip(1).any(|rest| {
            let first = rest.trim_start_matches([' ', '#', '_', '-']).chars().next();
            first.is_some_and(|character| character.is_ascii_digit())
        });
    if is_elsewhere || is_one_core {
        return None;
    }
    let quantity = if has(&["temp"]) {
        Quantity::Temperature { is_fahrenheit: is_word(&["f", "fahrenheit"]) }
    } else if has(&["clock", "freq"]) || is_word(&["mhz", "ghz"]) {
        Quantity::Clock { is_ghz: is_word(&["ghz"]) }
    } else if has(&["power", "watt", "mw"]) || is_word(&["w"]) {
        Quantity::Power { is_milliwatts: has(&["mw", "milliwatt"]) }
    } else {
        return None;
    };
    Some(SideKind::Level(part, quantity))
}

/// Values of one column beside the frames.
#[derive(Debug, Clone, Default)]
pub(super) struct SideValues {
    pub(super) sums: SideSums,
    /// The values themselves, of latency.
    pub(super) values: Vec<f64>,
}

/// What values come to, in lanes: which value is in which of them does not matter.
#[derive(Debug, Clone, Copy)]
pub(super) struct SideSums {
    count: u64,
    sum: [f64; LANES],
    greatest: [f64; LANES],
    /// Infinite of no value.
    least: [f64; LANES],
}

impl Default for SideSums {
    fn default() -> Self {
        let (sum, greatest, least) = ([0.0; LANES], [0.0; LANES], [f64::INFINITY; LANES]);
        Self { count: 0, sum, greatest, least }
    }
}

impl SideSums {
    #[inline(always)]
    pub(super) fn take(&mut self, value: f64) {
        self.count += 1;
        self.sum[0] += value;
        self.greatest[0] = self.greatest[0].max(value);
        self.least[0] = self.least[0].min(value);
    }

    /// Takes four values where all of them are above zero; whether it did.
    #[inline(always)]
    pub(super) fn take_four(&mut self, values: [f64; LANES]) -> bool {
        if values.iter().any(|value| *value <= 0.0) {
            return false;
        }
        for (lane, value) in values.into_iter().enumerate() {
            let (greatest, least) = (self.greatest[lane], self.least[lane]);
            self.sum[lane] += value;
            self.greatest[lane] = if value > greatest { value } else { greatest };
            self.least[lane] = if value < least { value } else { least };
        }
        self.count += LANES as u64;
        true
    }
}

impl SideValues {
    pub(super) fn take(&mut self, column: &SideColumn, value: f64) {
        self.sums.take(value);
        if column.holds_latency() {
            self.values.push(value);
        }
    }
}

#[cfg(test)]
impl SideValues {
    /// Whether others are the same; their sum may have been added up in another order.
    pub(super) fn are_like(&self, others: &Self) -> bool {
        let told = |values: &Self| {
            let mut tally = SideTally::default();
            tally.append(values.clone());
            (tally.sum, (tally.count, tally.greatest, tally.least, tally.few))
        };
        let ((sum, rest), (other_sum, other_rest)) = (told(self), told(others));
        rest == other_rest && (sum - other_sum).abs() <= 1e-12 * sum
    }
}

/// Values of one column over a whole log, however long it is.
pub(super) struct SideTally {
    sum: f64,
    count: u64,
    greatest: f64,
    /// Infinite of no value.
    least: f64,
    few: Vec<f64>,
    /// Within a thousandth, where they are many.
    counts: Option<Counts>,
}

/// More values than these are counted and not held.
const HELD: usize = 1 << 22;

impl Default for SideTally {
    fn default() -> Self {
        let (few, counts) = (Vec::new(), None);
        Self { sum: 0.0, count: 0, greatest: 0.0, least: f64::INFINITY, few, counts }
    }
}

impl SideTally {
    pub(super) fn append(&mut self, values: SideValues) {
        let SideSums { count, sum, greatest, least } = values.sums;
        self.sum += sum.iter().sum::<f64>();
        self.count += count;
        self.greatest = greatest.into_iter().fold(self.greatest, f64::max);
        self.least = least.into_iter().fold(self.least, f64::min);
        self.few.extend(values.values);
        if self.few.len() > HELD || self.counts.is_some() {
            self.counts.get_or_insert_default().see(&std::mem::take(&mut self.few));
        }
    }

    fn quantile(&mut self, p: f64) -> f64 {
        let Some(counts) = &self.counts else {
            self.few.sort_unstable_by(f64::total_cmp);
            return quantile(&self.few, p);
        };
        let mut left = (self.count as f64 * p) as u64;
        let mut last = f64::NAN;
        for (value, count) in counts.about() {
            last = value;
            if left < count {
                break;
            }
            left -= count;
        }
        last
    }

    fn mean(&self) -> f64 {
        self.sum / self.count as f64
    }

    fn levels(&self) -> Levels {
        Levels { average: self.mean(), lowest: self.least, highest: self.greatest }
    }
}

/// What the columns of a log come to, beside frames of this mean length in milliseconds.
pub(super) fn readings(
    columns: &[SideColumn],
    tallies: Vec<SideTally>,
    mean_frame_ms: f64,
) -> LogReadings {
    let mut read = LogReadings::default();
    for (column, mut tally) in columns.iter().zip(tallies).filter(|(_, tally)| tally.count > 0) {
        let share_of_time = (tally.mean() / mean_frame_ms).min(1.0);
        match column.kind {
            SideKind::Latency(_) => {
                read.latency = Some(LatencyFigures {
                    column: column.name.clone(),
                    frames: tally.count,
                    median_ms: tally.quantile(0.5),
                    percentile_95_ms: tally.quantile(0.95),
                });
            }
            // A time that was measured says more than a load that was looked at now and then.
            SideKind::GraphicsBusy(_) => read.graphics_busy_share = Some(share_of_time),
            SideKind::GraphicsLoad => {
                let share = (tally.mean() / 100.0).min(1.0);
                read.graphics_busy_share.get_or_insert(share);
            }
            SideKind::ProcessorBusy(_) => read.processor_busy_share = Some(share_of_time),
            SideKind::GraphicsMemory { .. } => read.graphics_memory_mib = Some(tally.greatest),
            SideKind::Level(part, quantity) => {
                let place = match (part, quantity) {
                    (Part::Graphics, Quantity::Temperature { .. }) => &mut read.graphics_celsius,
                    (Part::Graphics, Quantity::Clock { .. }) => &mut read.graphics_mhz,
                    (Part::Graphics, Quantity::Power { .. }) => &mut read.graphics_watts,
                    (Part::Processor, Quantity::Temperature { .. }) => &mut read.processor_celsius,
                    (Part::Processor, Quantity::Clock { .. }) => &mut read.processor_mhz,
                    (Part::Processor, Quantity::Power { .. }) => &mut read.processor_watts,
                };
                *place = Some(tally.levels());
            }
        }
    }
    read
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{LogOptions, read_log_bytes};

    fn read(text: &str) -> LogReadings {
        read_log_bytes(text.as_bytes(), &LogOptions::default()).unwrap().1.readings
    }

    #[test]
    fn columns_beside_the_frames_are_read_by_their_names() {
        let rows: String = (1..=100)
            .map(|row| {
                format!(
                    "10,{},5,9.8,{},{}\n",
                    if row % 2 == 0 { "NA" } else { "30" },
                    row,
                    4000 + row
                )
            })
            .collect();
        let text = format!(
            "Frame time (ms),Click to photon latency (ms),CPU busy (ms),GPU busy (ms),Display latency (ms),\
             GPU memory used (MB)\n{rows}"
        );
        let read = read(&text);
        let latency = read.latency.unwrap();
        assert_eq!(latency.column, "Click to photon latency (ms)");
        assert_eq!((latency.frames, latency.median_ms, latency.percentile_95_ms), (50, 30.0, 30.0));
        assert!((read.graphics_busy_share.unwrap() - 0.98).abs() < 1e-9);
        assert!((read.processor_busy_share.unwrap() - 0.5).abs() < 1e-9);
        assert_eq!(read.graphics_memory_mib, Some(4100.0));
    }

    #[test]
    fn every_form_of_a_log_tells_them() {
        let forms = [
            "Frame time (ms);GPU busy (ms);Latency (ms)\n10;9,5;20,5\n10;9,5;21,5\n10;9,5;20,5\n",
            "\"Frame time (ms)\",\"GPU busy (ms)\",\"Latency (ms)\"\n\"10\",\"9.5\",\"20.5\"\n\"10\",\"9.5\",\"21.5\"\n\"10\",\"9.5\",\"20.5\"\n",
            "frame_ms gpu_busy_ms latency_ms\n10 9.5 20.5\n10 9.5 21.5\n10 9.5 20.5\n",
            r#"{"frames": [{"frameMs": 10, "gpuBusyMs": 9.5, "latencyMs": 20.5},
                {"frameMs": 10, "gpuBusyMs": 9.5, "latencyMs": 21.5},
                {"frameMs": 10, "gpuBusyMs": 9.5, "latencyMs": 20.5}]}"#,
        ];
        for form in forms {
            let read = read(form);
            assert!((read.graphics_busy_share.unwrap() - 0.95).abs() < 1e-9, "{form}: {read:?}");
            assert_eq!(read.latency.unwrap().median_ms, 20.5, "{form}");
        }
    }

    #[test]
    fn rows_of_another_program_tell_nothing() {
        let text = "program,frame_ms,latency_ms\na,10,20\nb,10,90\na,10,20\nb,10,90\n";
        let only =
            LogOptions { only: vec![("program".into(), "a".into())], ..LogOptions::default() };
        let reading = read_log_bytes(text.as_bytes(), &only).unwrap().1;
        let latency = reading.readings.latency.unwrap();
        assert_eq!((latency.frames, latency.percentile_95_ms), (2, 20.0));
    }

    #[test]
    fn a_load_in_percent_counts_where_no_busy_time_is_told() {
        let busy = read("frame_ms,GPU load (%)\n10,50\n10,60\n10,70\n");
        assert!((busy.graphics_busy_share.unwrap() - 0.6).abs() < 1e-9);
        let both = read("frame_ms,GPU load (%),GPU busy (ms)\n10,50,9\n10,60,9\n10,70,9\n");
        assert!((both.graphics_busy_share.unwrap() - 0.9).abs() < 1e-9, "{both:?}");
        let memory = read("frame_ms,GPU memory used (GiB)\n10,5\n10,6\n10,5.5\n");
        assert_eq!(memory.graphics_memory_mib, Some(6144.0));
    }

    #[test]
    fn how_warm_fast_and_hungry_a_pc_was_is_told_in_plain_units() {
        let read = read(
            "frame_ms,GPU temperature (C),CPU temp (F),GPU clock (MHz),CPU clock (GHz),GPU power (W),CPU package power (mW)\n\
             10,60,122,1800,4.5,200,65000\n10,64,,1900,4.1,220,0\n10,62,131,2000,4.3,210,75000\n",
        );
        let levels = |lowest, average, highest| Some(Levels { average, lowest, highest });
        let near = |read: Option<Levels>, expected: Option<Levels>| {
            let (read, expected) = (read.unwrap(), expected.unwrap());
            (read.average - expected.average).abs() < 1e-9
                && (read.lowest - expected.lowest).abs() < 1e-9
                && (read.highest - expected.highest).abs() < 1e-9
        };
        assert!(near(read.graphics_celsius, levels(60.0, 62.0, 64.0)), "{read:?}");
        assert!(near(read.processor_celsius, levels(50.0, 52.5, 55.0)), "{read:?}");
        assert!(near(read.graphics_mhz, levels(1800.0, 1900.0, 2000.0)), "{read:?}");
        assert!(near(read.processor_mhz, levels(4100.0, 4300.0, 4500.0)), "{read:?}");
        assert!(near(read.graphics_watts, levels(200.0, 210.0, 220.0)), "{read:?}");
        assert!(near(read.processor_watts, levels(65.0, 70.0, 75.0)), "{read:?}");
    }

    #[test]
    fn quantiles_of_latency_are_those_of_frames() {
        let rows: String = (1..=101)
            .map(|row| format!("{{\"frame_us\": 8000, \"inputLagUs\": {row}000}}\n"))
            .collect();
        let latency = read(&rows).latency.unwrap();
        assert_eq!((latency.median_ms, latency.percentile_95_ms), (51.0, 96.0));
    }

    #[test]
    fn a_log_of_many_frames_counts_them() {
        let mut tally = SideTally::default();
        let column = SideColumn {
            index: 0,
            kind: SideKind::Latency(TimeUnit::Milliseconds),
            name: String::new(),
        };
        for _ in 0..5 {
            let mut values = SideValues::default();
            (0..1 << 20).for_each(|i| values.take(&column, 10.0 + f64::from(i % 100) / 10.0));
            tally.append(values);
        }
        assert!((tally.quantile(0.5) / 14.95 - 1.0).abs() < 0.005);
        assert!((tally.quantile(0.95) / 19.45 - 1.0).abs() < 0.005);
    }

    #[test]
    fn what_is_no_latency_of_frames_and_no_load_is_left() {
        let names =
            |names: &[&str]| -> Vec<String> { names.iter().map(|n| (*n).to_owned()).collect() };
        let found = |given: &[&str]| side_columns(&names(given), 0, TimeUnit::Milliseconds);
        assert!(
            found(&[
                "ft",
                "Network latency (ms)",
                "GPU memory clock",
                "GPU hot spot",
                "Max GPU load"
            ])
            .is_empty()
        );
        assert!(
            found(&["ft", "CPU core1 temp", "GPU fan speed", "GPU power limit (W)"]).is_empty()
        );
        assert_eq!(found(&["ft", "GPU load (%)"])[0].kind, SideKind::GraphicsLoad);
        let kinds = found(&["ft", "GPU usage", "GPU1 usage", "Latency us"]);
        assert_eq!(kinds[0].name, "GPU usage");
        assert_eq!(kinds[1].kind, SideKind::Latency(TimeUnit::Microseconds));
    }
}
