//! The topics of each gateway, and the name that they and its certificate bear.

use std::fmt;
use std::str::FromStr;

use lorawan::Eui64;

/// Before each gateway's topics.
pub const ROOT: &str = "keen-heron/v1/gateways";

/// A gateway's name at the broker: its EUI, and when it was registered. An EUI that is registered again, perhaps by
/// another estate, has another name, and a certificate of the registration before opens nothing.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Name {
    /// The gateway's EUI.
    pub eui: Eui64,
    /// When it was registered, in microseconds since 1970; 0 in names of versions that left it out.
    pub registered_us: u64,
}

impl fmt::Display for Name {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self.registered_us {
            0 => write!(f, "{}", self.eui),
            registered_us => write!(f, "{}-{registered_us:x}", self.eui),
        }
    }
}

/// A text is no gateway's name.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
#[error("it is not a gateway's name at the broker, as 02a1f00000000001-64c1b2e3f0a9d is")]
pub struct NotAName;

impl FromStr for Name {
    type Err = NotAName;

    /// Reads it as it is written, and in no other way: a broker's rules compare text.
    fn from_str(text: &str) -> Result<Self, NotAName> {
        let (eui, registered) = text.split_once('-').unwrap_or((text, "0"));
        let eui = eui.parse().map_err(|_| NotAName)?;
        let registered_us = u64::from_str_radix(registered, 16).map_err(|_| NotAName)?;
        let name = Self { eui, registered_us };
        if name.to_string() == text { Ok(name) } else { Err(NotAName) }
    }
}

/// One of a gateway's topics.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Topic {
    /// Whether it is there.
    State,
    /// Frames and reports.
    Up,
    /// Frames to send.
    Down,
    /// What became of those.
    Sent,
    /// Whether it hears the service.
    Ask,
    /// That it does.
    Answer,
}

impl Topic {
    /// Those a gateway writes to.
    pub const OF_GATEWAYS: [Self; 4] = [Self::State, Self::Up, Self::Sent, Self::Answer];
    /// Those the service writes to.
    pub const OF_SERVICE: [Self; 2] = [Self::Down, Self::Ask];

    const fn word(self) -> &'static str {
        match self {
            Self::State => "state",
            Self::Up => "up",
            Self::Down => "down",
            Self::Sent => "sent",
            Self::Ask => "ask",
            Self::Answer => "answer",
        }
    }

    /// This topic of a gateway.
    pub fn of(self, gateway: Name) -> String {
        format!("{ROOT}/{gateway}/{}", self.word())
    }

    /// This topic of every gateway, as a filter.
    pub fn of_all(self) -> String {
        format!("{ROOT}/+/{}", self.word())
    }

    /// Whose topic this is, and which; `None` if it is none of these.
    pub fn parse(topic: &str) -> Option<(Name, Self)> {
        let (name, word) = topic.strip_prefix(ROOT)?.strip_prefix('/')?.split_once('/')?;
        let all = Self::OF_GATEWAYS.into_iter().chain(Self::OF_SERVICE);
        Some((name.parse().ok()?, all.into_iter().find(|topic| topic.word() == word)?))
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    const GATEWAY: Name = Name { eui: Eui64(0x02a1_f000_0000_0001), registered_us: 0x0006_4c1b_2e3f_0a9d };

    #[test]
    fn topics_are_told_apart() {
        assert_eq!(Topic::Up.of(GATEWAY), "keen-heron/v1/gateways/02a1f00000000001-64c1b2e3f0a9d/up");
        assert_eq!(Topic::State.of_all(), "keen-heron/v1/gateways/+/state");
        let before = Name { registered_us: 0, ..GATEWAY };
        for name in [GATEWAY, before] {
            for topic in Topic::OF_GATEWAYS.into_iter().chain(Topic::OF_SERVICE) {
                assert_eq!(Topic::parse(&topic.of(name)), Some((name, topic)));
            }
        }
        for other in [
            "keen-heron/v1/gateways/02A1F00000000001/up",
            "keen-heron/v1/gateways/02a1f00000000001-64C1/up",
            "keen-heron/v1/gateways/02a1f00000000001-064c1/up",
            "keen-heron/v1/gateways/02a1f00000000001-+64c1/up",
            "keen-heron/v1/gateways/02a1f00000000001-0/up",
            "keen-heron/v1/gateways/02a1f00000000001-/up",
            "keen-heron/v1/gateways/02a1f00000000001-1-2/up",
            "keen-heron/v1/gateways/02a1f00000000001/up/more",
            "keen-heron/v1/gateways/02a1f00000000001",
            "keen-heron/v1/gateways/x/up",
            "keen-heron/v2/gateways/02a1f00000000001/up",
            "",
        ] {
            assert_eq!(Topic::parse(other), None, "{other}");
        }
    }

    proptest! {
        #[test]
        fn a_name_is_read_as_it_is_written(eui: u64, registered_us: u64) {
            let name = Name { eui: Eui64(eui), registered_us };
            prop_assert_eq!(name.to_string().parse(), Ok(name));
        }

        #[test]
        fn no_topic_makes_it_panic(topic in ".{0,60}") {
            let _ = Topic::parse(&format!("{ROOT}/{topic}"));
        }
    }
}
