//! Finding things by their names.

use lorawan::Eui64;

use crate::rows::eui;
use crate::{EstateId, Store, StoreError};

/// What has an EUI, and a name that is its own in its estate.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Named {
    /// A device.
    Device,
    /// A gateway.
    Gateway,
    /// A multicast group.
    Group,
}

impl Named {
    /// In words.
    pub const fn word(self) -> &'static str {
        match self {
            Self::Device => "device",
            Self::Gateway => "gateway",
            Self::Group => "group",
        }
    }
}

impl Store {
    /// The EUI of what has this name in an estate.
    pub async fn eui_named(&self, estate_id: EstateId, kind: Named, name: &str) -> Result<Option<Eui64>, StoreError> {
        let statement = match kind {
            // What goes to a group goes through the outbox of its EUI, as to a device.
            Named::Device => {
                "SELECT dev_eui AS eui FROM devices WHERE estate_id = ? AND name = ? UNION ALL
                 SELECT group_eui FROM multicast_groups WHERE estate_id = ? AND name = ? LIMIT 1"
            }
            Named::Gateway => "SELECT eui FROM gateways WHERE estate_id = ? AND name = ?",
            Named::Group => "SELECT group_eui AS eui FROM multicast_groups WHERE estate_id = ? AND name = ?",
        };
        let query = sqlx::query(statement).bind(estate_id).bind(name);
        let query = if kind == Named::Device { query.bind(estate_id).bind(name) } else { query };
        query.fetch_optional(&self.pool).await?.map(|row| eui(&row, "eui")).transpose()
    }
}
