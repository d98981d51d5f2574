//! Settings: addressable pieces of a PC's state that can be read and written.
//!
//! An [`Address`] names one, a [`State`] is what it holds, and [`TakesEffect`] says when a write
//! to it is felt. Adding a kind of setting starts here: a variant of [`Address`] with its text
//! form, the [`Value`] it holds, and its lines in [`undo`].

mod address;
mod clean;
mod colour_ramp;
mod concerns;
mod difference;
mod elevation;
mod error;
mod file_part;
mod name;
mod object;
mod place;
mod protection;
mod registry_key;
mod registry_part;
mod state;
mod takes_effect;
pub mod undo;
mod visual;

pub use address::{Address, PowerSource};
pub use clean::{CleanPart, CleanPlace, CleanSetting};
pub use colour_ramp::ColourRamp;
pub use concerns::{Concern, concern};
pub use difference::{Difference, differences};
pub use elevation::{belongs_to_user, needs_administrator};
pub use error::AddressError;
pub use file_part::{FilePart, FileSetting};
pub use name::WinName;
pub use object::{DisplayMode, Holds, ObjectKind, ObjectPart, ObjectSetting, PageFileSize};
pub use place::{Place, PlaceError, PlacePath};
pub use protection::{Protection, protection};
pub use registry_key::{Hive, KeyPath};
pub use registry_part::{BitMask, Listed, PartError, PartWritten, RegistryPart, StoodIn};
pub use state::{
    BALANCED, HIDDEN_PERFORMANCE, HIGH_PERFORMANCE, POWER_SAVER, RegistryData, RegistryType,
    RunState, ServiceStart, StartType, State, Value, plan_in_words,
};
pub use takes_effect::TakesEffect;
pub use visual::{VisualKind, VisualParameter, three_numbers};
