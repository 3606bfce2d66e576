//! `heron coverage`: paths and areas from files alone.

use std::path::{Path, PathBuf};
use std::process::{Command, Output};

use e2e::programs::program;
use serde_json::Value;

fn demo(name: &str) -> String {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../../demo/tarnsey").join(name).to_str().unwrap().to_owned()
}

fn heron(args: &[&str]) -> Output {
    Command::new(program("heron")).arg("coverage").args(args).output().unwrap()
}

fn json(args: &[&str]) -> Value {
    let output = heron(&[args, &["--json"]].concat());
    assert!(output.status.success(), "{output:?}");
    serde_json::from_slice(&output.stdout).unwrap()
}

fn refused(args: &[&str]) -> (Option<i32>, String) {
    let output = heron(args);
    assert!(output.stdout.is_empty(), "{output:?}");
    (output.status.code(), String::from_utf8(output.stderr).unwrap())
}

const CHAPEL_TO_TIDE: [&str; 5] = ["path", "--from", "54.712,3.884", "--to", "54.689,3.942"];

#[test]
fn the_ridge_between_two_places_is_named_with_what_it_costs() {
    let (heights, cover) = (demo("heights.tif"), demo("cover.tif"));
    let files = ["--terrain", &heights, "--cover", &cover, "--no-data", "sea"];
    let args = [&CHAPEL_TO_TIDE[..], &files].concat();
    let answer = json(&args);
    let number = |pointer: &str| answer.pointer(pointer).and_then(Value::as_f64).unwrap();
    assert!((number("/distance_m") - 4_522.0).abs() < 5.0, "{answer}");
    assert_eq!(answer["blocked"], true);
    assert!((number("/obstacle/distance_m") - 3_000.0).abs() < 300.0, "{answer}");
    let parts = answer["loss"]["parts"].as_array().unwrap();
    let sum: f64 = parts.iter().map(|part| part["loss_db"].as_f64().unwrap()).sum();
    assert!((sum - number("/loss/total_db")).abs() < 1e-6);
    let told = String::from_utf8(heron(&args).stdout).unwrap();
    for words in [
        "The line of sight is blocked",
        "km from the gateway",
        "diffraction",
        "▼",
        "SF7/125 kHz",
        "works with the margin",
    ] {
        assert!(told.contains(words), "{words}: {told}");
    }
    let folder = tempfile::tempdir().unwrap();
    for (name, begins) in [("profile.svg", &b"<svg"[..]), ("profile.png", b"\x89PNG")] {
        let file = folder.path().join(name);
        json(&[&args[..], &["-o", file.to_str().unwrap()]].concat());
        assert!(std::fs::read(file).unwrap().starts_with(begins), "{name}");
    }
    // From a mast it sees over the ridge.
    let mast = json(&[&args[..], &["--gateway-height-m", "200", "--device-height-m", "60"]].concat());
    assert_eq!(mast["blocked"], false);
    assert!(mast["loss"]["total_db"].as_f64().unwrap() < number("/loss/total_db") - 20.0);
}

#[test]
fn what_cannot_be_computed_is_refused_in_words() {
    let heights = demo("heights.tif");
    let path = |to: &str, more: &[&str]| {
        refused(&[&["path", "--from", "54.712,3.884", "--to", to, "--terrain", &heights], more].concat())
    };
    let (code, why) = path("54.712,4.2", &[]);
    assert!(code == Some(1) && why.contains("leaves the terrain"), "{why}");
    assert!(path("54.7121,3.884", &[]).1.contains("distance_km is 0.0111 km; allowed are 0.25 to 3000 km"));
    assert!(path("54.689,3.942", &["--time", "90"]).1.contains("time_percent is 90 %; allowed are 1 to 50 %"));
    assert!(
        path("54.689,3.942", &["--model", "hata-open", "--frequency-mhz", "2400"]).1.contains("frequency_mhz is 2400")
    );
    assert!(
        path("54.689,3.942", &["--reliability", "1.5"]).1.contains("reliability is 1.5; allowed are 0.01 to 0.999")
    );
    assert_eq!(path("54.689", &[]).0, Some(2));
    let (_, why) = refused(&["terrain", &demo("scenario.toml")]);
    assert!(
        why.contains("scenario.toml: the TIFF file cannot be read") && why.matches("signature").count() == 1,
        "{why}"
    );
    let planet = ["area", "--sites", &demo("sites.csv"), "--radius-m", "6371000", "--terrain", &heights];
    assert!(refused(&planet).1.contains("cells and would take about"));
}

#[test]
fn an_area_is_written_whole_and_its_figures_add_up() {
    let folder = tempfile::tempdir().unwrap();
    let file = |name: &str| folder.path().join(name).to_str().unwrap().to_owned();
    let (heights, sites) = (demo("heights.tif"), demo("sites.csv"));
    let args =
        ["area", "--sites", &sites, "--radius-m", "2000", "--cell-m", "100", "--terrain", &heights, "--no-data", "sea"];
    let answer = json(&[&args[..], &["--layer", "margin", "-o", &file("margin.tif")]].concat());
    let sum = |name: &str| answer[name].as_object().unwrap().values().filter_map(Value::as_f64).sum::<f64>();
    let computed = answer["computed_km2"].as_f64().unwrap();
    assert!((sum("by_gateways_km2") - computed).abs() < 1e-6 && computed > 40.0, "{answer}");
    assert!((sum("by_data_rate_km2") - answer["covered_km2"].as_f64().unwrap()).abs() < 1e-6, "{answer}");
    // The layer can be read as a terrain file.
    let held = json(&["terrain", &file("margin.tif")]);
    assert!((held[0]["cell_height_m"].as_f64().unwrap() - 100.0).abs() < 2.0, "{held}");
    assert!(held[0]["most"].as_f64().unwrap() > 40.0 && held[0]["holes"].as_u64().unwrap() > 100, "{held}");
    assert!(heron(&[&args[..], &["-o", &file("margin.csv")]].concat()).status.success());
    let csv = std::fs::read_to_string(file("margin.csv")).unwrap();
    assert!(csv.starts_with("latitude_deg,longitude_deg,value\n") && csv.lines().count() > 4_000);
    assert!(heron(&[&args[..], &["-o", &file("margin.geojson")]].concat()).status.success());
    let contours: Value = serde_json::from_str(&std::fs::read_to_string(file("margin.geojson")).unwrap()).unwrap();
    assert_eq!((&contours["type"], contours["features"].as_array().unwrap().len()), (&"FeatureCollection".into(), 6));
    assert!(heron(&[&args[..], &["-o", &file("margin.png")]].concat()).status.success());
    let left: Vec<PathBuf> = std::fs::read_dir(folder.path()).unwrap().map(|entry| entry.unwrap().path()).collect();
    assert_eq!(left.len(), 4, "no part of a file stays behind: {left:?}");

    std::fs::write(file("bad.csv"), "name,latitude_deg,longitude_deg\nmast,91,3\n").unwrap();
    let bad = file("bad.csv");
    let (code, why) = refused(&["area", "--sites", &bad, "--terrain", &heights]);
    assert!(code == Some(1) && why.contains("bad.csv, line 2: 91, 3 is no place"), "{why}");
    let (_, why) = refused(&[&args[..], &["-o", &file("margin.pdf")]].concat());
    assert!(why.contains("a name that ends with .tif, .csv, .geojson or .png is wanted"), "{why}");
}
