//! Joins and rejoins: the requests, and what an accept makes of the device.

use lorawan::MacVersion;
use lorawan::crypto::{MicKey, join_server_keys, session_keys, session_keys_1_1};
use lorawan::wire::{Answered, JoinAccept, JoinKind, JoinRequestRepr, RejoinRequestRepr, RejoinTo};
use rand::RngExt as _;

use super::session::Session;
use super::{Asked, Device, Emission};

impl Device {
    /// A join-request: with a random DevNonce before 1.0.4, with a counted one from then on.
    pub fn join_request(&mut self) -> Emission {
        let counted = self.build.version >= MacVersion::V1_0_4;
        let dev_nonce = if counted { self.next_nonce } else { self.rng.random() };
        self.next_nonce = self.next_nonce.wrapping_add(1);
        let repr = JoinRequestRepr { join_eui: self.identity.join_eui, dev_eui: self.identity.dev_eui, dev_nonce };
        let frame = repr.emit(&MicKey::new(&self.identity.signing()));
        let (rate, hz) = self.join_place();
        self.asked = Some(Asked { kind: JoinKind::Join, nonce: dev_nonce, frequency_hz: hz });
        self.emission(frame, rate, hz, 0)
    }

    /// Data rate and frequency of a join-request.
    fn join_place(&mut self) -> (u8, u32) {
        let wanted = self.build.data_rate;
        let all: Vec<_> = self.plan().join_channels().collect();
        let carrying: Vec<_> = all.iter().filter(|c| (c.min_data_rate..=c.max_data_rate).contains(&wanted)).collect();
        // A data rate that no join channel carries gives way to one that does.
        match carrying.len() {
            0 => (all[0].max_data_rate, all[self.rng.random_range(0..all.len())].frequency_hz),
            n => (wanted, carrying[self.rng.random_range(0..n)].frequency_hz),
        }
    }

    /// A rejoin-request of 1.1; `None` outside a session of 1.1.
    pub fn rejoin_request(&mut self, kind: u8) -> Option<Emission> {
        let nwk_key = self.identity.nwk_key?;
        let session = self.session.as_mut().filter(|session| session.speaks_1_1)?;
        let (to, key, count) = match kind {
            0 | 2 => {
                let count = session.rj_count_0;
                session.rj_count_0 += 1;
                let net_id = session.net_id;
                let to = if kind == 0 { RejoinTo::Network(net_id) } else { RejoinTo::NetworkForKeys(net_id) };
                (to, session.keys.s_nwk_s_int_key, count)
            }
            _ => {
                let count = self.rj_count_1;
                self.rj_count_1 += 1;
                let key = join_server_keys(&nwk_key, self.identity.dev_eui).js_int_key;
                (RejoinTo::JoinServer(self.identity.join_eui), key, count)
            }
        };
        let repr = RejoinRequestRepr { to, dev_eui: self.identity.dev_eui, rj_count: count };
        let frame = repr.emit(&MicKey::new(&key));
        // Type 1 is sent as a join-request is, the others as any uplink (TS001-1.1 §6.2.4.4).
        let (data_rate, hz, tx_power) = match kind {
            0 | 2 => {
                let (data_rate, tx_power) = self.rate_and_power();
                (data_rate, self.pick_channel()?.1, tx_power)
            }
            _ => {
                let (data_rate, hz) = self.join_place();
                (data_rate, hz, 0)
            }
        };
        self.asked = Some(Asked { kind: JoinKind::Rejoin(kind), nonce: count, frequency_hz: hz });
        Some(self.emission(frame, data_rate, hz, tx_power))
    }

    pub(super) fn open_accept(&self, phy_payload: &[u8], asked: Asked) -> Option<JoinAccept> {
        match self.identity.nwk_key {
            Some(nwk_key) => {
                let keys = join_server_keys(&nwk_key, self.identity.dev_eui);
                let answered = Answered { kind: asked.kind, join_eui: self.identity.join_eui, dev_nonce: asked.nonce };
                JoinAccept::open_1_1(phy_payload, &nwk_key, &keys, &answered).ok()
            }
            None => JoinAccept::open(phy_payload, &self.identity.app_key).ok(),
        }
    }

    pub(super) fn begin_session(&mut self, accept: &JoinAccept, asked: Asked) {
        let keys = match self.identity.nwk_key {
            Some(nwk_key) if accept.opt_neg => session_keys_1_1(
                &nwk_key,
                &self.identity.app_key,
                accept.join_nonce,
                self.identity.join_eui,
                asked.nonce,
            ),
            _ => session_keys(&self.identity.signing(), accept.join_nonce, accept.net_id, asked.nonce).into(),
        };
        let mut session = Session::joined(accept, &keys, &self.build);
        if matches!(asked.kind, JoinKind::Join | JoinKind::Rejoin(1)) {
            session.joined_on(self.plan().join_channel(asked.frequency_hz));
        }
        if let (JoinKind::Rejoin(2), Some(before)) = (asked.kind, &self.session) {
            session.keep_radio(before);
        }
        self.session = Some(session);
        self.says.clear();
        self.repeats.clear();
        self.introduce();
    }
}
