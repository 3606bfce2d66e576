//! Registered devices, and what is shown of them.

use std::collections::{BTreeMap, HashMap, HashSet};

use api::device::place::Place;
use api::device::{DeviceKeys, DeviceState, LastReading};
use api::message::RefusalNote;
use api::radio::settings::RadioSettings;
use chrono::{DateTime, Utc};
use domain::device::state::device_keys;
use domain::input::stored_tag;
use engine::{Activation, DeviceConfig};
use lorawan::region::Region;
use lorawan::{DevAddr, Eui64};
use sqlx::mysql::MySqlRow;
use sqlx::{MySql, QueryBuilder, Row as _};

use crate::device_config::{CONFIG, Profiles, whole_radio};
use crate::people::access_filter::limit_to;
use crate::rows::{AMONG, among, eui, eui_bytes, json, optional_eui, region};
use crate::{AccessFilter, EstateId, Store, StoreError};

/// A device as its list shows it.
#[derive(Debug, Clone)]
pub struct DeviceRow {
    /// The device's DevEUI.
    pub dev_eui: Eui64,
    /// Its JoinEUI; a personalized device needs none.
    pub join_eui: Option<Eui64>,
    /// Its name.
    pub name: String,
    /// The short name of its fleet.
    pub fleet: String,
    /// The short name of its model.
    pub model: Option<String>,
    /// The short name of its radio profile.
    pub profile: Option<String>,
    /// Its description.
    pub description: String,
    /// Its hardware version.
    pub hardware: Option<String>,
    /// Its firmware version.
    pub firmware: Option<String>,
    /// Where it is.
    pub place: Option<Place>,
    /// What else is known of it.
    pub attributes: BTreeMap<String, String>,
    /// Its tags.
    pub tags: Vec<String>,
    /// Whether it is disabled.
    pub disabled: bool,
    /// Its region.
    pub region: Region,
    /// Its own settings.
    pub radio: RadioSettings,
    /// Its effective settings.
    pub whole_radio: RadioSettings,
    /// Whether it is activated by personalization (ABP).
    pub personalized: bool,
    /// When it was registered.
    pub added_at: DateTime<Utc>,
    /// When it last joined.
    pub joined_at: Option<DateTime<Utc>>,
    /// When it was last heard.
    pub last_heard: Option<DateTime<Utc>>,
    /// How often it usually sends, in seconds.
    pub usual_interval_s: Option<f64>,
    /// Why its last frame was refused.
    pub refusal: Option<RefusalNote>,
    /// When it was first refused for that reason, of the times in a row.
    pub refused_since: Option<DateTime<Utc>>,
}

/// A device in messages, and its usual interval.
#[derive(Debug, Clone)]
pub struct DeviceContext {
    /// The device's DevEUI.
    pub dev_eui: Eui64,
    /// Its estate.
    pub estate_id: EstateId,
    /// The short name of its fleet.
    pub fleet: String,
    /// Its name.
    pub name: String,
    /// The short name of its model.
    pub model: Option<String>,
    /// Its hardware version.
    pub hardware: Option<String>,
    /// Its firmware version.
    pub firmware: Option<String>,
    /// Its region.
    pub region: Region,
    /// When it was last heard.
    pub last_heard: Option<DateTime<Utc>>,
    /// How often it usually sends, in seconds.
    pub usual_interval_s: Option<f64>,
}

/// What devices can have in common.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Common {
    /// By fleet.
    Fleet,
    /// By model.
    Model,
    /// By radio profile.
    Profile,
}

impl Common {
    const fn column(self) -> &'static str {
        match self {
            Self::Fleet => " AND f.slug = ",
            Self::Model => " AND m.slug = ",
            Self::Profile => " AND p.slug = ",
        }
    }
}

/// Devices with all that a list shows of them. Always from the devices on: what the database counts of its tables is
/// old after thousands came at once, and by it the planner begins at the fleets.
macro_rules! from_devices {
    ($columns:literal) => {
        concat!(
            "SELECT STRAIGHT_JOIN ",
            $columns,
            " FROM devices d JOIN fleets f ON f.id = d.fleet_id LEFT JOIN models m ON m.id = d.model_id
             LEFT JOIN radio_profiles p ON p.id = d.profile_id LEFT JOIN activity a ON a.dev_eui = d.dev_eui
             WHERE d.estate_id = "
        )
    };
}

const SELECT: &str = from_devices!(
    "d.dev_eui, d.join_eui, d.name, d.description, d.hardware, d.firmware, d.latitude_deg, d.longitude_deg, d.height_m,
     d.indoor, d.antenna_gain_dbi, d.penetration_loss_db, d.attributes, d.disabled, d.region, d.radio, d.personal_addr,
     d.added_at, f.slug AS fleet, m.slug AS model, p.slug AS profile, p.radio AS profile_radio, m.radio AS model_radio,
     (SELECT MAX(s.joined_at) FROM sessions s WHERE s.dev_eui = d.dev_eui) AS joined_at,
     (SELECT GROUP_CONCAT(t.tag ORDER BY t.tag) FROM device_tags t WHERE t.dev_eui = d.dev_eui) AS tags,
     a.last_heard, a.usual_interval_s, a.refusal, a.refused_since"
);

/// Only which they are: what a page shows is looked up for that page alone.
const WHICH: &str = from_devices!("d.dev_eui");

/// Which they are, with what their state follows from.
const WHICH_BY_STATE: &str = from_devices!(
    "d.dev_eui, d.disabled, d.personal_addr, d.radio, p.radio AS profile_radio, m.radio AS model_radio,
     (SELECT MAX(s.joined_at) FROM sessions s WHERE s.dev_eui = d.dev_eui) AS joined_at, a.last_heard, a.usual_interval_s, a.refusal,
     a.refused_at"
);

fn read(row: &MySqlRow) -> Result<DeviceRow, StoreError> {
    let refusal: Option<String> = row.try_get("refusal")?;
    let tags: Option<String> = row.try_get("tags")?;
    Ok(DeviceRow {
        dev_eui: eui(row, "dev_eui")?,
        join_eui: optional_eui(row, "join_eui")?,
        name: row.try_get("name")?,
        fleet: row.try_get("fleet")?,
        model: row.try_get("model")?,
        profile: row.try_get("profile")?,
        description: row.try_get("description")?,
        hardware: row.try_get("hardware")?,
        firmware: row.try_get("firmware")?,
        place: place(row)?,
        attributes: json("attributes", &row.try_get::<String, _>("attributes")?)?,
        tags: tags.map_or_else(Vec::new, |tags| tags.split(',').map(str::to_owned).collect()),
        disabled: row.try_get("disabled")?,
        region: region(row)?,
        radio: json("radio settings", &row.try_get::<String, _>("radio")?)?,
        whole_radio: whole_radio(row)?,
        personalized: row.try_get::<Option<u32>, _>("personal_addr")?.is_some(),
        added_at: row.try_get("added_at")?,
        joined_at: row.try_get("joined_at")?,
        last_heard: row.try_get("last_heard")?,
        usual_interval_s: row.try_get("usual_interval_s")?,
        refusal: refusal.map(|text| json("refusal", &text)).transpose()?,
        refused_since: row.try_get("refused_since")?,
    })
}

/// Where a device is: both coordinates, or none.
fn place(row: &MySqlRow) -> Result<Option<Place>, StoreError> {
    let at: (Option<f64>, Option<f64>) = (row.try_get("latitude_deg")?, row.try_get("longitude_deg")?);
    let (Some(latitude_deg), Some(longitude_deg)) = at else { return Ok(None) };
    Ok(Some(Place {
        latitude_deg,
        longitude_deg,
        height_m: row.try_get("height_m")?,
        indoor: row.try_get("indoor")?,
        antenna_gain_dbi: row.try_get("antenna_gain_dbi")?,
        penetration_loss_db: row.try_get("penetration_loss_db")?,
    }))
}

/// Filters and order.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct DeviceQuery {
    /// Of this fleet.
    pub fleet: Option<String>,
    /// Of this model.
    pub model: Option<String>,
    /// With this radio profile.
    pub profile: Option<String>,
    /// With this tag.
    pub tag: Option<String>,
    /// Heard by this gateway, given by EUI or name.
    pub gateway: Option<String>,
    /// In this state.
    pub state: Option<DeviceState>,
    /// Part of a name, an EUI, an address or a tag.
    pub find: Option<String>,
    /// Only those in this part of the estate.
    pub within: Option<AccessFilter>,
    /// In this order.
    pub order: DeviceOrder,
    /// Descending.
    pub backwards: bool,
    /// The last row of the page before.
    pub after: Option<DeviceCursor>,
}

/// What devices are ordered by.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub enum DeviceOrder {
    /// By name.
    #[default]
    Name,
    /// By when they were last heard.
    LastHeard,
    /// By when they were registered.
    Added,
}

/// A place in an ordered list.
#[derive(Debug, Clone, PartialEq)]
pub enum DeviceCursor {
    /// The name.
    Name(String),
    /// A time, and the DevEUI of the one that has it.
    Time(DateTime<Utc>, Eui64),
}

impl DeviceOrder {
    const fn column(self) -> &'static str {
        match self {
            Self::Name => "d.name",
            Self::LastHeard => "COALESCE(a.last_heard, '1970-01-01')",
            Self::Added => "d.added_at",
        }
    }
}

/// What `DeviceState::of` says, over the columns of a device's row.
fn state_is(query: &mut QueryBuilder<MySql>, state: DeviceState) {
    // The session of a personalized device is there from the start, and says nothing.
    const GOOD: &str = "NULLIF(GREATEST(COALESCE(IF(personal_addr IS NULL, joined_at, NULL), '1970-01-01'),
        COALESCE(last_heard, '1970-01-01')), '1970-01-01')";
    const REFUSED: &str = "refused_at IS NOT NULL AND refusal IS NOT NULL";
    const OVERDUE: &str = "> 60 + 3 * COALESCE(JSON_VALUE(radio, '$.uplink_interval_s'), JSON_VALUE(profile_radio, '$.uplink_interval_s'),
        JSON_VALUE(model_radio, '$.uplink_interval_s'), usual_interval_s, 86400)";
    query.push(" HAVING disabled = ").push_bind(state == DeviceState::Disabled);
    let good = |query: &mut QueryBuilder<MySql>, overdue: bool| {
        query.push(format_args!(" AND {GOOD} IS NOT NULL AND NOT ({REFUSED} AND refused_at > {GOOD}) AND "));
        query.push(if overdue { "" } else { "NOT " });
        query.push(format_args!("(TIMESTAMPDIFF(SECOND, {GOOD}, UTC_TIMESTAMP(6)) {OVERDUE})"));
    };
    match state {
        DeviceState::Disabled => {}
        DeviceState::NeverJoined => {
            query.push(format_args!(" AND {GOOD} IS NULL AND NOT ({REFUSED}) AND personal_addr IS NULL"));
        }
        DeviceState::NeverHeard => {
            query.push(format_args!(" AND {GOOD} IS NULL AND NOT ({REFUSED}) AND personal_addr IS NOT NULL"));
        }
        DeviceState::Refused => {
            query.push(format_args!(" AND {REFUSED} AND ({GOOD} IS NULL OR refused_at > {GOOD})"));
        }
        DeviceState::Silent => good(query, true),
        DeviceState::Active => good(query, false),
    }
}

/// The hex digits of a text that may be part of an EUI, however it is grouped; in lower case.
pub fn eui_digits(text: &str) -> Option<String> {
    let digits: String = text.chars().filter(|c| !matches!(c, ' ' | ':' | '-')).collect();
    let hex = !digits.is_empty() && digits.chars().all(|c| c.is_ascii_hexdigit());
    hex.then(|| digits.to_ascii_lowercase())
}

/// A text to look for anywhere in a column, its own wildcards taken as they are written.
pub(crate) fn anywhere(text: &str) -> String {
    format!("%{}%", text.replace('\\', "\\\\").replace('%', "\\%").replace('_', "\\_"))
}

/// What a list is limited to: fleet, model, profile, tag, gateway and a text to look for.
fn add_filters(query: &mut QueryBuilder<MySql>, which: &DeviceQuery) {
    let equal =
        [(" AND f.slug = ", &which.fleet), (" AND m.slug = ", &which.model), (" AND p.slug = ", &which.profile)];
    for (column, wanted) in equal {
        if let Some(wanted) = wanted {
            query.push(column).push_bind(wanted);
        }
    }
    if let Some(tag) = &which.tag {
        query.push(" AND EXISTS (SELECT 1 FROM device_tags t WHERE t.dev_eui = d.dev_eui AND t.tag = ");
        query.push_bind(stored_tag(tag)).push(")");
    }
    if let Some(gateway) = &which.gateway {
        // A name with `%` in it is no pattern: what is looked for is the EUI.
        query.push(
            " AND EXISTS (SELECT 1 FROM near_gateways n JOIN gateways g ON n.near LIKE CONCAT('%\"', LOWER(HEX(g.eui)), '\"%')
              WHERE n.dev_eui = d.dev_eui AND g.estate_id = d.estate_id AND (g.name = ",
        );
        query.push_bind(gateway).push(" OR HEX(g.eui) = ").push_bind(eui_digits(gateway)).push("))");
    }
    if let Some(find) = &which.find {
        let text = anywhere(find);
        query.push(" AND (d.name LIKE ").push_bind(text.clone());
        query.push(" OR EXISTS (SELECT 1 FROM device_tags t WHERE t.dev_eui = d.dev_eui AND t.tag LIKE ");
        query.push_bind(text.to_lowercase()).push(")");
        if let Some(digits) = eui_digits(find) {
            let digits = anywhere(&digits);
            query.push(" OR HEX(d.dev_eui) LIKE ").push_bind(digits.clone());
            query.push(" OR HEX(d.join_eui) LIKE ").push_bind(digits.clone());
            query.push(" OR EXISTS (SELECT 1 FROM sessions s WHERE s.dev_eui = d.dev_eui AND LPAD(HEX(s.dev_addr), 8, '0') LIKE ");
            query.push_bind(digits).push(")");
        }
        query.push(")");
    }
}

impl Store {
    /// A page of an estate's devices.
    pub async fn devices(
        &self,
        estate_id: EstateId,
        which: &DeviceQuery,
        limit: u32,
    ) -> Result<Vec<DeviceRow>, StoreError> {
        let mut query = QueryBuilder::<MySql>::new(if which.state.is_some() { WHICH_BY_STATE } else { WHICH });
        query.push_bind(estate_id);
        add_filters(&mut query, which);
        if let Some(part) = &which.within {
            limit_to(&mut query, part, "d.dev_eui", estate_id);
        }
        let (column, than) = (which.order.column(), if which.backwards { " < " } else { " > " });
        match &which.after {
            Some(DeviceCursor::Name(name)) => {
                query.push(" AND d.name").push(than).push_bind(name);
            }
            Some(DeviceCursor::Time(time, dev_eui)) => {
                query.push(" AND (").push(column).push(", d.dev_eui)").push(than).push("(").push_bind(time).push(", ");
                query.push_bind(eui_bytes(*dev_eui)).push(")");
            }
            None => {}
        }
        if let Some(state) = which.state {
            state_is(&mut query, state);
        }
        let way = if which.backwards { " DESC" } else { "" };
        query.push(" ORDER BY ").push(column).push(way);
        // Names are there once each, and in an index.
        if which.order != DeviceOrder::Name {
            query.push(", d.dev_eui").push(way);
        }
        query.push(" LIMIT ").push_bind(limit);
        let rows = query.build().fetch_all(&self.pool).await?;
        let euis: Vec<Eui64> = rows.iter().map(|row| eui(row, "dev_eui")).collect::<Result<_, _>>()?;
        let mut found: HashMap<Eui64, DeviceRow> =
            self.devices_of(estate_id, &euis).await?.into_iter().map(|row| (row.dev_eui, row)).collect();
        Ok(euis.iter().filter_map(|eui| found.remove(eui)).collect())
    }

    /// One device of an estate.
    pub async fn device(&self, estate_id: EstateId, dev_eui: Eui64) -> Result<Option<DeviceRow>, StoreError> {
        let mut query = QueryBuilder::<MySql>::new(SELECT);
        query.push_bind(estate_id).push(" AND d.dev_eui = ").push_bind(eui_bytes(dev_eui));
        let row = query.build().fetch_optional(&self.pool).await?;
        row.as_ref().map(read).transpose()
    }

    /// A device's last readings, by name.
    pub async fn last_readings(&self, dev_eui: Eui64) -> Result<BTreeMap<String, LastReading>, StoreError> {
        let rows = sqlx::query("SELECT name, reading, time FROM last_readings WHERE dev_eui = ?")
            .bind(eui_bytes(dev_eui))
            .fetch_all(&self.pool)
            .await?;
        rows.iter()
            .map(|row| {
                let reading = json("reading", &row.try_get::<String, _>("reading")?)?;
                Ok((row.try_get("name")?, LastReading { reading, time: row.try_get("time")? }))
            })
            .collect()
    }

    /// A device's keys, for one who may see them.
    pub async fn activation_of(&self, estate_id: EstateId, dev_eui: Eui64) -> Result<Option<Activation>, StoreError> {
        let row = sqlx::query("SELECT * FROM devices WHERE estate_id = ? AND dev_eui = ?")
            .bind(estate_id)
            .bind(eui_bytes(dev_eui))
            .fetch_optional(&self.pool)
            .await?;
        row.map(|row| self.activation(dev_eui, &row)).transpose()
    }

    /// A device as the engine wants it.
    pub async fn device_config_of(&self, dev_eui: Eui64) -> Result<Option<DeviceConfig>, StoreError> {
        let mut query = QueryBuilder::<MySql>::new(CONFIG);
        query.push(" WHERE d.dev_eui = ").push_bind(eui_bytes(dev_eui));
        Ok(self.configs(query).await?.pop())
    }

    /// Devices that have something in common, as the engine wants them.
    pub async fn configs_with(
        &self,
        estate_id: EstateId,
        common: Common,
        slug: &str,
    ) -> Result<Vec<DeviceConfig>, StoreError> {
        let mut query = QueryBuilder::<MySql>::new(CONFIG);
        query.push(" WHERE d.estate_id = ").push_bind(estate_id).push(common.column()).push_bind(slug);
        self.configs(query).await
    }

    /// Some devices as the engine wants them.
    pub async fn configs_of(&self, euis: &[Eui64]) -> Result<Vec<DeviceConfig>, StoreError> {
        let mut all = Vec::with_capacity(euis.len());
        for part in euis.chunks(AMONG) {
            let mut query = QueryBuilder::<MySql>::new(CONFIG);
            among(&mut query, " WHERE d.dev_eui", part, eui_bytes);
            all.extend(self.configs(query).await?);
        }
        Ok(all)
    }

    /// Some devices of an estate; those that are not there are left out.
    pub async fn devices_of(&self, estate_id: EstateId, euis: &[Eui64]) -> Result<Vec<DeviceRow>, StoreError> {
        let mut all = Vec::with_capacity(euis.len());
        for part in euis.chunks(AMONG) {
            let mut query = QueryBuilder::<MySql>::new(SELECT);
            query.push_bind(estate_id);
            let rows = among(&mut query, " AND d.dev_eui", part, eui_bytes).build().fetch_all(&self.pool).await?;
            all.extend(rows.iter().map(read).collect::<Result<Vec<_>, _>>()?);
        }
        Ok(all)
    }

    /// The keys of all devices of an estate, for one who may see them.
    pub async fn keys_of_estate(&self, estate_id: EstateId) -> Result<HashMap<Eui64, DeviceKeys>, StoreError> {
        let rows =
            sqlx::query("SELECT * FROM devices WHERE estate_id = ?").bind(estate_id).fetch_all(&self.pool).await?;
        rows.iter()
            .map(|row| {
                let dev_eui = eui(row, "dev_eui")?;
                Ok((dev_eui, device_keys(dev_eui, &self.activation(dev_eui, row)?)))
            })
            .collect()
    }

    /// Addresses that are in use, of whichever estate.
    pub async fn addresses(&self) -> Result<HashSet<DevAddr>, StoreError> {
        let statement =
            "SELECT dev_addr FROM sessions UNION SELECT personal_addr FROM devices WHERE personal_addr IS NOT NULL";
        let all: Vec<u32> = sqlx::query_scalar(statement).fetch_all(&self.pool).await?;
        Ok(all.into_iter().map(DevAddr).collect())
    }

    async fn configs(&self, mut query: QueryBuilder<MySql>) -> Result<Vec<DeviceConfig>, StoreError> {
        let rows = query.build().fetch_all(&self.pool).await?;
        let mut profiles = Profiles::default();
        rows.iter().map(|row| self.device_config(row, &mut profiles)).collect()
    }

    /// What messages say of every device, for the start of the service.
    pub async fn device_contexts(&self) -> Result<Vec<DeviceContext>, StoreError> {
        let rows = sqlx::query(
            "SELECT d.dev_eui, d.estate_id, f.slug AS fleet, d.name, m.slug AS model, d.hardware, d.firmware, d.region,
             a.last_heard, a.usual_interval_s FROM devices d JOIN fleets f ON f.id = d.fleet_id LEFT JOIN models m ON m.id = d.model_id
             LEFT JOIN activity a ON a.dev_eui = d.dev_eui",
        )
        .fetch_all(&self.pool)
        .await?;
        Ok(self.readable("device", "dev_eui", &rows, |row| {
            Ok(DeviceContext {
                dev_eui: eui(row, "dev_eui")?,
                estate_id: row.try_get("estate_id")?,
                fleet: row.try_get("fleet")?,
                name: row.try_get("name")?,
                model: row.try_get("model")?,
                hardware: row.try_get("hardware")?,
                firmware: row.try_get("firmware")?,
                region: region(row)?,
                last_heard: row.try_get("last_heard")?,
                usual_interval_s: row.try_get("usual_interval_s")?,
            })
        }))
    }
}
