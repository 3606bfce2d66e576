use super::*;
use crate::model::request::covers;

const GAUGE: &str = r#"
maker = "Brinemark"
name = "Tide gauge"
decoder = "decoder.js"
profile_id = "0ABC0001"
radio = { mac_version = "1.0.4" }

[readings]
level = "m"
state = ""

[[test]]
name = "calm"
port = 2
bytes = "096e"
readings = { level = 2.414, state = "ebb" }

[[version]]
firmware = ["1.0", "1.1"]
decoder = "old.js"
"#;

fn files(all: &[(&str, &str)]) -> Files {
    all.iter().map(|(path, text)| ((*path).to_owned(), text.as_bytes().to_vec())).collect()
}

fn gauge() -> Files {
    files(&[
        ("repo-1/models/tide-gauge/model.toml", GAUGE),
        ("repo-1/models/tide-gauge/decoder.js", "new"),
        ("repo-1/models/tide-gauge/old.js", "old"),
        ("repo-1/README.md", "of no matter"),
    ])
}

#[test]
fn a_folder_with_a_model_file_is_a_model() {
    let entries = read(&gauge()).unwrap();
    assert_eq!(entries.len(), 1);
    let model = entries[0].model.as_ref().unwrap();
    assert_eq!((entries[0].slug.as_str(), model.profile_id.as_deref()), ("tide-gauge", Some("0abc0001")));
    assert_eq!(model.decoder.as_deref(), Some("new"));
    assert_eq!((model.versions[0].decoder.as_str(), model.versions[0].label().as_str()), ("old", "firmware 1.0, 1.1"));
    assert_eq!(model.readings.len(), 1, "a reading without unit has none");
    assert_eq!(model.tests[0].readings.len(), 2);
}

#[test]
fn a_version_covers_the_devices_it_names() {
    let entries = read(&gauge()).unwrap();
    let version = &entries[0].model.as_ref().unwrap().versions[0];
    assert!(covers(version, None, Some("1.1")) && covers(version, Some("a"), Some("1.0")));
    assert!(!covers(version, None, Some("2.0")) && !covers(version, None, None));
}

#[test]
fn what_is_wrong_names_file_and_line() {
    let with = |text: &str| {
        let mut files = gauge();
        files.insert("repo-1/models/tide-gauge/model.toml".into(), text.as_bytes().to_vec());
        read(&files).unwrap().remove(0).model.unwrap_err().to_string()
    };
    assert!(with("maker = \"x\"\nname = 7").contains("model.toml, line 2"), "{}", with("maker = \"x\"\nname = 7"));
    assert!(with("maker = \"x\"\nname = \"y\"\ncolour = 1").contains("colour"));
    for (from, to, said) in [
        ("\"decoder.js\"", "\"gone.js\"", "there is no such file"),
        ("\"decoder.js\"", "\"../../secret\"", "the model's own folder"),
        ("0ABC0001", "0ABC", "eight hex digits"),
        ("096e", "09x", "hex digits are wanted"),
        ("port = 2", "port = 0", "FPort 1 to 223"),
        ("firmware = [\"1.0\", \"1.1\"]", "", "at least one of them"),
    ] {
        let why = with(&GAUGE.replacen(from, to, 1));
        assert!(why.contains(said), "{to}: {why}");
    }
    let mut files = gauge();
    files.insert("repo-1/models/tide-gauge/decoder.js".into(), vec![0xff, 0xfe]);
    assert!(read(&files).unwrap()[0].model.as_ref().unwrap_err().to_string().contains("not UTF-8"));
    files.insert("other/tide-gauge/model.toml".into(), GAUGE.into());
    let twice = read(&files).unwrap();
    assert!(twice.iter().any(|e| e.model.as_ref().is_err_and(|p| p.to_string().contains("the same name"))));
    assert_eq!(read(&Files::new()).unwrap_err().code, "no_models");
    files.insert("Bad Name/model.toml".into(), GAUGE.into());
    assert!(read(&files).unwrap()[0].model.as_ref().unwrap_err().field.as_deref() == Some("folder"));
}

#[test]
fn what_was_edited_here_stays_and_all_else_follows() {
    let imported = read(&gauge()).unwrap().remove(0).model.unwrap();
    let mut here = imported.clone();
    here.name = "Our gauge".into();
    here.readings.insert("level".into(), api::reading::ReadingRule::of_unit("cm"));
    let mut there = imported.clone();
    there.name = "Tide gauge TG2".into();
    there.decoder = Some("newer".into());
    let merged = merge(&imported, &here, &there);
    assert_eq!((merged.model.name.as_str(), merged.model.decoder.as_deref()), ("Our gauge", Some("newer")));
    assert_eq!(merged.model.readings["level"].unit.as_deref(), Some("cm"));
    assert_eq!((merged.changed, merged.kept), (vec!["decoder".to_owned()], vec!["name".to_owned()]));
    assert_eq!(differences(&imported, &here), ["name", "readings"]);
    // Nothing moved there: nothing changes here, and nothing is worth a word.
    let still = merge(&imported, &here, &imported);
    assert_eq!((still.model, still.changed.len(), still.kept.len()), (here, 0, 0));
}
