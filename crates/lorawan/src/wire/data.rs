//! Data frames in both directions (TS001 §4.3).

use super::{FrameError, MAX_PHY_PAYLOAD, MHDR_LEN, MIC_LEN, MType, array};
use crate::crypto::{Mic, MicKey, PayloadKey};
use crate::{DevAddr, Direction};

mod field {
    pub(super) const DEV_ADDR: usize = 1;
    pub(super) const FCTRL: usize = 5;
    pub(super) const FCNT: usize = 6;
    pub(super) const FOPTS: usize = 8;
}

const SHORTEST: usize = field::FOPTS + MIC_LEN;

mod fctrl {
    pub(super) const ADR: u8 = 0x80;
    pub(super) const ADR_ACK_REQ: u8 = 0x40;
    pub(super) const ACK: u8 = 0x20;
    /// Class B in uplinks, FPending in downlinks.
    pub(super) const BIT_4: u8 = 0x10;
    pub(super) const FOPTS_LEN: u8 = 0x0f;
}

/// A frame's port: 0 carries MAC commands, 1 to 223 the application, 224 tests (TS001 §4.3.2).
pub type FPort = u8;

/// The flags of an uplink's FCtrl.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct UplinkFlags {
    /// The device lets the network choose its data rate.
    pub adr: bool,
    /// The device asks for any downlink, to know that it is still heard.
    pub adr_ack_req: bool,
    /// Acknowledges the last confirmed downlink.
    pub ack: bool,
    /// The device has its class B windows open.
    pub class_b: bool,
}

/// The flags of a downlink's FCtrl.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct DownlinkFlags {
    /// The network may command the data rate.
    pub adr: bool,
    /// Acknowledges the last confirmed uplink.
    pub ack: bool,
    /// More is waiting: the device should open its windows again soon.
    pub pending: bool,
}

/// A checked view of a data frame's bytes.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct DataView<'a> {
    bytes: &'a [u8],
    mtype: MType,
}

impl<'a> DataView<'a> {
    /// Checks the type, the length, and that FOpts ends within the frame.
    pub fn new_checked(phy_payload: &'a [u8]) -> Result<Self, FrameError> {
        let len = phy_payload.len();
        let too_short = |needed| FrameError::TooShort { kind: "data frame", len, needed };
        if len < SHORTEST {
            return Err(too_short(SHORTEST));
        }
        if len > MAX_PHY_PAYLOAD {
            return Err(FrameError::TooLong { len });
        }
        let mtype = MType::from_mhdr(phy_payload[0])?;
        if !matches!(mtype, MType::UnconfirmedUp | MType::UnconfirmedDown | MType::ConfirmedUp | MType::ConfirmedDown) {
            return Err(FrameError::OtherType(mtype));
        }
        let view = Self { bytes: phy_payload, mtype };
        if len < view.fopts_end() + MIC_LEN {
            return Err(too_short(view.fopts_end() + MIC_LEN));
        }
        if view.fport() == Some(0) && !view.fopts().is_empty() {
            return Err(FrameError::MacCommandsTwice);
        }
        Ok(view)
    }

    fn fopts_end(&self) -> usize {
        field::FOPTS + usize::from(self.fctrl() & fctrl::FOPTS_LEN)
    }

    fn fctrl(&self) -> u8 {
        self.bytes[field::FCTRL]
    }

    pub(super) fn without_mic(&self) -> &'a [u8] {
        &self.bytes[..self.bytes.len() - MIC_LEN]
    }

    /// Which way the frame travels.
    pub fn direction(&self) -> Direction {
        match self.mtype {
            MType::UnconfirmedUp | MType::ConfirmedUp => Direction::Up,
            _ => Direction::Down,
        }
    }

    /// Whether the sender wants an acknowledgement.
    pub fn confirmed(&self) -> bool {
        matches!(self.mtype, MType::ConfirmedUp | MType::ConfirmedDown)
    }

    /// The device's address.
    pub fn dev_addr(&self) -> DevAddr {
        DevAddr(u32::from_le_bytes(array(self.bytes, field::DEV_ADDR)))
    }

    /// The flags, read as an uplink's.
    pub fn uplink_flags(&self) -> UplinkFlags {
        let bits = self.fctrl();
        UplinkFlags {
            adr: bits & fctrl::ADR != 0,
            adr_ack_req: bits & fctrl::ADR_ACK_REQ != 0,
            ack: bits & fctrl::ACK != 0,
            class_b: bits & fctrl::BIT_4 != 0,
        }
    }

    /// The flags, read as a downlink's.
    pub fn downlink_flags(&self) -> DownlinkFlags {
        let bits = self.fctrl();
        DownlinkFlags { adr: bits & fctrl::ADR != 0, ack: bits & fctrl::ACK != 0, pending: bits & fctrl::BIT_4 != 0 }
    }

    /// The low 16 bits of the frame counter.
    pub fn counter_low(&self) -> u16 {
        u16::from_le_bytes(array(self.bytes, field::FCNT))
    }

    /// Reserved bits of the MHDR; a sender leaves them zero.
    pub fn mhdr_reserved(&self) -> u8 {
        (self.bytes[0] >> 2) & 0x07
    }

    /// MAC commands in the header: in the clear in 1.0.x, encrypted in 1.1.
    pub fn fopts(&self) -> &'a [u8] {
        &self.bytes[field::FOPTS..self.fopts_end()]
    }

    /// The port, if the frame has one.
    pub fn fport(&self) -> Option<FPort> {
        self.without_mic().get(self.fopts_end()).copied()
    }

    /// The payload as sent, still encrypted; empty where there is no port.
    pub fn frm_payload(&self) -> &'a [u8] {
        self.without_mic().get(self.fopts_end() + 1..).unwrap_or(&[])
    }

    /// The MIC as sent.
    pub fn mic(&self) -> Mic {
        array(self.bytes, self.bytes.len() - MIC_LEN)
    }

    /// Whether the MIC was made with `nwk_s_key` and this full counter.
    pub fn verify(&self, nwk_s_key: &MicKey, counter: u32) -> bool {
        nwk_s_key.data_mic(self.direction(), self.dev_addr(), counter, self.without_mic()) == self.mic()
    }

    /// The payload in the clear. The key is the AppSKey, or on port 0 the NwkSKey (1.0.x) or
    /// NwkSEncKey (1.1) (TS001 §4.3.3).
    pub fn decrypt(&self, key: &PayloadKey, counter: u32) -> Vec<u8> {
        let mut payload = self.frm_payload().to_vec();
        key.apply(self.direction(), self.dev_addr(), counter, &mut payload);
        payload
    }

    /// [`Self::decrypt`] into a buffer of the caller's, which may live on the stack.
    pub fn decrypt_into<'b>(
        &self,
        key: &PayloadKey,
        counter: u32,
        buffer: &'b mut [u8; MAX_PHY_PAYLOAD],
    ) -> &'b mut [u8] {
        let payload = &mut buffer[..self.frm_payload().len()];
        payload.copy_from_slice(self.frm_payload());
        key.apply(self.direction(), self.dev_addr(), counter, payload);
        payload
    }
}

/// The values of a data frame, its payload in the clear.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct DataRepr<'a> {
    /// Which way it travels.
    pub direction: Direction,
    /// Whether an acknowledgement is wanted.
    pub confirmed: bool,
    /// The device's address.
    pub dev_addr: DevAddr,
    /// The full frame counter; its low 16 bits are sent.
    pub counter: u32,
    fctrl: u8,
    /// MAC commands for the header, at most 15 bytes.
    pub fopts: &'a [u8],
    /// Port and payload; a frame without a port carries none.
    pub payload: Option<(FPort, &'a [u8])>,
}

impl<'a> DataRepr<'a> {
    /// An uplink without header commands.
    pub fn uplink(dev_addr: DevAddr, counter: u32, flags: UplinkFlags, payload: Option<(FPort, &'a [u8])>) -> Self {
        let mut bits = 0;
        for (set, bit) in [
            (flags.adr, fctrl::ADR),
            (flags.adr_ack_req, fctrl::ADR_ACK_REQ),
            (flags.ack, fctrl::ACK),
            (flags.class_b, fctrl::BIT_4),
        ] {
            bits |= if set { bit } else { 0 };
        }
        Self { direction: Direction::Up, confirmed: false, dev_addr, counter, fctrl: bits, fopts: &[], payload }
    }

    /// A downlink without header commands.
    pub fn downlink(dev_addr: DevAddr, counter: u32, flags: DownlinkFlags, payload: Option<(FPort, &'a [u8])>) -> Self {
        let mut bits = 0;
        for (set, bit) in [(flags.adr, fctrl::ADR), (flags.ack, fctrl::ACK), (flags.pending, fctrl::BIT_4)] {
            bits |= if set { bit } else { 0 };
        }
        Self { direction: Direction::Down, confirmed: false, dev_addr, counter, fctrl: bits, fopts: &[], payload }
    }

    /// The same frame, asking for an acknowledgement or not.
    #[must_use]
    pub fn confirmed(mut self, confirmed: bool) -> Self {
        self.confirmed = confirmed;
        self
    }

    pub(super) fn acknowledges(&self) -> bool {
        self.fctrl & fctrl::ACK != 0
    }

    /// Length of the frame once written.
    pub fn len(&self) -> usize {
        SHORTEST + self.fopts.len() + self.payload.map_or(0, |(_, p)| 1 + p.len())
    }

    /// Whether there is nothing but a header to send.
    pub fn is_empty(&self) -> bool {
        self.payload.is_none() && self.fopts.is_empty()
    }

    /// The frame of 1.0.x, encrypted and signed. `payload_key` is the AppSKey, or the NwkSKey on
    /// port 0.
    ///
    /// # Errors
    /// [`FrameError::TooLong`] if the frame is longer than a LoRa packet or FOpts than 15 bytes,
    /// [`FrameError::MacCommandsTwice`] if FOpts is used together with port 0.
    pub fn emit(&self, nwk_s_key: &MicKey, payload_key: &PayloadKey) -> Result<Vec<u8>, FrameError> {
        let mut frame = self.unsigned(payload_key, |_| {})?;
        let mic = nwk_s_key.data_mic(self.direction, self.dev_addr, self.counter, &frame);
        frame.extend(mic);
        Ok(frame)
    }

    /// Everything before the MIC; `hide_fopts` is what the version does to FOpts.
    pub(super) fn unsigned(
        &self,
        payload_key: &PayloadKey,
        hide_fopts: impl FnOnce(&mut [u8]),
    ) -> Result<Vec<u8>, FrameError> {
        if self.len() > MAX_PHY_PAYLOAD || self.fopts.len() > usize::from(fctrl::FOPTS_LEN) {
            return Err(FrameError::TooLong { len: self.len() });
        }
        if matches!(self.payload, Some((0, _))) && !self.fopts.is_empty() {
            return Err(FrameError::MacCommandsTwice);
        }
        let mut frame = Vec::with_capacity(self.len());
        frame.push(MType::data(self.direction, self.confirmed).mhdr());
        frame.extend(self.dev_addr.0.to_le_bytes());
        frame.push(self.fctrl | self.fopts.len() as u8);
        frame.extend((self.counter as u16).to_le_bytes());
        frame.extend(self.fopts);
        hide_fopts(&mut frame[field::FOPTS..]);
        if let Some((port, payload)) = self.payload {
            frame.push(port);
            let at = frame.len();
            frame.extend(payload);
            payload_key.apply(self.direction, self.dev_addr, self.counter, &mut frame[at..]);
        }
        debug_assert_eq!(frame.len() + MIC_LEN, self.len(), "{MHDR_LEN} byte of MHDR is counted in FOPTS");
        Ok(frame)
    }

    /// The same frame with MAC commands in its header.
    #[must_use]
    pub fn with_fopts(mut self, fopts: &'a [u8]) -> Self {
        self.fopts = fopts;
        self
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::AesKey;
    use proptest::prelude::*;

    #[test]
    fn fopts_must_end_within_the_frame() {
        let mut frame = vec![0x40, 1, 2, 3, 4, 0x05, 0, 0, 9, 9, 9, 9];
        assert_eq!(
            DataView::new_checked(&frame),
            Err(FrameError::TooShort { kind: "data frame", len: 12, needed: 17 })
        );
        frame.extend([0; 5]);
        let view = DataView::new_checked(&frame).unwrap();
        assert_eq!((view.fopts().len(), view.fport(), view.frm_payload()), (5, None, &[][..]));
        frame.insert(13, 0);
        assert_eq!(DataView::new_checked(&frame), Err(FrameError::MacCommandsTwice));
    }

    proptest! {
        #[test]
        fn round_trip(up: bool, confirmed: bool, addr: u32, counter: u32, port: u8, adr: bool, ack: bool, other: bool,
                      payload in proptest::collection::vec(any::<u8>(), 0..=242), nwk: [u8; 16], app: [u8; 16]) {
            let (nwk, app) = (MicKey::new(&AesKey(nwk)), PayloadKey::new(&AesKey(app)));
            let data = Some((port, payload.as_slice()));
            let uplink = UplinkFlags { adr, ack, adr_ack_req: other, class_b: other };
            let downlink = DownlinkFlags { adr, ack, pending: other };
            let repr = if up {
                DataRepr::uplink(DevAddr(addr), counter, uplink, data)
            } else {
                DataRepr::downlink(DevAddr(addr), counter, downlink, data)
            }.confirmed(confirmed);
            let frame = repr.emit(&nwk, &app).unwrap();
            let view = DataView::new_checked(&frame).unwrap();
            prop_assert!(view.verify(&nwk, counter));
            prop_assert!(!view.verify(&nwk, counter ^ 0x1_0000), "the high bits are signed too");
            prop_assert_eq!(view.decrypt(&app, counter), payload);
            prop_assert_eq!((view.dev_addr(), view.fport(), view.confirmed()), (DevAddr(addr), Some(port), confirmed));
            if up { prop_assert_eq!(view.uplink_flags(), uplink) } else { prop_assert_eq!(view.downlink_flags(), downlink) }
        }
    }
}
