//! Messages written out as CSV or JSON Lines, a part at a time, oldest first.

use anyhow::Result;
use api::heard::{HeardBy, Radio};
use api::message::{Body, Message};
use axum::body::Bytes;
use chrono::SecondsFormat;
use domain::csv::guarded;
use store::{EstateId, MessageQuery, Store};
use tokio::sync::mpsc;

use crate::history::TextForm;

/// Messages read at once.
const PAGE: u32 = 500;

const HEAD: [&str; 15] = [
    "time",
    "type",
    "device",
    "dev_eui",
    "fleet",
    "counter",
    "port",
    "payload",
    "data_rate",
    "frequency_mhz",
    "gateway",
    "rssi_dbm",
    "snr_db",
    "readings",
    "why",
];

/// Fills in how a frame was sent, and who heard it best.
fn radio(row: &mut [String; 15], radio: &Radio, heard_by: &[HeardBy]) {
    row[8] = radio.data_rate.map_or_else(String::new, |rate| rate.to_string());
    row[9] = radio.frequency_mhz.to_string();
    if let Some(best) = heard_by.first() {
        row[10] = guarded(&best.name);
        row[11] = best.rssi_dbm.to_string();
        row[12] = best.snr_db.map_or_else(String::new, |snr| snr.to_string());
    }
}

/// One row; cells that a message has nothing for are empty.
fn row(message: &Message) -> [String; 15] {
    let mut row: [String; 15] = std::array::from_fn(|_| String::new());
    row[0] = message.time.to_rfc3339_opts(SecondsFormat::Millis, true);
    message.body.kind().clone_into(&mut row[1]);
    if let Some(device) = &message.device {
        row[2] = guarded(&device.name);
        row[3] = device.eui.to_string();
    }
    row[4] = message.fleet.clone().unwrap_or_default();
    match &message.body {
        Body::Uplink(uplink) => {
            radio(&mut row, &uplink.radio, &uplink.heard_by);
            row[5] = uplink.frame.counter.to_string();
            row[6] = uplink.frame.port.map_or_else(String::new, |port| port.to_string());
            row[7].clone_from(&uplink.frame.payload);
            let readings = uplink.readings.iter().map(|(name, reading)| format!("{name}={reading}"));
            row[13] = guarded(&readings.collect::<Vec<_>>().join("; "));
            row[14] = guarded(uplink.decode_error.as_deref().unwrap_or_default());
        }
        Body::Join(join) => radio(&mut row, &join.radio, &join.heard_by),
        Body::Refused(refused) => {
            radio(&mut row, &refused.radio, &refused.heard_by);
            row[14] = guarded(&refused.refusal.why);
        }
        Body::Downlink(downlink) => {
            if let Some(frame) = &downlink.frame {
                row[5] = frame.counter.map_or_else(String::new, |counter| counter.to_string());
                row[6] = frame.port.map_or_else(String::new, |port| port.to_string());
                row[7].clone_from(&frame.payload);
            }
            if let Some(sent) = &downlink.sent {
                radio(&mut row, &sent.radio, &[]);
                row[10] = guarded(&sent.name);
            }
            row[14] = guarded(downlink.note.as_deref().unwrap_or_default());
        }
        Body::Notice(notice) => row[14] = guarded(&notice.why),
        Body::Gateway(_) => {}
    }
    row
}

fn written(form: TextForm, messages: &[Message], head: bool) -> Result<Vec<u8>> {
    let mut out = Vec::new();
    match form {
        TextForm::JsonLines => {
            for message in messages {
                serde_json::to_writer(&mut out, message)?;
                out.push(b'\n');
            }
        }
        TextForm::Csv => {
            let mut writer = csv::Writer::from_writer(&mut out);
            if head {
                writer.write_record(HEAD)?;
            }
            for message in messages {
                writer.write_record(row(message))?;
            }
            writer.flush()?;
            drop(writer);
        }
    }
    Ok(out)
}

/// Writes messages out, as long as the receiver takes them.
///
/// # Errors
/// If the database does not answer; what was sent until then is not whole.
pub(crate) async fn export(
    store: &Store,
    estate: EstateId,
    form: TextForm,
    mut which: MessageQuery,
    to: &mpsc::Sender<Result<Bytes, std::io::Error>>,
) -> Result<()> {
    which.oldest_first = true;
    let mut head = true;
    loop {
        let page = store.messages(estate, &which, PAGE).await?;
        let part = written(form, &page, head)?;
        head = false;
        if !part.is_empty() && to.send(Ok(part.into())).await.is_err() {
            return Ok(());
        }
        match page.last() {
            Some(last) if page.len() == PAGE as usize => which.after = Some(last.id.clone()),
            _ => return Ok(()),
        }
    }
}
