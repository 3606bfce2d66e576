//! How another system is connected: what is to be set on its side, and lines and programs that work as they are.

use api::outlet::{
    ConnectSetting, Destination, FileFolder, MqttBroker, MqttVersion, Snippet, SnippetLanguage, SqlTable, Webhook,
};

use super::address::{BrokerAddress, DatabaseAddress, Dialect};
use super::topic::Pattern;

// Programs are files of their own, so that tests can run them.
const FETCH_PYTHON: &str = include_str!("fetch.py");
const FETCH_JAVASCRIPT: &str = include_str!("fetch.mjs");
const TAKE_PYTHON: &str = include_str!("take.py");
const TAKE_JAVASCRIPT: &str = include_str!("take.mjs");
const SUBSCRIBE_PYTHON: &str = include_str!("subscribe.py");
const SUBSCRIBE_JAVASCRIPT: &str = include_str!("subscribe.mjs");

/// What stands in the snippets for what is filled in.
const URL: &str = "https://heron.example/api/v1/estates/ESTATE/messages";

type Connected = (Vec<ConnectSetting>, Vec<Snippet>);

fn setting(name: &str, value: impl Into<String>) -> ConnectSetting {
    ConnectSetting { name: name.into(), value: value.into() }
}

fn snippet(title: &str, language: SnippetLanguage, text: impl Into<String>) -> Snippet {
    Snippet { title: title.into(), language, text: text.into() }
}

/// For programs that fetch messages: `url` is that of the estate's messages, `filter` a query without its question mark.
pub fn fetched(url: &str, filter: &str) -> Connected {
    use SnippetLanguage::{Javascript, Python, Shell};
    let bearer = r#"-H "Authorization: Bearer $HERON_TOKEN""#;
    let query = if filter.is_empty() { String::new() } else { format!("?{filter}") };
    let and = if filter.is_empty() { String::new() } else { format!("{filter}&") };
    let fetch = format!("{url}?{and}wait_s=30");
    let settings = vec![
        setting("stream (Server-Sent Events)", format!("{url}/stream{query}")),
        setting("fetching", fetch.clone()),
        setting("header", "Authorization: Bearer $HERON_TOKEN"),
    ];
    let filled = |program: &str| program.replace(URL, &format!("{url}?{and}wait_s=30"));
    let snippets = vec![
        snippet("Listen", Shell, format!("curl --no-buffer {bearer} '{url}/stream{query}'")),
        snippet("Fetch the next ones", Shell, format!("curl {bearer} '{fetch}'")),
        snippet("Fetch in Python", Python, filled(FETCH_PYTHON)),
        snippet("Fetch in JavaScript", Javascript, filled(FETCH_JAVASCRIPT)),
    ];
    (settings, snippets)
}

/// For the other side of an outlet; `folder` is where files are, for one that writes them.
pub fn delivered(to: &Destination, estate: &str, signed: bool, folder: &str) -> Connected {
    match to {
        Destination::Webhook(webhook) => web(webhook, signed),
        Destination::Mqtt(broker) => broker_snippets(broker, estate),
        Destination::Files(of) => files(of, folder),
        Destination::Sql(table) => table_snippets(table),
    }
}

fn web(webhook: &Webhook, signed: bool) -> Connected {
    use SnippetLanguage::{Javascript, Python};
    let what = if webhook.together.is_some() { "a JSON array of messages" } else { "one message, JSON" };
    let mut settings = vec![
        setting("address", &webhook.url),
        setting("method", webhook.method.name()),
        setting("body", what),
        setting("answer", "any 2xx once the messages are safe"),
    ];
    if signed {
        settings.push(setting("signature", "Keen-Heron-Signature, over Keen-Heron-Time and the body"));
    }
    let snippets = vec![
        snippet("Take messages in Python", Python, TAKE_PYTHON),
        snippet("Take messages in JavaScript", Javascript, TAKE_JAVASCRIPT),
    ];
    (settings, snippets)
}

fn broker_snippets(broker: &MqttBroker, estate: &str) -> Connected {
    use SnippetLanguage::{Javascript, Python, Shell};
    let Ok(address) = BrokerAddress::read(&broker.url) else { return Default::default() };
    let filter = |text: &str| Pattern::read(text).map_or_else(|_| text.to_owned(), |pattern| pattern.filter(estate));
    let topic = filter(&broker.topic);
    let version = if broker.version == MqttVersion::V5 { " -V 5" } else { "" };
    let tls = if address.tls { " --cafile authority.pem" } else { "" };
    let account = match &broker.account {
        Some(_) => r#" -u "$MQTT_ACCOUNT" -P "$MQTT_PASSWORD""#,
        None => "",
    };
    let place = format!("-h {} -p {}{tls}{account}{version}", address.host, address.port);
    let mut settings = vec![
        setting("broker", &broker.url),
        setting("topic to subscribe to", &topic),
        setting("protocol", format!("MQTT {}, QoS {}", broker.version.name(), broker.qos)),
        setting("payload", "one message, JSON"),
    ];
    let mut snippets = vec![snippet("Listen", Shell, format!("mosquitto_sub {place} -q 1 -t '{topic}' -v"))];
    if let Some(commands) = &broker.commands {
        let (to, answers) = (filter(&commands.topic), filter(&commands.answers));
        settings.push(setting("topic of commands", &commands.topic));
        settings.push(setting("topic of answers", &answers));
        let command = r#"{"port": 10, "payload": "28", "reference": "one"}"#;
        let example = to.replacen('+', "DEVICE", to.matches('+').count());
        snippets.push(snippet("Hear the answers", Shell, format!("mosquitto_sub {place} -q 1 -t '{answers}' -v")));
        snippets.push(snippet(
            "Send a command",
            Shell,
            format!("mosquitto_pub {place} -q 1 -t '{example}' -m '{command}'"),
        ));
    }
    let filled = |program: &str| {
        program
            .replace("broker.example", &address.host)
            .replace("1883", &address.port.to_string())
            .replace("THE/TOPIC", &topic)
            .replace("THE-SCHEME", if address.tls { "mqtts" } else { "mqtt" })
    };
    snippets.push(snippet("Listen in Python (paho-mqtt)", Python, filled(SUBSCRIBE_PYTHON)));
    snippets.push(snippet("Listen in JavaScript (mqtt)", Javascript, filled(SUBSCRIBE_JAVASCRIPT)));
    (settings, snippets)
}

fn files(of: &FileFolder, folder: &str) -> Connected {
    let settings = vec![
        setting("folder on the service's machine", folder),
        setting("new file", format!("each {}, and when one is full", of.rotate.name())),
        setting("content", "JSON Lines: one message a line"),
    ];
    let follow = format!("tail -n +1 -F \"$(ls -1 '{folder}'/*.jsonl | tail -n 1)\"");
    (settings, vec![snippet("Follow the newest file", SnippetLanguage::Shell, follow)])
}

fn table_snippets(table: &SqlTable) -> Connected {
    let Ok(DatabaseAddress { dialect, host, port, database }) = DatabaseAddress::read(&table.url) else {
        return Default::default();
    };
    let columns: Vec<&str> = table.columns.iter().map(|column| column.column.as_str()).collect();
    let settings = vec![
        setting("database", &table.url),
        setting("table", &table.table),
        setting("columns", columns.join(", ")),
        setting("account", format!("{}: it inserts into the table{}", table.account, creates(table.create))),
    ];
    let select = format!("SELECT {} FROM {} LIMIT 10", columns.join(", "), table.table);
    let line = match dialect {
        Dialect::PostgreSql => format!("psql -h {host} -p {port} -d {database} -c '{select}'"),
        Dialect::MariaDb => format!("mariadb -h {host} -P {port} {database} -e '{select}'"),
    };
    (settings, vec![snippet("Look at the rows", SnippetLanguage::Shell, line)])
}

const fn creates(create: bool) -> &'static str {
    if create { ", and creates it" } else { "" }
}

#[cfg(test)]
mod tests {
    use api::outlet::MqttCommands;

    use super::*;

    #[test]
    fn what_is_to_be_filled_in_is_filled_in() {
        let url = "http://127.0.0.1:8680/api/v1/estates/tarnsey/messages";
        for filter in ["", "fleet=tide"] {
            let (settings, snippets) = fetched(url, filter);
            assert!(settings.iter().any(|one| one.value.starts_with(url)));
            for snippet in &snippets {
                assert!(snippet.text.contains(url) && snippet.text.contains("HERON_TOKEN"), "{snippet:?}");
                assert!(!snippet.text.contains("heron.example") && snippet.text.contains(filter), "{snippet:?}");
            }
        }
    }

    #[test]
    fn a_broker_s_lines_name_its_place_and_topics() {
        let broker = MqttBroker {
            url: "mqtts://broker.harbour.example:8884".into(),
            topic: "quay/{fleet}/{device}/{type}".into(),
            account: Some("panel".into()),
            commands: Some(MqttCommands { topic: "in/{device}/command".into(), answers: "out/{device}".into() }),
            ..MqttBroker::default()
        };
        let (settings, snippets) = delivered(&Destination::Mqtt(broker), "tarnsey", false, "");
        assert!(settings.iter().any(|one| one.value == "quay/+/+/+"));
        assert!(snippets[0].text.contains("-h broker.harbour.example -p 8884 --cafile"), "{}", snippets[0].text);
        assert!(snippets[2].text.contains("-t 'in/DEVICE/command'"), "{}", snippets[2].text);
        for program in &snippets[3..] {
            assert!(program.text.contains("quay/+/+/+") && program.text.contains("8884"), "{program:?}");
            assert!(!program.text.contains("THE"), "{program:?}");
        }
    }

    #[test]
    fn rows_and_files_are_looked_at_with_what_is_there() {
        let table =
            SqlTable { url: "mariadb://db.example/quay".into(), table: "readings".into(), ..SqlTable::default() };
        let (_, snippets) = delivered(&Destination::Sql(table), "tarnsey", false, "");
        assert!(snippets[0].text.starts_with("mariadb -h db.example -P 3306 quay"), "{}", snippets[0].text);
        let (settings, _) = delivered(&Destination::Files(FileFolder::default()), "tarnsey", false, "/srv/outlets");
        assert_eq!(settings[0].value, "/srv/outlets");
    }
}
