//! Keys at rest, who may ask, and what is not given away.

use api::device::DeviceKeys;
use e2e::service::Service;
use reqwest::Method;
use serde_json::json;

use crate::scenes::{APP_KEY, Bench, DEV_EUI};

#[tokio::test]
async fn no_key_lies_open_in_the_database() {
    let mut bench = Bench::set_up().await;
    bench.join().await;
    let keys: DeviceKeys = bench.service.get(&format!("devices/{DEV_EUI}/keys")).await;
    assert_eq!(keys.app_key, Some(APP_KEY.to_hex().into()), "one who may see it does");
    let dump = bench.service.dump().to_lowercase();
    assert!(dump.contains("02b0090000000001"), "the dump shows what is stored");
    let key = APP_KEY.to_hex();
    assert!(!dump.contains(&key));
    let sessions = bench.service.query("SELECT LENGTH(keys_sealed) FROM sessions");
    assert_eq!(sessions.trim(), "92", "12 bytes of nonce, 64 of keys, 16 of tag");
    assert!(!dump.contains(&bench.service.password.to_lowercase()), "nor does the password");
}

#[tokio::test]
async fn a_sign_in_ends_when_it_is_ended() {
    let service = Service::first_start().await;
    let wrong = service.call(Method::POST, "/sign-in", Some(json!({ "name": "owner", "password": "guess" }))).await;
    let nobody = service.call(Method::POST, "/sign-in", Some(json!({ "name": "nobody", "password": "guess" }))).await;
    assert_eq!(wrong.0, 401);
    assert_eq!(wrong, nobody, "whether an account exists is not told");
    assert!(service.request(Method::POST, "/sign-out").send().await.unwrap().status().is_success());
    assert_eq!(service.call(Method::GET, "/me", None).await.0, 401);
}
