//! What a game's content does to frame times while somebody plays, simulated.

use rand_pcg::Pcg64;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::portable::{normal, uniform};

/// How heavy content wanders: an Ornstein-Uhlenbeck process of the logarithm of frame time.
#[derive(Debug, Clone, Copy, PartialEq, JsonSchema, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct ContentKind {
    /// Its standard deviation, as a share of frame time.
    pub deviation: f64,
    /// For how long it remembers, in seconds.
    pub memory_s: f64,
    /// How long a menu is, in seconds; 0 where there is none.
    pub menu_s: f64,
    /// How long on average no menu is shown, in seconds.
    pub between_menus_s: f64,
}

impl ContentKind {
    /// Free play: 15 %, half a minute, menus.
    pub const PLAY: Self =
        Self { deviation: 0.15, memory_s: 30.0, menu_s: 8.0, between_menus_s: 90.0 };
}

/// How long a moment of content is, in seconds.
pub const MOMENT_S: f64 = 0.1;
/// A menu's frames are so much shorter, as a logarithm.
const MENU: f64 = -0.8;

/// Content as it goes on.
#[derive(Debug, Clone)]
pub struct Content {
    kind: ContentKind,
    now: f64,
    menu_moments_left: u32,
}

/// A tenth of a second of content.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Moment {
    /// By what factor frames take longer than the scene's.
    pub factor: f64,
    /// Whether a menu is shown.
    pub is_menu: bool,
}

impl Content {
    /// Content that begins anywhere.
    pub fn new(kind: ContentKind, rng: &mut Pcg64) -> Self {
        Self { kind, now: kind.deviation * normal(rng), menu_moments_left: 0 }
    }

    /// The next moment.
    pub fn next(&mut self, rng: &mut Pcg64) -> Moment {
        let kept = libm::exp(-MOMENT_S / self.kind.memory_s);
        let fresh = self.kind.deviation * (1.0 - kept * kept).sqrt();
        self.now = kept * self.now + fresh * normal(rng);
        if self.menu_moments_left > 0 {
            self.menu_moments_left -= 1;
        } else if self.kind.menu_s > 0.0 && uniform(rng) < MOMENT_S / self.kind.between_menus_s {
            self.menu_moments_left = (self.kind.menu_s / MOMENT_S).round() as u32;
        }
        let is_menu = self.menu_moments_left > 0;
        Moment { factor: libm::exp(self.now + if is_menu { MENU } else { 0.0 }), is_menu }
    }
}
