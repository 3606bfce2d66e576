//! The engine's state as rows.

use std::collections::HashMap;

use chrono::Utc;
use engine::{Change, Class, Counters, Nonces, OutboxId, OutboxState, Session};
use lorawan::Eui64;
use sqlx::{MySql, QueryBuilder, Transaction};

use super::parts;
use crate::rows::{eui_bytes, time_of, to_json};
use crate::state::{Thing, thing, transmitter_columns};
use crate::vault::Purpose;
use crate::{Store, StoreError, outbox};

impl Store {
    pub(crate) async fn write_changes(
        &self,
        tx: &mut Transaction<'_, MySql>,
        changes: &[Change],
    ) -> Result<(), StoreError> {
        for change in changes {
            self.write_session_change(tx, change).await?;
        }
        let latest = Latest::of(changes)?;
        write_counters(tx, &latest.counters).await?;
        write_settings(tx, &latest.settings).await?;
        write_outbox(tx, &latest.outbox).await?;
        write_near(tx, &latest.near).await?;
        write_group_counters(tx, &latest.group_counters).await?;
        write_airtime(tx, &latest.airtime).await
    }

    /// Sessions and nonces are written one after the other, as they came.
    async fn write_session_change(&self, tx: &mut Transaction<'_, MySql>, change: &Change) -> Result<(), StoreError> {
        match change {
            Change::Session { dev_eui, session, begun } => {
                self.write_session(tx, *dev_eui, session, *begun).await?;
                if *begun {
                    write_counters(tx, &[(*dev_eui, session.counters)]).await?;
                }
            }
            Change::Nonces { dev_eui, dev_nonce, nonces } => write_nonces(tx, *dev_eui, *dev_nonce, nonces).await?,
            Change::Began { dev_eui, counters } => {
                begin_session(tx, *dev_eui).await?;
                write_counters(tx, &[(*dev_eui, *counters)]).await?;
            }
            Change::Ended { dev_eui, nonces } => end_sessions(tx, *dev_eui, *nonces).await?,
            _ => {}
        }
        Ok(())
    }

    async fn write_session(
        &self,
        tx: &mut Transaction<'_, MySql>,
        dev_eui: Eui64,
        session: &Session,
        begun: bool,
    ) -> Result<(), StoreError> {
        sqlx::query(
            "REPLACE INTO sessions (dev_eui, stage, dev_addr, keys_sealed, speaks_1_1, settings, joined_at)
             VALUES (?, ?, ?, ?, ?, ?, ?)",
        )
        .bind(eui_bytes(dev_eui))
        .bind(if begun { "running" } else { "next" })
        .bind(session.dev_addr.0)
        .bind(self.sealed_session_keys(Purpose::SessionKeys, dev_eui, &session.keys)?)
        .bind(session.speaks_1_1)
        .bind(to_json("settings", &session.settings)?)
        .bind(time_of(session.joined_at))
        .execute(&mut **tx)
        .await?;
        Ok(())
    }
}

/// Changes of which only the last counts, by what they are about.
#[derive(Default)]
struct Latest<'a> {
    counters: Vec<(Eui64, Counters)>,
    settings: Vec<(Eui64, String)>,
    outbox: Vec<(&'a OutboxId, &'a OutboxState, u8, i64)>,
    near: Vec<(Eui64, Class, String)>,
    group_counters: Vec<(Eui64, u32)>,
    airtime: Vec<AirtimeMinute>,
}

struct AirtimeMinute {
    transmitter: (&'static str, Vec<u8>),
    sub_band: &'static str,
    minute: i64,
    airtime_us: u64,
    frames: u32,
}

impl<'a> Latest<'a> {
    fn of(changes: &'a [Change]) -> Result<Self, StoreError> {
        let mut last: HashMap<Thing, &Change> = HashMap::new();
        for change in changes {
            if let Change::Session { dev_eui, begun: true, .. }
            | Change::Began { dev_eui, .. }
            | Change::Ended { dev_eui, .. } = change
            {
                // A change of the session before must not overwrite the new one.
                last.remove(&Thing::Counters(*dev_eui));
                last.remove(&Thing::Settings(*dev_eui));
            }
            if let Some(thing) = thing(change) {
                last.insert(thing, change);
            }
        }
        let mut latest = Self::default();
        for change in last.into_values() {
            latest.add(change)?;
        }
        Ok(latest)
    }

    fn add(&mut self, change: &'a Change) -> Result<(), StoreError> {
        match change {
            Change::Counters { dev_eui, counters } => self.counters.push((*dev_eui, *counters)),
            Change::Settings { dev_eui, settings } => self.settings.push((*dev_eui, to_json("settings", settings)?)),
            Change::Outbox { id, state, attempts, place, .. } => self.outbox.push((id, state, *attempts, *place)),
            Change::Near { dev_eui, class, near } => {
                self.near.push((*dev_eui, *class, to_json("near gateways", near)?));
            }
            Change::GroupCounter { group, next_down } => self.group_counters.push((*group, *next_down)),
            Change::Airtime { transmitter, sub_band, minute, airtime_us, frames } => {
                let transmitter = transmitter_columns(*transmitter);
                let (minute, airtime_us, frames) = (*minute, *airtime_us, *frames);
                self.airtime.push(AirtimeMinute { transmitter, sub_band, minute, airtime_us, frames });
            }
            Change::Session { .. } | Change::Nonces { .. } | Change::Began { .. } | Change::Ended { .. } => {}
        }
        Ok(())
    }
}

async fn write_settings(tx: &mut Transaction<'_, MySql>, all: &[(Eui64, String)]) -> Result<(), StoreError> {
    for (dev_eui, settings) in all {
        sqlx::query("UPDATE sessions SET settings = ? WHERE dev_eui = ? AND stage = 'running'")
            .bind(settings)
            .bind(eui_bytes(*dev_eui))
            .execute(&mut **tx)
            .await?;
    }
    Ok(())
}

async fn write_outbox(
    tx: &mut Transaction<'_, MySql>,
    all: &[(&OutboxId, &OutboxState, u8, i64)],
) -> Result<(), StoreError> {
    for (id, state, attempts, place) in all {
        let (state, note, counter) = outbox::columns(state);
        sqlx::query(
            "UPDATE outbox SET state = ?, note = ?, counter = ?, attempts = ?, place = ?, changed_at = ? WHERE id = ?",
        )
        .bind(outbox::state_word(state)?)
        .bind(note)
        .bind(counter)
        .bind(attempts)
        .bind(place)
        .bind(Utc::now())
        .bind(id.0.to_be_bytes().to_vec())
        .execute(&mut **tx)
        .await?;
    }
    Ok(())
}

async fn write_near(tx: &mut Transaction<'_, MySql>, all: &[(Eui64, Class, String)]) -> Result<(), StoreError> {
    for part in parts(all) {
        let mut query = QueryBuilder::<MySql>::new("REPLACE INTO near_gateways (dev_eui, class, near) ");
        query.push_values(part, |mut row, (dev_eui, class, near)| {
            row.push_bind(eui_bytes(*dev_eui)).push_bind(class.name()).push_bind(near.clone());
        });
        query.build().execute(&mut **tx).await?;
    }
    Ok(())
}

async fn write_group_counters(tx: &mut Transaction<'_, MySql>, all: &[(Eui64, u32)]) -> Result<(), StoreError> {
    for (group, next_down) in all {
        sqlx::query("REPLACE INTO multicast_counters (group_eui, next_down) VALUES (?, ?)")
            .bind(eui_bytes(*group))
            .bind(next_down)
            .execute(&mut **tx)
            .await?;
    }
    Ok(())
}

async fn write_airtime(tx: &mut Transaction<'_, MySql>, all: &[AirtimeMinute]) -> Result<(), StoreError> {
    for part in parts(all) {
        let mut query =
            QueryBuilder::<MySql>::new("INSERT INTO airtime (transmitter, eui, sub_band, minute, airtime_us, frames) ");
        query.push_values(part, |mut row, of| {
            let (kind, eui) = &of.transmitter;
            row.push_bind(*kind).push_bind(eui.clone()).push_bind(of.sub_band).push_bind(of.minute);
            row.push_bind(of.airtime_us).push_bind(of.frames);
        });
        query.push(" ON DUPLICATE KEY UPDATE airtime_us = VALUES(airtime_us), frames = VALUES(frames)");
        query.build().execute(&mut **tx).await?;
    }
    Ok(())
}

async fn end_sessions(tx: &mut Transaction<'_, MySql>, dev_eui: Eui64, nonces: bool) -> Result<(), StoreError> {
    let tables = ["DELETE FROM sessions WHERE dev_eui = ?", "DELETE FROM counters WHERE dev_eui = ?"];
    let nonces = nonces.then_some("DELETE FROM dev_nonces WHERE dev_eui = ?");
    for statement in tables.into_iter().chain(nonces) {
        sqlx::query(statement).bind(eui_bytes(dev_eui)).execute(&mut **tx).await?;
    }
    Ok(())
}

async fn write_nonces(
    tx: &mut Transaction<'_, MySql>,
    dev_eui: Eui64,
    dev_nonce: Option<u16>,
    nonces: &Nonces,
) -> Result<(), StoreError> {
    sqlx::query("REPLACE INTO nonces (dev_eui, next_join_nonce, rj_count_1) VALUES (?, ?, ?)")
        .bind(eui_bytes(dev_eui))
        .bind(nonces.next_join_nonce)
        .bind(nonces.rj_count_1)
        .execute(&mut **tx)
        .await?;
    if let Some(dev_nonce) = dev_nonce {
        sqlx::query("INSERT IGNORE INTO dev_nonces (dev_eui, dev_nonce) VALUES (?, ?)")
            .bind(eui_bytes(dev_eui))
            .bind(dev_nonce)
            .execute(&mut **tx)
            .await?;
    }
    Ok(())
}

/// The session agreed upon takes the place of the running one. Done twice, as after a commit whose answer
/// was lost, it changes nothing more.
async fn begin_session(tx: &mut Transaction<'_, MySql>, dev_eui: Eui64) -> Result<(), StoreError> {
    sqlx::query(
        "DELETE r FROM sessions r JOIN sessions n ON n.dev_eui = r.dev_eui AND n.stage = 'next'
         WHERE r.dev_eui = ? AND r.stage = 'running'",
    )
    .bind(eui_bytes(dev_eui))
    .execute(&mut **tx)
    .await?;
    sqlx::query("UPDATE sessions SET stage = 'running' WHERE dev_eui = ? AND stage = 'next'")
        .bind(eui_bytes(dev_eui))
        .execute(&mut **tx)
        .await?;
    Ok(())
}

async fn write_counters(tx: &mut Transaction<'_, MySql>, all: &[(Eui64, Counters)]) -> Result<(), StoreError> {
    for part in parts(all) {
        let mut query = QueryBuilder::<MySql>::new(
            "INSERT INTO counters (dev_eui, up, last_mic, next_down, next_app_down, confirmed_down, rj_count_0) ",
        );
        query.push_values(part, |mut row, (dev_eui, counters)| {
            row.push_bind(eui_bytes(*dev_eui)).push_bind(counters.up).push_bind(counters.last_mic.to_vec());
            row.push_bind(counters.next_down).push_bind(counters.next_app_down);
            row.push_bind(counters.confirmed_down).push_bind(counters.rj_count_0);
        });
        // In place: REPLACE would take the row out and put it in again.
        query.push(
            " ON DUPLICATE KEY UPDATE up = VALUES(up), last_mic = VALUES(last_mic), next_down = VALUES(next_down),
              next_app_down = VALUES(next_app_down), confirmed_down = VALUES(confirmed_down),
              rj_count_0 = VALUES(rj_count_0)",
        );
        query.build().execute(&mut **tx).await?;
    }
    Ok(())
}
