//! Why a frame was not accepted, in words that say what to compare and what to do next.

use lorawan::wire::{FrameError, MType};
use lorawan::{DevAddr, Eui64, NetId};

/// The check that failed.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Refusal {
    /// No device with this DevEUI.
    UnknownDevEui {
        /// As received.
        dev_eui: Eui64,
        /// As received.
        join_eui: Eui64,
    },
    /// No such device, but one whose DevEUI has the same bytes the other way round.
    DevEuiReversed {
        /// As received.
        dev_eui: Eui64,
        /// As registered.
        registered: Eui64,
    },
    /// DevEUI and JoinEUI are swapped.
    EuisSwapped {
        /// The registered DevEUI, received as JoinEUI.
        registered: Eui64,
    },
    /// The device is known, but joins with another JoinEUI.
    WrongJoinEui {
        /// As received.
        received: Eui64,
        /// As registered.
        registered: Eui64,
    },
    /// EUIs agree, the join-request's MIC does not: the root keys differ.
    JoinMic {
        /// Which key signs join-requests in the registered version: AppKey or NwkKey.
        key: &'static str,
        /// Whether the MIC agrees once the registered key's bytes are reversed.
        key_reversed: bool,
        /// Whether it was made with the AppKey where 1.1 wants the NwkKey.
        app_key_instead: bool,
        /// Whether it was made with the key of another device of the fleet.
        fleet_key: FleetKey,
    },
    /// The DevNonce was used in an earlier join.
    DevNonceUsed {
        /// As received.
        dev_nonce: u16,
    },
    /// The DevNonce is a counter in this version, and has not increased.
    DevNonceNotAbove {
        /// As received.
        dev_nonce: u16,
        /// The last accepted.
        last: u16,
    },
    /// The device is registered for ABP, and asks to join.
    Personalized,
    /// The device is registered, and kept from being served.
    Disabled {
        /// Whether it asks to join.
        joining: bool,
    },
    /// What is known of the device cannot be stored.
    Quarantined {
        /// Whether it asks to join.
        joining: bool,
    },
    /// A rejoin-request of a device that is not registered.
    RejoinUnknown {
        /// As received.
        dev_eui: Eui64,
    },
    /// A rejoin-request of a device registered for a version that has none.
    RejoinVersion,
    /// A rejoin-request in a session that the network does not know.
    RejoinNoSession,
    /// A rejoin-request to another network.
    RejoinNetwork {
        /// As received.
        received: NetId,
        /// This network's.
        ours: NetId,
    },
    /// A rejoin-request signed with another key.
    RejoinMic {
        /// Rejoin type.
        kind: u8,
    },
    /// A rejoin-request whose count has not increased.
    RejoinCount {
        /// As received.
        received: u16,
        /// The last accepted.
        last: u16,
    },
    /// No device has this address here.
    UnknownDevAddr {
        /// As received.
        dev_addr: DevAddr,
    },
    /// Devices have this address, but none of their session keys made the MIC.
    DataMic {
        /// As received.
        dev_addr: DevAddr,
    },
    /// The right keys, but a counter that is not above the last one.
    CounterTooLow {
        /// As received, in full.
        received: u32,
        /// The last accepted.
        last: u32,
    },
    /// A frame that the gateway had heard before a newer one, and brought after it.
    CameLate {
        /// Its counter.
        counter: u32,
        /// The last accepted.
        last: u32,
        /// The gateway.
        gateway: Eui64,
        /// How long the gateway had it.
        late_ms: i64,
    },
    /// The frame would lose more uplinks at once than the device's version allows.
    CounterGap {
        /// As received, in full.
        received: u32,
        /// The last accepted.
        last: u32,
        /// The largest gap that is accepted (MAX_FCNT_GAP).
        limit: u32,
    },
    /// The last frame again, too often or too late for a repetition.
    Replayed {
        /// Its counter.
        counter: u32,
        /// How often it has now been heard.
        times: u8,
        /// Seconds since it was last heard.
        after_s: i64,
    },
    /// A frame that gateways send and devices do not.
    Downlink {
        /// Its type.
        mtype: MType,
        /// Whom it is for, if it says so.
        dev_addr: Option<DevAddr>,
    },
    /// A frame of a type that this network does not answer.
    NotServed {
        /// Its type.
        mtype: MType,
    },
    /// Not a LoRaWAN frame.
    Unreadable {
        /// What is wrong with it.
        error: FrameError,
    },
}

/// Whose key a join-request was made with, among the other devices of its fleet.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum FleetKey {
    /// It was not looked for: that is done once in a while only, as it takes long.
    NotTried,
    /// With none of theirs.
    Nobodys,
    /// With this device's.
    Of(Eui64),
}

impl Refusal {
    /// A stable code for programs.
    pub const fn code(&self) -> &'static str {
        match self {
            Refusal::UnknownDevEui { .. } => "unknown_dev_eui",
            Refusal::DevEuiReversed { .. } => "dev_eui_reversed",
            Refusal::EuisSwapped { .. } => "euis_swapped",
            Refusal::WrongJoinEui { .. } => "wrong_join_eui",
            Refusal::JoinMic { .. } => "join_mic_mismatch",
            Refusal::DevNonceUsed { .. } => "dev_nonce_used",
            Refusal::DevNonceNotAbove { .. } => "dev_nonce_not_above",
            Refusal::Personalized => "personalized_device_joins",
            Refusal::Disabled { .. } => "device_disabled",
            Refusal::Quarantined { .. } => "device_quarantined",
            Refusal::RejoinUnknown { .. } => "rejoin_unknown_device",
            Refusal::RejoinVersion => "rejoin_not_in_version",
            Refusal::RejoinNoSession => "rejoin_without_session",
            Refusal::RejoinNetwork { .. } => "rejoin_other_network",
            Refusal::RejoinMic { .. } => "rejoin_mic_mismatch",
            Refusal::RejoinCount { .. } => "rejoin_count_not_above",
            Refusal::Replayed { .. } => "replayed",
            Refusal::UnknownDevAddr { .. } => "unknown_dev_addr",
            Refusal::DataMic { .. } => "mic_mismatch",
            Refusal::CounterTooLow { .. } => "counter_too_low",
            Refusal::CameLate { .. } => "came_late",
            Refusal::CounterGap { .. } => "counter_gap",
            Refusal::Downlink { .. } => "downlink_heard",
            Refusal::NotServed { .. } => "not_served",
            Refusal::Unreadable { .. } => "unreadable_frame",
        }
    }

    /// What was compared: what came, and what it was held against, by name.
    pub fn evidence(&self) -> Vec<(&'static str, String)> {
        let received = |value: &dyn std::fmt::Display| ("received", value.to_string());
        let registered = |value: &dyn std::fmt::Display| ("registered", value.to_string());
        let yes_no = |yes: bool| if yes { "yes" } else { "no" }.to_owned();
        match self {
            Refusal::UnknownDevEui { dev_eui, join_eui } => {
                vec![("received DevEUI", dev_eui.to_string()), ("received JoinEUI", join_eui.to_string())]
            }
            Refusal::DevEuiReversed { dev_eui, registered: known } => vec![received(dev_eui), registered(known)],
            Refusal::EuisSwapped { registered: known } => vec![("received as JoinEUI", known.to_string())],
            Refusal::WrongJoinEui { received: came, registered: known } => vec![received(came), registered(known)],
            Refusal::JoinMic { key, key_reversed, app_key_instead, fleet_key } => {
                let mut all = vec![("signing key", (*key).to_owned()), ("reversed key agrees", yes_no(*key_reversed))];
                if *key == "NwkKey" {
                    all.push(("AppKey agrees", yes_no(*app_key_instead)));
                }
                let of_fleet = match fleet_key {
                    FleetKey::NotTried => None,
                    FleetKey::Nobodys => Some("none".into()),
                    FleetKey::Of(other) => Some(format!("that of {other}")),
                };
                all.extend(of_fleet.map(|of_fleet| ("key of another device of the fleet agrees", of_fleet)));
                all
            }
            Refusal::DevNonceUsed { dev_nonce } => vec![("received DevNonce", dev_nonce.to_string())],
            Refusal::DevNonceNotAbove { dev_nonce, last } => {
                vec![("received DevNonce", dev_nonce.to_string()), ("last DevNonce", last.to_string())]
            }
            Refusal::RejoinUnknown { dev_eui } => vec![("received DevEUI", dev_eui.to_string())],
            Refusal::RejoinNetwork { received: came, ours } => vec![received(came), ("this network", ours.to_string())],
            Refusal::RejoinMic { kind } => vec![("rejoin type", kind.to_string())],
            Refusal::RejoinCount { received: came, last } => vec![received(came), ("last count", last.to_string())],
            Refusal::UnknownDevAddr { dev_addr } | Refusal::DataMic { dev_addr } => {
                vec![("DevAddr", dev_addr.to_string())]
            }
            Refusal::CounterTooLow { received: came, last } => {
                vec![("received counter", came.to_string()), ("last counter", last.to_string())]
            }
            Refusal::Replayed { counter, times, after_s } => vec![
                ("counter", counter.to_string()),
                ("heard", times.to_string()),
                ("since it was last heard", format!("{after_s} s")),
            ],
            Refusal::CameLate { counter, last, gateway, late_ms } => vec![
                ("counter", counter.to_string()),
                ("last counter", last.to_string()),
                ("gateway", gateway.to_string()),
                ("late by", format!("{late_ms} ms")),
            ],
            Refusal::CounterGap { received: came, last, limit } => vec![
                ("received counter", came.to_string()),
                ("last counter", last.to_string()),
                ("largest gap", limit.to_string()),
            ],
            Refusal::Downlink { mtype, dev_addr } => {
                let mut all = vec![("type", mtype.name().to_owned())];
                all.extend(dev_addr.map(|dev_addr| ("DevAddr", dev_addr.to_string())));
                all
            }
            Refusal::NotServed { mtype } => vec![("type", mtype.name().to_owned())],
            Refusal::Unreadable { error } => vec![("error", error.to_string())],
            Refusal::Quarantined { .. } => Vec::new(),
            Refusal::Disabled { .. } | Refusal::Personalized | Refusal::RejoinVersion | Refusal::RejoinNoSession => {
                Vec::new()
            }
        }
    }

    /// Whether it was a join that was refused.
    pub const fn is_join(&self) -> bool {
        matches!(
            self,
            Refusal::UnknownDevEui { .. }
                | Refusal::DevEuiReversed { .. }
                | Refusal::EuisSwapped { .. }
                | Refusal::WrongJoinEui { .. }
                | Refusal::JoinMic { .. }
                | Refusal::DevNonceUsed { .. }
                | Refusal::DevNonceNotAbove { .. }
                | Refusal::Personalized
                | Refusal::Disabled { joining: true }
                | Refusal::Quarantined { joining: true }
        )
    }

    /// What was found.
    pub fn why(&self) -> String {
        match self {
            Refusal::UnknownDevEui { dev_eui, join_eui } => {
                format!("A device with DevEUI {dev_eui} (JoinEUI {join_eui}) asks to join, but none is registered with that DevEUI.")
            }
            Refusal::DevEuiReversed { dev_eui, registered } => format!(
                "A device joins with DevEUI {dev_eui}. None is registered with it, but {registered} has the same bytes in reverse order."
            ),
            Refusal::EuisSwapped { registered } => format!(
                "The join-request carries {registered} as JoinEUI, but that is a registered DevEUI: the two EUIs are swapped in the device."
            ),
            Refusal::WrongJoinEui { received, registered } if received.reversed() == *registered => format!(
                "The device joins with JoinEUI {received}, which is the registered {registered} with its bytes reversed."
            ),
            Refusal::WrongJoinEui { received, registered } => {
                format!("The device joins with JoinEUI {received}, but is registered with {registered}.")
            }
            Refusal::JoinMic { key, key_reversed: true, .. } => format!(
                "The {key} in the device is the registered one with its bytes reversed: the MIC agrees that way round."
            ),
            Refusal::JoinMic { app_key_instead: true, .. } => {
                "The join-request is signed with the AppKey, as before 1.1; the device is registered for 1.1, where the NwkKey signs it.".into()
            }
            Refusal::JoinMic { fleet_key: FleetKey::Of(other), .. } => format!(
                "DevEUI and JoinEUI agree, but the MIC was made with the key of another device of the fleet: {other}."
            ),
            Refusal::JoinMic { key, .. } => format!(
                "DevEUI and JoinEUI agree, but the MIC does not: the {key} in the device differs from the registered one."
            ),
            Refusal::DevNonceUsed { dev_nonce } => {
                format!("DevNonce {dev_nonce} was used in an earlier join of this device. Accepting it again would allow a replay.")
            }
            Refusal::DevNonceNotAbove { dev_nonce, last } => format!(
                "DevNonce {dev_nonce} is not above the last one, {last}: in this version it is a counter that never goes back."
            ),
            Refusal::Disabled { joining: true } => "The device asks to join, but is disabled here.".into(),
            Refusal::Disabled { joining: false } => "The device is heard, but is disabled here.".into(),
            Refusal::Quarantined { .. } => {
                "The device is heard, but is quarantined: the database refuses what has to be stored for it.".into()
            }
            Refusal::Personalized => {
                "The device asks to join, but is registered as activated by personalization (ABP).".into()
            }
            Refusal::RejoinUnknown { dev_eui } => {
                format!("A device with DevEUI {dev_eui} asks to rejoin, but none is registered with that DevEUI.")
            }
            Refusal::RejoinVersion => {
                "The device asks to rejoin, which only LoRaWAN 1.1 knows; it is registered for another version.".into()
            }
            Refusal::RejoinNoSession => "The device asks to renew a session that it does not have here.".into(),
            Refusal::RejoinNetwork { received, ours } => {
                format!("The rejoin-request is for the network with NetID {received}; this is {ours}.")
            }
            Refusal::RejoinMic { kind: 1 } => {
                "The rejoin-request's MIC does not agree: the NwkKey in the device differs from the registered one.".into()
            }
            Refusal::RejoinMic { .. } => {
                "The rejoin-request's MIC was not made in the session that the device has here.".into()
            }
            Refusal::RejoinCount { received, last } => {
                format!("The rejoin-request's count {received} is not above the last accepted one, {last}.")
            }
            Refusal::UnknownDevAddr { dev_addr } => format!("No device here has a session with DevAddr {dev_addr}."),
            Refusal::DataMic { dev_addr } => format!(
                "DevAddr {dev_addr} is in use here, but the MIC was not made with the session keys of any device that has it."
            ),
            Refusal::CounterTooLow { received, last } => {
                format!("Frame counter {received} is not above the last accepted one, {last}.")
            }
            Refusal::Replayed { counter, times, after_s } => format!(
                "Uplink {counter} was heard again, {times} times now and {after_s} s after the last time: no device repeats itself like this."
            ),
            Refusal::CameLate { counter, last, gateway, late_ms } => format!(
                "Gateway {gateway} brought uplink {counter} {:.1} s after it had heard it, and {last} was accepted meanwhile: a late copy, not a replay.",
                *late_ms as f64 / 1000.0
            ),
            Refusal::CounterGap { received, last, limit } => format!(
                "Frame counter {received} is {} above the last accepted one, {last}; in this version at most {limit} uplinks may be lost in a row.",
                received.saturating_sub(*last)
            ),
            Refusal::Downlink { mtype, dev_addr } => {
                let whom = dev_addr.map(|dev_addr| format!(" for DevAddr {dev_addr}")).unwrap_or_default();
                format!("A {}{whom}: gateways send such frames, devices do not.", mtype.name())
            }
            Refusal::NotServed { mtype } => format!("A {}: this network does not answer such frames.", mtype.name()),
            Refusal::Unreadable { error } => format!("Not a LoRaWAN frame: {error}."),
        }
    }

    /// What to do about it.
    pub fn next_step(&self) -> &'static str {
        match self {
            Refusal::UnknownDevEui { .. } => {
                "If it is yours, register it with the EUIs shown; if not, nothing needs doing."
            }
            Refusal::DevEuiReversed { .. } => {
                "Compare with the label: correct the DevEUI in the registration, or its byte order in the firmware (many stacks want it least significant byte first)."
            }
            Refusal::EuisSwapped { .. } => "Exchange DevEUI and JoinEUI in the device's settings.",
            Refusal::WrongJoinEui { .. } => {
                "Enter the received JoinEUI in the registration, or set the registered one in the device."
            }
            Refusal::JoinMic { key_reversed: true, .. } => {
                "Reverse the key's bytes in the registration or in the firmware."
            }
            Refusal::JoinMic { app_key_instead: true, .. } => {
                "Register the device for the 1.0.x version of its firmware, or correct the firmware."
            }
            Refusal::JoinMic { fleet_key: FleetKey::Of(_), .. } => {
                "Exchange the keys of the two devices: most likely two labels, or two rows of a list, are swapped."
            }
            Refusal::JoinMic { key: "NwkKey", .. } => {
                "Compare the NwkKey in the device with the registered one, digit by digit, and check that NwkKey and AppKey are not swapped."
            }
            Refusal::JoinMic { .. } => {
                "Compare the AppKey in the device with the registered one, digit by digit. For LoRaWAN 1.0.x some firmware calls it NwkKey."
            }
            Refusal::DevNonceUsed { .. } => {
                "Usually the device starts its nonces over after each reset. It gets through with a nonce it has not used; if it never does, its firmware has to keep the nonce over resets."
            }
            Refusal::DevNonceNotAbove { .. } => {
                "The firmware has to keep its DevNonce over resets. If it draws nonces at random, register the device for 1.0.3 or earlier."
            }
            Refusal::Disabled { .. } => "Enable the device if it is to be served again.",
            Refusal::Quarantined { .. } => {
                "The watch page says what the database refuses. The frame is kept; the next start of the service tries again."
            }
            Refusal::Personalized => {
                "Register it for joining (OTAA) with its root key, or switch joining off in the device."
            }
            Refusal::RejoinUnknown { .. } => "If it is yours, register it; if not, nothing needs doing.",
            Refusal::RejoinVersion => "Register the device for 1.1 if its firmware is.",
            Refusal::RejoinNoSession => "Make the device join.",
            Refusal::RejoinNetwork { .. } => "Most likely a neighbour's device. If it is yours, make it join again.",
            Refusal::RejoinMic { .. } => "Make the device join again; if that fails too, the join says why.",
            Refusal::RejoinCount { .. } => {
                "The device has lost its count, or a frame is being replayed. Make the device join again."
            }
            Refusal::UnknownDevAddr { .. } => {
                "Most likely a neighbour's device. If it is yours, it holds an old session: make it join again."
            }
            Refusal::DataMic { .. } => {
                "Most likely a neighbour's device with the same address. If it is yours, it holds an old session: make it join again."
            }
            Refusal::CounterTooLow { .. } => {
                "If the device was restarted without joining again, make it join; it will be heard once its counter has passed the last one. Otherwise a frame is being replayed."
            }
            Refusal::Replayed { .. } => {
                "Someone plays a recorded frame back, or a repeater does. It changes nothing here."
            }
            Refusal::CameLate { .. } => {
                "Look at the gateway's connection: frames that come this late cannot be answered through it."
            }
            Refusal::CounterGap { .. } => {
                "Make the device join again. If that many uplinks really were lost, raise the largest gap in its radio profile."
            }
            Refusal::Downlink { .. } => {
                "Another gateway is near and sends without inverting its signal, or a device plays a gateway. Nothing needs doing unless it goes on."
            }
            Refusal::NotServed { .. } => "Another system on the same frequency: nothing needs doing.",
            Refusal::Unreadable { .. } => {
                "Another system on the same frequency, or a damaged frame: nothing needs doing."
            }
        }
    }
}
