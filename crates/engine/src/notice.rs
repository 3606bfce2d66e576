//! What happened beside the traffic itself, and is worth knowing: a stable code, plain words, the values
//! that were compared, and the next step.

use lorawan::mac::{Battery, UpCommand};
use lorawan::{DevAddr, Direction, Eui64};

use crate::device::adr::AdrDecision;
use crate::device::profile::Class;
use crate::time::{Dated, Timestamp};

/// Something worth knowing about a device.
#[derive(Debug, Clone, PartialEq)]
pub enum Notice {
    /// The first uplink under a new session: the one before has ended.
    SessionBegan {
        /// Its address.
        dev_addr: DevAddr,
        /// Address of the session that ended, if there was one.
        replaces: Option<DevAddr>,
    },
    /// The device starts its counter over, and its profile accepts that.
    CounterRestarted {
        /// As received.
        received: u32,
        /// The last accepted before.
        last: u32,
    },
    /// Uplinks before this one were not heard.
    UplinksLost {
        /// How many.
        lost: u32,
        /// The last accepted before.
        last: u32,
        /// As received.
        received: u32,
    },
    /// The last uplink again, as a repetition that the device may send.
    Repeated {
        /// Its counter.
        counter: u32,
        /// How often it has now been heard.
        times: u8,
        /// How often the device is set to send each.
        nb_trans: u8,
    },
    /// A copy of a frame that came after its collection window.
    LateCopy {
        /// Which gateway's.
        gateway: Eui64,
        /// After the first copy.
        late_us: i64,
        /// How well it was heard.
        snr_db: Option<f32>,
    },
    /// The device is now set as was asked.
    SettingTaken {
        /// The setting, as text.
        what: String,
    },
    /// The device refuses a setting.
    SettingRefused {
        /// The setting, as text.
        what: String,
        /// The part of it.
        parts: String,
        /// When it is asked again.
        again_at: Timestamp,
    },
    /// The device does not answer a request.
    SettingUnanswered {
        /// The setting, as text.
        what: String,
        /// Requests sent.
        times: u8,
        /// When it is asked again.
        again_at: Timestamp,
    },
    /// An answer to a request that was not made.
    UnaskedAnswer {
        /// The answer.
        command: UpCommand,
    },
    /// A decision of adaptive data rate.
    Adr(Box<AdrDecision>),
    /// What the device reports.
    Health {
        /// Its battery.
        battery: Battery,
        /// SNR at which it heard the question.
        margin_db: i8,
    },
    /// The device's class has changed.
    ClassChanged {
        /// Before.
        from: Class,
        /// Now.
        to: Class,
        /// Why.
        why: &'static str,
    },
    /// The device is on air more than it may be.
    OverDutyCycle {
        /// In which sub-band.
        sub_band: &'static str,
        /// Frames in the last hour.
        frames: u32,
        /// Their airtime.
        airtime_us: u64,
        /// Airtime allowed in an hour.
        allowed_us: u64,
        /// Airtime of its last frame.
        frame_us: u64,
        /// The slowest data rate at which the same number of frames fits, and their airtime.
        fits: Option<(u8, u64)>,
    },
    /// The device uses more airtime in a day than its fleet grants.
    OverPolicy {
        /// In the last 24 hours.
        airtime_us: u64,
        /// Granted.
        allowed_us: u64,
    },
    /// No gateway has heard these members of a group.
    MembersUnreached {
        /// Which.
        unreached: Vec<Eui64>,
        /// Members in all.
        of: usize,
    },
    /// A gateway did not report on a confirmed downlink: whether it was sent, its device will say.
    Unreported {
        /// Which gateway.
        gateway: Eui64,
        /// The frame's counter.
        counter: u32,
    },
    /// A gateway cannot do what is asked of it, permanently or for a while.
    GatewayCannot {
        /// Which.
        gateway: Eui64,
        /// What it said.
        why: String,
    },
}

fn ms(us: u64) -> String {
    format!("{:.1} ms", us as f64 / 1000.0)
}

fn s(us: u64) -> String {
    format!("{:.1} s", us as f64 / 1e6)
}

impl Notice {
    /// A stable code for programs.
    pub const fn code(&self) -> &'static str {
        match self {
            Notice::SessionBegan { .. } => "session_began",
            Notice::CounterRestarted { .. } => "counter_restarted",
            Notice::UplinksLost { .. } => "uplinks_lost",
            Notice::Repeated { .. } => "uplink_repeated",
            Notice::LateCopy { .. } => "late_copy",
            Notice::SettingTaken { .. } => "setting_taken",
            Notice::SettingRefused { .. } => "setting_refused",
            Notice::SettingUnanswered { .. } => "setting_unanswered",
            Notice::UnaskedAnswer { .. } => "unasked_answer",
            Notice::Adr(decision) => decision.code(),
            Notice::Health { .. } => "device_status",
            Notice::ClassChanged { .. } => "class_changed",
            Notice::OverDutyCycle { .. } => "over_duty_cycle",
            Notice::OverPolicy { .. } => "over_policy",
            Notice::MembersUnreached { .. } => "members_unreached",
            Notice::Unreported { .. } => "unreported",
            Notice::GatewayCannot { .. } => "gateway_cannot",
        }
    }

    /// Whether someone should look at it.
    pub const fn wants_attention(&self) -> bool {
        matches!(
            self,
            Notice::CounterRestarted { .. }
                | Notice::SettingRefused { .. }
                | Notice::SettingUnanswered { .. }
                | Notice::OverDutyCycle { .. }
                | Notice::OverPolicy { .. }
                | Notice::MembersUnreached { .. }
                | Notice::GatewayCannot { .. }
        )
    }

    /// What was found. Gateways are named as `gateway_name` says.
    pub fn why(&self, gateway_name: &dyn Fn(Eui64) -> String) -> String {
        match self {
            Notice::SessionBegan { dev_addr, replaces: None } => {
                format!("The session at {dev_addr} began with this uplink.")
            }
            Notice::SessionBegan { dev_addr, replaces: Some(old) } => {
                format!("The session at {dev_addr} began with this uplink, and the one at {old} ended.")
            }
            Notice::CounterRestarted { received, last } => format!(
                "The device restarted its frame counter: {received} came after {last}. It was accepted, as its radio profile allows."
            ),
            Notice::UplinksLost { lost, last, received } => {
                format!("{lost} uplinks were not heard: the counter went from {last} to {received}.")
            }
            Notice::Repeated { counter, times, nb_trans } => format!(
                "Uplink {counter} was heard again, {times} times now; the device is set to send each {nb_trans} times."
            ),
            Notice::LateCopy { gateway, late_us, .. } => {
                format!(
                    "Gateway {} brought its copy of this frame {} after the first.",
                    gateway_name(*gateway),
                    ms(late_us.unsigned_abs())
                )
            }
            Notice::SettingTaken { what } => format!("The device accepted {what}."),
            Notice::SettingRefused { what, parts, .. } => format!("The device refuses {parts} in {what}."),
            Notice::SettingUnanswered { what, times, .. } => {
                format!("No answer after {times} requests: {what}.")
            }
            Notice::UnaskedAnswer { command } => {
                format!("The device answers with {}, which was not asked.", command.cid().name(Direction::Up))
            }
            Notice::Adr(decision) => decision.why(),
            Notice::Health { battery, margin_db } => {
                format!("The device reports: {battery}; it heard the question with an SNR of {margin_db} dB.")
            }
            Notice::ClassChanged { from, to, why } => format!("From {from} to {to}: {why}."),
            Notice::OverDutyCycle { sub_band, frames, airtime_us, allowed_us, .. } => format!(
                "In sub-band {sub_band} the device was on air for {} in the last hour, with {frames} frames; {} are allowed.",
                s(*airtime_us),
                s(*allowed_us)
            ),
            Notice::OverPolicy { airtime_us, allowed_us } => format!(
                "The device was on air for {} in the last 24 hours; its fleet grants {}.",
                s(*airtime_us),
                s(*allowed_us)
            ),
            Notice::MembersUnreached { unreached, of } => {
                format!(
                    "{} of {of} members are out of reach: no gateway has heard them in the last day.",
                    unreached.len()
                )
            }
            Notice::Unreported { gateway, counter } => format!(
                "Gateway {} did not report whether it sent downlink {counter}, so it may have been heard. The service waits for the device's acknowledgement.",
                gateway_name(*gateway)
            ),
            Notice::GatewayCannot { gateway, why } => {
                format!("Gateway {} cannot send this: {why}.", gateway_name(*gateway))
            }
        }
    }

    /// The values that were compared, by name.
    pub fn evidence(&self) -> Vec<(&'static str, String)> {
        match self {
            Notice::CounterRestarted { received, last } => {
                vec![("received counter", received.to_string()), ("last counter", last.to_string())]
            }
            Notice::UplinksLost { lost, last, received } => vec![
                ("last counter", last.to_string()),
                ("received counter", received.to_string()),
                ("not heard", lost.to_string()),
            ],
            Notice::Repeated { counter, times, nb_trans } => {
                vec![("counter", counter.to_string()), ("heard", times.to_string()), ("NbTrans", nb_trans.to_string())]
            }
            Notice::LateCopy { gateway, late_us, snr_db } => {
                let mut all = vec![("gateway", gateway.to_string()), ("late by", ms(late_us.unsigned_abs()))];
                all.extend(snr_db.map(|snr| ("SNR", format!("{snr:.1} dB"))));
                all
            }
            Notice::SettingRefused { what, parts, again_at } => {
                vec![
                    ("asked", what.clone()),
                    ("refused", parts.clone()),
                    ("asked again at", Dated(*again_at).to_string()),
                ]
            }
            Notice::SettingUnanswered { what, times, again_at } => {
                vec![
                    ("asked", what.clone()),
                    ("times", times.to_string()),
                    ("asked again at", Dated(*again_at).to_string()),
                ]
            }
            Notice::Adr(decision) => decision.evidence(),
            Notice::OverDutyCycle { frames, airtime_us, allowed_us, frame_us, .. } => vec![
                ("frames in the last hour", frames.to_string()),
                ("airtime of the last frame", ms(*frame_us)),
                ("airtime in the last hour", s(*airtime_us)),
                ("allowed in an hour", s(*allowed_us)),
            ],
            Notice::OverPolicy { airtime_us, allowed_us } => {
                vec![("airtime in 24 hours", s(*airtime_us)), ("granted", s(*allowed_us))]
            }
            Notice::MembersUnreached { unreached, .. } => {
                // As many as a person can look at.
                unreached.iter().take(10).map(|eui| ("not heard", eui.to_string())).collect()
            }
            Notice::SessionBegan { .. }
            | Notice::SettingTaken { .. }
            | Notice::UnaskedAnswer { .. }
            | Notice::Health { .. }
            | Notice::ClassChanged { .. }
            | Notice::Unreported { .. }
            | Notice::GatewayCannot { .. } => Vec::new(),
        }
    }

    /// What to do about it; empty if nothing.
    pub fn next_step(&self) -> String {
        match self {
            Notice::CounterRestarted { .. } => "Make the firmware keep its counter over restarts, then end the acceptance in the radio profile: while it is on, recorded frames can be replayed.".into(),
            Notice::UplinksLost { lost, .. } if *lost > 2 => "Look at the SNR before and after: if it is near the floor, the device needs a slower data rate or another gateway.".into(),
            Notice::SettingRefused { .. } => "Ask for something the device can do, by its radio profile; until then it keeps what it has.".into(),
            Notice::SettingUnanswered { .. } => "See whether the device hears downlinks at all: add a confirmed downlink to its outbox. If it does, its firmware lacks this command.".into(),
            Notice::UnaskedAnswer { .. } => "Usually left over from before a restart of the service. If it goes on, the firmware answers without being asked.".into(),
            Notice::Adr(decision) => decision.next_step(),
            Notice::Health { battery, .. } if battery.percent().is_some_and(|p| p < 15.0) => "Plan to change the battery.".into(),
            Notice::OverDutyCycle { frames, allowed_us, frame_us, fits, .. } => {
                let interval_s = (*frame_us as f64 * 3600.0 / (*allowed_us).max(1) as f64).ceil();
                let slower = format!("send no more often than every {interval_s:.0} s at this data rate");
                match fits {
                    Some((data_rate, us)) => format!("Use DR{data_rate} or faster, where {frames} frames take {}, or {slower}.", s(*us)),
                    None => format!("{frames} frames an hour fit at no data rate: {slower}, or shorten the payload."),
                }
            }
            Notice::OverPolicy { .. } => "Send less often, or faster; or raise the fleet's limit.".into(),
            Notice::MembersUnreached { .. } => "See that they are switched on: a member is reached by the gateways that hear its uplinks.".into(),
            Notice::Unreported { .. } => "If it keeps happening, see whether the gateway's software reports transmissions (TX_ACK), and whether its way to the service loses datagrams.".into(),
            Notice::GatewayCannot { .. } => "Compare the gateway's own channel and power tables with its region; other gateways are used meanwhile.".into(),
            Notice::ClassChanged { to: Class::A, from: Class::B, .. } => "Downlinks wait for its uplinks until it finds a beacon again. See that a gateway near it has GPS time and sends beacons.".into(),
            _ => String::new(),
        }
    }
}
