//! Builds messages from engine events: names for identities, units for values.

use api::device::join::JoinCheck;
use api::heard::{HeardBy, Radio};
use api::message::{
    Body, DeviceRef, Downlink, DownlinkFrame, DownlinkStage, Evidence, Join, MacCommand, Message, Notice, RefusalNote,
    Refused, SentBy, Uplink, UplinkFrame,
};
use chrono::{DateTime, Utc};
use domain::device::join::join_check;
use engine::{DownlinkEvent, Event, HeardFrame, JoinedEvent, RefusedEvent, UplinkEvent};
use lorawan::region::Region;
use lorawan::{Direction, Eui64};
use store::{Activity, DeviceContext, EstateId};
use ulid::Ulid;

use crate::decoding::decoder::ToRead;
use crate::decoding::workers::Payload;
use crate::gateways::registry::GatewayRegistry;
use crate::ingest::strangers::{Request, Strangers};
use crate::pipeline::directory::Directory;
use crate::pipeline::ids::Ids;

/// A message, and what belongs to it.
pub(crate) struct BuiltMessage {
    pub estate_id: EstateId,
    pub message: Message,
    /// The payload to decode.
    pub to_read: Option<ToRead>,
    pub activity: Option<(Eui64, Activity)>,
    /// Whether it belongs in the history. Messages of unknown devices are not limited in number, and only go to the
    /// live stream.
    pub keep: bool,
}

/// Builds messages.
pub(crate) struct MessageBuilder<'a> {
    pub directory: &'a Directory,
    pub presence: &'a GatewayRegistry,
    pub strangers: &'a Strangers,
    pub ids: &'a mut Ids,
    /// The time of what is not a frame.
    pub now: DateTime<Utc>,
}

impl MessageBuilder<'_> {
    /// The message for an event; `None` if its device or estate was removed.
    pub(crate) fn tell(&mut self, event: Event) -> Option<BuiltMessage> {
        match event {
            Event::Uplink(uplink) => self.uplink(*uplink),
            Event::Joined(joined) => self.joined(joined),
            Event::Notice { dev_eui, at, notice } => {
                let device = self.directory.device(dev_eui)?;
                let at = DateTime::from_timestamp_micros(at.0).unwrap_or(self.now);
                let body = Body::Notice(Notice {
                    code: notice.code().into(),
                    wants_attention: notice.wants_attention(),
                    why: notice.why(&|gateway| self.gateway_name(gateway)),
                    evidence: Evidence::all(notice.evidence()),
                    next_step: Some(notice.next_step()).filter(|step| !step.is_empty()),
                });
                Some(self.about_device(device, at, body, None))
            }
            Event::Refused(refused) => self.refused(&refused),
            // They are counted in `batch`.
            Event::Discarded { .. } | Event::Dropped { .. } => None,
            Event::Downlink(downlink) => {
                let device = self.directory.device(downlink.dev_eui)?;
                let body = Body::Downlink(Box::new(self.downlink(device.region, &downlink)));
                Some(self.about_device(device, self.now, body, None))
            }
        }
    }

    fn uplink(&mut self, uplink: UplinkEvent) -> Option<BuiltMessage> {
        let at = self.time_of(&uplink.frame);
        let (device, decoder) = self.directory.device_with_decoder(uplink.dev_eui)?;
        let usual_interval_s = self.directory.heard(uplink.dev_eui, at);
        let heard = self.heard(device.region, &uplink.frame);
        let body = Body::Uplink(Box::new(Uplink {
            frame: UplinkFrame {
                counter: uplink.counter,
                port: uplink.port,
                confirmed: uplink.confirmed,
                payload: hex::encode(&uplink.payload),
                mac_commands: hex::encode(&uplink.mac_commands),
                mac: MacCommand::all(Direction::Up, &uplink.mac_commands),
            },
            phy_payload: heard.phy_payload,
            readings: std::collections::BTreeMap::new(),
            radio: Radio { power_dbm: uplink.power_dbm.map(f64::from), ..heard.radio },
            heard_by: heard.by,
            warnings: uplink.warnings,
            decode_warnings: Vec::new(),
            decode_error: None,
            rehearsed: None,
        }));
        let activity = Activity::Heard { last_heard: at, usual_interval_s };
        let mut built = self.about_device(device, at, body, Some(activity));
        // Port 0 carries MAC commands.
        let for_decoder = uplink.port.filter(|port| *port > 0).zip(decoder);
        built.to_read = for_decoder.map(|(port, decoder)| ToRead {
            decoder,
            payload: Payload { bytes: uplink.payload, port, time_ms: at.timestamp_millis() },
        });
        Some(built)
    }

    fn joined(&mut self, joined: JoinedEvent) -> Option<BuiltMessage> {
        let at = self.time_of(&joined.frame);
        let device = self.directory.device(joined.dev_eui)?;
        let usual_interval_s = self.directory.joined(joined.dev_eui);
        let heard = self.heard(device.region, &joined.frame);
        let body = Body::Join(Join {
            dev_addr: joined.dev_addr,
            dev_nonce: joined.dev_nonce,
            rejoin_type: joined.rejoin,
            phy_payload: heard.phy_payload,
            radio: heard.radio,
            heard_by: heard.by,
            checks: match joined.rejoin {
                None => checks(device.region, joined.frame.radio, None, joined.unanswered.as_deref()),
                Some(_) => Vec::new(),
            },
            unanswered: joined.unanswered,
        });
        let activity = Activity::Heard { last_heard: at, usual_interval_s };
        Some(self.about_device(device, at, body, Some(activity)))
    }

    fn refused(&mut self, refused: &RefusedEvent) -> Option<BuiltMessage> {
        let at = self.time_of(&refused.frame);
        let note = RefusalNote {
            code: refused.reason.code().into(),
            join: refused.reason.is_join(),
            why: refused.reason.why(),
            evidence: Evidence::all(refused.reason.evidence()),
            next_step: refused.reason.next_step().into(),
            time: at,
        };
        let known = refused.dev_eui.and_then(|dev_eui| self.directory.device(dev_eui));
        // Whose device it is may not be known; where its gateway stands, and whose that is, then is.
        let gateway = match &known {
            Some(_) => None,
            None => refused.frame.heard_by.first().and_then(|r| self.presence.known(r.gateway)),
        };
        let heard_in = gateway.as_ref().map(|gateway| gateway.region);
        let region = known.as_ref().map(|device| device.region).or(heard_in).unwrap_or(Region::Eu868);
        let heard = self.heard(region, &refused.frame);
        if let (engine::Refusal::UnknownDevEui { dev_eui, join_eui }, Some(gateway)) = (&refused.reason, &gateway) {
            let (dev_eui, join_eui, estate_id) = (*dev_eui, *join_eui, gateway.estate_id);
            let (radio, heard_by) = (heard.radio.clone(), heard.by.clone());
            self.strangers.note(Request { estate_id, dev_eui, join_eui, region, at, radio, heard_by });
        }
        let body = Body::Refused(Refused {
            refusal: note.clone(),
            checks: checks(region, refused.frame.radio, Some(&refused.reason), None),
            phy_payload: heard.phy_payload,
            radio: heard.radio,
            heard_by: heard.by,
        });
        match known {
            Some(device) => Some(self.about_device(device, at, body, Some(Activity::Refused(note)))),
            None => {
                let estate_id = gateway?.estate_id;
                let message = self.message(at, estate_id, body);
                Some(BuiltMessage { estate_id, message, to_read: None, activity: None, keep: note.join })
            }
        }
    }

    fn downlink(&self, region: Region, event: &DownlinkEvent) -> Downlink {
        let (stage, note) = match &event.stage {
            engine::DownlinkStage::Sent => (DownlinkStage::Sent, None),
            engine::DownlinkStage::Acknowledged => (DownlinkStage::Acknowledged, None),
            engine::DownlinkStage::Returned(why) => (DownlinkStage::Returned, Some(why.clone())),
            engine::DownlinkStage::Failed(why) => (DownlinkStage::Failed, Some(why.clone())),
        };
        let frame = (event.counter.is_some() || event.data.is_some()).then(|| DownlinkFrame {
            counter: event.counter,
            port: event.data.as_ref().map(|(port, _)| *port),
            payload: event.data.as_ref().map(|(_, payload)| hex::encode(payload)).unwrap_or_default(),
            mac: MacCommand::all(Direction::Down, &event.mac_commands),
        });
        let sent = event.sent.as_ref().map(|sent| SentBy {
            gateway: sent.transmission.gateway,
            name: self.gateway_name(sent.transmission.gateway),
            window: sent.transmission.window.name().into(),
            window_reason: sent.why_rx2.map(|why| why.to_string()),
            power_dbm: sent.transmission.power_dbm,
            phy_payload: hex::encode(&sent.transmission.phy_payload),
            radio: radio(region, Direction::Down, sent.transmission.radio(), sent.transmission.airtime_us),
        });
        let outbox_id = event.outbox_id.map(store::outbox_name);
        let reference = event.reference.clone();
        Downlink { stage, note, outbox_id, reference, frame, acknowledges: event.acknowledges, sent }
    }

    fn about_device(
        &mut self,
        device: DeviceContext,
        at: DateTime<Utc>,
        body: Body,
        activity: Option<Activity>,
    ) -> BuiltMessage {
        let dev_eui = device.dev_eui;
        let mut message = self.message(at, device.estate_id, body);
        message.fleet = Some(device.fleet);
        message.device = Some(DeviceRef { eui: dev_eui, name: device.name, model: device.model });
        let activity = activity.map(|a| (dev_eui, a));
        BuiltMessage { estate_id: device.estate_id, message, to_read: None, activity, keep: true }
    }

    fn message(&mut self, at: DateTime<Utc>, estate_id: EstateId, body: Body) -> Message {
        let id = self.ids.next(self.now);
        new_message(id, at, self.directory.estate_slug(estate_id), body)
    }

    fn gateway_name(&self, eui: Eui64) -> String {
        self.presence.known(eui).map_or_else(|| eui.to_string(), |known| known.name)
    }

    /// The reception time at the gateway that heard it best.
    fn time_of(&self, frame: &HeardFrame) -> DateTime<Utc> {
        frame.heard_by.first().and_then(|r| DateTime::from_timestamp_micros(r.heard_at.0)).unwrap_or(self.now)
    }

    /// A frame as messages carry it.
    fn heard(&self, region: Region, frame: &HeardFrame) -> Heard {
        let by = frame.heard_by.iter().map(|copy| HeardBy {
            gateway: copy.gateway,
            name: self.gateway_name(copy.gateway),
            rssi_dbm: copy.rssi_dbm,
            snr_db: copy.snr_db,
        });
        Heard {
            phy_payload: hex::encode(&frame.phy_payload),
            radio: radio(region, Direction::Up, frame.radio, frame.airtime_us),
            by: by.collect(),
        }
    }
}

struct Heard {
    phy_payload: String,
    radio: Radio,
    by: Vec<HeardBy>,
}

/// A message without a device.
pub(crate) fn new_message(id: Ulid, time: DateTime<Utc>, estate: String, body: Body) -> Message {
    Message { id: id.to_string(), time, estate, fleet: None, device: None, body }
}

fn checks(
    region: Region,
    radio: engine::Radio,
    refusal: Option<&engine::Refusal>,
    unanswered: Option<&str>,
) -> Vec<JoinCheck> {
    engine::join_checks(region.plan(), radio, refusal, unanswered).into_iter().map(join_check).collect()
}

fn radio(region: Region, direction: Direction, radio: engine::Radio, airtime_us: u64) -> Radio {
    let lora = radio.modulation.lora_parts();
    let plan = region.plan();
    Radio {
        region: region.name().into(),
        data_rate: match direction {
            Direction::Up => plan.uplink_data_rate_of(radio.modulation),
            Direction::Down => plan.downlink_data_rate_of(radio.modulation),
        },
        spreading_factor: lora.map(|(sf, _)| sf),
        bandwidth_khz: lora.map(|(_, khz)| khz),
        frequency_mhz: f64::from(radio.frequency_hz) / 1e6,
        airtime_ms: airtime_us as f64 / 1000.0,
        power_dbm: None,
    }
}
