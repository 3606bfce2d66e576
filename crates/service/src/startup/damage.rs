//! Rows that could not be read at the start: reported, and their device is not served.

use anyhow::Result;
use api::diagnosis::device::Weight;
use engine::{Activation, Command};
use store::{Damaged, Store};

use crate::pipeline::condition::Condition;

/// Reports damaged rows; returns the engine's commands for the devices that are not served.
///
/// # Errors
/// If the database does not answer.
pub(crate) async fn told(store: &Store, condition: &Condition) -> Result<Vec<Command>> {
    let mut commands = Vec::new();
    for Damaged { what, eui, why } in store.take_damaged() {
        let whose = eui.map_or_else(|| "unknown".to_owned(), |eui| eui.to_string());
        tracing::error!("a stored {what} of {whose} cannot be read and is passed over: {why}");
        let text = format!("A stored {what} of {whose} could not be read, and is passed over: {why}.");
        condition.note(
            Weight::Trouble,
            text,
            "Put it back from a copy of the database, or remove it and register it again.",
        );
        let Some(eui) = eui.filter(|_| what != "gateway") else { continue };
        condition.quarantine(eui, &why);
        // As far as its registration can be read, its frames are refused for this reason and kept. One with a session
        // permanently would begin that again.
        if let Ok(Some(config)) = store.device_config_of(eui).await
            && matches!(config.activation, Activation::OverTheAir(_))
        {
            commands.push(Command::PutDevice(Box::new(config)));
            commands.push(Command::Quarantine(eui));
        }
    }
    Ok(commands)
}
