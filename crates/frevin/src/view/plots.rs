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

/// Frame times over time in one row of characters: in each the longest frame of its stretch, on a
/// scale from nothing to the longest of all.
pub(crate) fn frame_line(frame_ms: &[f64], columns: usize) -> String {
    let stretch = frame_ms.len().div_ceil(columns.max(1)).max(1);
    let longest: Vec<f64> =
        frame_ms.chunks(stretch).map(|chunk| chunk.iter().copied().fold(0.0, f64::max)).collect();
    let top = longest.iter().copied().fold(f64::MIN_POSITIVE, f64::max);
    longest.iter().map(|ms| level(ms / top)).collect()
}

/// How often each frame time occurs: rows of a range of milliseconds and a bar.
pub(crate) fn histogram(frame_ms: &[f64], rows: usize, columns: usize) -> Vec<(String, String)> {
    let mut ascending = frame_ms.to_vec();
    ascending.sort_by(f64::total_cmp);
    let (Some(low), Some(high)) = (ascending.first(), ascending.get(ascending.len() * 99 / 100))
    else {
        return Vec::new();
    };
    let step = ((high - low) / rows as f64).max(f64::MIN_POSITIVE);
    let mut counts = vec![0usize; rows + 1];
    for ms in frame_ms {
        counts[(((ms - low) / step) as usize).min(rows)] += 1;
    }
    let most = counts.iter().copied().max().unwrap_or(1).max(1);
    counts
        .iter()
        .enumerate()
        .map(|(row, count)| {
            let from = low + step * row as f64;
            let range = if row == rows {
                format!("{from:.1} ms and longer")
            } else {
                format!("{from:.1} to {:.1} ms", from + step)
            };
            // What occurs at all shows.
            let bar = (count * columns).div_ceil(most);
            (range, format!("{} {count}", "█".repeat(bar)))
        })
        .collect()
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
        let line = frame_line(&frames, 10);
        assert_eq!(line, "▃▃▃▃▃█▃▃▃▃");
        let rows = histogram(&[1.0, 2.0, 2.0, 3.0, 9.0], 2, 4);
        assert_eq!(rows.len(), 3);
        assert!(rows.last().unwrap().1.ends_with(" 1"));
        assert!(histogram(&[], 2, 4).is_empty());
    }
}
