//! Layers as they are stored.

use std::collections::BTreeMap;

use frevin_core::layers::{ChangeId, Layer, Layers, Stack};
use frevin_core::setting::Address;
use rusqlite::{Connection, Transaction, params};

use crate::error::LedgerError;
use crate::store::{Ledger, parse, restore, store};

impl Ledger {
    /// The layers on a PC.
    ///
    /// # Errors
    /// Where the ledger cannot be read.
    pub fn layers(&self, pc: &str) -> Result<Layers, LedgerError> {
        load(&self.connection, pc)
    }
}

impl Ledger {
    /// Lets go of settings of a PC: their layers go, and nothing else changes.
    ///
    /// # Errors
    /// Where the ledger cannot be written; nothing has been written then.
    pub fn let_go(&mut self, pc: &str, addresses: &[Address]) -> Result<(), LedgerError> {
        let transaction = self.begin()?;
        let mut held = load(&transaction, pc)?;
        addresses.iter().for_each(|address| held.let_go(address));
        replace(&transaction, pc, &held)?;
        transaction.commit()?;
        Ok(())
    }
}

pub(crate) fn load(connection: &Connection, pc: &str) -> Result<Layers, LedgerError> {
    let mut statement =
        connection.prepare("SELECT identity, address, original FROM stack WHERE pc = ?1")?;
    let mut rows = statement.query([pc])?;
    let mut stacks = BTreeMap::new();
    while let Some(row) = rows.next()? {
        let identity: String = row.get(0)?;
        let address = parse("an address", &row.get::<_, String>(1)?)?;
        let original = restore("a state", &row.get::<_, String>(2)?)?;
        stacks.insert(identity, (address, Stack { original, layers: Vec::new() }));
    }
    let mut statement = connection.prepare(
        "SELECT identity, change, tweak, state FROM layer WHERE pc = ?1 ORDER BY identity, position",
    )?;
    let mut rows = statement.query([pc])?;
    while let Some(row) = rows.next()? {
        let identity: String = row.get(0)?;
        let layer = Layer {
            change: ChangeId(row.get(1)?),
            tweak: parse("a tweak's name", &row.get::<_, String>(2)?)?,
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
    pc: &str,
    layers: &Layers,
) -> Result<(), LedgerError> {
    transaction.execute("DELETE FROM layer WHERE pc = ?1", [pc])?;
    transaction.execute("DELETE FROM stack WHERE pc = ?1", [pc])?;
    let mut stack_row = transaction
        .prepare("INSERT INTO stack (pc, identity, address, original) VALUES (?1, ?2, ?3, ?4)")?;
    let mut layer_row = transaction.prepare(
        "INSERT INTO layer (pc, identity, position, change, tweak, state)
         VALUES (?1, ?2, ?3, ?4, ?5, ?6)",
    )?;
    for (address, stack) in layers.iter() {
        let identity = address.identity();
        let original = store("a state", &stack.original)?;
        stack_row.execute(params![pc, identity, address.to_string(), original])?;
        for (position, layer) in (0i64..).zip(&stack.layers) {
            let state = store("a state", &layer.state)?;
            let tweak = layer.tweak.as_str();
            layer_row.execute(params![pc, identity, position, layer.change.0, tweak, state])?;
        }
    }
    Ok(())
}
