//! What the service says to a gateway.

use lorawan::Eui64;
use serde::{Deserialize, Serialize};
use serde_json::{Value, json};

use super::up::hex;
use super::{MessageError, RouterConfig, dashed, field, read};

/// When and on which channels a frame is to be sent: data rates are indices into the channel plan the gateway was
/// given, frequencies are in hertz.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Moment {
    /// In a window after an uplink of a device of class A.
    AfterUplink {
        /// The uplink's, as the gateway told it.
        xtime: i64,
        /// From the uplink to the first window; the second is a second later.
        rx_delay_s: u8,
        /// Data rate and frequency in the first window, if that one is to be used.
        rx1: Option<(u8, u32)>,
        /// Likewise in the second.
        rx2: Option<(u8, u32)>,
    },
    /// In a ping slot of class B.
    AtGps {
        /// When, in microseconds of GPS time.
        gpstime: i64,
        /// Data rate.
        data_rate: u8,
        /// Frequency.
        frequency_hz: u32,
    },
    /// At once: the device, of class C, always listens.
    AtOnce {
        /// Data rate.
        data_rate: u8,
        /// Frequency.
        frequency_hz: u32,
    },
}

/// An order to send (section "Downlink messages").
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Downlink {
    /// Names the order in the gateway's confirmation.
    pub diid: i64,
    /// The device it is for; gateways only give it back.
    pub dev_eui: Eui64,
    /// Which antenna heard the uplink; 0 if there is none to answer.
    pub rctx: i64,
    /// The higher goes first where two meet.
    pub priority: u8,
    /// When and where.
    pub moment: Moment,
    /// The frame.
    pub phy_payload: Vec<u8>,
}

#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
struct Fields {
    msgtype: String,
    #[serde(rename = "DevEui")]
    dev_eui: Value,
    #[serde(rename = "dC")]
    class: u8,
    diid: i64,
    pdu: String,
    #[serde(default)]
    priority: u8,
    #[serde(default)]
    rctx: i64,
    #[serde(rename = "RxDelay", skip_serializing_if = "Option::is_none")]
    rx_delay: Option<u8>,
    #[serde(rename = "RX1DR", skip_serializing_if = "Option::is_none")]
    rx1_data_rate: Option<u8>,
    #[serde(rename = "RX1Freq", skip_serializing_if = "Option::is_none")]
    rx1_hz: Option<u32>,
    #[serde(rename = "RX2DR", skip_serializing_if = "Option::is_none")]
    rx2_data_rate: Option<u8>,
    #[serde(rename = "RX2Freq", skip_serializing_if = "Option::is_none")]
    rx2_hz: Option<u32>,
    #[serde(rename = "DR", skip_serializing_if = "Option::is_none")]
    data_rate: Option<u8>,
    #[serde(rename = "Freq", skip_serializing_if = "Option::is_none")]
    frequency_hz: Option<u32>,
    #[serde(skip_serializing_if = "Option::is_none")]
    xtime: Option<i64>,
    #[serde(skip_serializing_if = "Option::is_none")]
    gpstime: Option<i64>,
}

impl From<&Downlink> for Fields {
    fn from(order: &Downlink) -> Self {
        let mut fields = Fields {
            msgtype: "dnmsg".into(),
            dev_eui: json!(dashed(order.dev_eui)),
            class: 0,
            diid: order.diid,
            pdu: order.phy_payload.iter().map(|byte| format!("{byte:02x}")).collect(),
            priority: order.priority,
            rctx: order.rctx,
            rx_delay: None,
            rx1_data_rate: None,
            rx1_hz: None,
            rx2_data_rate: None,
            rx2_hz: None,
            data_rate: None,
            frequency_hz: None,
            xtime: None,
            gpstime: None,
        };
        match order.moment {
            Moment::AfterUplink { xtime, rx_delay_s, rx1, rx2 } => {
                fields.xtime = Some(xtime);
                fields.rx_delay = Some(rx_delay_s);
                (fields.rx1_data_rate, fields.rx1_hz) = rx1.unzip();
                (fields.rx2_data_rate, fields.rx2_hz) = rx2.unzip();
            }
            Moment::AtGps { gpstime, data_rate, frequency_hz } => {
                fields.class = 1;
                fields.gpstime = Some(gpstime);
                (fields.data_rate, fields.frequency_hz) = (Some(data_rate), Some(frequency_hz));
            }
            Moment::AtOnce { data_rate, frequency_hz } => {
                fields.class = 2;
                (fields.rx2_data_rate, fields.rx2_hz) = (Some(data_rate), Some(frequency_hz));
            }
        }
        fields
    }
}

impl TryFrom<Fields> for Downlink {
    type Error = MessageError;

    fn try_from(fields: Fields) -> Result<Self, MessageError> {
        let missing = |name| field(name, "missing", "an order of this class has it");
        let moment = match fields.class {
            0 => Moment::AfterUplink {
                xtime: fields.xtime.ok_or_else(|| missing("xtime"))?,
                rx_delay_s: fields.rx_delay.ok_or_else(|| missing("RxDelay"))?,
                rx1: fields.rx1_data_rate.zip(fields.rx1_hz),
                rx2: fields.rx2_data_rate.zip(fields.rx2_hz),
            },
            1 => Moment::AtGps {
                gpstime: fields.gpstime.ok_or_else(|| missing("gpstime"))?,
                data_rate: fields.data_rate.ok_or_else(|| missing("DR"))?,
                frequency_hz: fields.frequency_hz.ok_or_else(|| missing("Freq"))?,
            },
            2 => Moment::AtOnce {
                data_rate: fields.rx2_data_rate.ok_or_else(|| missing("RX2DR"))?,
                frequency_hz: fields.rx2_hz.ok_or_else(|| missing("RX2Freq"))?,
            },
            other => return Err(field("dC", other, "0, 1 or 2, for class A, B or C")),
        };
        Ok(Self {
            diid: fields.diid,
            dev_eui: super::eui("DevEui", &fields.dev_eui)?,
            rctx: fields.rctx,
            priority: fields.priority,
            moment,
            phy_payload: hex("pdu", &fields.pdu)?,
        })
    }
}

/// GPS time for a gateway (section "Time synchronization").
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct TimeTold {
    /// GPS time, in microseconds.
    pub gpstime: i64,
    /// The gateway's clock when it asked, if it did.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub txtime: Option<i64>,
    /// The gateway's clock at that GPS time, if it is told unasked.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub xtime: Option<i64>,
}

/// A message to a gateway.
#[derive(Debug, Clone, PartialEq)]
pub enum ToGateway {
    /// Its channel plan: `router_config`.
    Config(Box<RouterConfig>),
    /// A frame to send: `dnmsg`.
    Send(Downlink),
    /// What time it is: `timesync`.
    Time(TimeTold),
}

impl ToGateway {
    /// Reads a message, as gateways do.
    pub fn parse(text: &str) -> Result<Self, MessageError> {
        #[derive(Deserialize)]
        struct Kind {
            msgtype: String,
        }
        match read::<Kind>(text)?.msgtype.as_str() {
            "router_config" => Ok(Self::Config(Box::new(read(text)?))),
            "dnmsg" => Ok(Self::Send(read::<Fields>(text)?.try_into()?)),
            "timesync" => Ok(Self::Time(read(text)?)),
            other => Err(field("msgtype", other, "router_config, dnmsg or timesync")),
        }
    }

    /// As JSON.
    pub fn emit(&self) -> String {
        let tagged = |kind: &str, mut value: Value| {
            value["msgtype"] = json!(kind);
            value.to_string()
        };
        match self {
            Self::Config(config) => tagged("router_config", json!(config)),
            Self::Send(order) => json!(Fields::from(order)).to_string(),
            Self::Time(time) => tagged("timesync", json!(time)),
        }
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn order(moment: Moment) -> Downlink {
        Downlink { diid: 77, dev_eui: Eui64(1), rctx: 3, priority: 1, moment, phy_payload: vec![0x60, 1] }
    }

    #[test]
    fn orders_of_each_class_carry_what_their_class_needs() {
        let text = |moment| serde_json::from_str::<Value>(&ToGateway::Send(order(moment)).emit()).unwrap();
        let after = Moment::AfterUplink { xtime: 9, rx_delay_s: 5, rx1: Some((5, 868_300_000)), rx2: None };
        assert_eq!(
            text(after),
            json!({ "msgtype": "dnmsg", "DevEui": "00-00-00-00-00-00-00-01", "dC": 0, "diid": 77, "pdu": "6001",
                "priority": 1, "rctx": 3, "RxDelay": 5, "RX1DR": 5, "RX1Freq": 868_300_000, "xtime": 9 })
        );
        let slot = text(Moment::AtGps { gpstime: 10, data_rate: 3, frequency_hz: 869_525_000 });
        assert_eq!(
            (&slot["dC"], &slot["gpstime"], &slot["DR"], &slot["xtime"]),
            (&json!(1), &json!(10), &json!(3), &Value::Null)
        );
        let at_once = text(Moment::AtOnce { data_rate: 0, frequency_hz: 869_525_000 });
        assert_eq!((&at_once["dC"], &at_once["RX2DR"], &at_once["RxDelay"]), (&json!(2), &json!(0), &Value::Null));
    }

    #[test]
    fn what_an_order_lacks_is_named() {
        let read = |text: &str| ToGateway::parse(text).unwrap_err().to_string();
        let base = r#""msgtype":"dnmsg","DevEui":1,"diid":1,"pdu":"00""#;
        assert_eq!(read(&format!(r#"{{{base},"dC":0}}"#)), "xtime is missing: an order of this class has it");
        assert_eq!(read(&format!(r#"{{{base},"dC":9}}"#)), "dC is 9: 0, 1 or 2, for class A, B or C");
        assert_eq!(read(r#"{"msgtype":"nonsense"}"#), "msgtype is nonsense: router_config, dnmsg or timesync");
    }

    fn moments() -> impl Strategy<Value = Moment> {
        let channel = || (0..16u8, 1_000_000..3_000_000_000u32);
        prop_oneof![
            (any::<i64>(), 1..16u8, prop::option::of(channel()), prop::option::of(channel()))
                .prop_map(|(xtime, rx_delay_s, rx1, rx2)| Moment::AfterUplink { xtime, rx_delay_s, rx1, rx2 }),
            (any::<i64>(), channel()).prop_map(|(gpstime, (data_rate, frequency_hz))| Moment::AtGps {
                gpstime,
                data_rate,
                frequency_hz
            }),
            channel().prop_map(|(data_rate, frequency_hz)| Moment::AtOnce { data_rate, frequency_hz }),
        ]
    }

    proptest! {
        #[test]
        fn orders_come_through_whole(moment in moments(), phy_payload in prop::collection::vec(any::<u8>(), 0..255)) {
            let message = ToGateway::Send(Downlink { phy_payload, ..order(moment) });
            prop_assert_eq!(ToGateway::parse(&message.emit()), Ok(message));
        }

        #[test]
        fn times_come_through_whole(gpstime: i64, txtime: Option<i64>, xtime: Option<i64>) {
            let message = ToGateway::Time(TimeTold { gpstime, txtime, xtime });
            prop_assert_eq!(ToGateway::parse(&message.emit()), Ok(message));
        }
    }
}
