//! The device's side of a session: keys, counters and settings.

use lorawan::crypto::{Binding, MicKey, PayloadKey, SessionKeys11};
use lorawan::mac::NewChannel;
use lorawan::region::{ADR_ACK_DELAY, ADR_ACK_LIMIT, AdrSettings, Channel, ChannelSet, JoinChannel, Plan};
use lorawan::wire::{DataRepr, DataView, FPort, JoinAccept, NetworkKeys11, UplinkFlags};
use lorawan::{DevAddr, Direction, MacVersion, NetId, counter};

use serde::{Deserialize, Serialize};

use super::Build;

#[derive(Clone, Serialize, Deserialize)]
pub(super) struct Session {
    pub(super) dev_addr: DevAddr,
    pub(super) net_id: NetId,
    #[serde(with = "super::saved::keys")]
    pub(super) keys: SessionKeys11,
    pub(super) speaks_1_1: bool,
    pub(super) adr: AdrSettings,
    pub(super) defined: ChannelSet,
    /// Channels that are not those of the network.
    given: Vec<Channel>,
    pub(super) rx_delay_s: u8,
    pub(super) rx1_offset: u8,
    pub(super) rx2_data_rate: u8,
    pub(super) rx2_frequency_hz: u32,
    pub(super) downlink_dwell_time: bool,
    pub(super) uplink_dwell_time: bool,
    pub(super) rj_count_0: u16,
    /// Counter of the confirmed downlink that the next uplink acknowledges.
    pub(super) owes_ack: Option<u32>,
    /// Uplinks since the last downlink.
    pub(super) silence: u16,
    /// ADR_ACK_LIMIT and ADR_ACK_DELAY.
    pub(super) adr_ack: (u16, u16),
    /// Channels whose RX1 is elsewhere, by index.
    rx1_moved: Vec<(u8, u32)>,
    /// Where it joined.
    pub(super) join_channel: Option<JoinChannel>,
    pub(super) ping_frequency_hz: Option<u32>,
    pub(super) ping_data_rate: u8,
    next_up: u32,
    /// The last uplink, to be sent again.
    #[serde(skip)]
    last_sent: Option<Sent>,
    /// Last counter of each of 1.1's two downlink counters; 1.0.x uses the first.
    last_down: [Option<u32>; 2],
    last_confirmed_up: u32,
}

/// What an uplink was made of.
#[derive(Clone)]
struct Sent {
    counter: u32,
    flags: UplinkFlags,
    confirmed: bool,
    fopts: Vec<u8>,
    payload: Option<(FPort, Vec<u8>)>,
    conf_f_cnt: u16,
}

/// A downlink in the clear.
pub(super) struct Read {
    pub(super) counter: u32,
    pub(super) payload: Vec<u8>,
    pub(super) mac_commands: Vec<u8>,
}

impl Session {
    fn new(dev_addr: DevAddr, keys: SessionKeys11, build: &Build) -> Self {
        let plan = build.region.plan();
        let channels = plan.known_channels();
        Self {
            dev_addr,
            net_id: NetId::new(0),
            keys,
            speaks_1_1: build.version == MacVersion::V1_1,
            adr: AdrSettings { data_rate: build.data_rate, tx_power: 0, nb_trans: 1, channels },
            defined: channels,
            given: Vec::new(),
            rx_delay_s: 1,
            rx1_offset: 0,
            rx2_data_rate: plan.rx2_data_rate,
            rx2_frequency_hz: plan.rx2_frequency_hz,
            // Until it is told otherwise, a device holds to the dwell time.
            downlink_dwell_time: plan.dwell.downlink_ms.is_some(),
            uplink_dwell_time: plan.dwell.uplink_ms.is_some(),
            rj_count_0: 0,
            owes_ack: None,
            silence: 0,
            adr_ack: (ADR_ACK_LIMIT, ADR_ACK_DELAY),
            rx1_moved: Vec::new(),
            join_channel: None,
            ping_frequency_hz: None,
            ping_data_rate: plan.class_b.ping_slot.min_data_rate,
            next_up: 0,
            last_sent: None,
            last_down: [None; 2],
            last_confirmed_up: 0,
        }
    }

    pub(super) fn personal(dev_addr: DevAddr, keys: &SessionKeys11, build: &Build) -> Self {
        Self::new(dev_addr, *keys, build)
    }

    pub(super) fn joined(accept: &JoinAccept, keys: &SessionKeys11, build: &Build) -> Self {
        let plan = build.region.plan();
        let mut session = Self::new(accept.dev_addr, *keys, build);
        session.net_id = accept.net_id;
        session.speaks_1_1 = accept.opt_neg;
        session.rx1_offset = accept.rx1_data_rate_offset;
        session.rx2_data_rate = accept.rx2_data_rate;
        // TS001 §5.7: 0 means 1.
        session.rx_delay_s = accept.rx_delay_s.max(1);
        if let Some(on) = accept.cf_list.as_ref().and_then(|list| plan.after_cf_list(list)) {
            session.adr.channels = on;
            if plan.dynamic() {
                session.defined = on;
            }
        }
        session
    }

    /// In some regions the channel of the join decides where the device listens (RP002, "CN470-510").
    pub(super) fn joined_on(&mut self, channel: Option<JoinChannel>) {
        if let Some(channel) = channel {
            self.rx2_frequency_hz = channel.rx2_frequency_hz;
            self.join_channel = Some(channel);
        }
    }

    /// Takes a channel that NewChannelReq gives it; it is on at once (TS001 §5.6).
    pub(super) fn define(&mut self, plan: &Plan, channel: &NewChannel) {
        let NewChannel { index, frequency_hz, min_data_rate, max_data_rate } = *channel;
        self.given.retain(|given| given.index != index);
        if !plan.network_uplinks().any(|c| (c.index, c.frequency_hz) == (index, frequency_hz)) {
            self.given.push(Channel { index, frequency_hz, min_data_rate, max_data_rate });
        }
        self.defined.insert(index);
        self.adr.channels.insert(index);
    }

    /// Puts RX1 of a channel elsewhere (TS001 §5.6.2).
    pub(super) fn move_rx1(&mut self, index: u8, frequency_hz: u32) {
        self.rx1_moved.retain(|(moved, _)| *moved != index);
        self.rx1_moved.push((index, frequency_hz));
    }

    /// Where RX1 after an uplink is, if it was put elsewhere.
    pub(super) fn rx1_moved_to(&self, plan: &Plan, uplink_hz: u32) -> Option<u32> {
        let channels = plan.network_uplinks().chain(self.given.iter().copied());
        let index = channels.filter(|channel| channel.frequency_hz == uplink_hz).last()?.index;
        self.rx1_moved.iter().find(|(moved, _)| *moved == index).map(|(_, hz)| *hz)
    }

    /// A rejoin of type 2 renews keys and leaves the radio as it was (TS001-1.1 §6.2.4.3).
    pub(super) fn keep_radio(&mut self, before: &Self) {
        self.adr = before.adr;
        self.defined = before.defined;
        self.given = before.given.clone();
        self.rx_delay_s = before.rx_delay_s;
        self.rx1_offset = before.rx1_offset;
        self.rx2_data_rate = before.rx2_data_rate;
        self.rx2_frequency_hz = before.rx2_frequency_hz;
        self.join_channel = before.join_channel;
        self.downlink_dwell_time = before.downlink_dwell_time;
        self.uplink_dwell_time = before.uplink_dwell_time;
        self.adr_ack = before.adr_ack;
        self.rx1_moved = before.rx1_moved.clone();
        self.ping_frequency_hz = before.ping_frequency_hz;
        self.ping_data_rate = before.ping_data_rate;
    }

    /// Index and frequency of the channels that are on and carry the present data rate; if none does, all
    /// that are on.
    pub(super) fn usable_channels(&self, plan: &Plan) -> Vec<(u8, u32)> {
        let given = |c: &Channel| !self.given.iter().any(|given| given.index == c.index);
        let all = plan.network_uplinks().filter(given).chain(self.given.iter().copied());
        let on: Vec<_> = all.filter(|c| self.adr.channels.contains(c.index)).collect();
        let carrying: Vec<_> = on.iter().filter(|c| c.carries(self.adr.data_rate)).collect();
        let of = |c: &Channel| (c.index, c.frequency_hz);
        if carrying.is_empty() { on.iter().map(of).collect() } else { carrying.into_iter().map(of).collect() }
    }

    /// Nothing was heard for long: first full power, then slower, then all channels (TS001 §4.3.1.1).
    pub(super) fn back_off(&mut self, plan: &Plan) {
        if self.adr.tx_power > 0 {
            self.adr.tx_power = 0;
        } else if self.adr.data_rate > 0 {
            self.adr.data_rate -= 1;
        } else {
            self.adr.channels = plan.known_channels();
            self.adr.nb_trans = 1;
        }
    }

    fn keys_1_1(&self) -> NetworkKeys11 {
        NetworkKeys11::new(&self.keys.f_nwk_s_int_key, &self.keys.s_nwk_s_int_key, &self.keys.nwk_s_enc_key)
    }

    pub(super) fn seal(
        &mut self,
        flags: UplinkFlags,
        confirmed: bool,
        fopts: &[u8],
        payload: Option<(FPort, &[u8])>,
        channel: u8,
    ) -> Option<Vec<u8>> {
        let sent = Sent {
            counter: self.next_up,
            flags,
            confirmed,
            fopts: fopts.to_vec(),
            payload: payload.map(|(port, bytes)| (port, bytes.to_vec())),
            conf_f_cnt: self.owes_ack.map_or(0, |counter| counter as u16),
        };
        let frame = self.frame(&sent, channel);
        if confirmed {
            self.last_confirmed_up = self.next_up;
        }
        self.next_up += 1;
        self.owes_ack = None;
        self.last_sent = Some(sent);
        frame
    }

    /// The last uplink again, on another channel: in 1.1 with another MIC (TS001-1.1 §4.4.1).
    pub(super) fn seal_again(&self, channel: u8) -> Option<Vec<u8>> {
        self.frame(self.last_sent.as_ref()?, channel)
    }

    fn frame(&self, sent: &Sent, channel: u8) -> Option<Vec<u8>> {
        let payload = sent.payload.as_ref().map(|(port, bytes)| (*port, bytes.as_slice()));
        let repr = DataRepr::uplink(self.dev_addr, sent.counter, sent.flags, payload);
        let repr = repr.confirmed(sent.confirmed).with_fopts(&sent.fopts);
        let app = PayloadKey::new(&self.keys.app_s_key);
        let frame = if self.speaks_1_1 {
            let binding = Binding { conf_f_cnt: sent.conf_f_cnt, tx_dr: self.adr.data_rate, tx_ch: channel };
            repr.emit_1_1(&self.keys_1_1(), &app, binding)
        } else {
            repr.emit(&MicKey::new(&self.keys.f_nwk_s_int_key), &app)
        };
        frame.ok()
    }

    /// Reads a downlink that is for this session, and whose counter is new.
    pub(super) fn open(&mut self, view: &DataView<'_>) -> Option<Read> {
        if view.direction() != Direction::Down || view.dev_addr() != self.dev_addr {
            return None;
        }
        let counted = usize::from(self.speaks_1_1 && view.fport().is_some_and(|port| port > 0));
        let counter = counter::candidates(self.last_down[counted], view.counter_low()).ahead?;
        let port_0 = view.fport() == Some(0);
        let (good, fopts) = if self.speaks_1_1 {
            let keys = self.keys_1_1();
            let binding = Binding { conf_f_cnt: self.last_confirmed_up as u16, ..Binding::default() };
            (view.verify_1_1(&keys, counter, binding), view.decrypt_fopts(&keys.nwk_s_enc, counter))
        } else {
            (view.verify(&MicKey::new(&self.keys.f_nwk_s_int_key), counter), view.fopts().to_vec())
        };
        if !good {
            return None;
        }
        self.last_down[counted] = Some(counter);
        self.silence = 0;
        if view.confirmed() {
            self.owes_ack = Some(counter);
        }
        let key = if port_0 { &self.keys.nwk_s_enc_key } else { &self.keys.app_s_key };
        let payload = view.decrypt(&PayloadKey::new(key), counter);
        let mac_commands = if port_0 { payload.clone() } else { fopts };
        Some(Read { counter, payload, mac_commands })
    }
}
