//! Layers: what makes rolling back exact in any order.
//!
//! Each setting that Frevin has touched has an original state and a stack of layers, one for
//! each tweak of each change that wants it. What the setting should hold is the top of its
//! stack. Rolling a change back takes its layers out wherever they lie: only where one was on
//! top does the PC have to move, and it moves to what is then on top, or to the original.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, BTreeSet};
use std::fmt;

use crate::ids::StateDigest;
use crate::setting::{Address, State};
use crate::tweak::{TweakId, TweakUse};

/// The number of a change in its ledger, counted from 1.
#[derive(
    Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, JsonSchema, Serialize, Deserialize,
)]
#[serde(transparent)]
pub struct ChangeId(pub i64);

impl fmt::Display for ChangeId {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        self.0.fmt(f)
    }
}

/// What one tweak of one change wants a setting to hold.
#[derive(Debug, Clone, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
pub struct Layer {
    /// The change that laid it.
    pub change: ChangeId,
    /// The use of a tweak in that change.
    #[serde(flatten)]
    pub used: TweakUse,
    /// What it wants.
    pub state: State,
}

/// A setting's original state and the layers upon it.
#[derive(Debug, Clone, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
pub struct Stack {
    /// What the setting held before Frevin first touched it.
    pub original: State,
    /// The layers from the bottom to the top; never empty in [`Layers`].
    pub layers: Vec<Layer>,
}

impl Stack {
    /// What the setting should hold now.
    pub fn effective(&self) -> &State {
        self.layers.last().map_or(&self.original, |top| &top.state)
    }
}

/// Which layers to take out.
#[derive(Debug, Clone, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Selection {
    /// Everything since the first day.
    All,
    /// No layer at all: what is put back is what the layers say.
    Nothing,
    /// One change.
    Change(ChangeId),
    /// One tweak, whichever changes laid it.
    Tweak(TweakId),
    /// One tweak of one change.
    TweakOfChange(ChangeId, TweakId),
    /// These uses of tweaks, whichever changes laid them.
    Uses(Vec<TweakUse>),
}

impl Selection {
    /// Whether a layer is among those to take out.
    pub fn takes(&self, layer: &Layer) -> bool {
        match self {
            Self::All => true,
            Self::Nothing => false,
            Self::Change(change) => layer.change == *change,
            Self::Tweak(tweak) => layer.used.tweak == *tweak,
            Self::TweakOfChange(change, tweak) => {
                layer.change == *change && layer.used.tweak == *tweak
            }
            Self::Uses(uses) => uses.contains(&layer.used),
        }
    }
}

/// What taking layers out means for one setting.
#[derive(Debug, Clone, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
pub struct Move {
    /// The setting.
    pub address: Address,
    /// What it should hold before.
    pub from: State,
    /// What it should hold after. The same as `from` where the layer lay under another.
    pub to: State,
}

/// The stacks of every setting that Frevin holds.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Layers {
    stacks: BTreeMap<Address, Stack>,
}

impl Layers {
    /// No layers: a PC that Frevin has not touched.
    pub fn new() -> Self {
        Self::default()
    }

    /// Layers as they were stored. Stacks without a layer are dropped.
    pub fn from_stacks(stacks: impl IntoIterator<Item = (Address, Stack)>) -> Self {
        let stacks = stacks.into_iter().filter(|(_, stack)| !stack.layers.is_empty()).collect();
        Self { stacks }
    }

    /// Every stack, by address.
    pub fn iter(&self) -> impl Iterator<Item = (&Address, &Stack)> {
        self.stacks.iter()
    }

    /// The stack on a setting, if Frevin holds it.
    pub fn get(&self, address: &Address) -> Option<&Stack> {
        self.stacks.get(address)
    }

    /// Whether there are none.
    pub fn is_empty(&self) -> bool {
        self.stacks.is_empty()
    }

    /// Lays a layer on a setting. `before` is what the setting held, and becomes its original
    /// state where it had no stack yet.
    pub fn lay(&mut self, address: &Address, before: &State, layer: Layer) {
        self.stacks
            .entry(address.clone())
            .or_insert_with(|| Stack { original: before.clone(), layers: Vec::new() })
            .layers
            .push(layer);
    }

    /// Puts layers of one change where those of another lie: in their place where a setting had
    /// one, else on top. Settings of the old change that the new one does not want lose its layer.
    ///
    /// `new` holds, for each setting, what it held before and its layer.
    pub fn replace_change(&mut self, old: ChangeId, new: Vec<(Address, State, Layer)>) {
        for (address, before, layer) in new {
            let stack = self
                .stacks
                .entry(address)
                .or_insert_with(|| Stack { original: before, layers: Vec::new() });
            match stack.layers.iter().position(|other| other.change == old) {
                Some(place) => stack.layers.insert(place, layer),
                None => stack.layers.push(layer),
            }
        }
        drop(self.take_out(&Selection::Change(old)));
    }

    /// The uses of tweaks that hold settings, each once.
    pub fn uses(&self) -> Vec<TweakUse> {
        let layers = self.stacks.values().flat_map(|stack| &stack.layers);
        let uses: BTreeSet<&TweakUse> = layers.map(|layer| &layer.used).collect();
        uses.into_iter().cloned().collect()
    }

    /// A digest of what is in effect: every setting held, with the state that its top layer wants.
    /// Two PCs, or one PC at two times, have the same digest where Frevin holds the same settings at
    /// the same states, whichever tweaks and changes did it.
    pub fn digest(&self) -> StateDigest {
        let mut hasher = blake3::Hasher::new();
        for (address, stack) in &self.stacks {
            let state = serde_json::to_string(stack.effective()).unwrap_or_default();
            for text in [address.identity().to_string(), state] {
                hasher.update(&(text.len() as u64).to_le_bytes());
                hasher.update(text.as_bytes());
            }
        }
        StateDigest::new(hasher.finalize().to_hex().as_str())
    }

    /// Lets go of a setting: its layers go, and what it holds from then on is not Frevin's.
    pub fn let_go(&mut self, address: &Address) {
        self.stacks.remove(address);
    }

    /// Takes layers out, and says what that means for each setting that had one of them.
    ///
    /// A setting whose last layer goes is forgotten: it is what it was, and no longer Frevin's.
    pub fn take_out(&mut self, selection: &Selection) -> Vec<Move> {
        let mut moves = Vec::new();
        self.stacks.retain(|address, stack| {
            let from = stack.effective().clone();
            let count = stack.layers.len();
            stack.layers.retain(|layer| !selection.takes(layer));
            if stack.layers.len() != count {
                let to = stack.effective().clone();
                moves.push(Move { address: address.clone(), from, to });
            }
            !stack.layers.is_empty()
        });
        moves
    }
}

#[cfg(test)]
mod tests;
