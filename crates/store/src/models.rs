//! Models, and the catalogues they came from.

use api::model::catalogue::{CatalogueSource, SourceKind};
use api::model::{Model, PutModel};
use chrono::{DateTime, Utc};
use domain::model::catalogue::differences;
use sqlx::mysql::MySqlRow;
use sqlx::{MySqlConnection, Row as _};

use crate::editions::{self, Saved};
use crate::rows::{json, to_json};
use crate::{EstateId, Store, StoreError};

/// A model with the state of its catalogue.
#[derive(Debug, Clone)]
pub struct ModelRow {
    /// The model.
    pub model: Model,
    /// The model as imported, before any change here.
    pub imported: Option<PutModel>,
}

/// A model as a catalogue's import leaves it.
#[derive(Debug, Clone)]
pub struct ImportedModel {
    /// Its short name.
    pub slug: String,
    /// The model.
    pub model: PutModel,
    /// As the catalogue has it.
    pub imported: PutModel,
    /// Why its decoder is not used.
    pub flaw: Option<String>,
}

/// A catalogue that is imported.
#[derive(Debug, Clone)]
pub struct Source {
    /// Where it is from.
    pub source: String,
    /// Of which kind that is.
    pub kind: SourceKind,
    /// The branch or tag of the repository.
    pub branch: Option<String>,
    /// The commit.
    pub revision: Option<String>,
}

fn read(row: &MySqlRow) -> Result<ModelRow, StoreError> {
    let text = |column: &str| row.try_get::<String, _>(column);
    let about = PutModel {
        maker: row.try_get("maker")?,
        name: row.try_get("name")?,
        description: row.try_get("description")?,
        profile_id: row.try_get("profile_id")?,
        decoder: row.try_get("decoder")?,
        decoder_kind: json("decoder kind", &format!("\"{}\"", text("decoder_kind")?))?,
        tests: json("tests", &text("tests")?)?,
        commands: json("commands", &text("commands")?)?,
        versions: json("versions", &text("versions")?)?,
        readings: json("model", &text("readings")?)?,
        radio: json("radio settings", &text("radio")?)?,
    };
    let imported: Option<String> = row.try_get("imported")?;
    let imported: Option<PutModel> = imported.map(|text| json("imported model", &text)).transpose()?;
    let model = Model {
        revision: String::new(),
        slug: row.try_get("slug")?,
        flaw: row.try_get("flaw")?,
        source: row.try_get("source")?,
        edited: imported.as_ref().map(|imported| differences(imported, &about)).unwrap_or_default(),
        changed_at: row.try_get("changed_at")?,
        about,
    };
    Ok(ModelRow { model, imported })
}

fn word(kind: SourceKind) -> &'static str {
    match kind {
        SourceKind::Shipped => "shipped",
        SourceKind::Files => "files",
        SourceKind::Git => "git",
    }
}

/// Stores a model and an edition of it; source and imported state stay as they are.
async fn put(
    connection: &mut MySqlConnection,
    estate_id: EstateId,
    slug: &str,
    (model, flaw): (&PutModel, Option<&str>),
    saved: Saved<'_>,
    changed_at: DateTime<Utc>,
) -> Result<(), StoreError> {
    let before = sqlx::query("SELECT * FROM models WHERE estate_id = ? AND slug = ? FOR UPDATE")
        .bind(estate_id)
        .bind(slug)
        .fetch_optional(&mut *connection)
        .await?;
    if let Some(row) = before {
        // A model from before editions existed becomes the first edition.
        let first = Saved { by: "", note: "as it was" };
        let ModelRow { model, .. } = read(&row)?;
        let id: u32 = row.try_get("id")?;
        editions::add(connection, id, &model.about, model.flaw.as_deref(), first, model.changed_at).await?;
    }
    sqlx::query(
        "INSERT INTO models (estate_id, slug, maker, name, description, profile_id, decoder, decoder_kind, tests, commands,
         versions, flaw, readings, radio, changed_at) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)
         ON DUPLICATE KEY UPDATE maker = VALUES(maker), name = VALUES(name), description = VALUES(description),
         profile_id = VALUES(profile_id), decoder = VALUES(decoder), decoder_kind = VALUES(decoder_kind),
         tests = VALUES(tests), commands = VALUES(commands), versions = VALUES(versions), flaw = VALUES(flaw),
         readings = VALUES(readings), radio = VALUES(radio), changed_at = VALUES(changed_at)",
    )
    .bind(estate_id)
    .bind(slug)
    .bind(&model.maker)
    .bind(&model.name)
    .bind(&model.description)
    .bind(&model.profile_id)
    .bind(&model.decoder)
    .bind(to_json("decoder kind", &model.decoder_kind)?.trim_matches('"').to_owned())
    .bind(to_json("tests", &model.tests)?)
    .bind(to_json("commands", &model.commands)?)
    .bind(to_json("versions", &model.versions)?)
    .bind(flaw)
    .bind(to_json("readings", &model.readings)?)
    .bind(to_json("radio settings", &model.radio)?)
    .bind(changed_at)
    .execute(&mut *connection)
    .await?;
    let id = sqlx::query_scalar("SELECT id FROM models WHERE estate_id = ? AND slug = ?")
        .bind(estate_id)
        .bind(slug)
        .fetch_one(&mut *connection)
        .await?;
    editions::add(connection, id, model, flaw, saved, changed_at).await
}

impl Store {
    /// Adds or replaces a model.
    pub async fn put_model(
        &self,
        estate_id: EstateId,
        slug: &str,
        model: &PutModel,
        flaw: Option<&str>,
        saved: Saved<'_>,
    ) -> Result<(), StoreError> {
        let mut tx = self.pool.begin().await?;
        put(&mut tx, estate_id, slug, (model, flaw), saved, Utc::now()).await?;
        tx.commit().await?;
        Ok(())
    }

    /// Stores the result of an import, all of it or nothing.
    pub async fn put_catalogue(
        &self,
        estate_id: EstateId,
        source: &Source,
        models: &[ImportedModel],
        saved_by: &str,
    ) -> Result<(), StoreError> {
        let now = Utc::now();
        let mut tx = self.pool.begin().await?;
        for ImportedModel { slug, model, imported, flaw } in models {
            let note = format!("from the catalogue {}", source.source);
            let saved = Saved { by: saved_by, note: &note };
            put(&mut tx, estate_id, slug, (model, flaw.as_deref()), saved, now).await?;
            sqlx::query("UPDATE models SET source = ?, imported = ? WHERE estate_id = ? AND slug = ?")
                .bind(&source.source)
                .bind(to_json("imported model", imported)?)
                .bind(estate_id)
                .bind(slug)
                .execute(&mut *tx)
                .await?;
        }
        sqlx::query(
            "INSERT INTO catalogue_sources (estate_id, source, kind, branch, revision, refreshed_at)
             VALUES (?, ?, ?, ?, ?, ?) ON DUPLICATE KEY UPDATE kind = VALUES(kind), branch = VALUES(branch),
             revision = VALUES(revision), refreshed_at = VALUES(refreshed_at)",
        )
        .bind(estate_id)
        .bind(&source.source)
        .bind(word(source.kind))
        .bind(&source.branch)
        .bind(&source.revision)
        .bind(now)
        .execute(&mut *tx)
        .await?;
        tx.commit().await?;
        Ok(())
    }

    /// The catalogues that models of an estate came from, with the branch of each.
    pub async fn catalogue_sources(
        &self,
        estate_id: EstateId,
    ) -> Result<Vec<(CatalogueSource, Option<String>)>, StoreError> {
        let rows = sqlx::query(
            "SELECT s.*, (SELECT COUNT(*) FROM models m WHERE m.estate_id = s.estate_id AND m.source = s.source) AS models
             FROM catalogue_sources s WHERE estate_id = ? ORDER BY source",
        )
        .bind(estate_id)
        .fetch_all(&self.pool)
        .await?;
        rows.iter()
            .map(|row| {
                let kind = match row.try_get::<&str, _>("kind")? {
                    "shipped" => SourceKind::Shipped,
                    "git" => SourceKind::Git,
                    _ => SourceKind::Files,
                };
                let source = CatalogueSource {
                    source: row.try_get("source")?,
                    kind,
                    revision: row.try_get("revision")?,
                    models: row.try_get::<i64, _>("models")?.unsigned_abs(),
                    refreshed_at: row.try_get("refreshed_at")?,
                };
                Ok((source, row.try_get("branch")?))
            })
            .collect()
    }

    /// A page of an estate's models by short name.
    pub async fn models(&self, estate_id: EstateId, after: &str, limit: u32) -> Result<Vec<ModelRow>, StoreError> {
        let statement = "SELECT * FROM models WHERE estate_id = ? AND slug > ? ORDER BY slug LIMIT ?";
        self.page(statement, estate_id, after, limit).await?.iter().map(read).collect()
    }

    /// One model of an estate.
    pub async fn model(&self, estate_id: EstateId, slug: &str) -> Result<Option<ModelRow>, StoreError> {
        let row = sqlx::query("SELECT * FROM models WHERE estate_id = ? AND slug = ?")
            .bind(estate_id)
            .bind(slug)
            .fetch_optional(&self.pool)
            .await?;
        row.as_ref().map(read).transpose()
    }

    /// Removes a model that no device uses. Whether there was one to remove.
    pub async fn remove_model(&self, estate_id: EstateId, slug: &str) -> Result<bool, StoreError> {
        let done = sqlx::query("DELETE FROM models WHERE estate_id = ? AND slug = ?")
            .bind(estate_id)
            .bind(slug)
            .execute(&self.pool)
            .await
            .map_err(|error| crate::constraint(error, "model"))?;
        Ok(done.rows_affected() > 0)
    }
}
