//! A stand-in device's state, saved so that it continues after a stop: session, counters, nonces.

use lorawan::mac::{UpCommand, commands};
use serde::{Deserialize, Serialize};

use super::Device;
use super::session::Session;

/// A device's saved state.
#[derive(Serialize, Deserialize)]
pub struct SavedDevice {
    session: Option<Session>,
    next_nonce: u16,
    rj_count_1: u16,
    beacon_s: Option<u32>,
    /// MAC commands, in hex.
    says: String,
    repeats: String,
}

fn written(all: &[UpCommand]) -> String {
    let mut bytes = Vec::new();
    all.iter().for_each(|command| command.emit(&mut bytes));
    hex::encode(bytes)
}

/// Commands that cannot be read are left out.
fn read(text: &str) -> Vec<UpCommand> {
    let bytes = hex::decode(text).unwrap_or_default();
    commands(&bytes).map_while(Result::ok).map(|placed| placed.command).collect()
}

impl Device {
    /// Its state. A multicast group and a request without its answer are not saved.
    pub fn saved(&self) -> SavedDevice {
        SavedDevice {
            session: self.session.clone(),
            next_nonce: self.next_nonce,
            rj_count_1: self.rj_count_1,
            beacon_s: self.beacon_s,
            says: written(&self.says),
            repeats: written(&self.repeats),
        }
    }

    /// Continues from a saved state.
    pub fn restore(&mut self, saved: SavedDevice) {
        let SavedDevice { session, next_nonce, rj_count_1, beacon_s, says, repeats } = saved;
        (self.session, self.next_nonce, self.rj_count_1, self.beacon_s) = (session, next_nonce, rj_count_1, beacon_s);
        (self.says, self.repeats) = (read(&says), read(&repeats));
        (self.asked, self.to_rejoin) = (None, None);
        self.windows.clear();
    }
}

/// Session keys as hex. Only those of stand-ins are written so: they protect nothing.
pub(super) mod keys {
    use lorawan::AesKey;
    use lorawan::crypto::SessionKeys11;
    use serde::{Deserialize, Deserializer, Serialize, Serializer};

    pub(in super::super) fn serialize<S: Serializer>(keys: &SessionKeys11, to: S) -> Result<S::Ok, S::Error> {
        let all = [keys.f_nwk_s_int_key, keys.s_nwk_s_int_key, keys.nwk_s_enc_key, keys.app_s_key];
        all.map(|key| key.to_hex()).serialize(to)
    }

    pub(in super::super) fn deserialize<'de, D: Deserializer<'de>>(from: D) -> Result<SessionKeys11, D::Error> {
        let all = <[String; 4]>::deserialize(from)?;
        let key = |text: &str| text.parse::<AesKey>().map_err(serde::de::Error::custom);
        Ok(SessionKeys11 {
            f_nwk_s_int_key: key(&all[0])?,
            s_nwk_s_int_key: key(&all[1])?,
            nwk_s_enc_key: key(&all[2])?,
            app_s_key: key(&all[3])?,
        })
    }
}

#[cfg(test)]
mod tests {
    use lorawan::crypto::SessionKeys;
    use lorawan::mac::UpCommand;
    use lorawan::region::Region;
    use lorawan::{AesKey, DevAddr, Eui64};

    use crate::device::{Build, Device, Identity};

    fn personal() -> Device {
        let keys = SessionKeys { nwk_s_key: AesKey([3; 16]), app_s_key: AesKey([4; 16]) };
        let identity = Identity {
            personal: Some((DevAddr(0x00b7_c2e8), keys.into())),
            ..Identity::joining(Eui64(1), Eui64(2), AesKey([5; 16]))
        };
        Device::new(identity, Build::plain(Region::Eu868, 5), 1)
    }

    #[test]
    fn it_goes_on_with_its_counter_and_with_what_it_was_about_to_say() {
        let mut before = personal();
        (0..3).for_each(|n| drop(before.uplink(2, &[n], false)));
        before.ask(UpCommand::LinkCheckReq);
        let kept = serde_json::to_string(&before.saved()).unwrap();
        let mut after = personal();
        after.restore(serde_json::from_str(&kept).unwrap());
        let next = |device: &mut Device| device.uplink(2, &[9], false).unwrap().phy_payload;
        assert_eq!(next(&mut before), next(&mut after), "the same frame, with the same counter and command");
    }
}
