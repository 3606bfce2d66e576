//! Data frames: header, MAC commands, payload, and under which counter and keys they were made.

use super::known::Known;
use super::{CounterCandidate, CounterOrigin, Field, Reader, Report, Verdict, count};
use crate::counter;
use crate::crypto::{Binding, MicKey, PayloadKey};
use crate::mac::{Command, DownCommand, UpCommand, commands};
use crate::region::Region;
use crate::wire::{DataView, NetworkKeys11};
use crate::{DevAddr, Direction, MacVersion};

pub(super) fn data(mut reader: Reader<'_, '_>, known: &Known) {
    let bytes = reader.bytes;
    let read = header(&mut reader);
    let report = reader.report;
    let Some(dev_addr) = read else {
        report.summary = format!("{} that is cut off.", article(report));
        return;
    };
    report.summary = format!("{} of DevAddr {dev_addr}.", article(report));
    let Ok(view) = DataView::new_checked(bytes) else { return };
    let clear = verify(&view, known, report);
    let direction = view.direction();
    let port = view.fport();
    match clear.fopts {
        _ if view.fopts().is_empty() => {}
        Fopts::Plain => mac_commands(report, "FOpts", view.fopts(), direction, known.region),
        Fopts::Sealed => note(report, "FOpts", "encrypted: NwkSEncKey is needed"),
        Fopts::Opened(fopts) => {
            place(report, "FOpts", &fopts);
            mac_commands(report, "FOpts", &fopts, direction, known.region);
        }
    }
    if let Some(payload) = clear.payload {
        place(report, "FRMPayload", &payload);
        if port == Some(0) {
            mac_commands(report, "FRMPayload", &payload, direction, known.region);
        } else {
            report.payload = Some(payload);
        }
    }
    if let Some(counter) = clear.counter.filter(|counter| *counter > u32::from(u16::MAX)) {
        note(report, "FCnt", &format!("{counter} in full"));
    }
}

fn article(report: &Report) -> String {
    let name = report.mtype.map_or("data", crate::wire::MType::name);
    let mut letters = name.chars();
    letters.next().map(|first| first.to_uppercase().chain(letters).collect()).unwrap_or_default()
}

/// The fields as sent, as far as they are there; the address if all are.
fn header(reader: &mut Reader<'_, '_>) -> Option<DevAddr> {
    let up = matches!(reader.bytes[0] >> 5, 2 | 4);
    let addr = reader.take(4, "DevAddr", |b| {
        let addr = DevAddr(super::number(b));
        let network = match addr.network() {
            Some((kind, nwk_id)) => format!("NetID type {kind}, NwkID {nwk_id:x}"),
            None => "under no type of NetID".into(),
        };
        (addr.to_string(), Some(network))
    })?;
    let fctrl = reader.take(1, "FCtrl", |b| (flags(b[0], up), None))?[0];
    reader.take(2, "FCnt", |b| (super::number(b).to_string(), None))?;
    let fopts_len = usize::from(fctrl & 0x0f);
    if reader.left() < fopts_len + 4 {
        let left = reader.left();
        let why = format!(
            "FCtrl announces {} of FOpts and the MIC has 4, but what is left is {}",
            count(fopts_len),
            count(left)
        );
        reader.report.stop(reader.at, why);
        reader.take(left, "(rest)", |b| (hex::encode(b), None));
        return None;
    }
    if fopts_len > 0 {
        reader.take(fopts_len, "FOpts", |b| (hex::encode(b), None));
    }
    let payload_len = reader.left() - 4;
    if payload_len > 0 {
        let at = reader.at;
        let port = reader.take(1, "FPort", |b| (b[0].to_string(), Some(port_words(b[0]).into())))?[0];
        if port == 0 && fopts_len > 0 {
            reader.report.stop(at, "FPort 0 carries MAC commands, but FOpts does already: that is not allowed");
        }
        if payload_len > 1 {
            let note = if port == 0 { "MAC commands, encrypted" } else { "encrypted" };
            reader.take(payload_len - 1, "FRMPayload", |b| (hex::encode(b), Some(note.into())));
        }
    }
    reader.take(4, "MIC", |b| (hex::encode(b), None));
    Some(DevAddr(super::number(addr)))
}

fn flags(fctrl: u8, up: bool) -> String {
    let names = if up { ["ADR", "ADRACKReq", "ACK", "ClassB"] } else { ["ADR", "RFU", "ACK", "FPending"] };
    let set = names.iter().enumerate().filter(|(i, _)| fctrl & (0x80 >> i) != 0).map(|(_, name)| *name);
    let set: Vec<&str> = set.collect();
    let set = if set.is_empty() { "no flags".into() } else { set.join(", ") };
    format!("{set}; FOpts of {}", count(usize::from(fctrl & 0x0f)))
}

const fn port_words(port: u8) -> &'static str {
    match port {
        0 => "MAC commands",
        1..=223 => "application",
        224 => "conformance test",
        _ => "reserved",
    }
}

/// Sets a field's bytes in the clear.
fn place(report: &mut Report, name: &str, clear: &[u8]) {
    if let Some(field) = report.fields.iter_mut().find(|f| f.name == name) {
        field.clear = Some(clear.to_vec());
        field.note = Some("decrypted".into());
    }
}

fn note(report: &mut Report, name: &str, words: &str) {
    if let Some(field) = report.fields.iter_mut().find(|f| f.name == name) {
        field.note = Some(words.into());
    }
}

/// Adds the MAC commands in a field behind it.
fn mac_commands(report: &mut Report, within: &str, clear: &[u8], direction: Direction, region: Option<Region>) {
    let Some(index) = report.fields.iter().position(|f| f.name == within) else { return };
    let start = report.fields[index].at;
    let (fields, error) = match direction {
        Direction::Up => listed::<UpCommand>(clear, start, UpCommand::to_string),
        Direction::Down => listed::<DownCommand>(clear, start, |c| {
            region.map_or_else(|| c.to_string(), |region| c.describe_in(region.plan()))
        }),
    };
    report.fields.splice(index + 1..index + 1, fields);
    if let Some((at, why)) = error {
        report.stop(at, format!("in {within}, {why}"));
    }
}

type Listed = (Vec<Field>, Option<(usize, String)>);

fn listed<C: Command>(clear: &[u8], start: usize, words: impl Fn(&C) -> String) -> Listed {
    let mut fields = Vec::new();
    for placed in commands::<C>(clear) {
        let placed = match placed {
            Ok(placed) => placed,
            Err(error) => return (fields, Some((start + error.at(), error.to_string()))),
        };
        let cid = placed.command.cid();
        let (name, value) = (cid.name(C::DIRECTION), words(&placed.command));
        let note = (!cid.known_in(MacVersion::V1_0_4)).then(|| "LoRaWAN 1.1 only".into());
        let (at, len) = (start + placed.at, placed.len);
        let clear = Some(clear[placed.at..placed.at + len].to_vec());
        fields.push(Field { at, len, name, value, note, clear, depth: 1 });
    }
    (fields, None)
}

/// What could be decrypted.
#[derive(Default)]
struct Clear {
    counter: Option<u32>,
    fopts: Fopts,
    payload: Option<Vec<u8>>,
}

/// FOpts in the clear. As long as no MIC agrees they are read as 1.0.x sends them.
#[derive(Default)]
enum Fopts {
    #[default]
    Plain,
    Sealed,
    Opened(Vec<u8>),
}

/// Checks the MIC under each version for which keys are known, and decrypts under the one that agrees.
fn verify(view: &DataView<'_>, known: &Known, report: &mut Report) -> Clear {
    let keys = &known.session;
    let mut clear = Clear::default();
    // On a network of 1.0.x a device of 1.1 signs as 1.0.x does, with FNwkSIntKey.
    let plain = keys.nwk_s_key.as_ref().map(|key| ("NwkSKey", key));
    if let Some((name, nwk_s_key)) = plain.or(keys.f_nwk_s_int_key.as_ref().map(|key| ("FNwkSIntKey", key))) {
        let mic = MicKey::new(nwk_s_key);
        let (found, counters) = try_counters(view, known, 0x1_0000, |counter| view.verify(&mic, counter));
        if let Some(counter) = found {
            let key = if view.fport() == Some(0) { Some(nwk_s_key) } else { keys.app_s_key.as_ref() };
            let payload = key.map(|key| view.decrypt(&PayloadKey::new(key), counter));
            clear = Clear { counter: Some(counter), fopts: Fopts::Plain, payload };
        }
        report.verdicts.push(verdict("1.0.x", name, found, counters, ""));
    }
    let (Some(f), Some(s)) = (&keys.f_nwk_s_int_key, &keys.s_nwk_s_int_key) else { return clear };
    // Without an NwkSEncKey nothing is decrypted with it; any key fills its place.
    let prepared = NetworkKeys11::new(f, s, keys.nwk_s_enc_key.as_ref().unwrap_or(f));
    let (found, counters, note) = verify_1_1(view, known, &prepared);
    if let (Some(counter), None) = (found, clear.counter) {
        let enc = keys.nwk_s_enc_key.as_ref().map(|_| &prepared.nwk_s_enc);
        let app = keys.app_s_key.as_ref().map(PayloadKey::new);
        let key = if view.fport() == Some(0) { enc } else { app.as_ref() };
        clear = Clear {
            counter: Some(counter),
            fopts: enc.map_or(Fopts::Sealed, |key| Fopts::Opened(view.decrypt_fopts(key, counter))),
            payload: key.map(|key| view.decrypt(key, counter)),
        };
    }
    report.verdicts.push(verdict("1.1", "FNwkSIntKey and SNwkSIntKey", found, counters, &note));
    clear
}

fn verdict(
    version: &'static str,
    key: &'static str,
    found: Option<u32>,
    counters: Vec<CounterCandidate>,
    note: &str,
) -> Verdict {
    let origin = found.and_then(|found| counters.iter().find(|c| c.counter == found)).map(|c| c.origin);
    let reading = match (found, origin) {
        (Some(counter), Some(CounterOrigin::Behind)) => {
            format!("made with this key under counter {counter}, which is not above the last one accepted")
        }
        (Some(counter), Some(CounterOrigin::Searched)) => {
            format!("made with this key under counter {counter}, found by trying all upper halves")
        }
        (Some(counter), _) => format!("made with this key under counter {counter}"),
        (None, _) => "made with another key, or damaged".into(),
    };
    let note = if note.is_empty() { reading } else { format!("{reading}; {note}") };
    Verdict { version, key, agrees: found.is_some(), note, counters }
}

/// The counters to try, likely ones first; then, unless one was given or agreed, `epochs` upper
/// halves. Gives the one that agrees, and those worth showing.
fn try_counters(
    view: &DataView<'_>,
    known: &Known,
    epochs: u32,
    agrees: impl Fn(u32) -> bool,
) -> (Option<u32>, Vec<CounterCandidate>) {
    let low = view.counter_low();
    let likely: Vec<(u32, CounterOrigin)> = match known.counter {
        Some(counter) => vec![(counter, CounterOrigin::Given)],
        None => {
            let near = counter::candidates(known.last_counter, low);
            let ahead = near.ahead.map(|c| (c, CounterOrigin::Ahead));
            ahead.into_iter().chain(near.behind.map(|c| (c, CounterOrigin::Behind))).collect()
        }
    };
    let mut shown: Vec<CounterCandidate> = likely
        .into_iter()
        .map(|(counter, origin)| CounterCandidate { counter, origin, agrees: agrees(counter) })
        .collect();
    let mut found = shown.iter().find(|c| c.agrees).map(|c| c.counter);
    if found.is_none() && known.counter.is_none() {
        found = (0..epochs).map(|epoch| (epoch << 16) | u32::from(low)).find(|counter| agrees(*counter));
        shown.extend(found.map(|counter| CounterCandidate { counter, origin: CounterOrigin::Searched, agrees: true }));
    }
    (found, shown)
}

/// The highest channel index of any region, and one.
const CHANNELS: u8 = 96;
/// Upper halves tried where half of the MIC has to do: more would find a wrong one by chance.
const FEW_EPOCHS: u32 = 64;

/// The MIC of 1.1 depends on what the receiver knows and the frame does not say: data rate and
/// channel of an uplink, and the counter it acknowledges. What is not known is searched.
fn verify_1_1(
    view: &DataView<'_>,
    known: &Known,
    keys: &NetworkKeys11,
) -> (Option<u32>, Vec<CounterCandidate>, String) {
    let given = Binding {
        conf_f_cnt: known.conf_f_cnt.unwrap_or(0),
        tx_dr: known.data_rate.unwrap_or(0),
        tx_ch: known.channel.unwrap_or(0),
    };
    let open_ack = view.uplink_flags().ack && known.conf_f_cnt.is_none();
    if view.direction() == Direction::Down {
        if !open_ack {
            let (found, counters) = try_counters(view, known, 0x1_0000, |c| view.verify_1_1(keys, c, given));
            return (found, counters, String::new());
        }
        let acknowledged = |counter: u32| {
            (0..=u16::MAX)
                .find(|conf_f_cnt| view.verify_1_1(keys, counter, Binding { conf_f_cnt: *conf_f_cnt, ..given }))
        };
        let (found, counters) = try_counters(view, known, 1, |counter| acknowledged(counter).is_some());
        let note = match found.and_then(acknowledged) {
            Some(conf) => format!("it acknowledges the uplink with counter {conf} (low half)"),
            None => "the counter it acknowledges was searched".into(),
        };
        return (found, counters, note);
    }
    if let (Some(_), Some(_), false) = (known.data_rate, known.channel, open_ack) {
        let (found, counters) = try_counters(view, known, 0x1_0000, |c| view.verify_1_1(keys, c, given));
        return (found, counters, String::new());
    }
    let bindings = || {
        let rates = known.data_rate.map_or(0..=15, |rate| rate..=rate);
        let channels = known.channel.map_or(0..=CHANNELS - 1, |channel| channel..=channel);
        rates.flat_map(move |tx_dr| channels.clone().map(move |tx_ch| Binding { tx_dr, tx_ch, ..given }))
    };
    let serving = |counter: u32| bindings().find(|b| view.uplink_mic_1_1(keys, counter, *b).serving);
    let (found, counters) = try_counters(view, known, FEW_EPOCHS, |counter| {
        let forwarding = view.uplink_mic_1_1(keys, counter, given).forwarding;
        forwarding && (open_ack || serving(counter).is_some())
    });
    let note = match found.and_then(serving) {
        _ if open_ack => "only FNwkSIntKey's half was checked: give the counter that it acknowledges".into(),
        Some(b) => format!("SNwkSIntKey's half agrees with DR{} on channel {}", b.tx_dr, b.tx_ch),
        None => "data rate and channel were searched".into(),
    };
    (found, counters, note)
}
