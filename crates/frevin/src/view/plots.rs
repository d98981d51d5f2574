//! Small plots in characters.

use frevin_core::figures::IntervalRow;
use frevin_frames::{FrameShape, LengthBin};

/// An interval on an axis from loss to gain, with the margin of what is worth having marked:
///
/// ```text
/// -8 %  ······┊··│··┊··├──●──┤····  +8 %
/// ```
pub(crate) fn interval_bar(row: &IntervalRow, scale_percent: f64) -> String {
    const HALF: usize = 18;
    let place = |percent: f64| {
        let cells =
            (percent / scale_percent * HALF as f64).round().clamp(-(HALF as f64), HALF as f64);
        (cells + HALF as f64) as usize
    };
    let mut cells = vec!['·'; 2 * HALF + 1];
    cells[place(-row.margin_percent)] = '┊';
    cells[place(row.margin_percent)] = '┊';
    cells[HALF] = '│';
    let (low, high) = (place(row.low_percent), place(row.high_percent));
    cells[low..=high].fill('─');
    cells[low] = '├';
    cells[high] = '┤';
    cells[place(row.estimate_percent)] = '●';
    let end = scale_percent.round();
    format!("-{end} % {} +{end} %", cells.into_iter().collect::<String>())
}

const LEVELS: [char; 8] = ['▁', '▂', '▃', '▄', '▅', '▆', '▇', '█'];

/// Frame times over time in one row of characters, on a scale from nothing to the longest of all.
pub(crate) fn frame_line(longest_ms: &[f64]) -> String {
    let top = longest_ms.iter().copied().fold(f64::MIN_POSITIVE, f64::max);
    longest_ms.iter().map(|ms| level(ms / top)).collect()
}

/// How often each frame time occurs: rows of a range of milliseconds and a bar, the last of all that are longer than
/// `tail_ms`.
pub(crate) fn rows_by_length(
    shape: &FrameShape,
    tail_ms: f64,
    columns: usize,
) -> Vec<(String, String)> {
    const ROWS: usize = 10;
    let usual = shape.bins.iter().take_while(|bin| bin.from_ms < tail_ms).count();
    let (usual, tail) = shape.bins.split_at(usual);
    let frames = |bins: &[LengthBin]| -> usize {
        let share: f64 = bins.iter().map(|bin| bin.share).sum();
        (share * shape.frames as f64).round() as usize
    };
    let mut rows: Vec<(String, usize)> = usual
        .chunks(usual.len().div_ceil(ROWS).max(1))
        .filter_map(|bins| {
            let (first, last) = (bins.first()?, bins.last()?);
            Some((format!("{:.1} to {:.1} ms", first.from_ms, last.to_ms), frames(bins)))
        })
        .collect();
    if let Some(first) = tail.first() {
        rows.push((format!("{:.1} ms and longer", first.from_ms), frames(tail)));
    }
    let most = rows.iter().map(|(_, frames)| *frames).max().unwrap_or(1).max(1);
    // What occurs at all shows.
    let bar = |frames: usize| "█".repeat((frames * columns).div_ceil(most));
    rows.into_iter().map(|(range, frames)| (range, format!("{} {frames}", bar(frames)))).collect()
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
    use frevin_core::figures::{IntervalSubject, Known};
    use frevin_core::verdict::Primary;
    use frevin_frames::ShapeOf;

    use super::*;

    fn row(low_percent: f64, estimate_percent: f64, high_percent: f64) -> IntervalRow {
        IntervalRow {
            subject: IntervalSubject::Figure(Primary::AverageFps),
            low_percent,
            estimate_percent,
            high_percent,
            margin_percent: 1.0,
            known: Known::Undecided,
            sure_percent: None,
        }
    }

    #[test]
    fn an_interval_lies_where_its_numbers_say() {
        let bar = interval_bar(&row(4.0, 5.0, 6.0), 9.0);
        assert_eq!(bar, "-9 % ················┊·│·┊·····├─●─┤······ +9 %");
        assert!(interval_bar(&row(-50.0, -30.0, 50.0), 9.0).contains("●──"));
    }

    #[test]
    fn a_long_frame_shows_over_time_and_by_length() {
        let mut frames = vec![10.0; 100];
        frames[50] = 40.0;
        let mut shape = ShapeOf::new(frames.iter().sum(), 10);
        frames.chunks(7).for_each(|block| shape.see(block));
        let shape = shape.finish();
        let longest: Vec<f64> = shape.stretches.iter().map(|stretch| stretch.longest_ms).collect();
        let line = frame_line(&longest);
        // It is shown in every stretch that it lies in.
        assert!((1..=2).contains(&line.matches('█').count()), "{line}");
        assert!(line.chars().filter(|c| *c == '▃').count() >= 9, "{line}");
        let rows = rows_by_length(&shape, 20.0, 40);
        let counted: usize = rows
            .iter()
            .map(|(_, bar)| bar.rsplit(' ').next().unwrap().parse::<usize>().unwrap())
            .sum();
        assert_eq!(counted, 100);
        let (last, bar) = rows.last().unwrap();
        assert!(last.ends_with("ms and longer") && bar == "█ 1", "{last} {bar}");
        assert!(rows.iter().any(|(_, bar)| bar.starts_with(&"█".repeat(40))), "{rows:?}");
        assert_eq!(rows_by_length(&FrameShape::default(), 20.0, 40), []);
    }
}
