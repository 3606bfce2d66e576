//! Messages as rows of somebody's own database, read with that database's own client.

use api::outlet::{Outlet, OutletState};
use e2e::mariadb::MariaDb;
use e2e::postgres::{ACCOUNT, Postgres};
use reqwest::Method;
use serde_json::{Value, json};

use super::{becomes, bench, shown, stored};

fn columns() -> Value {
    json!([
        { "column": "message", "field": "id", "kind": "text" },
        { "column": "at", "field": "time", "kind": "time" },
        { "column": "device", "field": "device.name", "kind": "text" },
        { "column": "level", "field": "readings.level.value", "kind": "number" },
        { "column": "counter", "field": "frame.counter", "kind": "integer" },
        { "column": "confirmed", "field": "frame.confirmed", "kind": "boolean" },
    ])
}

fn outlet(url: &str, account: &str, password: &str) -> Value {
    let sql = json!({ "url": url, "account": account, "table": "readings", "columns": columns(), "create": true,
        "without_tls": true });
    json!({ "slug": "harbour", "types": ["uplink"], "to": { "sql": sql }, "secrets": { "password": password } })
}

#[tokio::test]
async fn postgresql_has_a_row_for_each_message_and_no_two() {
    let (mut bench, mut database) = (bench().await, Postgres::start().await);
    let _: Outlet = bench.service.post("outlets", outlet(&database.url(), ACCOUNT.0, ACCOUNT.1)).await;
    for level in 1..=3 {
        bench.uplink(&[level], false).await;
    }
    let count = || database.query("SELECT COUNT(*) FROM readings").trim().to_owned();
    e2e::wait::until("three rows", async || (shown(&bench.service).await.status.delivered >= 3).then_some(())).await;
    assert_eq!(count(), "3");
    let stored = stored(&bench.service, "uplink").await;
    let rows =
        database.query("SELECT message, device, level, counter, confirmed, at FROM readings ORDER BY at, message");
    let first: Vec<&str> = rows.lines().next().unwrap().split('|').collect();
    assert_eq!(first[..5], [stored[0].id.as_str(), "probe-1", "0.1", "0", "f"]);
    let at: chrono::DateTime<chrono::Utc> = format!("{}:00", first[5].replace(' ', "T")).parse().unwrap();
    assert_eq!(at, stored[0].time);

    // What comes again is no second row; and what came while the database was away is there afterwards.
    let _: Value = bench.service.post("outlets/harbour/send-again", json!({ "since": stored[0].time })).await;
    e2e::wait::until("six deliveries", async || (shown(&bench.service).await.status.backlog == 0).then_some(())).await;
    assert_eq!(count(), "3");
    database.kill();
    bench.uplink(&[4], false).await;
    becomes(&bench.service, OutletState::Failing).await;
    database.go_on().await;
    let _: Outlet = bench.service.post("outlets/harbour/resume", json!({})).await;
    e2e::wait::until("four rows", async || {
        (database.query("SELECT COUNT(*) FROM readings").trim() == "4").then_some(())
    })
    .await;
}

#[tokio::test]
async fn mariadb_has_them_too_and_what_does_not_fit_is_a_dead_letter() {
    let mut bench = bench().await;
    let mariadb = MariaDb::shared();
    let name = format!("{}_quay", bench.service.database_name());
    mariadb.as_root(&format!(
        "CREATE DATABASE {name}; CREATE USER {name}@'%' IDENTIFIED BY 'quay'; GRANT ALL ON {name}.* TO {name}@'%';
         CREATE TABLE {name}.readings (message VARCHAR(64) PRIMARY KEY, at DATETIME(3), device VARCHAR(20), level DOUBLE,
         counter BIGINT, confirmed BOOLEAN, CONSTRAINT low CHECK (level < 1));"
    ));
    let url = format!("mariadb://127.0.0.1:{}/{name}", mariadb.port());
    let mut new = outlet(&url, &name, "quay");
    new["retry_for_s"] = json!(1);
    let _: Outlet = bench.service.post("outlets", new).await;
    for level in [1, 25, 2] {
        bench.uplink(&[level], false).await;
    }
    let letters: Vec<Value> = e2e::wait::until("a dead letter", async || {
        let letters: Vec<Value> = bench.service.list("outlets/harbour/dead-letters").await;
        Some(letters).filter(|letters| !letters.is_empty())
    })
    .await;
    assert!(letters[0]["why"].as_str().unwrap().contains("CONSTRAINT"), "{letters:?}");
    e2e::wait::until("the others", async || (shown(&bench.service).await.status.backlog == 0).then_some(())).await;
    let rows = mariadb.query(&name, "SELECT level, counter FROM readings ORDER BY counter");
    assert_eq!(rows.lines().collect::<Vec<_>>(), ["0.1\t0", "0.2\t2"]);
    mariadb.as_root(&format!("ALTER TABLE {name}.readings DROP CONSTRAINT low"));
    let _: Value = bench.service.post("outlets/harbour/dead-letters/replay", json!({})).await;
    e2e::wait::until("all three", async || {
        (mariadb.query(&name, "SELECT COUNT(*) FROM readings").trim() == "3").then_some(())
    })
    .await;
    mariadb.as_root(&format!("DROP DATABASE {name}; DROP USER {name}@'%'"));
}

#[tokio::test]
async fn a_database_that_is_not_as_it_should_be_is_told_and_waited_for() {
    let (mut bench, database) = (bench().await, Postgres::start().await);
    let mut new = outlet(&database.url(), ACCOUNT.0, "wrong");
    new["to"]["sql"]["create"] = json!(false);
    let _: Outlet = bench.service.post("outlets", new).await;
    bench.uplink(&[1], false).await;
    let told =
        |outlet: &Outlet, words: &str| assert!(outlet.status.why.as_ref().unwrap().contains(words), "{outlet:?}");
    told(&becomes(&bench.service, OutletState::Failing).await, "password authentication failed");
    let patch = async |change: Value| -> Outlet {
        bench.service.done(Method::PATCH, "/estates/tarnsey/outlets/harbour", Some(change)).await
    };
    patch(json!({ "secrets": { "password": ACCOUNT.1 } })).await;
    told(&becomes(&bench.service, OutletState::Failing).await, "readings");
    // Without TLS on the other side, and none given up on this one.
    patch(json!({ "to": { "sql": { "without_tls": false } } })).await;
    told(&becomes(&bench.service, OutletState::Failing).await, "TLS");
    patch(json!({ "to": { "sql": { "without_tls": true, "create": true } } })).await;
    e2e::wait::until("the row", async || (shown(&bench.service).await.status.delivered == 1).then_some(())).await;
    assert_eq!(database.query("SELECT level FROM readings").trim(), "0.1");
}
