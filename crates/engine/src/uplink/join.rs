//! Over-the-air activation (TS001 §6.2), and in 1.1 the renewal of a session by rejoin-requests
//! (TS001-1.1 §6.2.4).

use lorawan::crypto::{MicKey, SessionKeys11, join_server_keys, session_keys, session_keys_1_1};
use lorawan::region::{CfListForm, JoinChannel};
use lorawan::wire::{Answered, JoinAccept, JoinKind, JoinRequestView, RejoinRequestView, RejoinTo};
use lorawan::{DevAddr, Eui64, MacVersion, NetId, NonceError};

use crate::Engine;
use crate::device::Device;
use crate::device::session::{Counters, Session};
use crate::device::settings::Settings;
use crate::downlink::candidate::{Candidate, To};
use crate::downlink::frame::{Cargo, label};
use crate::downlink::schedule;
use crate::estates::tell_discarded;
use crate::io::change::Change;
use crate::io::config::Activation;
use crate::io::event::{Event, JoinedEvent};
use crate::step::Step;
use crate::time::Timestamp;
use crate::uplink::collect::Collected;
use crate::uplink::refusal::{FleetKey, Refusal};

/// Keys tried to find whose a join-request was made with, at most; each takes a good microsecond.
const KEYS_TRIED: usize = 20_000;
/// From one such search to the next.
const KEYS_TRIED_EVERY_US: i64 = 1_000_000;

/// A request that has passed all checks.
struct Request {
    dev_eui: Eui64,
    kind: JoinKind,
    /// DevNonce or RJcount.
    nonce: u16,
}

impl Device {
    /// The join-accept for a new session, with a JoinNonce that was never used before.
    fn join_accept(&mut self, net_id: NetId, dev_addr: DevAddr) -> JoinAccept {
        let join_nonce = self.nonces.join_nonce();
        let profile = &self.config.profile;
        let plan = profile.plan();
        // Lists of masks came with 1.0.3 (RP001-1.0.3); before it a device of such a region ignores them.
        let lists = plan.cf_list == CfListForm::Frequencies || profile.version >= MacVersion::V1_0_3;
        JoinAccept {
            join_nonce,
            net_id,
            dev_addr,
            opt_neg: profile.version == MacVersion::V1_1,
            rx1_data_rate_offset: profile.rx1_data_rate_offset,
            rx2_data_rate: profile.rx2_data_rate,
            rx_delay_s: profile.rx_delay_s,
            cf_list: lists.then(|| plan.cf_list(profile.channels)),
        }
    }

    /// The new session's keys, and the join-accept as it is sent; nothing for a device that cannot join.
    fn seal_accept(&self, accept: &JoinAccept, request: &Request) -> Option<(SessionKeys11, Vec<u8>)> {
        let root = self.config.root_keys()?;
        let Request { dev_eui, kind, nonce } = *request;
        let join_eui = self.config.join_eui;
        Some(match root.nwk_key {
            Some(nwk_key) if accept.opt_neg => {
                let lifetime = join_server_keys(&nwk_key, dev_eui);
                let answered = Answered { kind, join_eui, dev_nonce: nonce };
                let keys = session_keys_1_1(&nwk_key, &root.app_key, accept.join_nonce, join_eui, nonce);
                (keys, accept.seal_1_1(&nwk_key, &lifetime, &answered))
            }
            _ => {
                let key = root.joining();
                let keys = session_keys(&key, accept.join_nonce, accept.net_id, nonce);
                (SessionKeys11::from(keys), accept.seal(&key))
            }
        })
    }

    /// Where it listens for the answer. Type 0 and 2 are sent within the running session; a join-request, and type 1 as
    /// one, find the region's defaults in force (TS001 §6.2.5, TS001-1.1 §6.2.4.4).
    fn windows_after_join(&self, kind: JoinKind, channel: Option<JoinChannel>, frame: &Collected) -> Vec<Candidate> {
        let profile = &self.config.profile;
        let (windows, channel) = match (kind, self.session.as_deref()) {
            (JoinKind::Rejoin(0 | 2), Some(running)) => (running.settings, None),
            _ => (Settings::of_region(profile), channel),
        };
        schedule::after_uplink(profile.plan(), &windows, frame, schedule::After::Join(channel))
    }
}

impl Engine {
    pub(crate) fn join_request(
        &mut self,
        step: &mut Step<'_>,
        request: &JoinRequestView<'_>,
        frame: &Collected,
    ) -> Option<Eui64> {
        let named = self.device_of_join(request, frame);
        if self.is_elsewhere(request.dev_eui(), frame) {
            tell_discarded(step, frame.copies.len());
            return None;
        }
        let whose = named.and_then(|dev_eui| self.devices.get(&dev_eui));
        let kept = whose.map(|device| self.kept_for(step, frame, device.config.estate));
        let frame = kept.as_deref().unwrap_or(frame);
        if let Some(dev_eui) = named {
            self.book_uplink(step, dev_eui, frame);
        }
        match self.check_join(request, frame) {
            Ok(dev_eui) => {
                if let Some(device) = self.devices.get_mut(&dev_eui) {
                    device.nonces.spend(device.config.profile.version.dev_nonce_rule(), request.dev_nonce());
                }
                let request = Request { dev_eui, kind: JoinKind::Join, nonce: request.dev_nonce() };
                self.accept_join(step, &request, frame);
            }
            Err(mut reason) => {
                if let (Refusal::JoinMic { fleet_key, key_reversed: false, .. }, Some(dev_eui)) = (&mut reason, named) {
                    *fleet_key = self.whose_key(step.now, dev_eui, request);
                }
                match named {
                    Some(_) => step.publish(frame.refused(named, reason)),
                    None => self.refuse_unknown(step, frame, reason),
                }
            }
        }
        named
    }

    /// Looks among the other devices of a fleet for the key a join-request was made with. Anyone who knows a DevEUI can
    /// cause this, so it is done seldom, and ends.
    fn whose_key(&mut self, now: Timestamp, dev_eui: Eui64, request: &JoinRequestView<'_>) -> FleetKey {
        if self.keys_tried_at.is_some_and(|at| now.since(at) < KEYS_TRIED_EVERY_US) {
            return FleetKey::NotTried;
        }
        let Some(fleet) = self.devices.get(&dev_eui).map(|device| device.config.fleet) else {
            return FleetKey::NotTried;
        };
        self.keys_tried_at = Some(now);
        let others = self.devices.values().filter(|device| device.config.fleet == fleet);
        let mut roots = others.filter_map(|device| Some((device.config.dev_eui, device.config.root_keys()?)));
        let found = roots.by_ref().take(KEYS_TRIED).find(|(_, root)| request.verify(&MicKey::new(&root.joining())));
        match found {
            Some((other, _)) => FleetKey::Of(other),
            None if roots.next().is_none() => FleetKey::Nobodys,
            None => FleetKey::NotTried,
        }
    }

    pub(crate) fn rejoin_request(
        &mut self,
        step: &mut Step<'_>,
        request: &RejoinRequestView<'_>,
        frame: &Collected,
    ) -> Option<Eui64> {
        let dev_eui = request.dev_eui();
        if self.is_elsewhere(dev_eui, frame) {
            tell_discarded(step, frame.copies.len());
            return None;
        }
        let whose = self.devices.get(&dev_eui);
        let kept = whose.map(|device| self.kept_for(step, frame, device.config.estate));
        let frame = kept.as_deref().unwrap_or(frame);
        let named = self.devices.contains_key(&dev_eui).then_some(dev_eui);
        if named.is_some() {
            self.book_uplink(step, dev_eui, frame);
        }
        match self.check_rejoin(request) {
            Ok(()) => {
                let kind = JoinKind::Rejoin(request.to().kind());
                self.accept_join(step, &Request { dev_eui, kind, nonce: request.rj_count() }, frame);
            }
            Err(reason) if named.is_none() => self.refuse_unknown(step, frame, reason),
            Err(reason) => step.publish(frame.refused(named, reason)),
        }
        named
    }

    /// Agrees on a new session with a device and answers it. The running session goes on until the first
    /// uplink under the new one: the answer may not arrive.
    fn accept_join(&mut self, step: &mut Step<'_>, request: &Request, frame: &Collected) {
        let Request { dev_eui, kind, nonce } = *request;
        let dev_addr = self.choose_addr();
        self.detach(dev_eui);
        let net_id = self.config.net_id;
        let Some(device) = self.devices.get_mut(&dev_eui) else { return };
        let accept = device.join_accept(net_id, dev_addr);
        let Some((keys, phy_payload)) = device.seal_accept(&accept, request) else { return };
        let channel = device.config.plan().join_channel(frame.best().frequency_hz);
        let candidates = device.windows_after_join(kind, channel, frame);
        let settings = match (kind, &device.session) {
            // A rejoin of type 2 leaves the radio as it is (TS001-1.1 §6.2.4.3).
            (JoinKind::Rejoin(2), Some(session)) => session.settings,
            _ => Settings::joined(&device.config.profile, &accept, channel),
        };
        let session = Session {
            dev_addr,
            keys,
            speaks_1_1: accept.opt_neg,
            counters: Counters::default(),
            settings,
            joined_at: step.now,
        };
        device.next_session = Some(Box::new(session.clone()));
        let nonces = device.nonces.clone();
        let dev_nonce = (kind == JoinKind::Join).then_some(nonce);
        step.persist(Change::Nonces { dev_eui, dev_nonce, nonces });
        step.persist(Change::Session { dev_eui, session: Box::new(session), begun: false });
        if let (JoinKind::Rejoin(0 | 2), Some(running)) = (kind, device.session.as_deref()) {
            step.persist(Change::Counters { dev_eui, counters: running.counters });
        }
        device.outbox.joined(step);
        self.attach(dev_eui);

        let cargo = Cargo::bare(To::Device(dev_eui), phy_payload);
        let unanswered = self.send_by_any(step, cargo, candidates).err().map(|why| label(&why));
        let rejoin = match kind {
            JoinKind::Join => None,
            JoinKind::Rejoin(kind) => Some(kind),
        };
        let frame = frame.told();
        step.publish(Event::Joined(JoinedEvent { dev_eui, dev_addr, dev_nonce: nonce, rejoin, frame, unanswered }));
    }

    /// The registered device a join-request is about, as far as one can tell.
    fn device_of_join(&self, request: &JoinRequestView<'_>, frame: &Collected) -> Option<Eui64> {
        let (dev_eui, join_eui) = (request.dev_eui(), request.join_eui());
        // A device of another estate is unknown to the estates whose gateways heard this.
        let own = |eui: &Eui64| self.devices.get(eui).filter(|device| self.heard_for(frame, device.config.estate));
        let swapped = |eui: &Eui64| own(eui).is_some_and(|d| d.config.join_eui == dev_eui);
        [dev_eui, dev_eui.reversed()]
            .into_iter()
            .find(|eui| own(eui).is_some())
            .or_else(|| Some(join_eui).filter(swapped))
    }

    /// Whether a device is registered, in an estate whose gateways have not heard this.
    fn is_elsewhere(&self, dev_eui: Eui64, frame: &Collected) -> bool {
        self.devices.get(&dev_eui).is_some_and(|device| !self.heard_for(frame, device.config.estate))
    }

    fn check_join(&self, request: &JoinRequestView<'_>, frame: &Collected) -> Result<Eui64, Refusal> {
        let (dev_eui, join_eui) = (request.dev_eui(), request.join_eui());
        let Some(device) = self.devices.get(&dev_eui) else {
            return Err(match self.device_of_join(request, frame) {
                Some(registered) if registered == dev_eui.reversed() => Refusal::DevEuiReversed { dev_eui, registered },
                Some(registered) => Refusal::EuisSwapped { registered },
                None => Refusal::UnknownDevEui { dev_eui, join_eui },
            });
        };
        if device.config.join_eui != join_eui {
            return Err(Refusal::WrongJoinEui { received: join_eui, registered: device.config.join_eui });
        }
        let Activation::OverTheAir(root) = &device.config.activation else {
            return Err(Refusal::Personalized);
        };
        let key = root.joining();
        let made_with = |key| request.verify(&MicKey::new(key));
        if !made_with(&key) {
            return Err(Refusal::JoinMic {
                key: if root.nwk_key.is_some() { "NwkKey" } else { "AppKey" },
                key_reversed: made_with(&key.reversed()),
                app_key_instead: root.nwk_key.is_some() && made_with(&root.app_key),
                fleet_key: FleetKey::NotTried,
            });
        }
        let dev_nonce = request.dev_nonce();
        let used = device.nonces.used_dev_nonces.iter().map(|nonce| u32::from(*nonce));
        match device.config.profile.version.dev_nonce_rule().check(u32::from(dev_nonce), used) {
            Ok(()) => device.unserved(true).map_or(Ok(dev_eui), Err),
            Err(NonceError::Used { .. }) => Err(Refusal::DevNonceUsed { dev_nonce }),
            Err(NonceError::NotIncreased { last, .. }) => {
                Err(Refusal::DevNonceNotAbove { dev_nonce, last: last as u16 })
            }
        }
    }

    /// Checks a rejoin-request and spends its count.
    fn check_rejoin(&mut self, request: &RejoinRequestView<'_>) -> Result<(), Refusal> {
        let (dev_eui, received) = (request.dev_eui(), request.rj_count());
        let net_id = self.config.net_id;
        let device = self.devices.get_mut(&dev_eui).ok_or(Refusal::RejoinUnknown { dev_eui })?;
        if device.quarantined {
            return Err(Refusal::Quarantined { joining: true });
        }
        let Device { config, session, nonces, .. } = &mut **device;
        let nwk_key = config.root_keys().and_then(|root| root.nwk_key);
        let nwk_key = nwk_key.filter(|_| config.profile.version == MacVersion::V1_1).ok_or(Refusal::RejoinVersion)?;
        let (key, last) = match request.to() {
            RejoinTo::Network(theirs) | RejoinTo::NetworkForKeys(theirs) => {
                if theirs != net_id {
                    return Err(Refusal::RejoinNetwork { received: theirs, ours: net_id });
                }
                let session = session.as_deref_mut().ok_or(Refusal::RejoinNoSession)?;
                (session.keys.s_nwk_s_int_key, &mut session.counters.rj_count_0)
            }
            RejoinTo::JoinServer(join_eui) => {
                if join_eui != config.join_eui {
                    return Err(Refusal::WrongJoinEui { received: join_eui, registered: config.join_eui });
                }
                (join_server_keys(&nwk_key, dev_eui).js_int_key, &mut nonces.rj_count_1)
            }
        };
        if !request.verify(&MicKey::new(&key)) {
            return Err(Refusal::RejoinMic { kind: request.to().kind() });
        }
        if let Some(last) = *last
            && received <= last
        {
            return Err(Refusal::RejoinCount { received, last });
        }
        *last = Some(received);
        Ok(())
    }

    /// An address under the network's prefix that no session uses. Addresses are few (2^25), so a
    /// shared one is not an error, only avoided while that is easy.
    fn choose_addr(&mut self) -> DevAddr {
        let mut addr = DevAddr(0);
        for _ in 0..16 {
            // SplitMix64: well spread from any start, and the same for the same seed.
            self.addr_choice = self.addr_choice.wrapping_add(0x9e37_79b9_7f4a_7c15);
            let mut z = self.addr_choice;
            z = (z ^ (z >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
            z = (z ^ (z >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
            addr = self.config.net_id.dev_addr((z ^ (z >> 31)) as u32);
            if !self.by_addr.contains_key(&addr) {
                break;
            }
        }
        addr
    }
}
