//! Small plots in characters.

use frevin_core::verdict::Interval;

/// An interval on an axis from loss to gain, with the margin of what is worth having marked:
///
/// ```text
/// -8 %  ······┊··│··┊··├──●──┤····  +8 %
/// ```
pub(crate) fn interval_bar(interval: &Interval, margin: f64, scale: f64) -> String {
    const HALF: usize = 18;
    let place = |share: f64| {
        let cells = (share / scale * HALF as f64).round().clamp(-(HALF as f64), HALF as f64);
        (cells + HALF as f64) as usize
    };
    let mut cells = vec!['·'; 2 * HALF + 1];
    cells[place(-margin)] = '┊';
    cells[place(margin)] = '┊';
    cells[HALF] = '│';
    let (low, high) = (place(interval.low), place(interval.high));
    cells[low..=high].fill('─');
    cells[low] = '├';
    cells[high] = '┤';
    cells[place(interval.estimate)] = '●';
    let end = (scale * 100.0).round();
    format!("-{end} % {} +{end} %", cells.into_iter().collect::<String>())
}

const LEVELS: [char; 8] = ['▁', '▂', '▃', '▄', '▅', '▆', '▇', '█'];

/// The longest frame of each stretch of a run.
pub(crate) struct LongestFrames {
    stretch: usize,
    frames: usize,
    longest_ms: Vec<f64>,
}

impl LongestFrames {
    /// Of a run of so many frames, in so many stretches at most.
    pub(crate) fn new(frames: usize, stretches: usize) -> Self {
        let stretch = frames.div_ceil(stretches.max(1)).max(1);
        Self { stretch, frames: 0, longest_ms: Vec::new() }
    }

    pub(crate) fn see(&mut self, frame_ms: &[f64]) {
        for ms in frame_ms {
            if self.frames.is_multiple_of(self.stretch) {
                self.longest_ms.push(0.0);
            }
            self.frames += 1;
            if let Some(longest) = self.longest_ms.last_mut() {
                *longest = ms.max(*longest);
            }
        }
    }

    pub(crate) fn ms(self) -> Vec<f64> {
        self.longest_ms
    }
}

/// Frame times over time in one row of characters, on a scale from nothing to the longest of all.
pub(crate) fn frame_line(longest_ms: &[f64]) -> String {
    let top = longest_ms.iter().copied().fold(f64::MIN_POSITIVE, f64::max);
    longest_ms.iter().map(|ms| level(ms / top)).collect()
}

/// How often each frame time occurs.
#[derive(Debug)]
pub(crate) struct Histogram {
    low_ms: f64,
    step_ms: f64,
    counts: Vec<usize>,
}

impl Histogram {
    /// In so many ranges between two frame times, and one of all that are longer.
    pub(crate) fn new(low_ms: f64, high_ms: f64, ranges: usize) -> Self {
        let step_ms = ((high_ms - low_ms) / ranges as f64).max(f64::MIN_POSITIVE);
        Self { low_ms, step_ms, counts: vec![0; ranges + 1] }
    }

    pub(crate) fn see(&mut self, frame_ms: &[f64]) {
        let last = self.counts.len() - 1;
        for ms in frame_ms {
            self.counts[(((ms - self.low_ms) / self.step_ms) as usize).min(last)] += 1;
        }
    }

    /// Rows of a range of milliseconds and a bar.
    pub(crate) fn rows(&self, columns: usize) -> Vec<(String, String)> {
        let most = self.counts.iter().copied().max().unwrap_or(1).max(1);
        let last = self.counts.len() - 1;
        let row = |(row, count): (usize, &usize)| {
            let from = self.low_ms + self.step_ms * row as f64;
            let range = if row == last {
                format!("{from:.1} ms and longer")
            } else {
                format!("{from:.1} to {:.1} ms", from + self.step_ms)
            };
            // What occurs at all shows.
            let bar = (count * columns).div_ceil(most);
            (range, format!("{} {count}", "█".repeat(bar)))
        };
        self.counts.iter().enumerate().map(row).collect()
    }
}

/// A value between two ends, each as a share of the line's length.
pub(crate) fn range_line(from: f64, at: f64, to: f64, columns: usize) -> String {
    let column = |share: f64| ((share * (columns - 1) as f64).round() as usize).min(columns - 1);
    let (from, at, to) = (column(from), column(at), column(to));
    let character = |column: usize| match column {
        _ if column == at => '●',
        _ if column == from => '├',
        _ if column == to => '┤',
        _ if (from..to).contains(&column) => '─',
        _ => '·',
    };
    (0..columns).map(character).collect()
}

fn level(share: f64) -> char {
    let last = LEVELS.len() - 1;
    LEVELS[((share * last as f64).round() as usize).min(last)]
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_interval_lies_where_its_numbers_say() {
        let interval = Interval { low: 0.04, estimate: 0.05, high: 0.06 };
        let bar = interval_bar(&interval, 0.01, 0.09);
        assert_eq!(bar, "-9 % ················┊·│·┊·····├─●─┤······ +9 %");
        let beyond = Interval { low: -0.5, estimate: -0.3, high: 0.5 };
        assert!(interval_bar(&beyond, 0.01, 0.09).contains("●──"));
    }

    #[test]
    fn a_long_frame_shows_in_the_line_and_the_histogram() {
        let mut frames = vec![10.0; 100];
        frames[50] = 40.0;
        let mut longest = LongestFrames::new(frames.len(), 10);
        frames.chunks(7).for_each(|block| longest.see(block));
        let line = frame_line(&longest.ms());
        assert_eq!(line, "▃▃▃▃▃█▃▃▃▃");
        let mut histogram = Histogram::new(1.0, 9.0, 2);
        histogram.see(&[1.0, 2.0, 2.0, 3.0, 9.0]);
        let rows = histogram.rows(4);
        assert_eq!(rows.len(), 3);
        assert!(rows.last().unwrap().1.ends_with(" 1"));
    }
}
