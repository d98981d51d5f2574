//! Which column of a log holds the frame times, and in which unit: by general words in its name.

use super::number::{Clock, clock, exact, number};
use super::{ColumnKind, LogError, LogOptions, TimeUnit};

/// A column that was chosen, and why.
#[derive(Debug, Clone, PartialEq)]
pub(super) struct Chosen {
    pub(super) index: usize,
    pub(super) holds: ColumnKind,
    pub(super) unit: TimeUnit,
    pub(super) writing: Writing,
    /// What was taken for what, in sentences.
    pub(super) because: Vec<String>,
}

/// How the cells of a column are written.
#[derive(Debug, Clone, Copy, PartialEq)]
pub(super) enum Writing {
    /// Numbers.
    Plain,
    /// Numbers of so many digits that they are told from the first of them, of which this is the whole.
    Long { first: i64 },
    /// Times with colons, told in nanoseconds from the first of them.
    Clock { first: Clock },
}

/// The first cells of a column that hold something.
pub(super) type Sample = Vec<Vec<u8>>;

/// From so many digits on, the last ones of a floating point number are worth more than a frame.
const LONG_DIGITS: usize = 15;

impl Chosen {
    /// Whether its cells are numbers like any other.
    pub(super) fn is_plain(&self) -> bool {
        self.writing == Writing::Plain
    }
}

impl Writing {
    fn of(sample: &Sample, holds: ColumnKind) -> Self {
        let is_long =
            |cell: &Vec<u8>| cell.iter().filter(|b| b.is_ascii_digit()).count() > LONG_DIGITS;
        match sample.iter().find_map(|cell| clock(cell)) {
            Some(first) => return Self::Clock { first },
            None if holds == ColumnKind::FrameTimes || !sample.iter().any(is_long) => {
                return Self::Plain;
            }
            None => {}
        }
        let first = sample.iter().find_map(|cell| exact(cell));
        first.map_or(Self::Plain, |(first, _)| Self::Long { first })
    }

    /// What a cell says, in the column's unit.
    pub(super) fn value(self, cell: &[u8]) -> Option<f64> {
        match self {
            Self::Plain => number(cell),
            Self::Long { first } => {
                let (whole, below) = exact(cell)?;
                Some(whole.checked_sub(first)? as f64 + below)
            }
            Self::Clock { first } => Some(clock(cell)?.ns.checked_sub(first.ns)? as f64),
        }
    }

    /// Whether a time that is earlier than the one before it may be of the next day.
    pub(super) fn wraps_at_midnight(self) -> bool {
        matches!(self, Self::Clock { first } if !first.is_dated)
    }
}

/// The words in a column's name, in lower case: `FrameTime (ms)` is frame, time, ms.
pub(super) fn words(name: &str) -> Vec<String> {
    let mut words: Vec<String> = Vec::new();
    let mut previous = ' ';
    for character in name.chars() {
        let begins = character.is_uppercase() && !previous.is_uppercase();
        if character.is_alphabetic() {
            match words.last_mut() {
                Some(word) if previous.is_alphabetic() && !begins => word.push(character),
                _ => words.push(character.to_string()),
            }
        }
        previous = character;
    }
    words.iter().map(|word| word.to_lowercase()).collect()
}

pub(super) fn unit_in(words: &[String]) -> Option<TimeUnit> {
    words.iter().find_map(|word| match word.as_str() {
        "ms" | "msec" | "millisecond" | "milliseconds" => Some(TimeUnit::Milliseconds),
        "us" | "µs" | "μs" | "usec" | "microsecond" | "microseconds" => {
            Some(TimeUnit::Microseconds)
        }
        "ns" | "nsec" | "nanosecond" | "nanoseconds" => Some(TimeUnit::Nanoseconds),
        "s" | "sec" | "second" | "seconds" => Some(TimeUnit::Seconds),
        _ => None,
    })
}

/// Whether a name has no words but those that make a column one of frame times or of times.
fn is_bare(name: &str) -> bool {
    const WORDS: [&str; 16] = [
        "frame",
        "frames",
        "frametime",
        "frametimes",
        "time",
        "times",
        "duration",
        "length",
        "delta",
        "interval",
        "timestamp",
        "timestamps",
        "elapsed",
        "clock",
        "in",
        "of",
    ];
    let words = words(name);
    words
        .iter()
        .all(|word| WORDS.contains(&word.as_str()) || unit_in(std::slice::from_ref(word)).is_some())
}

/// Whether a column of this name holds frames a second, which are no frame times.
fn is_rate(name: &str) -> bool {
    const RATES: [&str; 6] = ["fps", "rate", "framerate", "framerates", "per", "hz"];
    words(name).iter().any(|word| RATES.contains(&word.as_str()))
}

/// Whether a column of this name holds frame times, if its name says so.
pub(super) fn speaks_of_frame_times(name: &str) -> bool {
    role(name) == Some(ColumnKind::FrameTimes)
}

/// Whether a column of this name, which begins so, says of which program or on which display a frame
/// was shown. What is measured has many values, and such that are no whole numbers.
pub(super) fn tells_frames_apart(name: &str, sample: &Sample) -> bool {
    const MOST_NAMES: usize = 16;
    let is_part = |cell: &Vec<u8>| number(cell).is_some_and(|number| number.fract() != 0.0);
    let different: std::collections::BTreeSet<&Vec<u8>> = sample.iter().collect();
    if different.len() > MOST_NAMES || sample.iter().any(is_part) {
        return false;
    }
    let words = words(name);
    let has = |any: &[&str]| words.iter().any(|word| any.contains(&word.as_str()));
    let is_measured = has(&[
        "time", "ms", "us", "ns", "s", "latency", "rate", "hz", "fps", "width", "height", "load",
        "usage", "memory", "mode", "percent", "count",
    ]);
    let names_one = [
        "process",
        "program",
        "programme",
        "application",
        "executable",
        "display",
        "monitor",
        "swapchain",
        "chain",
    ];
    !is_measured && has(&names_one)
}

/// Whether cells below headings name units: some of time, the others a word each.
pub(super) fn are_units(cells: &[String]) -> bool {
    let of_time = cells.iter().any(|cell| unit_in(&words(cell)).is_some());
    let is_word = |cell: &String| words(cell).len() <= 1 && cell.len() <= 8;
    of_time && cells.iter().all(is_word)
}

/// What a column of this name holds, if its name says so.
fn role(name: &str) -> Option<ColumnKind> {
    let words = words(name);
    let has = |any: &[&str]| words.iter().any(|word| any.contains(&word.as_str()));
    if is_rate(name) || has(&["average", "avg", "mean", "min", "max"]) {
        return None;
    }
    let is_duration = has(&[
        "time", "times", "duration", "length", "interval", "delta", "ms", "us", "ns", "took",
    ]);
    if has(&["frametime", "frametimes"]) || (has(&["frame", "frames"]) && is_duration) {
        return Some(ColumnKind::FrameTimes);
    }
    has(&["timestamp", "timestamps", "elapsed", "time", "clock"]).then_some(ColumnKind::TimeStamps)
}

/// Chooses the column to read, from how each of them begins.
pub(super) fn choose(
    names: &[String],
    samples: &[Sample],
    options: &LogOptions,
) -> Result<Chosen, LogError> {
    let mut because = Vec::new();
    let numbers: Vec<Vec<f64>> = samples
        .iter()
        .map(|sample| {
            let writing = Writing::of(sample, ColumnKind::TimeStamps);
            sample.iter().filter_map(|cell| writing.value(cell)).collect()
        })
        .collect();
    if numbers.iter().all(Vec::is_empty) {
        return Err(if options.column.is_some() {
            LogError::NoFrames
        } else {
            LogError::NoNumbers
        });
    }
    let (index, holds) = match &options.column {
        Some(column) => {
            let index = named(names, column)?;
            let by_name = names.get(index).and_then(|name| role(name));
            (index, options.holds.or(by_name).unwrap_or(ColumnKind::FrameTimes))
        }
        None => found(names, &numbers, options.holds, &mut because)?,
    };
    let name = shown(names, index);
    let sample = samples.get(index).ok_or_else(|| no_such(names, &(index + 1).to_string()))?;
    let writing = Writing::of(sample, holds);
    if holds == ColumnKind::TimeStamps && options.holds.is_none() && are_ticks(&numbers[index]) {
        return Err(LogError::EvenTicks { column: name });
    }
    if let Writing::Clock { .. } = writing {
        because.push(format!("{name} is written as a clock shows it"));
        // A clock that is read as a duration would tell nothing; it can only be when frames were shown.
        let (holds, unit) = (ColumnKind::TimeStamps, TimeUnit::Nanoseconds);
        return Ok(Chosen { index, holds, unit, writing, because });
    }
    let unit = match (options.unit, names.get(index).and_then(|name| unit_in(&words(name)))) {
        (Some(unit), _) => unit,
        (None, Some(unit)) => {
            because.push(format!("{name} names its unit: {unit}"));
            unit
        }
        (None, None) => {
            let names_nothing = names.get(index).is_none_or(|name| role(name).is_none());
            if names_nothing && may_be_rates(&numbers[index]) {
                return Err(LogError::MayBeRates { column: name });
            }
            let unit = unit_by_size(&numbers[index], holds)
                .ok_or_else(|| LogError::UnknownUnit { column: name.clone() })?;
            because.push(format!("{name} names no unit; by their size its numbers are in {unit}"));
            unit
        }
    };
    Ok(Chosen { index, holds, unit, writing, because })
}

fn shown(names: &[String], index: usize) -> String {
    names.get(index).map_or_else(|| format!("column {}", index + 1), |name| format!("`{name}`"))
}

fn named(names: &[String], column: &str) -> Result<usize, LogError> {
    let mut places = names.iter().enumerate().filter(|(_, name)| *name == column);
    match (places.next(), places.next()) {
        (Some((index, _)), None) => Ok(index),
        (Some(_), Some(_)) => Err(LogError::ColumnTwice { column: column.to_owned() }),
        // Where there are no names, columns are counted from 1.
        (None, _) => match column.parse::<usize>() {
            Ok(number) if names.is_empty() && number > 0 => Ok(number - 1),
            _ => Err(no_such(names, column)),
        },
    }
}

fn no_such(names: &[String], column: &str) -> LogError {
    LogError::NoSuchColumn { column: column.to_owned(), found: list(names) }
}

pub(super) fn list(names: &[String]) -> String {
    const SHOWN_COLUMNS: usize = 20;
    let mut found: Vec<_> = names.iter().map(|name| format!("`{name}`")).collect();
    if found.len() > SHOWN_COLUMNS {
        found.truncate(SHOWN_COLUMNS);
        found.push("…".to_owned());
    }
    found.join(", ")
}

/// The one column whose name speaks of frame times, or else of time; or the only one of numbers.
fn found(
    names: &[String],
    numbers: &[Vec<f64>],
    wanted: Option<ColumnKind>,
    because: &mut Vec<String>,
) -> Result<(usize, ColumnKind), LogError> {
    let numeric: Vec<usize> = (0..numbers.len()).filter(|at| !numbers[*at].is_empty()).collect();
    for holds in [ColumnKind::FrameTimes, ColumnKind::TimeStamps] {
        if wanted.is_some_and(|wanted| wanted != holds) {
            continue;
        }
        let fits = |at: &&usize| {
            names.get(**at).and_then(|name| role(name)) == Some(holds)
                && (holds == ColumnKind::FrameTimes || never_falls(&numbers[**at]))
        };
        let mut found: Vec<usize> = numeric.iter().filter(fits).copied().collect();
        // Beside `CPU frame time` and `GPU frame time` there may be one that is just `frame time`.
        let bare: Vec<usize> = found.iter().filter(|at| is_bare(&names[**at])).copied().collect();
        if let ([_, _, ..], [index]) = (&found[..], &bare[..]) {
            found = vec![*index];
        }
        match found[..] {
            [] => {}
            [index] => {
                let what = match holds {
                    ColumnKind::FrameTimes => "frame times",
                    ColumnKind::TimeStamps => "times at which frames were shown",
                };
                because.push(format!("{} holds {what}, by its name", shown(names, index)));
                return Ok((index, holds));
            }
            _ => {
                let names: Vec<String> = found.iter().map(|at| names[*at].clone()).collect();
                return Err(LogError::SeveralColumns { found: list(&names) });
            }
        }
    }
    match numeric[..] {
        [index] if names.get(index).is_some_and(|name| is_rate(name)) => {
            Err(LogError::OnlyRates { column: names[index].clone() })
        }
        [index] => {
            let holds = wanted.unwrap_or(ColumnKind::FrameTimes);
            because.push(format!("{} is the only one with numbers", shown(names, index)));
            Ok((index, holds))
        }
        [] => Err(LogError::NoNumbers),
        _ if names.is_empty() => Err(LogError::NoHeadings { columns: numbers.len() }),
        _ => Err(LogError::UnknownColumn { found: list(names) }),
    }
}

/// Whether numbers rise by the very same step from row to row, as those of readings at a fixed interval
/// do, and those of rows that are counted. No two frames in a row take the same time to the last digit.
fn are_ticks(numbers: &[f64]) -> bool {
    const FEWEST: usize = 5;
    let steps: Vec<f64> = numbers.windows(2).map(|two| two[1] - two[0]).collect();
    let first = steps.first().copied().unwrap_or(0.0);
    let is_same = |step: &f64| (step - first).abs() <= 1e-9 * first.abs();
    steps.len() >= FEWEST && first > 0.0 && steps.iter().all(is_same)
}

/// Whether numbers that nobody named are of the size that rates of frames have as well: frames of 30 to
/// 500 ms are far rarer than rates of 30 to 500 a second.
fn may_be_rates(numbers: &[f64]) -> bool {
    const RATES: std::ops::RangeInclusive<f64> = 30.0..=500.0;
    let mut ascending = numbers.to_vec();
    ascending.sort_by(f64::total_cmp);
    ascending.get(ascending.len() / 2).is_some_and(|middle| RATES.contains(middle))
}

fn never_falls(numbers: &[f64]) -> bool {
    numbers.len() > 1 && numbers.windows(2).all(|two| two[0] <= two[1])
}

/// The unit under which the middle frame takes between 0.5 and 500 ms, where only one does.
fn unit_by_size(numbers: &[f64], holds: ColumnKind) -> Option<TimeUnit> {
    let mut taken: Vec<f64> = match holds {
        ColumnKind::FrameTimes => numbers.to_vec(),
        ColumnKind::TimeStamps => numbers.windows(2).map(|two| two[1] - two[0]).collect(),
    };
    taken.retain(|number| *number > 0.0);
    taken.sort_by(f64::total_cmp);
    let middle = *taken.get(taken.len() / 2)?;
    // Milliseconds reach down to 2000 frames a second; the next unit begins where they end.
    match middle {
        _ if (0.5..500.0).contains(&middle) => Some(TimeUnit::Milliseconds),
        _ if (0.000_5..0.5).contains(&middle) => Some(TimeUnit::Seconds),
        _ if (500.0..500_000.0).contains(&middle) => Some(TimeUnit::Microseconds),
        _ if (500_000.0..500_000_000.0).contains(&middle) => Some(TimeUnit::Nanoseconds),
        _ => None,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_are_read_by_their_words() {
        for name in [
            "FrameTime",
            "frame_time_ms",
            "Frame Time (ms)",
            "frame-duration",
            "frametime",
            "Frame delta us",
        ] {
            assert_eq!(role(name), Some(ColumnKind::FrameTimes), "{name}");
        }
        for name in ["Timestamp", "time", "Elapsed (s)", "TIME_STAMP", "Clock"] {
            assert_eq!(role(name), Some(ColumnKind::TimeStamps), "{name}");
        }
        assert!(is_bare("Frame Time [ms]") && is_bare("elapsed_s") && !is_bare("GPU frame time"));
        let sample = |cells: &[&str]| cells.iter().map(|cell| cell.as_bytes().to_vec()).collect();
        assert!(tells_frames_apart("Process ID", &sample(&["812", "812"])));
        assert!(!tells_frames_apart("Process CPU", &sample(&["7.5", "8.25"])));
        let many: Vec<String> = (0..50).map(|i| i.to_string()).collect();
        let many: Vec<&str> = many.iter().map(String::as_str).collect();
        assert!(!tells_frames_apart("monitor", &sample(&many)));
        for name in
            ["FPS", "frame", "GPU load", "frames per second", "Frame rate", "Average frame time"]
        {
            assert_eq!(role(name), None, "{name}");
        }
        assert_eq!(unit_in(&words("Frame Time [µs]")), Some(TimeUnit::Microseconds));
        assert_eq!(unit_in(&words("frameTimeNs")), Some(TimeUnit::Nanoseconds));
        assert_eq!(unit_in(&words("elapsed_s")), Some(TimeUnit::Seconds));
        assert_eq!(unit_in(&words("FrameTime")), None);
    }
}
