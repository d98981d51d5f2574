//! Evidence: what measuring has told of a tweak with its arguments, on one PC in one scene.
//!
//! Plain data. What has aged is told ([`ages`]), contradictions are shown ([`contradictions`]) and never averaged
//! away, and tweaks with other arguments are other tweaks.

mod aging;
mod foreign;
mod record;

pub use aging::{Age, Circumstances, ages, contradictions};
pub use foreign::{ForeignEvidence, ForeignEvidenceError, PoolKey, PooledTweak, pool_evidence};
pub use record::{
    EvidenceFigures, EvidenceFinding, EvidenceRecord, Origin, SceneOfEvidence, of_sift, of_trial,
};
