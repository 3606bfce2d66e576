//! Multicast groups.

use std::collections::HashMap;

use api::radio::settings::Class;
use chrono::{DateTime, Utc};
use domain::device::group::CheckedGroup;
use domain::radio::settings::engine_class;
use engine::{Command, GroupConfig, OutboxItem};
use lorawan::crypto::SessionKeys;
use lorawan::{AesKey, DevAddr, Eui64};
use sqlx::mysql::MySqlRow;
use sqlx::{MySql, QueryBuilder, Row as _};

use crate::rows::{eui, eui_bytes, region};
use crate::vault::Purpose;
use crate::{DeviceContext, EstateId, Store, StoreError, constraint};

/// A group as stored.
#[derive(Debug, Clone)]
pub struct GroupRow {
    /// As the engine knows it.
    pub config: GroupConfig,
    /// Its name.
    pub name: String,
    /// The short name of its fleet.
    pub fleet: String,
    /// The next downlink counter.
    pub next_down: u32,
    /// When it was registered.
    pub added_at: DateTime<Utc>,
}

/// What the service has made up for a new group.
#[derive(Debug, Clone, Copy)]
pub struct GroupIdentity {
    /// The group's EUI.
    pub group: Eui64,
    /// Its address.
    pub address: DevAddr,
    /// Its session keys.
    pub keys: SessionKeys,
}

const SELECT: &str = "SELECT g.*, f.slug AS fleet, c.next_down FROM multicast_groups g
    JOIN fleets f ON f.id = g.fleet_id LEFT JOIN multicast_counters c ON c.group_eui = g.group_eui";

impl Store {
    /// Makes a group; the field that names something unknown otherwise.
    pub async fn add_group(
        &self,
        estate_id: EstateId,
        new: &CheckedGroup,
        identity: &GroupIdentity,
    ) -> Result<Result<(), &'static str>, StoreError> {
        let Some(fleet_id) = self.fleet_id(estate_id, &new.fleet).await? else { return Ok(Err("fleet")) };
        let both = [identity.keys.nwk_s_key.0, identity.keys.app_s_key.0].concat();
        let sealed = self.vault.seal(Purpose::GroupKeys, identity.group, &both)?;
        let mut tx = self.pool.begin().await?;
        sqlx::query(
            "INSERT INTO multicast_groups (group_eui, estate_id, fleet_id, name, region, class, address, keys_sealed,
             frequency_hz, data_rate, ping_periodicity, added_at) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
        )
        .bind(eui_bytes(identity.group))
        .bind(estate_id)
        .bind(fleet_id)
        .bind(&new.name)
        .bind(new.region.name())
        .bind(new.class.name())
        .bind(identity.address.0)
        .bind(sealed)
        .bind(new.frequency_hz)
        .bind(new.data_rate)
        .bind(new.ping_periodicity)
        .bind(Utc::now())
        .execute(&mut *tx)
        .await
        .map_err(|e| constraint(e, "a group with that name"))?;
        write_members(&mut tx, identity.group, &new.members).await?;
        tx.commit().await?;
        Ok(Ok(()))
    }

    /// An estate's groups by name.
    pub async fn groups(&self, estate_id: EstateId) -> Result<Vec<GroupRow>, StoreError> {
        let mut query = QueryBuilder::<MySql>::new(SELECT);
        query.push(" WHERE g.estate_id = ").push_bind(estate_id).push(" ORDER BY g.name");
        self.read_groups(query).await
    }

    /// One group of an estate.
    pub async fn group(&self, estate_id: EstateId, group: Eui64) -> Result<Option<GroupRow>, StoreError> {
        let mut query = QueryBuilder::<MySql>::new(SELECT);
        query
            .push(" WHERE g.estate_id = ")
            .push_bind(estate_id)
            .push(" AND g.group_eui = ")
            .push_bind(eui_bytes(group));
        Ok(self.read_groups(query).await?.pop())
    }

    async fn read_groups(&self, mut query: QueryBuilder<MySql>) -> Result<Vec<GroupRow>, StoreError> {
        let rows = query.build().fetch_all(&self.pool).await?;
        let mut members: HashMap<Eui64, Vec<Eui64>> = HashMap::new();
        for row in sqlx::query("SELECT * FROM multicast_members ORDER BY dev_eui").fetch_all(&self.pool).await? {
            members.entry(eui(&row, "group_eui")?).or_default().push(eui(&row, "dev_eui")?);
        }
        rows.iter()
            .map(|row| {
                let group = eui(row, "group_eui")?;
                self.read_group(row, members.remove(&group).unwrap_or_default())
            })
            .collect()
    }

    fn read_group(&self, row: &MySqlRow, members: Vec<Eui64>) -> Result<GroupRow, StoreError> {
        let group = eui(row, "group_eui")?;
        let keys: [u8; 32] = self.vault.open(Purpose::GroupKeys, group, &row.try_get::<Vec<u8>, _>("keys_sealed")?)?;
        let half = |n: usize| AesKey(std::array::from_fn(|i| keys[16 * n + i]));
        let class: String = row.try_get("class")?;
        Ok(GroupRow {
            config: GroupConfig {
                group,
                address: DevAddr(row.try_get("address")?),
                keys: SessionKeys { nwk_s_key: half(0), app_s_key: half(1) },
                region: region(row)?,
                class: engine_class(if class == "B" { Class::B } else { Class::C }),
                frequency_hz: row.try_get("frequency_hz")?,
                data_rate: row.try_get("data_rate")?,
                ping_periodicity: row.try_get("ping_periodicity")?,
                members,
            },
            name: row.try_get("name")?,
            fleet: row.try_get("fleet")?,
            next_down: row.try_get::<Option<u32>, _>("next_down")?.unwrap_or(0),
            added_at: row.try_get("added_at")?,
        })
    }

    /// Sets a group's name and members.
    pub async fn change_group(&self, group: Eui64, name: &str, members: &[Eui64]) -> Result<(), StoreError> {
        let mut tx = self.pool.begin().await?;
        sqlx::query("UPDATE multicast_groups SET name = ? WHERE group_eui = ?")
            .bind(name)
            .bind(eui_bytes(group))
            .execute(&mut *tx)
            .await
            .map_err(|e| constraint(e, "a group with that name"))?;
        sqlx::query("DELETE FROM multicast_members WHERE group_eui = ?")
            .bind(eui_bytes(group))
            .execute(&mut *tx)
            .await?;
        write_members(&mut tx, group, members).await?;
        tx.commit().await?;
        Ok(())
    }

    /// Removes a group with its outbox; says whether there was one.
    pub async fn remove_group(&self, estate_id: EstateId, group: Eui64) -> Result<bool, StoreError> {
        let mut tx = self.pool.begin().await?;
        let done = sqlx::query("DELETE FROM multicast_groups WHERE estate_id = ? AND group_eui = ?")
            .bind(estate_id)
            .bind(eui_bytes(group))
            .execute(&mut *tx)
            .await?;
        if done.rows_affected() > 0 {
            for table in ["DELETE FROM multicast_counters WHERE group_eui = ?", "DELETE FROM outbox WHERE dev_eui = ?"]
            {
                sqlx::query(table).bind(eui_bytes(group)).execute(&mut *tx).await?;
            }
        }
        tx.commit().await?;
        Ok(done.rows_affected() > 0)
    }

    /// All groups of all estates, as the commands that put them back.
    pub(crate) async fn group_commands(
        &self,
        outboxes: &mut HashMap<Eui64, Vec<OutboxItem>>,
    ) -> Result<Vec<Command>, StoreError> {
        let rows = self.read_groups(QueryBuilder::new(SELECT)).await?;
        let put = |row: GroupRow| {
            let outbox = outboxes.remove(&row.config.group).unwrap_or_default();
            Command::PutGroup { config: Box::new(row.config), next_down: row.next_down, outbox }
        };
        Ok(rows.into_iter().map(put).collect())
    }

    /// What messages say of every group, for the start of the service.
    pub async fn group_contexts(&self) -> Result<Vec<DeviceContext>, StoreError> {
        let rows = sqlx::query(
            "SELECT g.group_eui, g.estate_id, f.slug AS fleet, g.name, g.region FROM multicast_groups g
             JOIN fleets f ON f.id = g.fleet_id",
        )
        .fetch_all(&self.pool)
        .await?;
        rows.iter()
            .map(|row| {
                Ok(DeviceContext {
                    dev_eui: eui(row, "group_eui")?,
                    estate_id: row.try_get("estate_id")?,
                    fleet: row.try_get("fleet")?,
                    name: row.try_get("name")?,
                    model: None,
                    hardware: None,
                    firmware: None,
                    region: region(row)?,
                    last_heard: None,
                    usual_interval_s: None,
                })
            })
            .collect()
    }
}

async fn write_members(
    tx: &mut sqlx::Transaction<'_, MySql>,
    group: Eui64,
    members: &[Eui64],
) -> Result<(), StoreError> {
    for part in members.chunks(1000) {
        let mut query = QueryBuilder::<MySql>::new("INSERT INTO multicast_members (group_eui, dev_eui) ");
        query.push_values(part, |mut row, member| {
            row.push_bind(eui_bytes(group)).push_bind(eui_bytes(*member));
        });
        query.build().execute(&mut **tx).await?;
    }
    Ok(())
}
