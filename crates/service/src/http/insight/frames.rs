//! Decodes a frame, and compares it with the registered device it comes from.

use api::calculator::frame::{FrameDevice, FrameQuestion, FrameReport};
use api::problem::Problem;
use axum::extract::State;
use domain::calculator::frame;
use domain::{Check, input};
use engine::{Activation, Session};
use lorawan::dissect::{self, Known, Report};
use lorawan::wire::Frame;
use lorawan::{Direction, Eui64};
use store::DeviceContext;

use crate::http::app::App;
use crate::http::error::{Refusal, not_found};
use crate::http::extract::WholeEstate;
use crate::http::json::{Answer, Json};
use crate::http::models::turns::{Purpose, TURN};

/// Devices that a frame is compared with, at most. An address is seldom shared by more.
const MOST_DEVICES: usize = 8;

/// Decodes a frame. Without keys in the request, those of the registered device that it names, or of the devices with
/// its address, are tried.
#[utoipa::path(post, path = "/estates/{estate}/frame", tag = "frames",
    extensions(("x-right" = json!("view"))), request_body = FrameQuestion,
    responses((status = 200, body = FrameReport), (status = 404, body = Problem), (status = 422, body = Problem)))]
pub(crate) async fn decode_frame(
    State(app): State<App>,
    estate: WholeEstate,
    Json(question): Json<FrameQuestion>,
) -> Answer<FrameReport> {
    let (bytes, known) = question.check()?;
    let candidates = if frame::has_keys(&question) {
        Vec::new()
    } else {
        candidates(&app, &estate, &question, &bytes, &known).await?
    };
    // Trying all counters under several keys takes a while of computing: one frame of an account at a time.
    let turn = app.turns.turn((estate.context.who.person.id, Purpose::Frames), TURN).await?;
    let report = tokio::task::spawn_blocking(move || {
        let _turn = turn;
        let (report, device) = best(&bytes, &known, candidates);
        frame::report(&bytes, report, device)
    });
    let report = report.await.map_err(|why| {
        tracing::error!("a frame could not be taken apart: {why}");
        Problem::new(500, "failed", "The frame could not be taken apart")
    })?;
    Ok(Json(report))
}

/// The report of the first device whose keys agree; failing that, of the first one.
fn best(bytes: &[u8], plain: &Known, candidates: Vec<(DeviceContext, Known)>) -> (Report, Option<FrameDevice>) {
    let mut first = None;
    for (device, known) in candidates {
        let report = dissect::frame(bytes, &known);
        let device = FrameDevice { dev_eui: device.dev_eui, name: device.name };
        if report.agreed().is_some() {
            return (report, Some(device));
        }
        first.get_or_insert((report, Some(device)));
    }
    first.unwrap_or_else(|| (dissect::frame(bytes, plain), None))
}

/// The estate's devices that the frame may come from, with what is known of each.
async fn candidates(
    app: &App,
    estate: &WholeEstate,
    question: &FrameQuestion,
    bytes: &[u8],
    plain: &Known,
) -> Result<Vec<(DeviceContext, Known)>, Refusal> {
    let named = question.device.as_deref().map(|text| input::eui("device", text)).transpose()?;
    let frame = Frame::parse(bytes).ok();
    let euis: Vec<Eui64> = match (named, &frame) {
        (Some(eui), _) => vec![eui],
        (None, Some(Frame::JoinRequest(request))) => vec![request.dev_eui()],
        (None, Some(Frame::RejoinRequest(request))) => vec![request.dev_eui()],
        (None, Some(Frame::Data(view))) => app.network.devices_at(view.dev_addr()).await,
        _ => Vec::new(),
    };
    let mut out = Vec::new();
    for eui in euis {
        let device = app.directory.device(eui).filter(|device| device.estate_id == estate.id);
        let Some(device) = device else { continue };
        if out.len() == MOST_DEVICES {
            break;
        }
        let mut known = Known { region: plain.region.or(Some(device.region)), ..plain.clone() };
        match &frame {
            Some(Frame::Data(view)) => {
                let status = app.network.device(eui).await;
                let sessions = status.into_iter().flat_map(|s| s.session.into_iter().chain(s.next_session));
                // Of two sessions at different addresses only one can have made it.
                let Some(session) = sessions.into_iter().find(|s| s.dev_addr == view.dev_addr()) else { continue };
                known = with_session(known, &session, view.direction());
            }
            _ => {
                if let Some(Activation::OverTheAir(root)) = app.store.activation_of(estate.id, eui).await? {
                    known.app_key = Some(root.app_key);
                    known.nwk_key = root.nwk_key;
                }
                known.dev_eui = Some(eui);
            }
        }
        out.push((device, known));
    }
    match named {
        Some(eui) if out.is_empty() => Err(not_found("device, or it has no session yet", eui)),
        _ => Ok(out),
    }
}

fn with_session(mut known: Known, session: &Session, direction: Direction) -> Known {
    let (keys, counters) = (&session.keys, &session.counters);
    if session.speaks_1_1 {
        known.session.f_nwk_s_int_key = Some(keys.f_nwk_s_int_key);
        known.session.s_nwk_s_int_key = Some(keys.s_nwk_s_int_key);
        known.session.nwk_s_enc_key = Some(keys.nwk_s_enc_key);
    } else {
        known.session.nwk_s_key = Some(keys.f_nwk_s_int_key);
    }
    known.session.app_s_key = Some(keys.app_s_key);
    known.last_counter = known.last_counter.or(match direction {
        Direction::Up => counters.up,
        Direction::Down => counters.next_down.max(counters.next_app_down).checked_sub(1),
    });
    known
}
