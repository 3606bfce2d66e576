//! AES as LoRaWAN uses it: CMAC for integrity, a counter mode of its own for secrecy, and in
//! [`session`] the derivation of keys.
//!
//! LoRaWAN 1.1 uses the same blocks as 1.0.x with bytes filled in that were zero before, so there is
//! one construction of each block here and the version only decides what goes into it.

mod session;

pub use session::{
    JoinServerKeys, SessionKeys, SessionKeys11, join_server_keys, open_join_accept, seal_join_accept, session_keys,
    session_keys_1_1,
};

use aes::Aes128;
use aes::cipher::{Array, BlockCipherEncrypt, KeyInit};
use cmac::{Cmac, Mac};

use crate::{AesKey, DevAddr, Direction};

/// A message integrity code: the first four bytes of an AES-CMAC (TS001 §4.4).
pub type Mic = [u8; 4];

/// A key made ready for integrity codes, so that a session pays for its preparation once.
#[derive(Clone)]
pub struct MicKey(Cmac<Aes128>);

impl MicKey {
    /// Prepares `key`.
    pub fn new(key: &AesKey) -> Self {
        Self(Cmac::new(&Array::from(key.0)))
    }

    /// The whole AES-CMAC of `message` (RFC 4493).
    pub fn cmac(&self, message: &[u8]) -> [u8; 16] {
        let mut mac = self.0.clone();
        mac.update(message);
        mac.finalize().into_bytes().into()
    }

    /// The MIC of a join-request or join-accept: over the frame without its MIC (TS001 §6.2.5).
    pub fn join_mic(&self, message: &[u8]) -> Mic {
        first_four(self.cmac(message))
    }

    /// The MIC of a data frame of 1.0.x: over block B0 and the frame without its MIC (TS001 §4.4).
    pub fn data_mic(&self, direction: Direction, dev_addr: DevAddr, counter: u32, message: &[u8]) -> Mic {
        self.data_mic_bound(direction, dev_addr, counter, Binding::default(), message)
    }

    /// The same with the four bytes of block B0 or B1 that 1.1 fills in (TS001-1.1 §4.4.1, §4.4.2).
    pub fn data_mic_bound(
        &self,
        direction: Direction,
        dev_addr: DevAddr,
        counter: u32,
        binding: Binding,
        message: &[u8],
    ) -> Mic {
        let mut b = block(0x49, direction, dev_addr, counter);
        b[1..3].copy_from_slice(&binding.conf_f_cnt.to_le_bytes());
        b[3] = binding.tx_dr;
        b[4] = binding.tx_ch;
        b[15] = message.len() as u8;
        let mut mac = self.0.clone();
        mac.update(&b);
        mac.update(message);
        first_four(mac.finalize().into_bytes().into())
    }
}

/// What a MIC of LoRaWAN 1.1 binds a frame to beside address, counter and direction; all zeros are
/// the B0 of 1.0.x.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Default)]
pub struct Binding {
    /// `ConfFCnt`: low 16 bits of the counter of the confirmed frame that this one acknowledges;
    /// 0 where the ACK bit is not set.
    pub conf_f_cnt: u16,
    /// `TxDr`: data rate index of the uplink; 0 in downlinks.
    pub tx_dr: u8,
    /// `TxCh`: channel index of the uplink; 0 in downlinks.
    pub tx_ch: u8,
}

fn first_four(mac: [u8; 16]) -> Mic {
    [mac[0], mac[1], mac[2], mac[3]]
}

/// The common shape of blocks B0 and A_i: tag, four zeros, direction, address, counter, zero, last.
fn block(tag: u8, direction: Direction, dev_addr: DevAddr, counter: u32) -> [u8; 16] {
    let mut block = [0; 16];
    block[0] = tag;
    block[5] = direction.byte();
    block[6..10].copy_from_slice(&dev_addr.0.to_le_bytes());
    block[10..14].copy_from_slice(&counter.to_le_bytes());
    block
}

/// Which of a 1.1 session's counters a frame was sent under (TS001-1.1 §4.3.1.5).
///
/// Uplinks have one counter, which counts as the network's. Downlinks have two: `AFCntDown` for
/// FPort 1 and above, `NFCntDown` for FPort 0 and frames without a port.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum CounterOf {
    /// `FCntUp` or `NFCntDown`.
    Network,
    /// `AFCntDown`.
    Application,
}

impl CounterOf {
    /// The counter of a frame with this direction and port.
    pub const fn frame(direction: Direction, fport: Option<u8>) -> Self {
        match (direction, fport) {
            (Direction::Down, Some(1..)) => CounterOf::Application,
            _ => CounterOf::Network,
        }
    }
}

/// A key made ready for encrypting FRMPayload, so that a session pays for its preparation once.
#[derive(Clone)]
pub struct PayloadKey(Aes128);

impl PayloadKey {
    /// Prepares `key`.
    pub fn new(key: &AesKey) -> Self {
        Self(Aes128::new(&Array::from(key.0)))
    }

    /// Encrypts or decrypts FRMPayload in place; the two are one operation (TS001 §4.3.3).
    pub fn apply(&self, direction: Direction, dev_addr: DevAddr, counter: u32, payload: &mut [u8]) {
        self.apply_block(0, direction, dev_addr, counter, payload);
    }

    /// Encrypts or decrypts FOpts of 1.1 in place; the key is the NwkSEncKey (TS001-1.1 §4.3.1.6).
    ///
    /// As first published the block was the one of FRMPayload, so that two frames could share key
    /// stream; the erratum *FOpts Encryption, Usage of FCntDwn* (January 2018) gives byte 4 a value
    /// of its own for each counter.
    pub fn apply_fopts(&self, direction: Direction, dev_addr: DevAddr, counter: u32, of: CounterOf, fopts: &mut [u8]) {
        let byte_4 = match of {
            CounterOf::Network => 1,
            CounterOf::Application => 2,
        };
        self.apply_block(byte_4, direction, dev_addr, counter, fopts);
    }

    fn apply_block(&self, byte_4: u8, direction: Direction, dev_addr: DevAddr, counter: u32, payload: &mut [u8]) {
        let mut first = block(0x01, direction, dev_addr, counter);
        first[4] = byte_4;
        // A frame holds at most 255 bytes, so 16 blocks; all key stream is made in one call, which
        // lets the cipher run its rounds side by side.
        let mut stream = [Array::from(first); 16];
        for part in payload.chunks_mut(256) {
            let blocks = part.len().div_ceil(16);
            for (i, a) in stream.iter_mut().enumerate().take(blocks) {
                *a = Array::from(first);
                a[15] = (i + 1) as u8;
            }
            self.0.encrypt_blocks(&mut stream[..blocks]);
            for (byte, key) in part.iter_mut().zip(stream.iter().flatten()) {
                *byte ^= key;
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn rfc_key() -> AesKey {
        "2b7e151628aed2a6abf7158809cf4f3c".parse().unwrap()
    }

    /// RFC 4493 §4, examples 1 to 4.
    #[test]
    fn cmac_matches_rfc_4493() {
        let message = hex::decode(concat!(
            "6bc1bee22e409f96e93d7e117393172a",
            "ae2d8a571e03ac9c9eb76fac45af8e51",
            "30c81c46a35ce411e5fbc1191a0a52ef",
            "f69f2445df4f9b17ad2b417be66c3710"
        ))
        .unwrap();
        let key = MicKey::new(&rfc_key());
        for (len, mac) in [
            (0, "bb1d6929e95937287fa37d129b756746"),
            (16, "070a16b46b4d4144f79bdd9dd04a287c"),
            (40, "dfa66747de9ae63030ca32611497c827"),
            (64, "51f0bebf7e3b9d92fc49741779363cfe"),
        ] {
            assert_eq!(hex::encode(key.cmac(&message[..len])), mac);
        }
    }

    proptest! {
        #[test]
        fn payload_cipher_undoes_itself(data in proptest::collection::vec(any::<u8>(), 0..600), counter: u32, addr: u32) {
            let key = PayloadKey::new(&rfc_key());
            let mut copy = data.clone();
            key.apply(Direction::Up, DevAddr(addr), counter, &mut copy);
            key.apply(Direction::Up, DevAddr(addr), counter, &mut copy);
            prop_assert_eq!(copy, data);
        }
    }
}
