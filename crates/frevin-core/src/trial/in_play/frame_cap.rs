//! Whether a stretch of play looks to be capped.

/// Frames this near each other are of one length.
const WINDOW: f64 = 1.01;
/// More of the frames in one window than this, and ...
const MANY: f64 = 0.25;
/// ... fewer of them shorter than it, make a cap.
const FEW_FASTER: f64 = 0.15;

/// Whether frame times look to be held to one length, as a limiter or a display does: then no tweak can show.
pub fn looks_capped(frame_ms: &[f64]) -> bool {
    let mut sorted = frame_ms.to_vec();
    sorted.sort_by(f64::total_cmp);
    let (mut most, mut faster, mut first) = (0, 0, 0);
    for last in 0..sorted.len() {
        while sorted[last] > sorted[first] * WINDOW {
            first += 1;
        }
        if last + 1 - first > most {
            (most, faster) = (last + 1 - first, first);
        }
    }
    let share = |count: usize| count as f64 / sorted.len() as f64;
    most > 0 && share(most) > MANY && share(faster) < FEW_FASTER
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_cap_is_told_from_steady_frames() {
        let spread = |count: u32, width: f64| -> Vec<f64> {
            (0..count).map(|i| 10.0 * (1.0 + width * f64::from(i % 101) / 101.0)).collect()
        };
        assert!(!looks_capped(&spread(6000, 0.3)), "play");
        // Most at the cap, some slower, hardly any faster.
        let mut capped = vec![10.0; 3000];
        capped.extend(spread(3000, 0.5));
        assert!(looks_capped(&capped));
        // A steady scene: many alike, and as many faster as slower.
        let steady: Vec<f64> =
            (0..6000_u32).map(|i| 10.0 + 0.01 * (f64::from(i % 41) - 20.0)).collect();
        assert!(!looks_capped(&steady));
        assert!(!looks_capped(&[]));
    }
}
