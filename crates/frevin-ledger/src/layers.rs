//! Layers as they are stored.

use std::collections::BTreeMap;

use frevin_core::ids::PcId;
use frevin_core::layers::{ChangeId, Layer, Layers, Stack};
use frevin_core::setting::Address;
use frevin_core::tweak::TweakUse;
use rusqlite::{Connection, Transaction, params};

use crate::error::LedgerError;
use crate::seal::{self, SealedPart};
use crate::store::{Ledger, parse, restore, store};

impl Ledger {
    /// The layers on a PC.
    ///
    /// # Errors
    /// Where the ledger cannot be read.
    pub fn layers(&self, pc: &PcId) -> Result<Layers, LedgerError> {
        load(&self.connection, pc)
    }
}

impl Ledger {
    /// Lets go of settings of a PC: their layers go, and nothing else changes.
    ///
    /// # Errors
    /// Where the ledger cannot be written; nothing has been written then.
    pub fn let_go(&mut self, pc: &PcId, addresses: &[Address]) -> Result<(), LedgerError> {
        let transaction = self.begin()?;
        let mut held = load(&transaction, pc)?;
        let mut written = vec![SealedPart::Layers(pc.clone())];
        for address in addresses {
            let layers = held.get(address).map(|stack| stack.layers.clone()).unwrap_or_default();
            for layer in layers {
                transaction.execute(
                    "UPDATE change SET let_go = let_go + 1 WHERE id = ?1",
                    [layer.change.0],
                )?;
                written.push(SealedPart::Change(layer.change));
            }
            held.let_go(address);
        }
        replace(&transaction, pc, &held)?;
        seal::commit(transaction, &written)?;
        Ok(())
    }
}

/// A use of a tweak as it is stored: its name, and what was chosen where that was kept.
pub(crate) fn use_of(tweak: &str, arguments: Option<String>) -> Result<TweakUse, LedgerError> {
    Ok(TweakUse {
        tweak: parse("a tweak's name", tweak)?,
        arguments: arguments.map(|text| restore("arguments", &text)).transpose()?,
    })
}

pub(crate) fn store_arguments(used: &TweakUse) -> Result<Option<String>, LedgerError> {
    used.arguments.as_ref().map(|arguments| store("arguments", arguments)).transpose()
}

pub(crate) fn load(connection: &Connection, pc: &PcId) -> Result<Layers, LedgerError> {
    let mut statement =
        connection.prepare("SELECT identity, address, original FROM stack WHERE pc = ?1")?;
    let mut rows = statement.query([pc.as_str()])?;
    let mut stacks = BTreeMap::new();
    while let Some(row) = rows.next()? {
        let identity: String = row.get(0)?;
        let address = parse("an address", &row.get::<_, String>(1)?)?;
        let original = restore("a state", &row.get::<_, String>(2)?)?;
        stacks.insert(identity, (address, Stack { original, layers: Vec::new() }));
    }
    let mut statement = connection.prepare(
        "SELECT identity, change, tweak, state, arguments FROM layer WHERE pc = ?1 ORDER BY identity, position",
    )?;
    let mut rows = statement.query([pc.as_str()])?;
    while let Some(row) = rows.next()? {
        let identity: String = row.get(0)?;
        let layer = Layer {
            change: ChangeId(row.get(1)?),
            used: use_of(&row.get::<_, String>(2)?, row.get(4)?)?,
            state: restore("a state", &row.get::<_, String>(3)?)?,
        };
        if let Some((_, stack)) = stacks.get_mut(&identity) {
            stack.layers.push(layer);
        }
    }
    Ok(Layers::from_stacks(stacks.into_values()))
}

/// Replaces the layers on a PC.
pub(crate) fn replace(
    transaction: &Transaction<'_>,
    pc: &PcId,
    layers: &Layers,
) -> Result<(), LedgerError> {
    transaction.execute("DELETE FROM layer WHERE pc = ?1", [pc.as_str()])?;
    transaction.execute("DELETE FROM stack WHERE pc = ?1", [pc.as_str()])?;
    let mut stack_row = transaction
        .prepare("INSERT INTO stack (pc, identity, address, original) VALUES (?1, ?2, ?3, ?4)")?;
    let mut layer_row = transaction.prepare(
        "INSERT INTO layer (pc, identity, position, change, tweak, state, arguments)
         VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7)",
    )?;
    for (address, stack) in layers.iter() {
        let identity = address.identity();
        let original = store("a state", &stack.original)?;
        stack_row.execute(params![pc.as_str(), identity, address.to_string(), original])?;
        for (position, layer) in (0i64..).zip(&stack.layers) {
            let state = store("a state", &layer.state)?;
            let arguments = store_arguments(&layer.used)?;
            layer_row.execute(params![
                pc.as_str(),
                identity,
                position,
                layer.change.0,
                layer.used.tweak.as_str(),
                state,
                arguments
            ])?;
        }
    }
    Ok(())
}
