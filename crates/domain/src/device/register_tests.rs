use super::*;
use crate::device::read_back::warnings;
use api::radio::settings::Class;

/// An estate with a fleet that has a key, one that has none, a model and a profile.
fn surrounded<T>(run: impl FnOnce(&mut RegistrationContext<'_>) -> T) -> T {
    let mut next = 0u8;
    let mut random = || {
        next += 1;
        [next; 16]
    };
    let class_c = RadioSettings { class: Some(Class::C), rx_delay_s: Some(2), ..RadioSettings::default() };
    let slow = RadioSettings { rx_delay_s: Some(5), ..RadioSettings::default() };
    let defaults = EstateDefaults {
        fleets: [("tide".into(), None), ("scales".into(), Some(AesKey([0x5c; 16])))].into(),
        models: [("sluice".to_owned(), class_c.into())].into(),
        profiles: [("island".to_owned(), ProfileBase { region: Region::In865, radio: slow })].into(),
    };
    run(&mut RegistrationContext {
        defaults: &defaults,
        net_id: NetId::new(0),
        taken: &|addr| addr == NetId::new(0).dev_addr(0x0202_0202),
        preview: false,
        random: &mut random,
    })
}

fn check(new: &NewDevice) -> Result<CheckedDevice, Problem> {
    surrounded(|estate| super::check(new, estate))
}

fn good() -> NewDevice {
    NewDevice {
        dev_eui: "02-BB-00-00-00-00-00-2A".into(),
        join_eui: "0x02aa000000000001".into(),
        app_key: Some("00 01 02 03 04 05 06 07 08 09 0a 0b 0c 0d 0e 0f".into()),
        name: "tide-01".into(),
        fleet: "tide".into(),
        ..NewDevice::default()
    }
}

#[test]
fn a_device_is_read_as_pasted() {
    let braces = NewDevice { join_eui: "{0x02, 0xaa, 0, 0, 0, 0, 0, 0x01,}".into(), ..good() };
    assert_eq!(check(&braces).unwrap().join_eui, Some(Eui64(0x02aa_0000_0000_0001)), "as C has it");
    let digits = NewDevice { join_eui: "02:aa:0:0:0:0:0:01".into(), ..good() };
    assert_eq!(check(&digits).unwrap_err().field.as_deref(), Some("join_eui"), "a lone 0 is half a byte elsewhere");
    let device = check(&good()).unwrap();
    assert_eq!((device.dev_eui, device.region), (Eui64(0x02bb_0000_0000_002a), Region::Eu868));
    let nameless = check(&NewDevice { name: String::new(), ..good() }).unwrap();
    assert_eq!(nameless.name, "02bb00000000002a");

    let field = |new: &NewDevice| check(new).unwrap_err().field.unwrap();
    assert_eq!(field(&NewDevice { app_key: None, ..good() }), "app_key");
    let newest = RadioSettings { mac_version: Some(MacVersion::V1_1), ..RadioSettings::default() };
    assert_eq!(field(&NewDevice { radio: newest.clone(), ..good() }), "nwk_key");
    assert_eq!(field(&NewDevice { nwk_key: good().app_key, ..good() }), "nwk_key");
    assert!(check(&NewDevice { nwk_key: good().app_key, radio: newest, ..good() }).is_ok());
    assert_eq!(field(&NewDevice { fleet: "none".into(), ..good() }), "fleet");
    assert_eq!(field(&NewDevice { model: Some("none".into()), ..good() }), "model");
    assert_eq!(field(&NewDevice { profile: Some("none".into()), ..good() }), "profile");
    assert_eq!(field(&NewDevice { tags: vec!["Two words".into()], ..good() }), "tags");
    assert_eq!(field(&NewDevice { firmware: Some("x".repeat(41)), ..good() }), "firmware");
    assert_eq!(field(&NewDevice { description: "x".repeat(501), ..good() }), "description");
}

#[test]
fn a_personalized_device_has_a_session_and_nothing_else() {
    let key = good().app_key.unwrap();
    let personal = PersonalSession {
        dev_addr: "0x1".into(),
        app_s_key: key.clone(),
        nwk_s_key: key,
        s_nwk_s_int_key: None,
        nwk_s_enc_key: None,
    };
    let field = |new: &NewDevice| check(new).unwrap_err().field.unwrap();
    let both = NewDevice { personal: Some(personal.clone()), ..good() };
    assert_eq!(field(&both), "personal");
    let abp = NewDevice { app_key: None, ..both };
    assert_eq!(field(&abp), "personal.dev_addr");
    let of =
        |personal: PersonalSession| check(&NewDevice { personal: Some(personal), ..abp.clone() }).unwrap().activation;
    let given = of(PersonalSession { dev_addr: "01ab23cd".into(), ..personal.clone() });
    assert!(matches!(given, Activation::Personalized { dev_addr: DevAddr(0x01ab_23cd), .. }));
    let made_up = PersonalSession { dev_addr: GENERATE.into(), nwk_s_key: GENERATE.into(), ..personal };
    let Activation::Personalized { dev_addr, keys } = of(made_up) else { panic!("a session") };
    assert_eq!(keys.f_nwk_s_int_key, AesKey([1; 16]));
    assert_eq!(dev_addr, NetId::new(0).dev_addr(0x0303_0303), "the first choice is taken");
}

#[test]
fn keys_may_be_made_up_or_the_fleets() {
    let key = |new: &NewDevice| match check(new).unwrap().activation {
        Activation::OverTheAir(root) => root.app_key,
        Activation::Personalized { .. } => panic!("it joins"),
    };
    assert_eq!(key(&NewDevice { app_key: Some(GENERATE.into()), ..good() }), AesKey([1; 16]));
    let of_fleet = NewDevice { app_key: Some(OF_FLEET.into()), ..good() };
    assert!(check(&of_fleet).unwrap_err().to_string().contains("the fleet tide has no default key"));
    assert_eq!(key(&NewDevice { fleet: "scales".into(), ..of_fleet }), AesKey([0x5c; 16]));
}

#[test]
fn own_settings_stand_on_the_profile_and_that_on_the_model() {
    let (model, profile) = (Some("sluice".to_owned()), Some("island".to_owned()));
    let radio = RadioSettings { attempts: Some(7), ..RadioSettings::default() };
    let device = check(&NewDevice { model, profile: profile.clone(), radio: radio.clone(), ..good() }).unwrap();
    assert_eq!((device.region, device.radio), (Region::In865, radio));
    let whole = device.whole;
    assert_eq!((whole.class, whole.rx_delay_s, whole.attempts), (Some(Class::C), Some(5), Some(7)));
    let elsewhere = NewDevice { profile, region: Some(Region::Eu868), ..good() };
    assert!(check(&elsewhere).unwrap_err().to_string().contains("the profile island is for IN865"));
}

#[test]
fn a_label_gives_identity_and_serial_number() {
    let label = Some("lw;d0;02aa000000000001;02bb00000000002a;00010002;S12AB".to_owned());
    let scanned = NewDevice { label, dev_eui: String::new(), join_eui: String::new(), ..good() };
    let device = check(&scanned).unwrap();
    assert_eq!((device.dev_eui, device.join_eui), (Eui64(0x02bb_0000_0000_002a), Some(Eui64(0x02aa_0000_0000_0001))));
    assert_eq!(device.description, "serial number 12AB");
    assert!(check(&NewDevice { dev_eui: "02bb00000000002a".into(), ..scanned.clone() }).is_ok());
    let other = check(&NewDevice { dev_eui: "02bb00000000002b".into(), ..scanned.clone() }).unwrap_err();
    assert!(other.to_string().contains("the label says 02bb00000000002a"), "{other}");
    let torn = check(&NewDevice { label: Some("LW:D0:12".into()), ..scanned }).unwrap_err();
    assert_eq!(torn.field.as_deref(), Some("label"));
}

#[test]
fn what_looks_like_a_slip_is_said() {
    let known = |eui: Eui64| (eui == Eui64(0x02bb_0000_0000_002a)).then(|| "tide-01".to_owned());
    let said = |new: &NewDevice| warnings(&check(new).unwrap(), true, &known);
    let with =
        |dev_eui: &str, join_eui: &str| NewDevice { dev_eui: dev_eui.into(), join_eui: join_eui.into(), ..good() };
    assert!(
        said(&with("2a000000 0000bb02", "02aa000000000001"))[0]
            .contains("tide-01 has this DevEUI with its bytes reversed")
    );
    assert!(said(&with("02aa000000000001", "02bb00000000002a"))[0].contains("may be swapped"));
    assert!(said(&with("02bb10000000002a", "02aa000000000001"))[0].contains("nearly the same DevEUI"));
    assert!(said(&with("20bb00000000002a", "02aa000000000001"))[0].contains("nearly the same DevEUI"), "exchanged");
    assert!(said(&with("02bb00000000002b", "02aa000000000001")).is_empty(), "serial numbers are counted up");
    assert_eq!(said(&with("02cc000000000001", "02cc000000000001"))[0], "DevEUI and JoinEUI are the same.");
    let plain = NewDevice { app_key: Some("00".repeat(16).into()), ..with("02cc000000000001", "02aa000000000001") };
    assert!(said(&plain)[0].contains("placeholder"));
}
