//! Where a device is, and what else is known of it, as options.

use std::collections::BTreeMap;

use anyhow::{Context as _, Result, bail};
use api::device::place::Place;

use crate::commands::device::args::PlaceArgs;

impl PlaceArgs {
    /// Whether nothing of it is given.
    pub(super) const fn is_empty(&self) -> bool {
        let Self { latitude_deg, longitude_deg, height_m, indoor, antenna_gain_dbi, penetration_loss_db } = self;
        let at = latitude_deg.is_none() && longitude_deg.is_none() && height_m.is_none() && indoor.is_none();
        at && antenna_gain_dbi.is_none() && penetration_loss_db.is_none()
    }

    /// The place that is given; what is not given stays as it was.
    ///
    /// # Errors
    /// If nothing says where on the globe it is.
    pub(super) fn over(&self, before: Option<Place>) -> Result<Option<Place>> {
        if self.is_empty() {
            return Ok(before);
        }
        let at = self.latitude_deg.zip(self.longitude_deg).or(before.map(|p| (p.latitude_deg, p.longitude_deg)));
        let Some((latitude_deg, longitude_deg)) = at else {
            bail!("--latitude-deg and --longitude-deg are needed: it is not known yet where the device is");
        };
        let was = before.unwrap_or_default();
        Ok(Some(Place {
            latitude_deg,
            longitude_deg,
            height_m: self.height_m.or(was.height_m),
            indoor: self.indoor.or(was.indoor),
            antenna_gain_dbi: self.antenna_gain_dbi.or(was.antenna_gain_dbi),
            penetration_loss_db: self.penetration_loss_db.or(was.penetration_loss_db),
        }))
    }
}

/// Attributes as they are given; one without a text is to be removed.
pub(super) fn attributes(given: &[String]) -> Result<BTreeMap<String, Option<String>>> {
    let read = |given: &String| {
        let (name, text) =
            given.split_once('=').with_context(|| format!("--attribute {given}: NAME=TEXT is wanted"))?;
        Ok((name.to_owned(), Some(text.to_owned()).filter(|text| !text.trim().is_empty())))
    };
    given.iter().map(read).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_not_given_stays() {
        let (height_m, indoor, penetration_loss_db) = (Some(2.0), Some(false), Some(3.0));
        let before =
            Place { latitude_deg: 54.7, longitude_deg: 3.9, height_m, indoor, penetration_loss_db, ..Place::default() };
        let args = |at: Option<f64>, height_m, indoor| PlaceArgs {
            latitude_deg: at,
            longitude_deg: at,
            height_m,
            indoor,
            antenna_gain_dbi: None,
            penetration_loss_db: None,
        };
        assert_eq!(args(None, None, None).over(Some(before)).unwrap(), Some(before));
        let raised = args(None, Some(3.0), None).over(Some(before)).unwrap().unwrap();
        assert_eq!(raised, Place { height_m: Some(3.0), ..before });
        let moved = args(Some(1.0), None, Some(true)).over(Some(before)).unwrap().unwrap();
        assert_eq!((moved.latitude_deg, moved.height_m, moved.indoor), (1.0, Some(2.0), Some(true)));
        assert!(args(None, Some(3.0), None).over(None).is_err());
        let attributes = attributes(&["owner=x=y".into(), "pole=".into()]).unwrap();
        assert_eq!(attributes, [("owner".to_owned(), Some("x=y".to_owned())), ("pole".to_owned(), None)].into());
    }
}
