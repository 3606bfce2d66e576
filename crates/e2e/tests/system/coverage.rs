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
    assert!(why.contains("a name that ends with .tif, .csv, .geojson, .png, .kmz or .html is wanted"), "{why}");
}

/// What an independent reader says of a file.
fn read_by(program: &str, args: &[&str]) -> String {
    let output = Command::new(program).args(args).output().unwrap_or_else(|why| panic!("{program}: {why}"));
    assert!(output.status.success(), "{program} {args:?}: {}", String::from_utf8_lossy(&output.stderr));
    String::from_utf8(output.stdout).unwrap()
}

#[test]
fn independent_readers_open_what_is_written() {
    let folder = tempfile::tempdir().unwrap();
    let file = |name: &str| folder.path().join(name).to_str().unwrap().to_owned();
    let (heights, sites) = (demo("heights.tif"), demo("sites.csv"));
    let args =
        ["area", "--sites", &sites, "--radius-m", "2000", "--cell-m", "100", "--terrain", &heights, "--no-data", "sea"];
    for name in ["snr.tif", "snr.geojson"] {
        assert!(heron(&[&args[..], &["--layer", "snr", "-o", &file(name)]].concat()).status.success());
    }
    let gdalinfo = |args: &[&str]| -> Value { serde_json::from_str(&read_by("gdalinfo", args)).unwrap() };
    let written = gdalinfo(&["-json", "-stats", &file("snr.tif")]);
    let ours = json(&["terrain", &file("snr.tif")]);
    let size: Vec<u64> = written["size"].as_array().unwrap().iter().filter_map(Value::as_u64).collect();
    assert!(size[0] > 60 && size[1] > 60, "{size:?}");
    assert!(written["coordinateSystem"]["wkt"].as_str().unwrap().contains("WGS 84"), "{written}");
    let corner = &written["cornerCoordinates"]["upperLeft"];
    // North-west of gull-tower and north-weir by the radius.
    assert!((corner[0].as_f64().unwrap() - 3.811).abs() < 0.003, "{corner}");
    assert!((corner[1].as_f64().unwrap() - 54.749).abs() < 0.003, "{corner}");
    let band = &written["bands"][0];
    assert_eq!((band["type"].as_str(), band["noDataValue"].is_null()), (Some("Float32"), false), "{band}");
    assert!((band["maximum"].as_f64().unwrap() - ours[0]["most"].as_f64().unwrap()).abs() < 0.01, "{band}");
    let contours = read_by("ogrinfo", &["-al", "-so", &file("snr.geojson")]);
    let count = contours.lines().find_map(|line| line.strip_prefix("Feature Count: ")?.parse::<usize>().ok());
    assert!(count.is_some_and(|count| count >= 3) && contours.contains("Geometry: Multi Polygon"), "{contours}");
    // The demo's own files too, with what they say of themselves.
    for name in ["heights.tif", "cover.tif"] {
        let read = gdalinfo(&["-json", &demo(name)]);
        assert!(read["metadata"].to_string().contains("made-up"), "{read}");
        assert_eq!(read["size"], serde_json::json!([1008, 576]));
    }
}

#[test]
fn an_antenna_that_points_away_and_a_busy_channel_cost_coverage() {
    let folder = tempfile::tempdir().unwrap();
    let file = |name: &str, text: &str| {
        std::fs::write(folder.path().join(name), text).unwrap();
        folder.path().join(name).to_str().unwrap().to_owned()
    };
    let heights = demo("heights.tif");
    let area = |sites: &str, more: &[&str]| {
        let args = ["area", "--sites", sites, "--radius-m", "6000", "--cell-m", "150", "--terrain", &heights];
        json(&[&args[..], &["--no-data", "sea"], more].concat())["covered_km2"].as_f64().unwrap()
    };
    let head = "name,latitude_deg,longitude_deg,height_m,gain_dbi,azimuth_deg,horizontal_beam_deg,antenna\n";
    let all_around = file("round.csv", &format!("{head}tower,54.696,3.842,18,6,,,\n"));
    let inland = file("inland.csv", &format!("{head}tower,54.696,3.842,18,6,75,60,\n"));
    file(
        "beam.json",
        r#"{"kind": "sector", "gain_dbi": 6, "azimuth_deg": 75, "tilt_deg": 0, "horizontal_beam_deg": 60,
            "vertical_beam_deg": 30, "front_to_back_db": 20}"#,
    );
    let of_file = file("file.csv", &format!("{head}tower,54.696,3.842,18,,,,beam.json\n"));
    let (round, narrow) = (area(&all_around, &[]), area(&inland, &[]));
    assert!(narrow < round * 0.95, "{narrow} {round}");
    assert!((area(&of_file, &[]) - narrow).abs() < 1e-9, "the same antenna by its file");
    let snir = |load: &str| {
        let picture = folder.path().join(format!("snir-{}.csv", load.len()));
        let more = ["--layer", "snir", "-o", picture.to_str().unwrap(), "--load", load];
        area(&all_around, &more);
        let text = std::fs::read_to_string(picture).unwrap();
        text.lines().skip(1).filter_map(|line| line.rsplit(',').next()?.parse::<f64>().ok()).sum::<f64>()
    };
    assert!(snir("7:0") > snir("7:0.500") + 100.0);

    let bad = file("bad.csv", &format!("{head}tower,54.696,3.842,18,6,75,,\n"));
    let why = refused(&["area", "--sites", &bad, "--terrain", &heights]).1;
    assert!(why.contains("bad.csv, line 2: horizontal_beam_deg: "), "{why}");
    assert!(why.contains("it is missing; an antenna that points somewhere has azimuth_deg"), "{why}");
    file("beam.json", r#"{"kind": "omni", "gain_dbi": 99, "vertical_beam_deg": 30}"#);
    let why = refused(&["area", "--sites", &of_file, "--terrain", &heights]).1;
    assert!(why.contains("file.csv, line 2: ") && why.contains("gain_dbi is 99 dBi"), "{why}");
    let unknown = file("unknown.csv", "name,latitude_deg,longitude_deg,colour\ntower,54.696,3.842,red\n");
    let why = refused(&["area", "--sites", &unknown, "--terrain", &heights]).1;
    assert!(why.contains("colour"), "{why}");
    let (code, why) = refused(&["area", "--sites", &all_around, "--terrain", &heights, "--load", "13:1"]);
    assert!(code == Some(2) && why.contains("spreading factors are"), "{why}");
}
