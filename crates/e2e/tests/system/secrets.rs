//! The master key, and what the database's own account may do.

use api::device::DeviceKeys;
use e2e::service::{ESTATE, Service};
use reqwest::Method;
use serde_json::{Value, json};
use store::{Store, Vault};

use crate::scenes::{APP_KEY, Bench, DEV_EUI};

async fn key(service: &Service) -> Option<String> {
    service.get::<DeviceKeys>(&format!("devices/{DEV_EUI}/keys")).await.app_key.map(|key| key.to_string())
}

#[tokio::test]
async fn the_master_key_is_replaced_even_if_that_is_interrupted() {
    let mut bench = Bench::set_up().await;
    bench.join().await;
    let fleet_key = json!({ "app_key": APP_KEY.to_hex() });
    let _: Value = bench.service.done(Method::PATCH, &format!("/estates/{ESTATE}/fleets/bench"), Some(fleet_key)).await;
    let data = bench.service.data();
    let rotate = ["rotate-master-key", "--data", data.to_str().unwrap()];
    let refused = bench.service.herond_refuses(&rotate);
    assert!(refused.contains("another herond works with the data folder"), "{refused}");
    assert!(bench.service.stop());
    let before = std::fs::read(data.join("master.key")).unwrap();

    // Interrupted after one of the secrets.
    let vault = Vault::begin_replacement(&data.join("master.key")).unwrap();
    let store = Store::open(&bench.service.database(), vault).await.unwrap();
    assert_eq!(store.reseal(Some(1)).await.unwrap(), 1);
    store.close().await;

    // The service works with both keys meanwhile, and what it seals is under the new one.
    bench.service.start_again();
    assert_eq!(key(&bench.service).await, Some(APP_KEY.to_hex()));
    bench.uplink(&[1], false).await;
    assert!(bench.service.stop());

    let told = bench.service.herond_says(&rotate);
    assert!(told.contains("Going on with a replacement") && told.contains("2 secrets were sealed again"), "{told}");
    assert!(!data.join("master.key.next").exists());
    assert_ne!(std::fs::read(data.join("master.key")).unwrap(), before);
    bench.service.start_again();
    assert_eq!(key(&bench.service).await, Some(APP_KEY.to_hex()), "the keys are what they were");
    e2e::wait::until("the session goes on", async || {
        let told: Value = bench.service.get(&format!("devices/{DEV_EUI}")).await;
        told["session"].is_object().then_some(())
    })
    .await;
    assert!(bench.service.stop());
    // The old key opens nothing any more.
    std::fs::write(data.join("old.key"), before).unwrap();
    let old = Vault::open_or_create(&data.join("old.key")).unwrap();
    let store = Store::open(&bench.service.database(), old).await.unwrap();
    assert_eq!(store.secrets().await.unwrap().open, 0);
}

#[tokio::test]
async fn the_service_runs_with_an_account_that_cannot_change_the_audit_log() {
    let mut service = Service::first_start().await;
    assert!(service.stop());
    let account = format!("lesser_{:08x}", rand::random::<u32>());
    let grants = service.herond_says(&["grants", "--account", &format!("{account}@127.0.0.1")]);
    assert!(grants.contains("GRANT SELECT, INSERT ON") && grants.contains(".`audit` TO"), "{grants}");
    let server = service.mariadb();
    server.as_root(&format!("CREATE USER {account}@'127.0.0.1' IDENTIFIED BY 'for-tests-only'; {grants}"));
    // Without the triggers it is the grants alone that keep the log.
    let database = service.database_name();
    server.as_root(&format!("DROP TRIGGER `{database}`.audit_stays; DROP TRIGGER `{database}`.audit_is_kept"));
    let url = service.database().replace("heron:for-tests-only", &format!("{account}:for-tests-only"));
    service.start_again_on(&url);
    let _: Value = service.post("fleets", json!({ "slug": "bench" })).await;
    let page: Value = service.get("audit").await;
    assert_eq!((&page["append_only"], &page["items"][0]["action"]), (&json!(true), &json!("add_fleet")));
    for statement in ["DELETE FROM audit", "UPDATE audit SET who = 'x'", "DROP TABLE audit", "TRUNCATE audit"] {
        let why = server.refuses_account(&account, &database, statement);
        assert!(why.contains("denied"), "{statement}: {why}");
    }
    let told = service.herond_says(&["prune-audit", "--days", "30"]);
    assert!(told.contains("older than 30 days"), "{told}");
}

#[tokio::test]
async fn a_blank_field_for_a_secret_changes_nothing() {
    let bench = Bench::set_up().await;
    let before = key(&bench.service).await;
    let device = format!("/estates/{ESTATE}/devices/{DEV_EUI}");
    let (status, problem) = bench.service.call(Method::PATCH, &device, Some(json!({ "app_key": "" }))).await;
    assert_eq!(status, 422, "a key is no field of a change: {problem}");
    let _: Value = bench.service.done(Method::PATCH, &device, Some(json!({ "description": "x" }))).await;
    assert_eq!(key(&bench.service).await, before);
    let fleet: Value = bench.service.get("fleets/bench").await;
    assert_eq!(fleet["has_default_key"], json!(false));
    let path = format!("/estates/{ESTATE}/fleets/bench");
    let set = json!({ "app_key": APP_KEY.to_hex() });
    let _: Value = bench.service.done(Method::PATCH, &path, Some(set)).await;
    let (status, fleet) = bench.service.call(Method::PATCH, &path, Some(json!({ "app_key": " " }))).await;
    assert_eq!((status.as_u16(), &fleet["has_default_key"]), (200, &json!(true)), "blank keeps what is stored");
}
