//! A device's keys and EUIs in the forms people need: plain, C arrays, both byte orders.

use std::fmt::Write as _;

use api::device::DeviceKeys;
use api::device::keys::KeyForm;
use api::secret::Secret;
use lorawan::{DevAddr, Eui64};

/// One credential, with its bytes in written order, most significant first.
struct Credential {
    /// The standard's name.
    name: &'static str,
    /// A name for C.
    constant: &'static str,
    bytes: Vec<u8>,
    /// Whether it is a number, which some firmware wants in reverse byte order, and not a key.
    number: bool,
}

fn credentials(join_eui: Option<Eui64>, keys: &DeviceKeys) -> Vec<Credential> {
    let mut all = Vec::new();
    let mut add = |name, constant, bytes: Vec<u8>, number| all.push(Credential { name, constant, bytes, number });
    add("DevEUI", "DEV_EUI", keys.dev_eui.to_bytes().to_vec(), true);
    let mut key = |name, constant, text: Option<&Secret>| {
        if let Some(bytes) = text.and_then(|text| hex::decode(text.as_str()).ok()) {
            add(name, constant, bytes, false);
        }
    };
    match &keys.personal {
        None => {
            key("AppKey", "APP_KEY", keys.app_key.as_ref());
            key("NwkKey", "NWK_KEY", keys.nwk_key.as_ref());
            if let Some(join_eui) = join_eui {
                add("JoinEUI", "JOIN_EUI", join_eui.to_bytes().to_vec(), true);
            }
        }
        Some(session) => {
            let one_one = session.s_nwk_s_int_key.is_some() || session.nwk_s_enc_key.is_some();
            let (name, constant) = if one_one { ("FNwkSIntKey", "F_NWK_S_INT_KEY") } else { ("NwkSKey", "NWK_S_KEY") };
            key(name, constant, Some(&session.nwk_s_key));
            key("SNwkSIntKey", "S_NWK_S_INT_KEY", session.s_nwk_s_int_key.as_ref());
            key("NwkSEncKey", "NWK_S_ENC_KEY", session.nwk_s_enc_key.as_ref());
            key("AppSKey", "APP_S_KEY", Some(&session.app_s_key));
            let dev_addr: Option<DevAddr> = session.dev_addr.parse().ok();
            if let Some(dev_addr) = dev_addr {
                add("DevAddr", "DEV_ADDR", dev_addr.0.to_be_bytes().to_vec(), true);
            }
        }
    }
    // Numbers first, keys after them, as on a label.
    all.sort_by_key(|credential| !credential.number);
    all
}

fn array(bytes: &[u8]) -> String {
    let list: Vec<String> = bytes.iter().map(|byte| format!("0x{byte:02x}")).collect();
    format!("{{ {} }}", list.join(", "))
}

fn reversed(bytes: &[u8]) -> Vec<u8> {
    bytes.iter().rev().copied().collect()
}

/// Every credential in every form, to be copied.
pub fn forms(join_eui: Option<Eui64>, keys: &DeviceKeys) -> Vec<KeyForm> {
    let mut all = Vec::new();
    for credential in credentials(join_eui, keys) {
        let mut add = |form: &str, order: &str, text: String| {
            let (field, form, order) = (credential.name.to_owned(), form.to_owned(), order.to_owned());
            all.push(KeyForm { field, form, order, text });
        };
        add("hex", "msb_first", hex::encode(&credential.bytes));
        add("c_array", "msb_first", array(&credential.bytes));
        if credential.number {
            let turned = reversed(&credential.bytes);
            add("hex", "lsb_first", hex::encode(&turned));
            add("c_array", "lsb_first", array(&turned));
        }
    }
    all
}

/// Which byte order numbers have in C.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum ByteOrder {
    /// Least significant first, as on air.
    LsbFirst,
    /// Most significant first, as on labels.
    MsbFirst,
}

/// The credentials as a piece of C. Keys have no byte order: they are written as the standard writes them.
pub fn c_source(name: &str, join_eui: Option<Eui64>, keys: &DeviceKeys, order: ByteOrder) -> String {
    let word = match order {
        ByteOrder::LsbFirst => "least significant byte first, as on air",
        ByteOrder::MsbFirst => "most significant byte first, as on the label",
    };
    // A name must not end the comment.
    let name: String = name.chars().filter(|c| !c.is_control() && !matches!(c, '*' | '/' | '\\')).collect();
    let mut out = format!("/* {name}. Secret: anyone who has these keys can act as the device. */\n");
    for Credential { name, constant, bytes, number } in credentials(join_eui, keys) {
        let len = bytes.len();
        let (bytes, said) = match (number, order) {
            (true, ByteOrder::LsbFirst) => (reversed(&bytes), word),
            (true, ByteOrder::MsbFirst) => (bytes, word),
            (false, _) => (bytes, "in the standard's order, whichever order EUIs are in"),
        };
        // Writing to a string does not fail.
        let _ = write!(out, "\n/* {name}, {said} */\nstatic const uint8_t {constant}[{len}] = {};\n", array(&bytes));
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;
    use api::device::register::PersonalSession;

    const JOIN: Option<Eui64> = Some(Eui64(0x02aa_0000_0000_0001));

    fn joining() -> DeviceKeys {
        let app_key = Some("7d14b209e65a813cf0279b4ed8631ac5".into());
        DeviceKeys { dev_eui: Eui64(0x02bb_0000_0000_002a), app_key, nwk_key: None, personal: None }
    }

    #[test]
    fn c_is_correct_to_the_last_comma() {
        let lsb = c_source("tide-01 */ #error", JOIN, &joining(), ByteOrder::LsbFirst);
        assert_eq!(
            lsb,
            "/* tide-01  #error. Secret: anyone who has these keys can act as the device. */\n\
             \n/* DevEUI, least significant byte first, as on air */\n\
             static const uint8_t DEV_EUI[8] = { 0x2a, 0x00, 0x00, 0x00, 0x00, 0x00, 0xbb, 0x02 };\n\
             \n/* JoinEUI, least significant byte first, as on air */\n\
             static const uint8_t JOIN_EUI[8] = { 0x01, 0x00, 0x00, 0x00, 0x00, 0x00, 0xaa, 0x02 };\n\
             \n/* AppKey, in the standard's order, whichever order EUIs are in */\n\
             static const uint8_t APP_KEY[16] = { 0x7d, 0x14, 0xb2, 0x09, 0xe6, 0x5a, 0x81, 0x3c, 0xf0, 0x27, 0x9b, 0x4e, 0xd8, 0x63, 0x1a, 0xc5 };\n"
        );
        let msb = c_source("tide-01", JOIN, &joining(), ByteOrder::MsbFirst);
        assert!(msb.contains("DEV_EUI[8] = { 0x02, 0xbb,") && msb.contains("most significant byte first"), "{msb}");
    }

    #[test]
    fn what_is_copied_can_be_pasted_back() {
        let all = forms(JOIN, &joining());
        assert_eq!(all.len(), 2 * 4 + 2);
        for form in all.iter().filter(|form| form.field == "DevEUI") {
            let read: Eui64 = form.text.parse().unwrap();
            let read = if form.order == "lsb_first" { read.reversed() } else { read };
            assert_eq!(read, joining().dev_eui, "{form:?}");
        }
    }

    #[test]
    fn a_personal_session_has_its_own_credentials() {
        let key = Secret::from("7d14b209e65a813cf0279b4ed8631ac5");
        let personal = PersonalSession {
            dev_addr: "01ab23cd".into(),
            app_s_key: key.clone(),
            nwk_s_key: key,
            s_nwk_s_int_key: None,
            nwk_s_enc_key: None,
        };
        let keys = DeviceKeys { app_key: None, personal: Some(personal), ..joining() };
        let lsb = c_source("x", JOIN, &keys, ByteOrder::LsbFirst);
        assert!(lsb.contains("DEV_ADDR[4] = { 0xcd, 0x23, 0xab, 0x01 };"), "{lsb}");
        assert!(lsb.contains("NWK_S_KEY[16]") && lsb.contains("APP_S_KEY[16]") && !lsb.contains("JOIN_EUI"), "{lsb}");
    }
}
