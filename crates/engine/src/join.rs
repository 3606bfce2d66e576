//! Over-the-air activation (TS001 §6.2).

use lorawan::crypto::{MicKey, session_keys};
use lorawan::region::RECEIVE_DELAY1_S;
use lorawan::wire::{JoinAccept, JoinRequestView};
use lorawan::{DevAddr, Eui64};

use crate::Engine;
use crate::collect::Collected;
use crate::device::Session;
use crate::downlink::Cargo;
use crate::effect::{Change, Effect, Event, JoinedEvent};
use crate::refusal::Refusal;
use crate::schedule;
use crate::time::Timestamp;

impl Engine {
    pub(crate) fn join_request(
        &mut self,
        now: Timestamp,
        request: &JoinRequestView<'_>,
        frame: &Collected,
        effects: &mut Vec<Effect>,
    ) {
        let named = self.device_of_join(request);
        if let Some(dev_eui) = named {
            self.book_uplink(dev_eui, frame, effects);
        }
        let dev_eui = match self.check_join(request) {
            Ok(dev_eui) => dev_eui,
            Err(reason) => {
                effects.push(frame.refused(named, reason));
                return;
            }
        };

        let dev_addr = self.choose_addr();
        self.detach(dev_eui);
        let Some(device) = self.devices.get_mut(&dev_eui) else { return };
        let plan = device.config.region.plan();
        let app_key = device.config.app_key;
        let dev_nonce = request.dev_nonce();
        let join_nonce = device.next_join_nonce;
        let accept = JoinAccept {
            join_nonce,
            net_id: self.config.net_id,
            dev_addr,
            opt_neg: false,
            rx1_data_rate_offset: 0,
            rx2_data_rate: plan.rx2_data_rate,
            rx_delay_s: RECEIVE_DELAY1_S,
            cf_list: Some(plan.cf_list(plan.known_channels())),
        };
        let session = Session {
            dev_addr,
            keys: session_keys(&app_key, join_nonce, self.config.net_id, dev_nonce),
            up: None,
            last_mic: [0; 4],
            next_down: 0,
            joined_at: now,
        };
        device.spend(dev_nonce);
        // 24 bits on air; after 16 million joins it starts over, as the field must.
        device.next_join_nonce = (join_nonce + 1) & 0x00ff_ffff;
        device.session = Some(session.clone());
        effects.push(Effect::Persist(Change::Joined {
            dev_eui,
            session: Box::new(session),
            dev_nonce,
            next_join_nonce: device.next_join_nonce,
        }));
        device.outbox.joined(effects, dev_eui);
        self.by_addr.entry(dev_addr).or_default().push(dev_eui);

        let candidates = schedule::candidates(plan, frame, schedule::After::Join);
        let cargo = Cargo {
            dev_eui,
            phy_payload: accept.seal(&app_key),
            counter: None,
            outbox_id: None,
            data: None,
            acknowledges: false,
            mac_commands: Vec::new(),
            confirmed: false,
        };
        let unanswered = self.send_by_any(now, cargo, &candidates, effects).err();
        effects.push(Effect::Publish(Event::Joined(JoinedEvent {
            dev_eui,
            dev_addr,
            dev_nonce,
            phy_payload: frame.phy_payload.clone(),
            radio: frame.radio(),
            airtime_us: frame.airtime_us(),
            heard_by: frame.copies.clone(),
            unanswered,
        })));
    }

    /// The registered device a join-request is about, as far as one can tell.
    fn device_of_join(&self, request: &JoinRequestView<'_>) -> Option<Eui64> {
        let (dev_eui, join_eui) = (request.dev_eui(), request.join_eui());
        let swapped = |eui: &Eui64| self.devices.get(eui).is_some_and(|d| d.config.join_eui == dev_eui);
        [dev_eui, dev_eui.reversed()]
            .into_iter()
            .find(|eui| self.devices.contains_key(eui))
            .or_else(|| Some(join_eui).filter(swapped))
    }

    fn check_join(&self, request: &JoinRequestView<'_>) -> Result<Eui64, Refusal> {
        let (dev_eui, join_eui) = (request.dev_eui(), request.join_eui());
        let Some(device) = self.devices.get(&dev_eui) else {
            return Err(match self.device_of_join(request) {
                Some(registered) if registered == dev_eui.reversed() => Refusal::DevEuiReversed { dev_eui, registered },
                Some(registered) => Refusal::EuisSwapped { registered },
                None => Refusal::UnknownDevEui { dev_eui, join_eui },
            });
        };
        if device.config.join_eui != join_eui {
            return Err(Refusal::WrongJoinEui { received: join_eui, registered: device.config.join_eui });
        }
        let app_key = device.config.app_key;
        if !request.verify(&MicKey::new(&app_key)) {
            return Err(Refusal::JoinMic { key_reversed: request.verify(&MicKey::new(&app_key.reversed())) });
        }
        if device.used(request.dev_nonce()) {
            return Err(Refusal::DevNonceUsed { dev_nonce: request.dev_nonce() });
        }
        Ok(dev_eui)
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
