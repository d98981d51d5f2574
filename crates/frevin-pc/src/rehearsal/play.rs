//! Play on a rehearsal PC: a game that goes on while settings are switched, simulated frame by frame.

use frevin_stats::in_play::{Content, ContentKind, MOMENT_S, Moment};
use rand_pcg::Pcg64;

use super::frames::{FrameMaker, Life, Typical};
use super::model::{Model, ModelScene};

/// A game that is being played.
#[derive(Debug)]
pub struct Play {
    scene: ModelScene,
    life: Life,
    maker: FrameMaker,
    content: PlayedContent,
    chance: Pcg64,
    /// How much of each effect of the model is felt, from 0 to 1.
    felt: Vec<f64>,
    /// The moment that the content is at, and when the next one begins, in milliseconds.
    moment: Moment,
    next_moment_ms: f64,
    /// When the next frame begins, in milliseconds.
    now_ms: f64,
}

#[derive(Debug)]
enum PlayedContent {
    Free(Content),
    /// The moments of one pass, which repeat.
    Loop {
        moments: Vec<Moment>,
        at: usize,
    },
}

impl Play {
    pub(super) fn begin(
        scene: &ModelScene,
        life: Life,
        mut chance: Pcg64,
        maker: FrameMaker,
    ) -> Self {
        let kind = scene.content.unwrap_or(ContentKind::PLAY);
        let mut content = match scene.loop_s {
            None => PlayedContent::Free(Content::new(kind, &mut chance)),
            Some(period_s) => {
                let mut one_pass = Content::new(kind, &mut chance);
                let moments = (period_s / MOMENT_S).round().max(1.0) as usize;
                let moments = (0..moments).map(|_| one_pass.next(&mut chance)).collect();
                PlayedContent::Loop { moments, at: 0 }
            }
        };
        let moment = content.next(&mut chance);
        Self {
            scene: scene.clone(),
            life,
            maker,
            content,
            chance,
            felt: Vec::new(),
            moment,
            next_moment_ms: MOMENT_S * 1000.0,
            now_ms: 0.0,
        }
    }

    /// Plays on up to a moment, in milliseconds from the beginning, with these effects at work: when each frame began
    /// and how long it took.
    pub(super) fn play_on(
        &mut self,
        model: &Model,
        at_work: &[bool],
        until_ms: f64,
    ) -> Vec<(f64, f64)> {
        let share = |at_work: bool| if at_work { 1.0 } else { 0.0 };
        if self.felt.is_empty() {
            self.felt = at_work.iter().map(|at_work| share(*at_work)).collect();
        }
        let mut frames = Vec::new();
        while self.now_ms < until_ms {
            while self.now_ms >= self.next_moment_ms {
                self.moment = self.content.next(&mut self.chance);
                self.next_moment_ms += MOMENT_S * 1000.0;
                for ((felt, effect), at_work) in
                    self.felt.iter_mut().zip(&model.effects).zip(at_work)
                {
                    let kept = (-MOMENT_S / effect.builds_up_s).exp();
                    *felt = share(*at_work) + (*felt - share(*at_work)) * kept;
                }
            }
            let factors = model.factors_felt(&self.felt);
            let drift = self.life.drift(self.now_ms / 1000.0);
            let typical = Typical {
                frame_ms: self.scene.frame_ms * factors.frame_time * drift * self.moment.factor,
                slow_excess: model.slow_frames.mean_excess * factors.slow_frames,
                stutters_per_ms: model.stutters.per_minute / 60_000.0 * factors.stutters,
            };
            let frame_ms = self.maker.next(model, typical);
            frames.push((self.now_ms, frame_ms));
            self.now_ms += frame_ms;
        }
        frames
    }

    /// How much was played, in seconds.
    pub fn played_s(&self) -> f64 {
        self.now_ms / 1000.0
    }
}

impl PlayedContent {
    fn next(&mut self, chance: &mut Pcg64) -> Moment {
        match self {
            Self::Free(content) => content.next(chance),
            Self::Loop { moments, at } => {
                let moment = moments[*at];
                *at = (*at + 1) % moments.len();
                moment
            }
        }
    }
}
