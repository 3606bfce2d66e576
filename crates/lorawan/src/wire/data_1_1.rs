//! What LoRaWAN 1.1 does differently with data frames: the MIC is made by two keys and bound to the
//! frame acknowledged, the data rate and the channel (TS001-1.1 §4.4), and FOpts are encrypted
//! (§4.3.1.6). The bytes stand where 1.0.x has them.

use super::{DataRepr, DataView, FrameError};
use crate::crypto::{Binding, CounterOf, Mic, MicKey, PayloadKey};
use crate::{AesKey, DevAddr, Direction};

/// The network's three session keys, made ready.
#[derive(Clone)]
pub struct NetworkKeys11 {
    /// FNwkSIntKey.
    pub f_nwk_s_int: MicKey,
    /// SNwkSIntKey.
    pub s_nwk_s_int: MicKey,
    /// NwkSEncKey.
    pub nwk_s_enc: PayloadKey,
}

impl NetworkKeys11 {
    /// Prepares the keys.
    pub fn new(f_nwk_s_int_key: &AesKey, s_nwk_s_int_key: &AesKey, nwk_s_enc_key: &AesKey) -> Self {
        Self {
            f_nwk_s_int: MicKey::new(f_nwk_s_int_key),
            s_nwk_s_int: MicKey::new(s_nwk_s_int_key),
            nwk_s_enc: PayloadKey::new(nwk_s_enc_key),
        }
    }

    /// The MIC of a frame without its MIC. Only one that acknowledges is bound to a counter. A
    /// downlink binds no data rate and no channel, and is signed by the serving network alone.
    fn mic(&self, sent: Sent, counter: u32, binding: Binding, bytes: &[u8]) -> Mic {
        let Sent { direction, acknowledges, dev_addr } = sent;
        let binding = Binding { conf_f_cnt: if acknowledges { binding.conf_f_cnt } else { 0 }, ..binding };
        match direction {
            Direction::Up => {
                let s = self.s_nwk_s_int.data_mic_bound(direction, dev_addr, counter, binding, bytes);
                let f = self.f_nwk_s_int.data_mic(direction, dev_addr, counter, bytes);
                [s[0], s[1], f[0], f[1]]
            }
            Direction::Down => {
                let binding = Binding { tx_dr: 0, tx_ch: 0, ..binding };
                self.s_nwk_s_int.data_mic_bound(direction, dev_addr, counter, binding, bytes)
            }
        }
    }
}

/// What a frame's header says that its MIC depends on.
#[derive(Clone, Copy)]
struct Sent {
    direction: Direction,
    acknowledges: bool,
    dev_addr: DevAddr,
}

/// The two halves of an uplink's MIC in 1.1, each checked by the network that holds its key.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct UplinkMic {
    /// `cmacS[0..2]`: binds data rate, channel and acknowledged counter.
    pub serving: bool,
    /// `cmacF[0..2]`: what a forwarding network of a roaming device can check.
    pub forwarding: bool,
}

impl DataView<'_> {
    /// Whether the MIC was made with these keys of a 1.1 session. For an uplink `binding` holds the
    /// data rate and channel it was received on; `conf_f_cnt` counts only if the ACK bit is set.
    pub fn verify_1_1(&self, keys: &NetworkKeys11, counter: u32, binding: Binding) -> bool {
        keys.mic(self.sent(self.direction()), counter, binding, self.without_mic()) == self.mic()
    }

    /// The two halves of an uplink's MIC, each on its own.
    pub fn uplink_mic_1_1(&self, keys: &NetworkKeys11, counter: u32, binding: Binding) -> UplinkMic {
        let expected = keys.mic(self.sent(Direction::Up), counter, binding, self.without_mic());
        let mic = self.mic();
        UplinkMic { serving: mic[..2] == expected[..2], forwarding: mic[2..] == expected[2..] }
    }

    fn sent(&self, direction: Direction) -> Sent {
        Sent { direction, acknowledges: self.uplink_flags().ack, dev_addr: self.dev_addr() }
    }

    /// FOpts of a 1.1 session in the clear.
    pub fn decrypt_fopts(&self, nwk_s_enc_key: &PayloadKey, counter: u32) -> Vec<u8> {
        let mut fopts = self.fopts().to_vec();
        let of = CounterOf::frame(self.direction(), self.fport());
        nwk_s_enc_key.apply_fopts(self.direction(), self.dev_addr(), counter, of, &mut fopts);
        fopts
    }
}

impl DataRepr<'_> {
    /// The frame of 1.1, encrypted and signed. `counter` is FCntUp, NFCntDown or AFCntDown as
    /// [`CounterOf::frame`] says; `payload_key` the AppSKey, not used on port 0.
    ///
    /// # Errors
    /// As [`DataRepr::emit`].
    pub fn emit_1_1(
        &self,
        keys: &NetworkKeys11,
        payload_key: &PayloadKey,
        binding: Binding,
    ) -> Result<Vec<u8>, FrameError> {
        let port = self.payload.map(|(port, _)| port);
        let key = if port == Some(0) { &keys.nwk_s_enc } else { payload_key };
        let of = CounterOf::frame(self.direction, port);
        let mut frame = self.unsigned(key, |fopts| {
            keys.nwk_s_enc.apply_fopts(self.direction, self.dev_addr, self.counter, of, fopts);
        })?;
        let sent = Sent { direction: self.direction, acknowledges: self.acknowledges(), dev_addr: self.dev_addr };
        let mic = keys.mic(sent, self.counter, binding, &frame);
        frame.extend(mic);
        Ok(frame)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::wire::{DownlinkFlags, UplinkFlags};
    use proptest::prelude::*;

    fn keys() -> NetworkKeys11 {
        NetworkKeys11::new(&AesKey([1; 16]), &AesKey([2; 16]), &AesKey([3; 16]))
    }

    #[test]
    fn an_uplink_is_bound_to_data_rate_channel_and_what_it_acknowledges() {
        let (keys, app) = (keys(), PayloadKey::new(&AesKey([4; 16])));
        let flags = UplinkFlags { ack: true, ..UplinkFlags::default() };
        let sent = Binding { conf_f_cnt: 9, tx_dr: 5, tx_ch: 2 };
        let repr = DataRepr::uplink(DevAddr(7), 1, flags, Some((1, b"x")));
        let frame = repr.emit_1_1(&keys, &app, sent).unwrap();
        let view = DataView::new_checked(&frame).unwrap();
        assert!(view.verify_1_1(&keys, 1, sent));
        for other in [Binding { tx_dr: 4, ..sent }, Binding { tx_ch: 3, ..sent }, Binding { conf_f_cnt: 8, ..sent }] {
            let mic = view.uplink_mic_1_1(&keys, 1, other);
            assert_eq!(mic, UplinkMic { serving: false, forwarding: true }, "{other:?}");
        }
        assert!(!view.uplink_mic_1_1(&keys, 2, sent).forwarding);
    }

    #[test]
    fn without_ack_the_acknowledged_counter_does_not_count() {
        let (keys, app) = (keys(), PayloadKey::new(&AesKey([4; 16])));
        let repr = DataRepr::downlink(DevAddr(7), 1, DownlinkFlags::default(), None).with_fopts(&[6]);
        let frame = repr.emit_1_1(&keys, &app, Binding { conf_f_cnt: 77, tx_dr: 3, tx_ch: 3 }).unwrap();
        assert!(DataView::new_checked(&frame).unwrap().verify_1_1(&keys, 1, Binding::default()));
    }

    proptest! {
        #[test]
        fn round_trip(up: bool, ack: bool, addr: u32, counter: u32, port in proptest::option::of(0u8..=224),
                      fopts in proptest::collection::vec(any::<u8>(), 0..=15), conf_f_cnt: u16, tx_dr in 0u8..16, tx_ch: u8,
                      payload in proptest::collection::vec(any::<u8>(), 0..=200)) {
            let (keys, app) = (keys(), PayloadKey::new(&AesKey([4; 16])));
            let fopts = if port == Some(0) { &[][..] } else { &fopts };
            let data = port.map(|p| (p, payload.as_slice()));
            let repr = if up {
                DataRepr::uplink(DevAddr(addr), counter, UplinkFlags { ack, ..UplinkFlags::default() }, data)
            } else {
                DataRepr::downlink(DevAddr(addr), counter, DownlinkFlags { ack, ..DownlinkFlags::default() }, data)
            }.with_fopts(fopts);
            let binding = Binding { conf_f_cnt, tx_dr, tx_ch };
            let frame = repr.emit_1_1(&keys, &app, binding).unwrap();
            let view = DataView::new_checked(&frame).unwrap();
            prop_assert!(view.verify_1_1(&keys, counter, binding));
            prop_assert!(!view.verify_1_1(&keys, counter ^ 0x1_0000, binding));
            prop_assert_eq!(view.decrypt_fopts(&keys.nwk_s_enc, counter), fopts);
            let key = if port == Some(0) { &keys.nwk_s_enc } else { &app };
            let clear = view.decrypt(key, counter);
            prop_assert_eq!(clear, if port.is_some() { payload } else { vec![] });
        }
    }
}
