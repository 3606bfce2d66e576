//! AES as LoRaWAN uses it: CMAC for integrity, a counter mode of its own for secrecy, and the
//! derivation of session keys.

use aes::Aes128;
use aes::cipher::{Array, BlockCipherDecrypt, BlockCipherEncrypt, KeyInit};
use cmac::{Cmac, Mac};

use crate::{AesKey, DevAddr, Direction, NetId};

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

    /// The MIC of a data frame: over block B0 and the frame without its MIC (TS001 §4.4).
    pub fn data_mic(&self, direction: Direction, dev_addr: DevAddr, counter: u32, message: &[u8]) -> Mic {
        let mut b0 = block(0x49, direction, dev_addr, counter);
        b0[15] = message.len() as u8;
        let mut mac = self.0.clone();
        mac.update(&b0);
        mac.update(message);
        first_four(mac.finalize().into_bytes().into())
    }
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
        // A frame holds at most 255 bytes, so 16 blocks; all key stream is made in one call, which
        // lets the cipher run its rounds side by side.
        let mut stream = [Array::from(block(0x01, direction, dev_addr, counter)); 16];
        for part in payload.chunks_mut(256) {
            let blocks = part.len().div_ceil(16);
            for (i, a) in stream.iter_mut().enumerate().take(blocks) {
                *a = Array::from(block(0x01, direction, dev_addr, counter));
                a[15] = (i + 1) as u8;
            }
            self.0.encrypt_blocks(&mut stream[..blocks]);
            for (byte, key) in part.iter_mut().zip(stream.iter().flatten()) {
                *byte ^= key;
            }
        }
    }
}

/// Hides a join-accept: AES *decryption*, so that a device needs only the encrypting half
/// (TS001 §6.2.5). `body` is everything after the MHDR, 16 or 32 bytes.
pub fn seal_join_accept(key: &AesKey, body: &mut [u8]) {
    let cipher = Aes128::new(&Array::from(key.0));
    for chunk in body.as_chunks_mut::<16>().0 {
        let mut block = Array::from(*chunk);
        cipher.decrypt_block(&mut block);
        *chunk = block.into();
    }
}

/// The device's side of [`seal_join_accept`].
pub fn open_join_accept(key: &AesKey, body: &mut [u8]) {
    let cipher = Aes128::new(&Array::from(key.0));
    for chunk in body.as_chunks_mut::<16>().0 {
        let mut block = Array::from(*chunk);
        cipher.encrypt_block(&mut block);
        *chunk = block.into();
    }
}

/// The two session keys of LoRaWAN 1.0.x.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct SessionKeys {
    /// For integrity of all frames and secrecy of FPort 0.
    pub nwk_s_key: AesKey,
    /// For secrecy of the application's payload.
    pub app_s_key: AesKey,
}

/// Derives the session keys a join leads to (TS001 §6.2.5).
pub fn session_keys(app_key: &AesKey, join_nonce: u32, net_id: NetId, dev_nonce: u16) -> SessionKeys {
    let cipher = Aes128::new(&Array::from(app_key.0));
    let derive = |tag: u8| {
        let mut block = [0; 16];
        block[0] = tag;
        block[1..4].copy_from_slice(&join_nonce.to_le_bytes()[..3]);
        block[4..7].copy_from_slice(&net_id.value().to_le_bytes()[..3]);
        block[7..9].copy_from_slice(&dev_nonce.to_le_bytes());
        let mut block = Array::from(block);
        cipher.encrypt_block(&mut block);
        AesKey(block.into())
    };
    SessionKeys { nwk_s_key: derive(0x01), app_s_key: derive(0x02) }
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

    /// Worked with a separate AES-128-ECB: the key encrypts
    /// `01 | 030201 | 130000 | 0706 | 0…` and the same with `02` in front.
    #[test]
    fn session_keys_are_the_encrypted_join_values() {
        let keys = session_keys(&rfc_key(), 0x01_0203, NetId::new(0x13), 0x0607);
        assert_eq!(keys.nwk_s_key.to_hex(), "a392e8e541574a8ba7d628c1690c3885");
        assert_eq!(keys.app_s_key.to_hex(), "e1280d01633b8527fcde68f755c3dc86");
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

        #[test]
        fn join_accept_opens(body in proptest::collection::vec(any::<u8>(), 32)) {
            let mut copy = body.clone();
            seal_join_accept(&rfc_key(), &mut copy);
            open_join_accept(&rfc_key(), &mut copy);
            prop_assert_eq!(copy, body);
        }
    }
}
