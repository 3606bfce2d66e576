//! Where keys come from: a join's session keys and the join server's own, and the sealing of the
//! join-accept that gives them.

use aes::Aes128;
use aes::cipher::{Array, BlockCipherDecrypt, BlockCipherEncrypt, KeyInit};

use crate::{AesKey, Eui64, NetId};

/// Hides a join-accept: AES *decryption*, so that a device needs only the encrypting half
/// (TS001 §6.2.5). `body` is everything after the MHDR, 16 or 32 bytes.
pub fn seal_join_accept(key: &AesKey, body: &mut [u8]) {
    let cipher = cipher(key);
    for chunk in body.as_chunks_mut::<16>().0 {
        let mut block = Array::from(*chunk);
        cipher.decrypt_block(&mut block);
        *chunk = block.into();
    }
}

/// The device's side of [`seal_join_accept`].
pub fn open_join_accept(key: &AesKey, body: &mut [u8]) {
    let cipher = cipher(key);
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

/// The four session keys of LoRaWAN 1.1 (TS001-1.1 §6.1.2).
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct SessionKeys11 {
    /// Forwarding network's integrity key: half of an uplink's MIC.
    pub f_nwk_s_int_key: AesKey,
    /// Serving network's integrity key: the other half, and the MIC of downlinks.
    pub s_nwk_s_int_key: AesKey,
    /// For secrecy of FOpts and of FPort 0.
    pub nwk_s_enc_key: AesKey,
    /// For secrecy of the application's payload.
    pub app_s_key: AesKey,
}

impl From<SessionKeys> for SessionKeys11 {
    /// A 1.1 device that has joined a 1.0 network uses one key for all three (TS001-1.1 §6.1.2.3).
    fn from(keys: SessionKeys) -> Self {
        Self {
            f_nwk_s_int_key: keys.nwk_s_key,
            s_nwk_s_int_key: keys.nwk_s_key,
            nwk_s_enc_key: keys.nwk_s_key,
            app_s_key: keys.app_s_key,
        }
    }
}

/// The two lifetime keys of LoRaWAN 1.1 that stay with the join server (TS001-1.1 §6.1.1.4).
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct JoinServerKeys {
    /// Signs rejoin-requests of type 1 and join-accepts with OptNeg.
    pub js_int_key: AesKey,
    /// Seals join-accepts that answer a rejoin-request.
    pub js_enc_key: AesKey,
}

fn cipher(key: &AesKey) -> Aes128 {
    Aes128::new(&Array::from(key.0))
}

/// One block under `root`: the tag, then `parts`, then zeros (`pad16`).
fn derive(root: &Aes128, tag: u8, parts: &[&[u8]]) -> AesKey {
    let mut block = [0; 16];
    block[0] = tag;
    for (byte, value) in block[1..].iter_mut().zip(parts.iter().copied().flatten()) {
        *byte = *value;
    }
    let mut block = Array::from(block);
    root.encrypt_block(&mut block);
    AesKey(block.into())
}

/// The session keys a join of 1.0.x leads to (TS001 §6.2.5). A 1.1 device on a 1.0 network derives
/// the same from its NwkKey (TS001-1.1 §6.2.3, OptNeg unset).
pub fn session_keys(app_key: &AesKey, join_nonce: u32, net_id: NetId, dev_nonce: u16) -> SessionKeys {
    let (join_nonce, net_id) = (join_nonce.to_le_bytes(), net_id.value().to_le_bytes());
    let parts: [&[u8]; 3] = [&join_nonce[..3], &net_id[..3], &dev_nonce.to_le_bytes()];
    let root = cipher(app_key);
    SessionKeys { nwk_s_key: derive(&root, 0x01, &parts), app_s_key: derive(&root, 0x02, &parts) }
}

/// The session keys a join of 1.1 leads to (TS001-1.1 §6.2.3, OptNeg set). After a rejoin-request
/// `dev_nonce` is its RJcount.
pub fn session_keys_1_1(
    nwk_key: &AesKey,
    app_key: &AesKey,
    join_nonce: u32,
    join_eui: Eui64,
    dev_nonce: u16,
) -> SessionKeys11 {
    let join_nonce = join_nonce.to_le_bytes();
    let parts: [&[u8]; 3] = [&join_nonce[..3], &join_eui.to_wire(), &dev_nonce.to_le_bytes()];
    let root = cipher(nwk_key);
    SessionKeys11 {
        f_nwk_s_int_key: derive(&root, 0x01, &parts),
        app_s_key: derive(&cipher(app_key), 0x02, &parts),
        s_nwk_s_int_key: derive(&root, 0x03, &parts),
        nwk_s_enc_key: derive(&root, 0x04, &parts),
    }
}

/// The lifetime keys of a 1.1 device (TS001-1.1 §6.1.1.4).
pub fn join_server_keys(nwk_key: &AesKey, dev_eui: Eui64) -> JoinServerKeys {
    let parts: [&[u8]; 1] = [&dev_eui.to_wire()];
    let root = cipher(nwk_key);
    JoinServerKeys { js_enc_key: derive(&root, 0x05, &parts), js_int_key: derive(&root, 0x06, &parts) }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn rfc_key() -> AesKey {
        "2b7e151628aed2a6abf7158809cf4f3c".parse().unwrap()
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
        fn join_accept_opens(body in proptest::collection::vec(any::<u8>(), 32)) {
            let mut copy = body.clone();
            seal_join_accept(&rfc_key(), &mut copy);
            open_join_accept(&rfc_key(), &mut copy);
            prop_assert_eq!(copy, body);
        }
    }
}
