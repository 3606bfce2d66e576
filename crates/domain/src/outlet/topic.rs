//! Topics of MQTT with placeholders: of the messages that go out, and of the commands that come back.

use api::message::Message;
use api::outlet::MessageType;
use lorawan::Eui64;

use super::type_of;
use crate::input;

/// The longest topic (the standard allows 65,535 bytes, brokers less).
pub const LONGEST: usize = 500;

/// What stands in a topic for what a message does not have.
const NOTHING: &str = "-";

/// What a placeholder stands for.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Placeholder {
    /// The estate's short name.
    Estate,
    /// The fleet's short name.
    Fleet,
    /// The device's name.
    Device,
    /// Its DevEUI.
    Eui,
    /// The short name of its model.
    Model,
    /// The message's type.
    Type,
}

impl Placeholder {
    const ALL: [(&'static str, Self); 6] = [
        ("estate", Self::Estate),
        ("fleet", Self::Fleet),
        ("device", Self::Device),
        ("eui", Self::Eui),
        ("model", Self::Model),
        ("type", Self::Type),
    ];

    fn named(name: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|(known, _)| *known == name).map(|(_, of)| of)
    }
}

#[derive(Debug, Clone, PartialEq, Eq)]
enum Part {
    Text(String),
    Placeholder(Placeholder),
}

impl Placeholder {
    fn value(self, message: &Message) -> Option<String> {
        let device = message.device.as_ref();
        match self {
            Self::Estate => Some(message.estate.clone()),
            Self::Fleet => message.fleet.clone(),
            Self::Device => device.map(|device| device.name.clone()),
            Self::Eui => device.map(|device| device.eui.to_string()),
            Self::Model => device.and_then(|device| device.model.clone()),
            Self::Type => type_of(message).map(|kind| kind.name().to_owned()),
        }
    }
}

/// A text with placeholders that goes along with a message, read.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Filled(Vec<Part>);

impl Filled {
    /// Reads a text.
    ///
    /// # Errors
    /// What is wrong with it, in words.
    pub fn read(text: &str) -> Result<Self, String> {
        parts(text).map(Self)
    }

    /// Fills the placeholders in from a message.
    pub fn of(&self, message: &Message) -> String {
        let part = |part: &Part| match part {
            Part::Text(text) => text.clone(),
            Part::Placeholder(of) => of.value(message).unwrap_or_else(|| NOTHING.to_owned()),
        };
        self.0.iter().map(part).collect()
    }
}

/// A topic with placeholders, read.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Pattern {
    /// Level by level: what stands between two slashes (MQTT 5.0 §4.7.1.1).
    levels: Vec<Vec<Part>>,
}

/// The device that a command's topic names.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Named {
    /// A fleet's short name.
    pub fleet: Option<String>,
    /// A device's name, as it stands in topics.
    pub device: Option<String>,
    /// A DevEUI.
    pub eui: Option<String>,
}

impl Pattern {
    /// Reads a pattern.
    ///
    /// # Errors
    /// What is wrong with it, in words.
    pub fn read(text: &str) -> Result<Self, String> {
        if text.is_empty() || text.len() > LONGEST {
            return Err(format!("1 to {LONGEST} bytes are allowed"));
        }
        if text.contains(['+', '#']) || text.chars().any(char::is_control) {
            return Err("a topic has no + and no #: those are for subscribing".into());
        }
        if text.starts_with('$') {
            return Err("topics that begin with $ are the broker's own".into());
        }
        let levels = text.split('/').map(parts).collect::<Result<_, _>>()?;
        Ok(Self { levels })
    }

    /// Whether it has a placeholder.
    pub fn has(&self, placeholder: Placeholder) -> bool {
        self.levels.iter().flatten().any(|part| *part == Part::Placeholder(placeholder))
    }

    /// Fills the placeholders in from a message.
    pub fn of(&self, message: &Message) -> String {
        self.fill(|placeholder| placeholder.value(message))
    }

    /// Fills the placeholders in.
    pub fn fill(&self, value: impl Fn(Placeholder) -> Option<String>) -> String {
        let part = |part: &Part| match part {
            Part::Text(text) => text.clone(),
            Part::Placeholder(of) => value(*of).map_or_else(|| NOTHING.to_owned(), |value| as_level(&value)),
        };
        let level = |parts: &Vec<Part>| parts.iter().map(part).collect::<String>();
        self.levels.iter().map(level).collect::<Vec<_>>().join("/")
    }

    /// The filter that subscribes to it; the estate is known.
    pub fn filter(&self, estate: &str) -> String {
        let level = |parts: &Vec<Part>| match parts.as_slice() {
            [Part::Text(text)] => text.clone(),
            [Part::Placeholder(Placeholder::Estate)] => as_level(estate),
            [] => String::new(),
            _ => "+".to_owned(),
        };
        self.levels.iter().map(level).collect::<Vec<_>>().join("/")
    }

    /// What a topic says, if it is one of this pattern. Each level has to be a text or one placeholder; see [`Self::is_plain`].
    pub fn names(&self, topic: &str, estate: &str) -> Option<Named> {
        let mut named = Named::default();
        let mut levels = topic.split('/');
        for parts in &self.levels {
            let level = levels.next()?;
            match parts.as_slice() {
                [] if level.is_empty() => {}
                [Part::Text(text)] if text == level => {}
                [Part::Placeholder(Placeholder::Estate)] if as_level(estate) == level => {}
                [Part::Placeholder(Placeholder::Fleet)] => named.fleet = Some(level.to_owned()),
                [Part::Placeholder(Placeholder::Device)] => named.device = Some(level.to_owned()),
                [Part::Placeholder(Placeholder::Eui)] => named.eui = Some(level.to_owned()),
                _ => return None,
            }
        }
        levels.next().is_none().then_some(named)
    }

    /// Whether each level is a text or one placeholder, so that topics can be read back.
    pub fn is_plain(&self) -> bool {
        self.levels.iter().all(|parts| parts.len() <= 1)
    }

    /// Whether some topic could be one of both patterns.
    pub fn could_meet(&self, other: &Self) -> bool {
        let same = |(a, b): (&Vec<Part>, &Vec<Part>)| match (a.as_slice(), b.as_slice()) {
            ([Part::Text(a)], [Part::Text(b)]) => a == b,
            ([], []) => true,
            ([], [Part::Text(_)]) | ([Part::Text(_)], []) => false,
            ([Part::Placeholder(Placeholder::Type)], [Part::Text(text)])
            | ([Part::Text(text)], [Part::Placeholder(Placeholder::Type)]) => {
                MessageType::ALL.iter().any(|kind| kind.name() == text)
            }
            _ => could_be(a, b),
        };
        self.levels.len() == other.levels.len() && self.levels.iter().zip(&other.levels).all(same)
    }
}

/// Whether two levels could be the same text: what they begin and end with does not contradict.
fn could_be(a: &[Part], b: &[Part]) -> bool {
    let text = |part: Option<&Part>| match part {
        Some(Part::Text(text)) => text.clone(),
        Some(Part::Placeholder(_)) | None => String::new(),
    };
    let (first_a, first_b, last_a, last_b) = (text(a.first()), text(b.first()), text(a.last()), text(b.last()));
    (first_a.starts_with(&first_b) || first_b.starts_with(&first_a))
        && (last_a.ends_with(&last_b) || last_b.ends_with(&last_a))
}

/// The texts and placeholders of a text.
fn parts(text: &str) -> Result<Vec<Part>, String> {
    let (mut parts, mut rest) = (Vec::new(), text);
    while let Some(open) = rest.find(['{', '}']) {
        if open > 0 {
            parts.push(Part::Text(rest[..open].to_owned()));
        }
        let inner = rest[open..].strip_prefix('{').and_then(|inner| inner.split_once('}'));
        let Some((name, after)) = inner else { return Err("each { has a } after it".into()) };
        let of = Placeholder::named(name).ok_or_else(|| {
            let known = Placeholder::ALL.map(|(name, _)| format!("{{{name}}}")).join(", ");
            format!("{{{name}}} is no placeholder: there are {known}")
        })?;
        parts.push(Part::Placeholder(of));
        rest = after;
    }
    if !rest.is_empty() {
        parts.push(Part::Text(rest.to_owned()));
    }
    Ok(parts)
}

/// A value as a level of a topic: what would end the level, or stand for others, is replaced.
pub fn as_level(value: &str) -> String {
    let plain = |c: char| if matches!(c, '/' | '+' | '#' | '$') || c.is_control() { '_' } else { c };
    let level: String = value.chars().map(plain).collect();
    if level.is_empty() { NOTHING.to_owned() } else { level }
}

/// Whether a topic's level names a device: by its DevEUI, or by its name.
pub fn is_named(named: &Named, eui: Eui64, name: &str) -> bool {
    let by_eui = named.eui.as_ref().is_none_or(|text| input::eui("eui", text).is_ok_and(|read| read == eui));
    let by_name = named.device.as_ref().is_none_or(|text| *text == as_level(name));
    (named.eui.is_some() || named.device.is_some()) && by_eui && by_name
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;
    use crate::outlet::tests::notice;

    fn pattern(text: &str) -> Pattern {
        Pattern::read(text).unwrap()
    }

    #[test]
    fn a_text_keeps_what_a_topic_could_not_have() {
        let mut message = notice("tide", "gauge");
        message.device.as_mut().unwrap().name = "quay/#1".into();
        assert_eq!(Filled::read("{fleet} + {device}").unwrap().of(&message), "tide + quay/#1");
        message.fleet = None;
        assert_eq!(Filled::read("{fleet}").unwrap().of(&message), "-");
        assert_eq!(Filled::read("").unwrap().of(&message), "");
        for wrong in ["{gateway}", "{fleet", "fleet}", "{}"] {
            assert!(Filled::read(wrong).is_err(), "{wrong}");
        }
    }

    #[test]
    fn placeholders_are_filled_in_from_the_message() {
        let message = notice("tide", "gauge");
        let of = |text: &str| pattern(text).of(&message);
        assert_eq!(of("harbour/{fleet}/{device}/{type}"), "harbour/tide/sluice-07/notice");
        assert_eq!(of("{estate}/{eui}/{model}"), "tarnsey/02b0090000000001/gauge");
        assert_eq!(of("/x-{type}-y/"), "/x-notice-y/");
        let mut nameless = message.clone();
        (nameless.fleet, nameless.device) = (None, None);
        assert_eq!(pattern("{fleet}/{device}").of(&nameless), "-/-");
        let mut odd = message;
        odd.device.as_mut().unwrap().name = "quay/#1+".into();
        assert_eq!(pattern("a/{device}").of(&odd), "a/quay__1_");
    }

    #[test]
    fn what_is_no_topic_is_refused() {
        for bad in ["", "a/+/b", "a/#", "$SYS/{type}", "{gateway}/x", "a/{device", "a}b", "a\u{0}b", &"a".repeat(501)] {
            assert!(Pattern::read(bad).is_err(), "{bad}");
        }
        let why = Pattern::read("{gateway}").unwrap_err();
        assert!(why.contains("{gateway}") && why.contains("{device}"), "{why}");
    }

    #[test]
    fn a_command_s_topic_names_its_device() {
        let pattern = pattern("harbour/{estate}/{fleet}/{device}/command");
        assert_eq!(pattern.filter("tarnsey"), "harbour/tarnsey/+/+/command");
        let named = pattern.names("harbour/tarnsey/tide/sluice-07/command", "tarnsey").unwrap();
        assert_eq!((named.fleet.as_deref(), named.device.as_deref()), (Some("tide"), Some("sluice-07")));
        for other in ["harbour/saltholm/tide/x/command", "harbour/tarnsey/tide/x", "harbour/tarnsey/tide/x/command/y"] {
            assert_eq!(pattern.names(other, "tarnsey"), None, "{other}");
        }
        assert!(is_named(&named, Eui64(1), "sluice-07") && !is_named(&named, Eui64(1), "sluice-08"));
        let by_eui = Named { eui: Some("02B0090000000001".into()), ..Named::default() };
        assert!(is_named(&by_eui, Eui64(0x02b0_0900_0000_0001), "any") && !is_named(&by_eui, Eui64(1), "any"));
        assert!(!is_named(&Named::default(), Eui64(1), "any"), "nobody is named");
    }

    #[test]
    fn topics_that_could_be_the_same_are_told() {
        let meet = |a: &str, b: &str| pattern(a).could_meet(&pattern(b)) && pattern(b).could_meet(&pattern(a));
        assert!(meet("a/{device}/{type}", "a/{device}/uplink") && meet("a/{device}/{model}", "a/{device}/command"));
        assert!(meet("{fleet}/x", "a/{device}") && meet("a-{type}/x", "a-{fleet}/x") && meet("a", "a"));
        assert!(!meet("a/{device}/{type}", "a/{device}/command"), "no type has that name");
        assert!(!meet("a/{device}/up/{type}", "a/{device}/command"));
        assert!(!meet("out/{device}", "in/{device}") && !meet("a/out-{type}", "a/in-{device}"));
        assert!(!meet("a/", "a/b"));
    }

    proptest! {
        /// What a pattern is filled with comes back out of the topic, and the filter fits the topic.
        #[test]
        fn a_filled_topic_is_read_back(fleet in "[a-z]{1,9}", device in "[a-zA-Z0-9 ./#+-]{1,20}") {
            let pattern = pattern("a/{fleet}/{device}/command");
            let value = |of| match of {
                Placeholder::Fleet => Some(fleet.clone()),
                Placeholder::Device => Some(device.clone()),
                _ => None,
            };
            let topic = pattern.fill(value);
            let named = pattern.names(&topic, "tarnsey").unwrap();
            prop_assert_eq!(named.fleet.as_deref(), Some(fleet.as_str()));
            prop_assert!(is_named(&named, Eui64(0), &device));
            prop_assert_eq!(topic.split('/').count(), pattern.filter("tarnsey").split('/').count());
        }

        #[test]
        fn any_text_is_read_or_refused(text in "\\PC{0,60}") {
            if let Ok(pattern) = Pattern::read(&text) {
                let _ = (pattern.filter("x"), pattern.names(&text, "x"), pattern.could_meet(&pattern));
            }
        }
    }
}
