//! Registering devices: by hand, by profile, many at once; and changing them.

use std::io::Write as _;

use api::Page;
use api::device::change::ChangeEffect;
use api::device::import::{DeviceImportOutcome, ImportProgress};
use api::device::read_back::{ReadBack, Registered};
use api::device::{Device, DeviceDetail, DeviceState, ShownKeys};
use api::gateway::import::Fate;
use api::problem::Problem;
use e2e::browser::Browser;
use e2e::service::{ESTATE, Service};
use e2e::wait::until;
use eventsource_stream::Eventsource as _;
use futures::StreamExt as _;
use lorawan::crypto::{SessionKeys, SessionKeys11};
use lorawan::region::Region;
use lorawan::{AesKey, DevAddr, Eui64};
use reqwest::Method;
use serde_json::{Value, json};
use simulator::device::{Build, Device as StandIn, Downlink, Identity};
use thirtyfour::By;

use crate::console::sign_in;
use crate::scenes::{APP_KEY, Bench, DEV_EUI, JOIN_EUI, registration};

const KEY: &str = "7d14b209e65a813cf0279b4ed8631ac5";

async fn service() -> Service {
    let service = Service::first_start().await;
    service.sign_heron_in();
    service.heron_says(&["fleet", "add", "tide"]);
    service
}

async fn import(service: &Service, query: &str, csv: impl Into<Vec<u8>>) -> Result<DeviceImportOutcome, Problem> {
    let path = format!("/estates/{ESTATE}/devices/import?{query}");
    let request = service.request(Method::POST, &path).header("content-type", "text/csv").body(csv.into());
    let response = request.send().await.unwrap();
    let (good, body) = (response.status().is_success(), response.bytes().await.unwrap());
    if good { Ok(serde_json::from_slice(&body).unwrap()) } else { Err(serde_json::from_slice(&body).unwrap()) }
}

async fn names(service: &Service) -> Vec<String> {
    let page: Page<Device> = service.get("devices?limit=500").await;
    page.items.into_iter().map(|device| device.name).collect()
}

#[tokio::test]
async fn a_device_is_read_back_before_it_is_registered() {
    let service = service().await;
    service.heron_says(&["profile", "add", "island", "--region", "IN865", "--class", "C"]);
    let add = ["device", "add", "02-B0-01-00-00-00-00-01", "--join-eui", "02aa000000000001", "--fleet", "tide"];
    let said = service.heron_says(&[&add[..], &["--app-key", KEY, "--profile", "island", "--dry-run"]].concat());
    assert!(said.contains("02b0010000000001") && said.contains("IN865") && said.contains("class C"), "{said}");
    assert_eq!(names(&service).await, Vec::<String>::new(), "nothing is written by looking");
    let said = service.heron_says(
        &[&add[..], &["--app-key", "generate", "--profile", "island", "--tag", "pier", "--firmware", "2.1"]].concat(),
    );
    assert!(said.contains("pier") && said.contains("2.1") && said.contains("island"), "{said}");
    let keys: ShownKeys = service.get("devices/02b0010000000001/keys").await;
    let made_up = keys.keys.app_key.unwrap();
    assert!(made_up.parse::<AesKey>().is_ok() && made_up.as_str() != KEY);
    let c = service.heron_says(&["device", "keys", "02b0010000000001", "--form", "c"]);
    assert!(c.contains("DEV_EUI[8] = { 0x01, 0x00, 0x00, 0x00, 0x00, 0x01, 0xb0, 0x02 };"), "{c}");

    // Read from a label the wrong way round.
    let reversed: ReadBack = service
        .post(
            "devices/check",
            json!({ "dev_eui": "010000000001b002", "join_eui": "02aa000000000001", "app_key": KEY, "fleet": "tide" }),
        )
        .await;
    assert!(reversed.warnings[0].contains("bytes reversed"), "{:?}", reversed.warnings);
    let taken = service
        .refused(
            Method::POST,
            "devices/check",
            json!({ "dev_eui": "02b0010000000001", "join_eui": "02aa000000000001", "app_key": KEY, "fleet": "tide" }),
        )
        .await
        .1;
    assert_eq!((taken.field.as_deref(), taken.status), (Some("dev_eui"), 422));

    let label = "LW:D0:02AA000000000001:02B0010000000009:00000000:S77";
    let said = service.heron_says(&["device", "add", "--label", label, "--fleet", "tide", "--app-key", "generate"]);
    assert!(said.contains("02b0010000000009") && said.contains("serial number 77"), "{said}");

    // Keys of a fleet whose devices ship alike, and an address of the network's own block.
    let fleet = [
        "device",
        "add",
        "02b0010000000002",
        "--join-eui",
        "02aa000000000001",
        "--fleet",
        "tide",
        "--app-key",
        "fleet",
    ];
    let said = service.heron(&fleet);
    assert!(String::from_utf8_lossy(&said.stderr).contains("no default key"), "{said:?}");
    service.heron_says(&["fleet", "set", "tide", "--app-key", KEY]);
    service.heron_says(&fleet);
    let keys: ShownKeys = service.get("devices/02b0010000000002/keys").await;
    assert_eq!(keys.keys.app_key.as_deref(), Some(KEY));
    let made: Registered = service
        .post(
            "devices",
            json!({ "dev_eui": "02b0010000000003", "join_eui": "02aa000000000001", "fleet": "tide",
            "personal": { "dev_addr": "generate", "nwk_s_key": "generate", "app_s_key": "generate" } }),
        )
        .await;
    let session = made.device.session.unwrap();
    assert_eq!(session.dev_addr.0 >> 25, 0, "the block of NetID 000000");
}

#[tokio::test]
async fn a_file_is_previewed_and_registered_whole_or_in_part() {
    let service = service().await;
    let mut csv = String::from("DevEUI;AppEUI;App_Key;NAME;tags\n");
    for n in 1..=500 {
        let eui = if n == 100 { "02b00100000000zz".into() } else { format!("02b0010000000{n:03x}") };
        let key = if n % 2 == 0 { KEY } else { "generate" };
        let name = if n == 200 { "tide-1".into() } else { format!("tide-{n}") };
        csv += &format!("{eui};02aa000000000001;{key};{name};row\n");
    }
    csv += "02b0010000000001;02aa000000000001;generate;again;\n";
    let preview = import(&service, "preview=true&fleet=tide", csv.clone()).await.unwrap();
    assert_eq!((preview.outcome.rows.len(), preview.outcome.bad, preview.outcome.registered), (501, 3, 0));
    let held = import(&service, "fleet=tide", csv.clone()).await.unwrap();
    assert_eq!((held.outcome.registered, held.outcome.rows[0].fate), (0, Fate::Held));
    assert!(names(&service).await.is_empty());

    let file = tempfile::NamedTempFile::new().unwrap();
    file.as_file().write_all(csv.as_bytes()).unwrap();
    let path = file.path().to_str().unwrap();
    let whole = service.heron(&["device", "import", path, "--fleet", "tide"]);
    let (said, why) = (String::from_utf8_lossy(&whole.stdout), String::from_utf8_lossy(&whole.stderr));
    assert!(why.contains("3 of 501 rows cannot be") && said.contains("line 2 has it already"), "{said}{why}");
    let said = service.heron_says(&["device", "import", path, "--fleet", "tide", "--skip-bad"]);
    assert!(said.contains("498 devices were registered."), "{said}");
    let again = import(&service, "preview=true&fleet=tide", csv).await.unwrap();
    assert_eq!(again.outcome.bad, 501);

    // What is exported comes in again elsewhere.
    let exported = service.heron_says(&["device", "export", "--keys"]);
    assert_eq!(exported.lines().count(), 499);
    let other = self::service().await;
    let outcome = import(&other, "", exported).await.unwrap();
    assert_eq!((outcome.outcome.registered, outcome.outcome.bad), (498, 0));
    let plain = service.heron_says(&["device", "export", "--fleet", "tide"]);
    assert!(!plain.contains(KEY), "keys only when asked for");
}

#[tokio::test]
async fn a_long_file_is_followed_and_goes_on_without_its_listener() {
    let service = service().await;
    let mut csv = String::from("dev_eui,join_eui,app_key,name\n");
    for n in 1..=3000 {
        csv += &format!("02b00100000{n:05x},02aa000000000001,{KEY},tide-{n}\n");
    }
    let told = async |csv: String| {
        let path = format!("/estates/{ESTATE}/devices/import?fleet=tide");
        let request = service.request(Method::POST, &path).header("accept", "text/event-stream").body(csv);
        Box::pin(request.send().await.unwrap().bytes_stream().eventsource().map(|event| event.unwrap()))
    };
    let mut events = told(csv.clone()).await;
    let first = events.next().await.unwrap();
    let progress: ImportProgress = serde_json::from_str(&first.data).unwrap();
    assert_eq!((first.event.as_str(), progress), ("progress", ImportProgress { done: 512, of: 3000 }));
    drop(events);
    until("all to be registered", async || {
        (service.query("SELECT COUNT(*) FROM devices").trim() == "3000").then_some(())
    })
    .await;
    let rest: Vec<_> = told(csv).await.collect().await;
    let [last] = &rest[..] else { panic!("one event: {rest:?}") };
    let outcome: DeviceImportOutcome = serde_json::from_str(&last.data).unwrap();
    assert_eq!((last.event.as_str(), outcome.outcome.bad), ("outcome", 3000));
    let refused: Vec<_> = told("nonsense".into()).await.collect().await;
    assert_eq!(refused[0].event, "problem");
}

#[tokio::test]
async fn files_that_cannot_be_are_refused_as_a_whole() {
    let service = service().await;
    let said = async |query: &str, csv: Vec<u8>| import(&service, query, csv).await.unwrap_err().to_string();
    assert!(said("", b"name\nx".to_vec()).await.contains("the column dev_eui or label is missing"));
    assert!(
        said("", b"dev_eui,name\n1,H\xf6he\n2,H\xc3\xb6he\n".to_vec())
            .await
            .contains("line 3 is UTF-8 and line 2 is not")
    );
    assert!(said("", b"PK\x03\x04\0".to_vec()).await.contains("it is not text"));
    assert!(
        said("colour=grey", b"dev_eui\n".to_vec())
            .await
            .contains("colour: This value cannot be used: there is no such parameter")
    );
    let large = vec![b'x'; domain::device::import::LARGEST + 1];
    let request = service.request(Method::POST, &format!("/estates/{ESTATE}/devices/import")).body(large);
    assert_eq!(request.send().await.unwrap().status().as_u16(), 413);
    let file = tempfile::NamedTempFile::new().unwrap();
    file.as_file().set_len(100 << 20).unwrap();
    let refused = service.heron(&["device", "import", file.path().to_str().unwrap()]);
    assert!(String::from_utf8_lossy(&refused.stderr).contains("has 100 MB; at most 16"), "{refused:?}");
}

#[tokio::test]
async fn a_session_that_runs_elsewhere_goes_on_here() {
    let mut bench = Bench::set_up().await;
    bench.service.sign_heron_in();
    let (nwk_s_key, app_s_key) = (AesKey([1; 16]), AesKey([2; 16]));
    let session = SessionKeys11::from(SessionKeys { nwk_s_key, app_s_key });
    let eui = Eui64(DEV_EUI.0 + 5);
    let identity =
        Identity { personal: Some((DevAddr(0x01ab_23cd), session)), ..Identity::joining(eui, JOIN_EUI, APP_KEY) };
    bench.device = StandIn::new(identity, Build::plain(Region::Eu868, 5), 7);
    let calm = ["profile", "add", "calm", "--rate-by", "device", "--status-interval-s", "0", "--rx-delay-s", "5"];
    bench.service.heron_says(&calm);
    let csv = format!(
        "dev_eui,join_eui,app_key,name,dev_addr,nwk_s_key,app_s_key,next_counter_down,last_dev_nonce\n\
         {eui},{JOIN_EUI},{},mover,01ab23cd,{},{},7,9\n",
        APP_KEY.to_hex(),
        nwk_s_key.to_hex(),
        app_s_key.to_hex()
    );
    import(&bench.service, "fleet=bench&profile=calm", csv).await.unwrap();
    let mover: DeviceDetail = bench.service.get("devices/mover").await;
    let session = mover.session.unwrap();
    assert_eq!((mover.personalized, session.dev_addr, session.next_counter_down), (false, DevAddr(0x01ab_23cd), 7));

    // Heard and answered without a join, with the counter that follows on; and so after a restart.
    let early = bench.uplink(&[1], true).await;
    let (token, packet) = bench.next_downlink(early).await;
    bench.gateway.report(token, Ok(())).await;
    let received = bench.device.receive(&packet.phy_payload);
    assert!(matches!(received, Some(Downlink::Data { counter: 7, ack: true, .. })), "{received:?}");
    bench.service.kill();
    bench.service.start_again();
    bench.gateway.pull().await;
    bench.uplink(&[2], false).await;
    until("the second uplink", async || {
        let mover: DeviceDetail = bench.service.get("devices/mover").await;
        mover.session.filter(|session| session.last_counter_up == Some(1) && session.next_counter_down == 8)
    })
    .await;
}

#[tokio::test]
async fn where_a_device_is_and_what_else_is_known_is_kept() {
    let service = service().await;
    let csv = "dev_eui,join_eui,app_key,name,latitude_deg,longitude_deg,height_m,indoor,attributes\n\
               02b0010000000001,02aa000000000001,generate,a,54.689,3.942,2,no,owner=harbour office; pole=12\n\
               02b0010000000002,02aa000000000001,generate,b,,,,,\n";
    import(&service, "fleet=tide", csv).await.unwrap();
    let a: DeviceDetail = service.get("devices/a").await;
    let place = a.device.place.unwrap();
    assert_eq!((place.latitude_deg, place.height_m, place.indoor), (54.689, Some(2.0), Some(false)));
    assert_eq!(a.attributes["owner"], "harbour office");
    // What is exported can be imported; a change keeps what it does not name.
    let exported = service.heron_says(&["device", "export", "--find", "02b0010000000001"]);
    assert!(exported.contains("54.689,3.942,2,no,,,owner=harbour office; pole=12"), "{exported}");
    let said = service.heron_says(&["device", "set", "a", "--height-m", "3.5", "--attribute", "pole="]);
    assert!(
        said.contains("place: 54.68900, 3.94200, 2 m above the ground, outdoors → 54.68900, 3.94200, 3.5 m"),
        "{said}"
    );
    let a: DeviceDetail = service.get("devices/a").await;
    assert_eq!((a.device.place.unwrap().latitude_deg, a.attributes.len()), (54.689, 1));
    let shown = service.heron_says(&["device", "show", "a"]);
    assert!(shown.contains("3.5 m above the ground, outdoors") && shown.contains("owner: harbour office"), "{shown}");
    // By HTTP: null takes away, and what cannot be is refused by name.
    let path = "devices/a";
    let bad = json!({ "place": { "latitude_deg": 91.0, "longitude_deg": 0.0 }, "attributes": { "a/b": "x" } });
    let (status, problem) = service.refused(Method::PATCH, path, bad).await;
    assert!(status == 422 && problem.to_string().contains("latitude_deg"), "{problem}");
    let nowhere = json!({ "place": null, "attributes": { "owner": null } });
    let a: DeviceDetail = service.done(Method::PATCH, &format!("/estates/{ESTATE}/{path}"), Some(nowhere)).await;
    assert_eq!((a.device.place, a.attributes.len()), (None, 0));
    let refused = service.heron(&["device", "set", "b", "--indoor"]);
    assert!(String::from_utf8_lossy(&refused.stderr).contains("--latitude-deg and --longitude-deg are needed"));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_fleet_and_a_place_are_set_in_the_console() {
    let service = service().await;
    let csv = "dev_eui,join_eui,app_key,name\n02b0010000000001,02aa000000000001,generate,a\n";
    import(&service, "fleet=tide", csv).await.unwrap();
    let browser = Browser::open(1280, 900).await.unwrap();
    sign_in(&browser, &service).await;
    let open = async |path: &str| browser.window.goto(format!("{}{path}", service.http)).await.unwrap();

    // A fleet is added, limited, and kept for a shorter time only when that has been said twice.
    open("/devices/fleets").await;
    browser.click(By::XPath("//button[text()='Add fleet']")).await;
    browser.fill("input[name=slug]", "moorings").await.unwrap();
    browser.click(By::XPath("//button[text()='Add']")).await;
    browser
        .text_when("tr[data-fleet=moorings]", |text| text.contains("only the law's") && text.contains("for ever"))
        .await;
    open("/devices/fleets/tide").await;
    browser.text_when("[data-devices]", |text| text.contains("1 device") && text.contains("never joined")).await;
    browser.fill("[data-settings] input[name=airtime]", "30").await.unwrap();
    browser.fill("[data-settings] input[name=name]", "Tide gauges").await.unwrap();
    browser.click(By::XPath("//form[@data-settings]//button[text()='Save']")).await;
    browser.text_when("h1", |text| text == "Tide gauges").await;
    browser.fill("[data-retention] input[name=values_days]", "400").await.unwrap();
    browser.click(By::XPath("//*[@data-retention]//button[text()='Save']")).await;
    browser.text_when("[data-retention]", |text| text.contains("gone within hours")).await;
    browser.click(By::XPath("//button[text()='Keep less']")).await;
    browser.text_when("[data-retention] [role=status]", |text| text == "Saved.").await;
    let fleet: Value = service.get("fleets/tide").await;
    assert_eq!((&fleet["airtime_a_day_s"], &fleet["retention"]["values_days"]), (&json!(30.0), &json!(400)));

    // Where a device is: by hand, with an attribute, and then on the map.
    open("/devices?view=map").await;
    browser.text_when("main", |text| text.contains("No place is known of one device: a.")).await;
    open("/devices/02b0010000000001?tab=setup").await;
    browser.fill("[data-place] input[name=latitude_deg]", "54.689").await.unwrap();
    browser.fill("[data-place] input[name=longitude_deg]", "3.942").await.unwrap();
    browser.click(By::XPath("//button[text()='Add attribute']")).await;
    browser.fill("[aria-label='Name of attribute 1']", "owner").await.unwrap();
    browser.fill("[aria-label='Text of attribute 1']", "harbour office").await.unwrap();
    browser.click(By::XPath("//*[@data-place]//button[text()='Save']")).await;
    browser.text_when("[data-place] [role=status]", |text| text == "Saved.").await;
    let a: DeviceDetail = service.get("devices/a").await;
    assert_eq!((a.device.place.unwrap().longitude_deg, a.attributes["owner"].as_str()), (3.942, "harbour office"));
    open("/devices?view=map").await;
    browser.text_when("[aria-label='Map of devices and gateways']", |text| text.contains("a · never joined")).await;
    browser.close().await.unwrap();
}

#[tokio::test]
async fn many_are_changed_alike_after_a_look() {
    let service = service().await;
    service.heron_says(&["fleet", "add", "scales"]);
    let csv = "dev_eui,join_eui,app_key,name\n02b0010000000001,02aa000000000001,generate,a\n02b0010000000002,02aa000000000001,generate,b\n";
    import(&service, "fleet=tide", csv).await.unwrap();
    service.heron_says(&["profile", "add", "slow", "--rx-delay-s", "5"]);
    let look = service.heron_says(&[
        "device",
        "set",
        "--of-fleet",
        "tide",
        "--profile",
        "slow",
        "--fleet",
        "scales",
        "--dry-run",
    ]);
    assert!(
        look.contains("RX1 delay: 1 s → 5 s; it is sent RXTimingSetupReq") && look.contains("2 would become different"),
        "{look}"
    );
    let of_fleet = async |fleet: &str| -> usize {
        service.get::<Page<Device>>(&format!("devices?fleet={fleet}")).await.items.len()
    };
    assert_eq!(of_fleet("scales").await, 0);
    service.heron_says(&[
        "device",
        "set",
        "a",
        "b",
        "--profile",
        "slow",
        "--fleet",
        "scales",
        "--tag",
        "moved",
        "--yes",
    ]);
    assert_eq!((of_fleet("scales").await, of_fleet("tide").await), (2, 0));
    // A change of the profile says whom it touches; one that cannot be for a device is refused, and names it.
    let effect: ChangeEffect = service.heron_json(&["profile", "set", "slow", "--rx-delay-s", "7", "--dry-run"]);
    assert_eq!((effect.devices.len(), effect.done), (2, false));
    let held = service.refused(Method::DELETE, "profiles/slow", json!(null)).await.1;
    assert_eq!((held.status, held.code.as_str()), (409, "in_use"));
    let newest = json!({ "name": "slow", "region": "EU868", "radio": { "mac_version": "1.1" } });
    let refused = service.refused(Method::PUT, "profiles/slow", newest).await.1;
    assert!(refused.to_string().contains("so it would be with a"), "{refused}");
    let one_name = json!({ "devices": ["02b0010000000001", "02b0010000000002"], "change": { "name": "x" } });
    assert_eq!(service.refused(Method::POST, "devices/change", one_name).await.1.field.as_deref(), Some("change.name"));
    let listed =
        service.heron_says(&["device", "list", "--tag", "moved", "--state", "never_joined", "--find", "02b001"]);
    assert!(listed.contains("02b0010000000001") && listed.contains("02b0010000000002"), "{listed}");
}

#[tokio::test]
async fn a_disabled_device_is_not_served_and_an_ended_session_is_joined_again() {
    let mut bench = Bench::set_up().await;
    bench.service.sign_heron_in();
    bench.join().await;
    let _ = bench.uplink(&[1], false).await;
    let path = format!("devices/{DEV_EUI}");
    let service = &bench.service;
    until("heard", async || {
        let device: DeviceDetail = service.get(&path).await;
        device.session.and_then(|session| session.last_counter_up)
    })
    .await;
    service.heron_says(&["device", "set", "probe-1", "--disable", "--yes"]);
    let device: DeviceDetail = service.get(&path).await;
    assert_eq!((device.device.state, device.class), (DeviceState::Disabled, api::radio::settings::Class::A));
    let _ = bench.uplink(&[2], false).await;
    let service = &bench.service;
    let why = until("refused", async || {
        let device: DeviceDetail = service.get(&path).await;
        device.device.refusal.map(|refusal| refusal.code)
    })
    .await;
    assert_eq!(why, "device_disabled");
    service.heron_says(&["device", "set", "probe-1", "--enable"]);
    service.heron_says(&["device", "session", "set", "probe-1", "--last-up", "90"]);
    let device: DeviceDetail = service.get(&path).await;
    assert_eq!(device.session.unwrap().last_counter_up, Some(90));
    service.heron_says(&["device", "session", "remove", "probe-1", "--yes"]);
    let device: DeviceDetail = service.get(&path).await;
    assert_eq!(device.session, None);
    let no_session =
        service.refused(Method::PATCH, &format!("{path}/counters"), json!({ "last_counter_up": 1 })).await.1;
    assert_eq!(no_session.code, "no_session");
    bench.join().await;
    let again: Value = bench.service.get(&path).await;
    assert!(again["next_session"].is_object());
}

#[tokio::test]
async fn the_key_of_another_device_of_the_fleet_is_named() {
    let mut bench = Bench::set_up().await;
    let other = lorawan::Eui64(DEV_EUI.0 + 1);
    let mut second = registration(other, "probe-2", None);
    second["app_key"] = json!(AesKey([0x31; 16]).to_hex());
    let _: Value = bench.service.post("devices", second).await;
    // probe-2 carries the key of probe-1.
    let mut swapped = crate::scenes::device(other);
    assert_ne!(APP_KEY, AesKey([0x31; 16]));
    let _ = bench.gateway.push(&swapped.join_request(), 1_000_000).await;
    let service = &bench.service;
    let refusal = until("refused", async || {
        let device: DeviceDetail = service.get(&format!("devices/{other}")).await;
        device.device.refusal
    })
    .await;
    assert!(
        refusal.why.contains("the key of another device of the fleet") && refusal.why.contains(&DEV_EUI.to_string()),
        "{}",
        refusal.why
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn devices_are_registered_found_and_changed_in_the_console() {
    let service = service().await;
    let browser = Browser::open(1280, 900).await.unwrap();
    sign_in(&browser, &service).await;
    browser.window.goto(format!("{}/devices", service.http)).await.unwrap();
    browser.text_when("h1", |text| text == "Devices").await;
    browser.click(By::XPath("//button[text()='Import']")).await;
    let rows = format!(
        "dev_eui,join_eui,app_key,name,fleet,tags\n02b0010000000001,02aa000000000001,{KEY},tide-01,tide,pier\n02b00100,x,,bad,tide,\n"
    );
    browser.fill("[data-import] textarea", &rows).await.unwrap();
    browser.click(By::XPath("//button[text()='Preview']")).await;
    browser.text_when("[data-row='2']", |text| text.contains("will be registered")).await;
    browser.text_when("[data-row='3']", |text| text.contains("16 hex digits")).await;
    assert!(names(&service).await.is_empty());
    browser.click(By::Css("[data-import] input[name=skip_bad]")).await;
    browser.click(By::XPath("//button[text()='Register 1']")).await;
    browser.text_when("[data-import]", |text| text.contains("1 were registered.")).await;

    // The same label again, with its bytes the other way round.
    browser.click(By::XPath("//button[text()='Register device']")).await;
    browser.fill("input[name=dev_eui]", "01 00 00 00 00 01 b0 02").await.unwrap();
    browser.fill("input[name=join_eui]", "02aa000000000002").await.unwrap();
    browser.click(By::XPath("//select[@name='fleet']/option[text()='tide']")).await;
    browser.click(By::XPath("//select[@name='keys']/option[@value='generate']")).await;
    browser.text_when("[data-read-back]", |text| text.contains("0100 0000 0001 b002") && text.contains("Check:")).await;
    browser.click(By::XPath("//button[text()='Register']")).await;
    browser.tab("setup").await;
    browser.text_when("[data-settings]", |text| text.contains("Registered as")).await;
    browser.fill("[data-settings] input[name=tags]", "quay").await.unwrap();
    browser.click(By::XPath("//button[text()='Save']")).await;
    browser.text_when("[data-settings]", |text| text.contains("Saved.")).await;
    browser.click(By::XPath("//button[text()='Show keys']")).await;
    browser.text_when("[data-key='AppKey']", |text| text.len() > 32).await;

    browser.window.goto(format!("{}/devices?find=quay", service.http)).await.unwrap();
    browser.text_when("tbody", |text| text.contains("010000000001b002") && !text.contains("tide-01")).await;
    browser.window.goto(format!("{}/devices?state=active", service.http)).await.unwrap();
    browser.text_when("main", |text| text.contains("No device matches.")).await;
    browser.close().await.unwrap();
}
