//! Labels: read from photos, and printed.

use std::time::{Duration, Instant};

use api::device::label::{Label, LabelInPhoto};
use api::problem::{Problem, bad_field};
use axum::extract::State;
use axum::http::header;
use axum::response::IntoResponse;
use domain::device::label;
use lorawan::Eui64;
use serde::Deserialize;

use crate::http::app::App;
use crate::http::devices::device::Which;
use crate::http::error::Refusal;
use crate::http::extract::{Params, VisibleEstate, WholeEstate};
use crate::http::json::{Answer, Json};
use crate::http::models::scripts::blocking;
use crate::http::upload::Upload;
use crate::import::labels;
use crate::import::labels::Printed;

/// How long codes are looked for in a photo.
const PHOTO_TAKES: Duration = Duration::from_secs(5);
/// Labels in one request.
const MOST: usize = 2100;
/// Vendor and profile where a model has none (TR005 §3: a number that no vendor has).
const NO_PROFILE: u32 = 0xffff_0000;

/// Finds the code of a device's label in a photo (JPEG, PNG or WebP): QR or Data Matrix.
#[utoipa::path(post, path = "/estates/{estate}/labels/read", tag = "devices",
    extensions(("x-right" = json!("view"))), request_body(content = Vec<u8>, content_type = "application/octet-stream"),
    responses((status = 200, body = LabelInPhoto), (status = 413, body = Problem), (status = 422, body = Problem)))]
pub(crate) async fn read_photo(_estate: WholeEstate, Upload { bytes, turn }: Upload) -> Answer<LabelInPhoto> {
    // The turn ends with the work, also if the caller has left.
    let read = move || {
        let _turn = turn;
        labels::in_photo(&bytes, Instant::now() + PHOTO_TAKES)
    };
    Ok(Json(blocking(read).await??))
}

/// How labels are drawn.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Deserialize, utoipa::ToSchema)]
#[serde(rename_all = "lowercase")]
pub(crate) enum SheetForm {
    Pdf,
    Svg,
}

/// What to print on.
#[derive(Debug, Deserialize, utoipa::IntoParams)]
#[into_params(parameter_in = Query)]
pub(crate) struct Sheet {
    /// `pdf` or `svg`; a PDF if not given.
    #[param(inline)]
    form: Option<SheetForm>,
}

/// Labels with the code of each device (TR005), 21 on a sheet of A4, in the order of the list. They hold no key.
#[utoipa::path(get, path = "/estates/{estate}/devices/labels", tag = "devices",
    extensions(("x-right" = json!("view"))),
    params(Which, Sheet),
    responses((status = 200, content_type = "application/pdf", body = Vec<u8>), (status = 404, body = Problem),
        (status = 422, body = Problem)))]
pub(crate) async fn print_labels(
    State(app): State<App>,
    VisibleEstate { estate, within }: VisibleEstate,
    Params(which): Params<Which>,
    Params(sheet): Params<Sheet>,
) -> Result<impl IntoResponse, Refusal> {
    let which = which.checked(&app, (&estate, within), "").await?;
    let devices = app.store.devices(estate.id, &which, MOST as u32 + 1).await?;
    match devices.len() {
        0 => {
            return Err(Refusal(Problem::new(
                404,
                "not_found",
                "No device is like that, so there is no label to print",
            )));
        }
        n if n > MOST => {
            let allowed = format!("at most {MOST} labels are printed in one go: choose by fleet, model or tag");
            return Err(bad_field("devices", "more of them", allowed).into());
        }
        _ => {}
    }
    let defaults = app.store.defaults(estate.id).await?;
    let printed: Vec<Printed> = devices
        .into_iter()
        .map(|row| {
            let base = row.model.as_ref().and_then(|slug| defaults.models.get(slug));
            let profile = base.and_then(|base| u32::from_str_radix(base.profile_id.as_deref()?, 16).ok());
            let profile = profile.unwrap_or(NO_PROFILE);
            // A label has a JoinEUI (TR005); that of a device that does not join is all zeros.
            let join_eui = row.join_eui.unwrap_or(Eui64(0));
            let label = Label {
                join_eui,
                dev_eui: row.dev_eui,
                vendor_id: (profile >> 16) as u16,
                vendor_profile_id: profile as u16,
                owner_token: None,
                serial_number: None,
                proprietary: None,
            };
            let (dev_eui, join_eui) = (row.dev_eui.to_string(), join_eui.to_string());
            Printed { code: label::code(&label), name: row.name, dev_eui, join_eui }
        })
        .collect();
    let (kind, name, bytes) = match sheet.form.unwrap_or(SheetForm::Pdf) {
        SheetForm::Pdf => ("application/pdf", "labels.pdf", blocking(move || labels::pdf(&printed)).await??),
        SheetForm::Svg => ("image/svg+xml", "labels.svg", blocking(move || labels::svg(&printed)).await??.into_bytes()),
    };
    let disposition = format!("attachment; filename=\"{name}\"");
    Ok(([(header::CONTENT_TYPE, kind.to_owned()), (header::CONTENT_DISPOSITION, disposition)], bytes))
}
