//! Frames of the join: request, accept, rejoin-request.

use super::known::Known;
use super::{Field, Reader, Report, Verdict, data_rate, eui, number};
use crate::crypto::{JoinServerKeys, MicKey, join_server_keys};
use crate::mac::Mhz;
use crate::region::CfListForm;
use crate::wire::{Answered, CfList, JoinAccept, JoinKind, RejoinRequestView};
use crate::{AesKey, Eui64};

fn mic(reader: &mut Reader<'_, '_>) {
    reader.take(4, "MIC", |bytes| (hex::encode(bytes), None));
}

pub(super) fn request(mut reader: Reader<'_, '_>, known: &Known) {
    let bytes = reader.bytes;
    let mut read = || {
        let join_eui = reader.take(8, "JoinEUI", eui)?;
        let dev_eui = reader.take(8, "DevEUI", eui)?;
        let nonce = reader.take(2, "DevNonce", |b| (number(b).to_string(), None))?;
        mic(&mut reader);
        reader.surplus();
        Some((eui(join_eui).0, eui(dev_eui).0, number(nonce)))
    };
    let read = read();
    let report = reader.report;
    let Some((join_eui, dev_eui, nonce)) = read else {
        report.summary = "A join-request that is cut off.".into();
        return;
    };
    report.summary = format!("Device {dev_eui} asks to join {join_eui}, with DevNonce {nonce}.");
    let Some((signed, sent)) = bytes.split_last_chunk::<4>().filter(|_| report.stopped.is_none()) else { return };
    // The strict view would refuse a frame with reserved bits in its MHDR; its MIC can be checked all the same.
    let made_with = |key: &AesKey| MicKey::new(key).join_mic(signed) == *sent;
    for (version, name, key) in [("1.0.x", "AppKey", known.app_key), ("1.1", "NwkKey", known.nwk_key)] {
        let Some(key) = key else { continue };
        let agrees = made_with(&key);
        let note = if agrees {
            "the device has this key".into()
        } else if made_with(&key.reversed()) {
            "it agrees once the key's bytes are reversed".into()
        } else {
            format!("the device has another {name}")
        };
        report.verdicts.push(Verdict { version, key: name, agrees, note, counters: Vec::new() });
    }
}

pub(super) fn rejoin(mut reader: Reader<'_, '_>, known: &Known) {
    let bytes = reader.bytes;
    let mut read = || {
        let kind = reader.take(1, "RejoinType", |b| (b[0].to_string(), Some(rejoin_words(b[0]).into())))?[0];
        if kind > 2 {
            reader.report.stop(1, format!("rejoin type {kind} is not defined: it is 0, 1 or 2"));
            return None;
        }
        let to = if kind == 1 { eui(reader.take(8, "JoinEUI", eui)?).0 } else { eui(reader.take(3, "NetID", eui)?).0 };
        let dev_eui = reader.take(8, "DevEUI", eui)?;
        let name = if kind == 1 { "RJcount1" } else { "RJcount0" };
        reader.take(2, name, |b| (number(b).to_string(), None))?;
        mic(&mut reader);
        reader.surplus();
        Some((kind, to, eui(dev_eui).0))
    };
    let read = read();
    let report = reader.report;
    let Some((kind, to, dev_eui)) = read else {
        report.summary = "A rejoin-request that is cut off or of no known type.".into();
        return;
    };
    report.summary = format!("Device {dev_eui} sends rejoin-request type {kind} to {to}: {}.", rejoin_words(kind));
    let Ok(view) = RejoinRequestView::new_checked(bytes) else { return };
    let (name, key) = if kind == 1 {
        ("JSIntKey", known.nwk_key.map(|key| join_server_keys(&key, view.dev_eui()).js_int_key))
    } else {
        ("SNwkSIntKey", known.session.s_nwk_s_int_key)
    };
    if let Some(key) = key {
        let agrees = view.verify(&MicKey::new(&key));
        let note = if agrees { "the device has this key" } else { "the device has another key" }.into();
        report.verdicts.push(Verdict { version: "1.1", key: name, agrees, note, counters: Vec::new() });
    }
}

const fn rejoin_words(kind: u8) -> &'static str {
    match kind {
        0 => "hand over or renew session and radio settings",
        1 => "find the network again through the join server",
        2 => "renew the session keys",
        _ => "not defined",
    }
}

pub(super) fn accept(mut reader: Reader<'_, '_>, known: &Known) {
    let bytes = reader.bytes;
    let sealed = reader.left();
    if !matches!(sealed, 16 | 32) {
        reader.take(sealed, "(sealed)", |b| (hex::encode(b), None));
        let why = format!("a join-accept has 17 or 33 bytes, not {}", bytes.len());
        reader.report.stop(bytes.len().min(17), why);
        reader.report.summary = "A join-accept of a wrong length.".into();
        return;
    }
    let opened = open(bytes, known, reader.report);
    let report = &mut *reader.report;
    let Some((accept, clear)) = opened else {
        report.summary = "A sealed join-accept.".into();
        let note = if report.verdicts.is_empty() { "sealed: a root key opens it" } else { "no key known opens it" };
        reader.take(sealed, "(sealed)", |b| (hex::encode(b), Some(note.into())));
        return;
    };
    report.summary = format!(
        "A join-accept: DevAddr {}, RX1 after {} s, RX2 at {}.",
        accept.dev_addr,
        accept.rx_delay_s.max(1),
        data_rate(known.region, accept.rx2_data_rate)
    );
    let mut at = 1;
    let mut field = |len: usize, name: &'static str, value: String, note: Option<String>| {
        let clear = Some(clear[at..at + len].to_vec());
        report.fields.push(Field { at, len, name, value, note, clear, depth: 0 });
        at += len;
    };
    field(3, "JoinNonce", accept.join_nonce.to_string(), Some("AppNonce before 1.0.4".into()));
    field(3, "NetID", accept.net_id.to_string(), None);
    field(4, "DevAddr", accept.dev_addr.to_string(), None);
    let opt_neg = if accept.opt_neg { ", OptNeg: the network uses LoRaWAN 1.1" } else { "" };
    let settings = format!(
        "RX1DROffset {}, RX2 at {}{opt_neg}",
        accept.rx1_data_rate_offset,
        data_rate(known.region, accept.rx2_data_rate)
    );
    field(1, "DLSettings", settings, None);
    field(1, "RXDelay", format!("{} s", accept.rx_delay_s.max(1)), None);
    if let Some(list) = accept.cf_list {
        let (value, note) = cf_list_words(&list, known);
        field(16, "CFList", value, note);
    }
    field(4, "MIC", hex::encode(&clear[clear.len() - 4..]), None);
}

fn cf_list_words(list: &CfList, known: &Known) -> (String, Option<String>) {
    let form = known.region.map(|r| r.plan().cf_list);
    match list {
        CfList::Frequencies(all) => {
            let all: Vec<String> =
                all.iter().map(|hz| if *hz == 0 { "unused".into() } else { Mhz(*hz).to_string() }).collect();
            let wrong = matches!(form, Some(CfListForm::Masks(_)));
            (format!("type 0: {}", all.join(", ")), wrong.then(|| "the region wants type 1: devices discard it".into()))
        }
        CfList::Masks(masks) => {
            let set = masks
                .iter()
                .zip(0u8..)
                .fold(crate::region::ChannelSet::EMPTY, |set, (mask, i)| set.with_sixteen(16 * i, *mask));
            let wrong = matches!(form, Some(CfListForm::Frequencies));
            (format!("type 1: channels {set} on"), wrong.then(|| "the region wants type 0: devices discard it".into()))
        }
        CfList::Other { kind, .. } => (format!("type {kind}"), Some("not defined: devices discard it".into())),
    }
}

/// Tries every key known, notes a verdict for each, and gives the content and the frame in the clear.
fn open(bytes: &[u8], known: &Known, report: &mut Report) -> Option<(JoinAccept, Vec<u8>)> {
    let mut opened = None;
    let mut tried = |version, key: &'static str, result: Option<JoinAccept>, seal: &AesKey, note: &str| {
        let agrees = result.is_some();
        report.verdicts.push(Verdict { version, key, agrees, note: note.into(), counters: Vec::new() });
        if let (Some(accept), None) = (result, &opened) {
            let mut clear = bytes.to_vec();
            crate::crypto::open_join_accept(seal, &mut clear[1..]);
            opened = Some((accept, clear));
        }
    };
    if let Some(key) = known.app_key {
        let accept = JoinAccept::open(bytes, &key).ok().filter(|a| !a.opt_neg);
        let note = if accept.is_some() { "signed and sealed with this key" } else { "made with another key" };
        tried("1.0.x", "AppKey", accept, &key, note);
    }
    let Some(nwk_key) = known.nwk_key else { return opened };
    let accept = JoinAccept::open(bytes, &nwk_key).ok().filter(|a| !a.opt_neg);
    let note =
        if accept.is_some() { "a 1.0.x network answers a 1.1 device" } else { "not the answer of a 1.0.x network" };
    tried("1.0.x", "NwkKey", accept, &nwk_key, note);
    let Some((dev_eui, join_eui)) = known.dev_eui.zip(known.join_eui) else {
        tried("1.1", "JSIntKey", None, &nwk_key, "to check it, DevEUI and JoinEUI are needed");
        return opened;
    };
    let keys = join_server_keys(&nwk_key, dev_eui);
    for kind in [JoinKind::Join, JoinKind::Rejoin(0), JoinKind::Rejoin(1), JoinKind::Rejoin(2)] {
        let Some((accept, dev_nonce)) = open_1_1(bytes, &nwk_key, &keys, kind, join_eui, known.dev_nonce) else {
            continue;
        };
        let (seal, note) = match kind {
            JoinKind::Join => (nwk_key, format!("answers the join-request with DevNonce {dev_nonce}")),
            JoinKind::Rejoin(kind) => {
                (keys.js_enc_key, format!("answers rejoin-request type {kind} with RJcount {dev_nonce}"))
            }
        };
        tried("1.1", "JSIntKey", Some(accept), &seal, &note);
        return opened;
    }
    tried("1.1", "JSIntKey", None, &nwk_key, "made with another key, or for another request");
    opened
}

/// Opens a join-accept of 1.1; if it is not known which request it answers, by trying all nonces.
fn open_1_1(
    bytes: &[u8],
    nwk_key: &AesKey,
    keys: &JoinServerKeys,
    kind: JoinKind,
    join_eui: Eui64,
    dev_nonce: Option<u16>,
) -> Option<(JoinAccept, u16)> {
    let nonces = dev_nonce.map_or(0..=u16::MAX, |nonce| nonce..=nonce);
    JoinAccept::search_1_1(bytes, nwk_key, keys, nonces.map(|dev_nonce| Answered { kind, join_eui, dev_nonce }))
        .map(|(accept, answered)| (accept, answered.dev_nonce))
}
