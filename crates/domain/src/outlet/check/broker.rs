//! Checks of MQTT brokers.

use std::collections::BTreeMap;

use api::outlet::{MqttBroker, MqttCommands, MqttVersion};
use api::problem::{FieldProblems, Problem, bad_field};

use super::{has_control, pem};
use crate::outlet::address::BrokerAddress;
use crate::outlet::topic::{Filled, Pattern, Placeholder};

/// The longest name that all brokers of MQTT 3.1.1 have to take is 23 bytes (§3.1.3.1); most take more.
const LONGEST_NAME: usize = 100;
/// Properties that a message can have.
const MOST_PROPERTIES: usize = 20;
const LONGEST_PROPERTY: usize = 500;
/// Properties that every message has.
const OWN_PROPERTIES: [&str; 4] = ["id", "type", "time", "reference"];

/// Checks a broker.
pub(super) fn check(broker: &MqttBroker) -> Result<(), Problem> {
    let mut wrong = FieldProblems::default();
    if let Err(why) = BrokerAddress::read(&broker.url) {
        let shown = if broker.url.contains('@') { "an address with @ in it" } else { broker.url.as_str() };
        wrong.add(bad_field("url", shown, why));
    }
    let topic = wrong.take(pattern("topic", &broker.topic));
    if broker.qos > 2 {
        wrong.add(bad_field("qos", &broker.qos.to_string(), "0, 1 and 2 are allowed"));
    }
    for (field, text, longest) in [("client_id", &broker.client_id, LONGEST_NAME), ("account", &broker.account, 200)] {
        if let Some(text) = text
            && (text.is_empty() || text.len() > longest || has_control(text))
        {
            wrong.add(bad_field(field, text, format!("1 to {longest} bytes are allowed")));
        }
    }
    if broker.version == MqttVersion::V311 {
        let only = "only MQTT 5 has this";
        if let Some(s) = broker.expires_after_s {
            wrong.add(bad_field("expires_after_s", &s.to_string(), only));
        }
        if !broker.user_properties.is_empty() {
            wrong.add(bad_field("user_properties", &broker.user_properties.len().to_string(), only));
        }
    }
    if let Some(s) = broker.expires_after_s
        && !(1..=31_536_000).contains(&s)
    {
        wrong.add(bad_field("expires_after_s", &s.to_string(), "1 to 31536000 s are allowed"));
    }
    wrong.take(properties(&broker.user_properties));
    for (field, text) in [("trust", &broker.trust), ("certificate", &broker.certificate)] {
        if let Some(text) = text {
            wrong.take(pem(field, text, "CERTIFICATE"));
            if broker.url.starts_with("mqtt://") {
                wrong.add(bad_field(field, "a certificate", "without TLS there are none: mqtts:// has it"));
            }
        }
    }
    if let Some(of) = &broker.commands {
        wrong.take_inside("commands", commands(of, topic.as_ref()));
    }
    wrong.end()
}

fn pattern(field: &str, text: &str) -> Result<Pattern, Problem> {
    Pattern::read(text).map_err(|why| bad_field(field, text, why))
}

fn properties(all: &BTreeMap<String, String>) -> Result<(), Problem> {
    if all.len() > MOST_PROPERTIES {
        let given = all.len().to_string();
        return Err(bad_field("user_properties", &given, format!("at most {MOST_PROPERTIES} are allowed")));
    }
    for (name, value) in all {
        let field = format!("user_properties.{name}");
        if name.is_empty() || name.len() > 100 || has_control(name) {
            return Err(bad_field("user_properties", name, "a name has 1 to 100 bytes"));
        }
        if OWN_PROPERTIES.contains(&name.as_str()) {
            return Err(bad_field(&field, name, "this property is written by Keen Heron"));
        }
        if value.len() > LONGEST_PROPERTY || has_control(value) {
            return Err(bad_field(&field, value, format!("at most {LONGEST_PROPERTY} bytes are allowed")));
        }
        Filled::read(value).map_err(|why| bad_field(&field, value, why))?;
    }
    Ok(())
}

/// What is published may not be taken for a command, or one answer would make the next.
fn commands(commands: &MqttCommands, messages: Option<&Pattern>) -> Result<(), Problem> {
    let mut wrong = FieldProblems::default();
    let topic = wrong.take(pattern("topic", &commands.topic));
    let answers = wrong.take(pattern("answers", &commands.answers));
    let known = |pattern: &Pattern| !pattern.has(Placeholder::Model) && !pattern.has(Placeholder::Type);
    if let Some(topic) = &topic {
        if !topic.has(Placeholder::Device) && !topic.has(Placeholder::Eui) {
            wrong.add(bad_field("topic", &commands.topic, "{device} or {eui} has to be in it: which device is meant"));
        }
        if !topic.is_plain() || !known(topic) {
            let allowed = "{estate}, {fleet}, {device} and {eui} are allowed, each between two slashes";
            wrong.add(bad_field("topic", &commands.topic, allowed));
        }
        for (field, given, other) in
            [("topic", &commands.topic, messages), ("answers", &commands.answers, answers.as_ref())]
        {
            if other.is_some_and(|other| other.could_meet(topic)) {
                let why = match field {
                    "topic" => "the outlet's own messages could come on such a topic, and would be taken for commands",
                    _ => "an answer could come on a topic of commands, and would be taken for one",
                };
                wrong.add(bad_field(field, given, why));
            }
        }
    }
    if answers.as_ref().is_some_and(|answers| !known(answers)) {
        wrong.add(bad_field("answers", &commands.answers, "{estate}, {fleet}, {device} and {eui} are allowed"));
    }
    wrong.end()
}

#[cfg(test)]
mod tests {
    use api::outlet::{Destination, OutletSecrets};

    use super::*;
    use crate::outlet::check::tests::refused;

    fn fields(change: impl FnOnce(&mut MqttBroker, &mut OutletSecrets)) -> Vec<String> {
        let mut broker = MqttBroker {
            url: "mqtts://broker.example".into(),
            topic: "harbour/{fleet}/{device}/{type}".into(),
            qos: 1,
            ..MqttBroker::default()
        };
        let mut secrets = OutletSecrets::default();
        change(&mut broker, &mut secrets);
        refused(Destination::Mqtt(broker), &secrets)
    }

    fn commands(topic: &str, answers: &str) -> Option<MqttCommands> {
        Some(MqttCommands { topic: topic.into(), answers: answers.into() })
    }

    #[test]
    fn each_field_is_checked() {
        assert!(fields(|_, _| ()).is_empty());
        assert_eq!(fields(|b, _| b.url = "https://broker.example".into()), ["to.mqtt.url"]);
        assert_eq!(fields(|b, _| b.topic = "harbour/#".into()), ["to.mqtt.topic"]);
        assert_eq!(fields(|b, _| b.qos = 3), ["to.mqtt.qos"]);
        assert_eq!(fields(|b, _| b.client_id = Some(String::new())), ["to.mqtt.client_id"]);
        assert_eq!(fields(|b, _| b.trust = Some("none".into())), ["to.mqtt.trust"]);
        assert_eq!(fields(|b, _| b.account = Some("x".into())), ["secrets.password"]);
        assert_eq!(fields(|_, s| s.bearer = Some("x".into())), ["secrets.bearer"]);
        let old = |b: &mut MqttBroker, _: &mut OutletSecrets| {
            (b.version, b.expires_after_s) = (MqttVersion::V311, Some(60));
            b.user_properties.insert("place".into(), "quay".into());
        };
        assert_eq!(fields(old), ["to.mqtt.expires_after_s", "to.mqtt.user_properties"]);
        let own = |b: &mut MqttBroker, _: &mut OutletSecrets| drop(b.user_properties.insert("id".into(), "x".into()));
        assert_eq!(fields(own), ["to.mqtt.user_properties.id"]);
        let strange =
            |b: &mut MqttBroker, _: &mut OutletSecrets| drop(b.user_properties.insert("x".into(), "{gateway}".into()));
        assert_eq!(fields(strange), ["to.mqtt.user_properties.x"]);
    }

    #[test]
    fn what_goes_out_cannot_come_back_as_a_command() {
        let with = |topic: &str, answers: &str| fields(|b, _| b.commands = commands(topic, answers));
        assert!(with("harbour/{device}/command", "harbour/{device}/answer").is_empty());
        // A type is one of five words.
        assert!(with("harbour/{fleet}/{device}/command", "x").is_empty());
        assert_eq!(with("harbour/{fleet}/{device}/uplink", "x"), ["to.mqtt.commands.topic"]);
        assert_eq!(with("in/{device}", "in/{eui}"), ["to.mqtt.commands.answers"]);
        assert_eq!(with("in/command", "out"), ["to.mqtt.commands.topic"]);
        assert_eq!(with("in/x{device}", "out"), ["to.mqtt.commands.topic"]);
        assert_eq!(with("in/{device}", "out/{model}"), ["to.mqtt.commands.answers"]);
    }
}
