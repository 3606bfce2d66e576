//! Where an outlet delivers to, as it is sent to the service and as it is shown: one kind of other side at a time.

use anyhow::{Result, bail};
use api::outlet::{Destination, MqttBroker, SqlTable, Webhook};
use serde_json::{Value, json};

use crate::commands::outlet::args::{BrokerArgs, KeptArgs, RequestArgs};
use crate::commands::outlet::settings::{Fields, file, pairs};

/// All that is given of where an outlet delivers to.
pub(super) struct Given {
    /// An address, or `files`.
    pub to: Option<String>,
    pub account: Option<String>,
    pub request: RequestArgs,
    pub broker: BrokerArgs,
    pub kept: KeptArgs,
}

/// The kind of outlet that an address is of.
pub(super) fn kind_of(to: &str) -> Result<&'static str> {
    Ok(match to.split_once("://").map_or(to, |(scheme, _)| scheme) {
        "https" | "http" => "webhook",
        "mqtts" | "mqtt" => "mqtt",
        "postgres" | "postgresql" | "mariadb" => "sql",
        "files" => "files",
        _ => bail!(
            "--to {to}: https://, http://, mqtts://, mqtt://, postgres:// and mariadb:// addresses are allowed, and files"
        ),
    })
}

/// The fields for one kind; options for another are refused.
pub(super) fn fields(kind: &str, given: Given) -> Result<Fields> {
    let Given { to, account, request, broker, kept } = given;
    let (authority, certificate) = (file(request.authority.as_deref())?, file(request.certificate.as_deref())?);
    let mut of_request = webhook(&request)?;
    let mut of_broker = mqtt(&broker)?;
    let (mut of_files, mut of_table) = (files(&kept), table(&kept)?);
    for (other, fields, options) in [
        (
            "webhook",
            &of_request,
            "--method, --header, --together, --answer-within and --redirects-to are for a web server",
        ),
        ("mqtt", &of_broker, "--topic, --mqtt, --qos and what follows them are for a broker"),
        ("files", &of_files, "--rotate, --file-mb and --folder-mb are for files"),
        ("sql", &of_table, "--table, --column, --create and --without-tls are for a database"),
    ] {
        if other != kind && !fields.0.is_empty() {
            bail!("{options}; this outlet is of the kind {kind}");
        }
    }
    let fields = match kind {
        "webhook" => &mut of_request,
        "mqtt" => &mut of_broker,
        "files" => &mut of_files,
        _ => &mut of_table,
    };
    if kind != "files" {
        fields.put("url", to);
        fields.put("account", account);
        fields.put("trust", authority);
        fields.put("certificate", certificate);
    } else if account.is_some() || authority.is_some() || certificate.is_some() {
        bail!("files have no account and no certificates");
    }
    Ok(std::mem::take(fields))
}

fn webhook(args: &RequestArgs) -> Result<Fields> {
    let mut webhook = Fields::default();
    webhook.put("method", args.method.as_ref().map(|method| method.to_ascii_uppercase()));
    webhook.put("headers", pairs("--header", &args.header)?);
    let mut together = Fields::default();
    together.put("most", args.together);
    together.put("within_s", args.together_within.or(args.together.map(|_| 1.0)));
    webhook.put_inside("together", together);
    webhook.put("answer_within_s", args.answer_within);
    webhook.put("redirects_to", Some(args.redirects_to.clone()).filter(|hosts| !hosts.is_empty()));
    Ok(webhook)
}

fn mqtt(args: &BrokerArgs) -> Result<Fields> {
    let mut broker = Fields::default();
    broker.put("topic", args.topic.clone());
    broker.put("version", args.mqtt.clone());
    broker.put("qos", args.qos);
    broker.put("retain", args.retain.then_some(true));
    broker.put("expires_after_s", args.expires_after.map(|s| s.round() as u64));
    broker.put("user_properties", pairs("--property", &args.property)?);
    broker.put("client_id", args.client_id.clone());
    let mut commands = Fields::default();
    commands.put("topic", args.commands.clone());
    commands.put("answers", args.answers.clone());
    broker.put_inside("commands", commands);
    Ok(broker)
}

fn files(args: &KeptArgs) -> Fields {
    let mut files = Fields::default();
    files.put("rotate", args.rotate.clone());
    files.put("file_mb", args.file_mb);
    files.put("folder_mb", args.folder_mb);
    files
}

fn table(args: &KeptArgs) -> Result<Fields> {
    let mut table = Fields::default();
    table.put("table", args.table.clone());
    let columns = args.column.iter().map(|text| column(text)).collect::<Result<Vec<Value>>>()?;
    table.put("columns", Some(columns).filter(|columns| !columns.is_empty()));
    table.put("create", args.create.then_some(true));
    table.put("without_tls", args.without_tls.then_some(true));
    Ok(table)
}

fn column(text: &str) -> Result<Value> {
    let parts = text.split_once('=').and_then(|(column, rest)| Some((column, rest.rsplit_once(':')?)));
    let Some((column, (field, kind))) = parts else { bail!("--column {text} has to be COLUMN=FIELD:KIND") };
    Ok(json!({ "column": column.trim(), "field": field.trim(), "kind": kind.trim() }))
}

/// Where to, in a few words.
pub(super) fn place(to: &Destination) -> String {
    match to {
        Destination::Webhook(webhook) => webhook.url.clone(),
        Destination::Mqtt(broker) => broker.url.clone(),
        Destination::Files(_) => "files".into(),
        Destination::Sql(table) => table.url.clone(),
    }
}

/// How it is delivered there.
pub(super) fn lines(to: &Destination) -> Vec<(&'static str, String)> {
    match to {
        Destination::Webhook(webhook) => webhook_lines(webhook),
        Destination::Mqtt(broker) => broker_lines(broker),
        Destination::Files(folder) => {
            let file = folder.file_mb.map_or_else(String::new, |mb| format!(", and at {mb} MB"));
            let mut lines = vec![("new file", format!("each {}{file}", folder.rotate.name()))];
            lines.extend(folder.folder_mb.map(|mb| ("folder", format!("{mb} MB at most"))));
            lines
        }
        Destination::Sql(table) => table_lines(table),
    }
}

fn webhook_lines(webhook: &Webhook) -> Vec<(&'static str, String)> {
    let together = webhook.together.map(|t| format!("up to {} messages, within {} s", t.most, t.within_s));
    let each = together.unwrap_or_else(|| "one for each message".into());
    vec![("request", format!("{}, {each}", webhook.method.name()))]
}

fn broker_lines(broker: &MqttBroker) -> Vec<(&'static str, String)> {
    let retain = if broker.retain { ", retained" } else { "" };
    let mut lines = vec![
        ("topic", broker.topic.clone()),
        ("protocol", format!("MQTT {}, QoS {}{retain}", broker.version.name(), broker.qos)),
    ];
    lines.extend(broker.account.clone().map(|account| ("account", account)));
    if let Some(commands) = &broker.commands {
        lines.push(("commands", format!("from {}, answered on {}", commands.topic, commands.answers)));
    }
    lines
}

fn table_lines(table: &SqlTable) -> Vec<(&'static str, String)> {
    let column = |column: &api::outlet::SqlColumn| format!("{}={}:{}", column.column, column.field, column.kind.name());
    vec![
        ("table", table.table.clone()),
        ("columns", table.columns.iter().map(column).collect::<Vec<_>>().join(", ")),
        ("account", table.account.clone()),
    ]
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_address_says_what_kind_it_is() {
        for (to, kind) in [
            ("https://a/b", "webhook"),
            ("mqtt://a", "mqtt"),
            ("postgres://a/b", "sql"),
            ("mariadb://a/b", "sql"),
            ("files", "files"),
        ] {
            assert_eq!(kind_of(to).unwrap(), kind);
        }
        assert!(kind_of("ftp://a").unwrap_err().to_string().contains("mqtts://"));
    }

    #[test]
    fn a_column_has_a_name_a_field_and_a_kind() {
        let read = column("level=readings.cell:1.value:number").unwrap();
        assert_eq!(read, json!({ "column": "level", "field": "readings.cell:1.value", "kind": "number" }));
        assert!(column("level").is_err() && column("level=x").is_err());
    }
}
