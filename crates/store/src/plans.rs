//! Planning: sites and kinds of receiver by name, what forecasts need of gateways, and forecasts.

use api::coverage::forecast::Forecast;
use api::coverage::site::{NewSite, SiteRadio};
use lorawan::Eui64;
use serde::Serialize;
use serde::de::DeserializeOwned;
use sqlx::Row as _;
use sqlx::mysql::MySqlRow;

use crate::rows::{eui, eui_bytes, json, to_json};
use crate::{EstateId, Store, StoreError, constraint};

/// What is planned.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum PlanKind {
    /// A place with an antenna.
    Site,
    /// A kind of receiver.
    Receiver,
    /// A path model calibrated on the survey.
    Calibration,
    /// A file of the ground.
    GroundFile,
}

impl PlanKind {
    const fn name(self) -> &'static str {
        match self {
            Self::Site => "site",
            Self::Receiver => "receiver",
            Self::Calibration => "calibration",
            Self::GroundFile => "ground",
        }
    }
}

/// A forecast with the files of its sites' losses.
#[derive(Debug, Clone, PartialEq)]
pub struct ForecastRow {
    /// Its estate.
    pub estate_id: EstateId,
    /// What is told of it.
    pub forecast: Forecast,
    /// The names of the files, one for each site that is done.
    pub losses: Vec<String>,
}

fn read(row: &MySqlRow) -> Result<ForecastRow, StoreError> {
    Ok(ForecastRow {
        estate_id: row.try_get("estate_id")?,
        forecast: json("forecast", &row.try_get::<String, _>("about")?)?,
        losses: json("losses", &row.try_get::<String, _>("losses")?)?,
    })
}

impl Store {
    /// What is planned of a kind, by name.
    pub async fn plans<T: DeserializeOwned>(&self, estate_id: EstateId, kind: PlanKind) -> Result<Vec<T>, StoreError> {
        let rows = sqlx::query("SELECT about FROM plans WHERE estate_id = ? AND kind = ? ORDER BY name")
            .bind(estate_id)
            .bind(kind.name())
            .fetch_all(&self.pool)
            .await?;
        rows.iter().map(|row| json(kind.name(), &row.try_get::<String, _>("about")?)).collect()
    }

    /// All plans of a kind, of all estates. One that cannot be read is left out: the list of its estate says why.
    pub async fn plans_of_all<T: DeserializeOwned>(&self, kind: PlanKind) -> Result<Vec<(EstateId, T)>, StoreError> {
        let rows = sqlx::query("SELECT estate_id, about FROM plans WHERE kind = ?")
            .bind(kind.name())
            .fetch_all(&self.pool)
            .await?;
        let one = |row: &MySqlRow| {
            let about = json(kind.name(), &row.try_get::<String, _>("about").ok()?).ok()?;
            Some((row.try_get("estate_id").ok()?, about))
        };
        Ok(rows.iter().filter_map(one).collect())
    }

    /// Adds something planned.
    pub async fn add_plan<T: Serialize + Sync>(
        &self,
        estate_id: EstateId,
        kind: PlanKind,
        (name, about): (&str, &T),
    ) -> Result<(), StoreError> {
        sqlx::query("INSERT INTO plans (estate_id, kind, name, about) VALUES (?, ?, ?, ?)")
            .bind(estate_id)
            .bind(kind.name())
            .bind(name)
            .bind(to_json(kind.name(), about)?)
            .execute(&self.pool)
            .await
            .map_err(|e| constraint(e, kind.name()))?;
        Ok(())
    }

    /// Adds something planned, or replaces what has its name.
    pub async fn put_plan<T: Serialize + Sync>(
        &self,
        estate_id: EstateId,
        kind: PlanKind,
        (name, about): (&str, &T),
    ) -> Result<(), StoreError> {
        sqlx::query(
            "INSERT INTO plans (estate_id, kind, name, about) VALUES (?, ?, ?, ?)
             ON DUPLICATE KEY UPDATE about = VALUES(about)",
        )
        .bind(estate_id)
        .bind(kind.name())
        .bind(name)
        .bind(to_json(kind.name(), about)?)
        .execute(&self.pool)
        .await?;
        Ok(())
    }

    /// Removes something planned; whether there was one.
    pub async fn remove_plan(&self, estate_id: EstateId, kind: PlanKind, name: &str) -> Result<bool, StoreError> {
        let done = sqlx::query("DELETE FROM plans WHERE estate_id = ? AND kind = ? AND name = ?")
            .bind(estate_id)
            .bind(kind.name())
            .bind(name)
            .execute(&self.pool)
            .await?;
        Ok(done.rows_affected() > 0)
    }

    /// What forecasts need of an estate's gateways, as far as it has been said.
    pub async fn gateway_radios(&self, estate_id: EstateId) -> Result<Vec<(Eui64, SiteRadio)>, StoreError> {
        let rows = sqlx::query(
            "SELECT r.gateway_eui, r.radio FROM gateway_radios r JOIN gateways g ON g.eui = r.gateway_eui
             WHERE g.estate_id = ?",
        )
        .bind(estate_id)
        .fetch_all(&self.pool)
        .await?;
        let one = |row: &MySqlRow| Ok((eui(row, "gateway_eui")?, json("radio", &row.try_get::<String, _>("radio")?)?));
        rows.iter().map(one).collect()
    }

    /// Changes sites, all or none: what forecasts need of gateways, and planned sites by the names that they have had.
    pub async fn change_sites(
        &self,
        estate_id: EstateId,
        gateways: &[(Eui64, SiteRadio)],
        planned: &[(String, NewSite)],
    ) -> Result<(), StoreError> {
        let mut tx = self.pool.begin().await?;
        for (gateway_eui, radio) in gateways {
            sqlx::query(
                "INSERT INTO gateway_radios (gateway_eui, radio) VALUES (?, ?)
                 ON DUPLICATE KEY UPDATE radio = VALUES(radio)",
            )
            .bind(eui_bytes(*gateway_eui))
            .bind(to_json("radio", radio)?)
            .execute(&mut *tx)
            .await
            .map_err(|e| constraint(e, "gateway"))?;
        }
        for (was, site) in planned {
            sqlx::query("UPDATE plans SET name = ?, about = ? WHERE estate_id = ? AND kind = ? AND name = ?")
                .bind(&site.name)
                .bind(to_json("site", site)?)
                .bind(estate_id)
                .bind(PlanKind::Site.name())
                .bind(was)
                .execute(&mut *tx)
                .await
                .map_err(|e| constraint(e, "site"))?;
        }
        tx.commit().await?;
        Ok(())
    }

    /// Adds a forecast.
    pub async fn add_forecast(&self, estate_id: EstateId, forecast: &Forecast) -> Result<(), StoreError> {
        sqlx::query("INSERT INTO forecasts (id, estate_id, state, about, losses) VALUES (?, ?, ?, ?, '[]')")
            .bind(&forecast.id)
            .bind(estate_id)
            .bind(forecast.state.name())
            .bind(to_json("forecast", forecast)?)
            .execute(&self.pool)
            .await?;
        Ok(())
    }

    /// Notes how far a forecast has come, unless somebody has stopped or removed it; whether it is still wanted.
    pub async fn note_forecast(&self, forecast: &Forecast, losses: &[String]) -> Result<bool, StoreError> {
        let done = sqlx::query(
            "UPDATE forecasts SET state = ?, about = ?, losses = ? WHERE id = ? AND state IN ('waiting', 'running')",
        )
        .bind(forecast.state.name())
        .bind(to_json("forecast", forecast)?)
        .bind(to_json("losses", &losses)?)
        .bind(&forecast.id)
        .execute(&self.pool)
        .await?;
        Ok(done.rows_affected() > 0)
    }

    /// Stops a forecast that has not ended; whether there was one.
    pub async fn stop_forecast(&self, row: &ForecastRow) -> Result<bool, StoreError> {
        let done =
            sqlx::query("UPDATE forecasts SET state = ?, about = ? WHERE id = ? AND state IN ('waiting', 'running')")
                .bind(row.forecast.state.name())
                .bind(to_json("forecast", &row.forecast)?)
                .bind(&row.forecast.id)
                .execute(&self.pool)
                .await?;
        Ok(done.rows_affected() > 0)
    }

    /// An estate's forecasts, newest first.
    pub async fn forecasts(&self, estate_id: EstateId, limit: u32) -> Result<Vec<ForecastRow>, StoreError> {
        let rows = sqlx::query("SELECT * FROM forecasts WHERE estate_id = ? ORDER BY id DESC LIMIT ?")
            .bind(estate_id)
            .bind(limit)
            .fetch_all(&self.pool)
            .await?;
        rows.iter().map(read).collect()
    }

    /// One forecast of an estate.
    pub async fn forecast(&self, estate_id: EstateId, id: &str) -> Result<Option<ForecastRow>, StoreError> {
        let row = sqlx::query("SELECT * FROM forecasts WHERE estate_id = ? AND id = ?")
            .bind(estate_id)
            .bind(id)
            .fetch_optional(&self.pool)
            .await?;
        row.as_ref().map(read).transpose()
    }

    /// All forecasts that have not ended, oldest first. One whose row cannot be read is left out: it keeps no other from being
    /// computed, and its estate's list says what is wrong with it.
    pub async fn open_forecasts(&self) -> Result<Vec<ForecastRow>, StoreError> {
        let rows = sqlx::query("SELECT * FROM forecasts WHERE state IN ('waiting', 'running') ORDER BY id")
            .fetch_all(&self.pool)
            .await?;
        Ok(rows.iter().filter_map(|row| read(row).ok()).collect())
    }

    /// Removes a forecast; whether there was one.
    pub async fn remove_forecast(&self, estate_id: EstateId, id: &str) -> Result<bool, StoreError> {
        let done = sqlx::query("DELETE FROM forecasts WHERE estate_id = ? AND id = ?")
            .bind(estate_id)
            .bind(id)
            .execute(&self.pool)
            .await?;
        Ok(done.rows_affected() > 0)
    }

    /// The files of losses that some forecast still needs.
    pub async fn losses_in_use(&self) -> Result<Vec<String>, StoreError> {
        let rows = sqlx::query("SELECT losses FROM forecasts").fetch_all(&self.pool).await?;
        let one = |row: &MySqlRow| json::<Vec<String>>("losses", &row.try_get::<String, _>("losses")?);
        let all: Result<Vec<Vec<String>>, StoreError> = rows.iter().map(one).collect();
        Ok(all?.concat())
    }
}
