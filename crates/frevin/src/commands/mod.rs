//! The commands, a file each: arguments, one function, and the report that it gives.

pub(crate) mod app;
pub(crate) mod apply;
pub(crate) mod cleaned;
pub(crate) mod compare;
pub(crate) mod demo;
pub(crate) mod device;
pub(crate) mod drift;
pub(crate) mod evidence;
pub(crate) mod games;
pub(crate) mod help;
mod in_play;
pub(crate) mod inspect;
pub(crate) mod ledger;
pub(crate) mod log;
pub(crate) mod network;
mod output;
pub(crate) mod play;
pub(crate) mod preview;
pub(crate) mod profile;
pub(crate) mod recover;
pub(crate) mod rehearsal;
pub(crate) mod report;
pub(crate) mod rollback;
pub(crate) mod run;
pub(crate) mod scene;
pub(crate) mod self_test;
pub(crate) mod sift;
pub(crate) mod snapshot;
pub(crate) mod status;
mod target;
pub(crate) mod trial;
pub(crate) mod tune;
pub(crate) mod tweak;

#[cfg(test)]
use crate::schemas::Schemas;

/// What every command prints with `--json`.
#[cfg(test)]
pub(crate) fn schemas(schemas: &mut Schemas) {
    app::schemas(schemas);
    apply::schemas(schemas);
    cleaned::schemas(schemas);
    compare::schemas(schemas);
    demo::schemas(schemas);
    device::schemas(schemas);
    drift::schemas(schemas);
    evidence::schemas(schemas);
    games::schemas(schemas);
    help::schemas(schemas);
    inspect::schemas(schemas);
    ledger::schemas(schemas);
    log::schemas(schemas);
    network::schemas(schemas);
    play::schemas(schemas);
    preview::schemas(schemas);
    profile::schemas(schemas);
    recover::schemas(schemas);
    rehearsal::schemas(schemas);
    report::schemas(schemas);
    rollback::schemas(schemas);
    run::schemas(schemas);
    scene::schemas(schemas);
    self_test::schemas(schemas);
    sift::schemas(schemas);
    tune::schemas(schemas);
    snapshot::schemas(schemas);
    status::schemas(schemas);
    trial::schemas(schemas);
    tweak::schemas(schemas);
}
