//! Models and their decoders.

use api::model::{Model, PutModel};
use chrono::Utc;
use sqlx::Row as _;
use sqlx::mysql::MySqlRow;

use crate::rows::{json, to_json};
use crate::{EstateId, Store, StoreError};

fn read(row: &MySqlRow) -> Result<Model, StoreError> {
    Ok(Model {
        slug: row.try_get("slug")?,
        maker: row.try_get("maker")?,
        name: row.try_get("name")?,
        decoder: row.try_get("decoder")?,
        units: json("model", &row.try_get::<String, _>("units")?)?,
        radio: json("radio settings", &row.try_get::<String, _>("radio")?)?,
        changed_at: row.try_get("changed_at")?,
    })
}

impl Store {
    /// Adds a model or replaces it.
    pub async fn put_model(&self, estate_id: EstateId, slug: &str, model: &PutModel) -> Result<Model, StoreError> {
        let changed_at = Utc::now();
        sqlx::query(
            "INSERT INTO models (estate_id, slug, maker, name, decoder, units, radio, changed_at)
             VALUES (?, ?, ?, ?, ?, ?, ?, ?)
             ON DUPLICATE KEY UPDATE maker = VALUES(maker), name = VALUES(name), decoder = VALUES(decoder),
             units = VALUES(units), radio = VALUES(radio), changed_at = VALUES(changed_at)",
        )
        .bind(estate_id)
        .bind(slug)
        .bind(&model.maker)
        .bind(&model.name)
        .bind(&model.decoder)
        .bind(to_json("units", &model.units)?)
        .bind(to_json("radio settings", &model.radio)?)
        .bind(changed_at)
        .execute(&self.pool)
        .await?;
        Ok(Model {
            slug: slug.into(),
            maker: model.maker.clone(),
            name: model.name.clone(),
            decoder: model.decoder.clone(),
            units: model.units.clone(),
            radio: model.radio.clone(),
            changed_at,
        })
    }

    /// A page of an estate's models by short name.
    pub async fn models(&self, estate_id: EstateId, after: &str, limit: u32) -> Result<Vec<Model>, StoreError> {
        let statement = "SELECT * FROM models WHERE estate_id = ? AND slug > ? ORDER BY slug LIMIT ?";
        self.page(statement, estate_id, after, limit).await?.iter().map(read).collect()
    }

    pub async fn model(&self, estate_id: EstateId, slug: &str) -> Result<Option<Model>, StoreError> {
        let row = sqlx::query("SELECT * FROM models WHERE estate_id = ? AND slug = ?")
            .bind(estate_id)
            .bind(slug)
            .fetch_optional(&self.pool)
            .await?;
        row.as_ref().map(read).transpose()
    }
}
