//! What every model has to keep to, and the limiting cases of ITU-R's.

use proptest::prelude::*;

use super::diffraction::Diffraction;
use super::ground::Ground;
use super::irregular::{Mode, Settings as IrregularSettings};
use super::p1812::Settings;
use super::*;
use crate::terrain::cover::Shield;
use crate::terrain::profile::{Profile, Sample};

const MODELS: [fn() -> Model; 3] = [
    || Model::Diffraction,
    || Model::P1812(Settings::default()),
    || Model::IrregularTerrain(IrregularSettings::default()),
];

fn path(profile: &Profile, heights_m: (f64, f64)) -> Path<'_> {
    Path {
        profile: profile.whole(),
        frequency_mhz: 868.3,
        polarization: Polarization::Vertical,
        tx_height_m: heights_m.0,
        rx_height_m: heights_m.1,
        latitude_deg: 54.7,
    }
}

fn loss_db(model: &Model, profile: &Profile, heights_m: (f64, f64)) -> f64 {
    model.loss(&path(profile, heights_m)).unwrap().total_db
}

/// A single ridge of this height in the middle of a level path.
fn ridge(length_m: f64, height_m: f64) -> Profile {
    let mut samples = vec![Sample::bare(0.0); 201];
    samples[100] = Sample::bare(height_m);
    Profile::new(length_m, samples).unwrap()
}

#[test]
fn a_knife_edge_loses_what_the_recommendation_says() {
    // P.526-15 Figure 9: 6 dB at grazing, nothing with most of the zone clear, 13 and more dB per ν beyond.
    for (v, db) in [(-1.0, 0.0), (-0.78, 0.0), (0.0, 6.03), (1.0, 13.93), (2.4, 20.54), (10.0, 32.9)] {
        assert!((knife_edge_db(v) - db).abs() < 0.1, "J({v}) = {}", knife_edge_db(v));
    }
}

#[test]
fn a_single_edge_is_bullingtons_and_a_smooth_sea_the_spheres() {
    // A ridge of 50 m between antennas of 10 m, 10 km apart: ν = h √(2d/λd₁d₂), and the construction's own term.
    let profile = ridge(10_000.0, 50.0);
    let at = path(&profile, (10.0, 10.0));
    let lost = Model::Diffraction.loss(&at).unwrap();
    let bulge_m = 500.0 * 5.0 * 5.0 / (6371.0 * 4.0 / 3.0);
    let v = (40.0 + bulge_m) * (0.002 * 10.0 / (wavelength_m(868.3) * 25.0f64)).sqrt();
    let edge_db = knife_edge_db(v);
    let expected_db = edge_db + (1.0 - (-edge_db / 6.0).exp()) * 10.2;
    let part = lost.parts.iter().find(|part| part.mechanism == Mechanism::Diffraction).unwrap().loss_db;
    assert!((part - expected_db).abs() < 0.3, "{part} {expected_db}");

    let sea = Sample { shield: Shield::Sea, ..Sample::bare(0.0) };
    let profile = Profile::new(60_000.0, vec![sea; 601]).unwrap();
    let ground = Ground::of(&path(&profile, (20.0, 10.0)));
    let over = |polarization| {
        let (smooth, ground) = (ground.smooth_for_diffraction(), &ground);
        Diffraction { ground, smooth, frequency_mhz: 868.3, water_share: 1.0, polarization }.loss_db(8495.0)
    };
    // P.526-15 §3.1.1.2, worked by hand: β = 1.0, X = 2.741, B = 0.450 and 0.225 at 60 km.
    let f = 0.8683f64;
    let x = 21.88 * (f / 8495.0f64.powi(2)).cbrt() * 60.0;
    let gain = |h: f64| {
        let b = 0.9575 * (f * f / 8495.0).cbrt() * h;
        20.0 * (b + 0.1 * b.powi(3)).log10()
    };
    let by_hand = -(11.0 + 10.0 * x.log10() - 17.6 * x) - gain(20.0) - gain(10.0);
    assert!((over(Polarization::Horizontal) - by_hand).abs() < 0.5, "{} {by_hand}", over(Polarization::Horizontal));
}

#[test]
fn in_sight_and_clear_nothing_but_free_space_is_lost() {
    let profile = Profile::level(3_000.0, 0.0, 101).unwrap();
    for model in MODELS {
        let model = model();
        let db = loss_db(&model, &profile, (60.0, 60.0));
        let free_db = free_space_db(868.3, 3.0);
        assert!((db - free_db).abs() < 6.0, "{model:?}: {db} {free_db}");
    }
    let db = loss_db(&Model::P1812(Settings::default()), &profile, (60.0, 60.0));
    assert!((db - free_space_db(868.3, 3.0)).abs() < 0.1, "{db}");
}

#[test]
fn the_parts_add_up_and_are_named() {
    let wood = Sample { cover_m: 15.0, loss_db: 8.0, shield: Shield::TreesOrTown, ..Sample::bare(0.0) };
    let mut samples = ridge(8_000.0, 60.0).samples().to_vec();
    samples[200] = wood;
    let profile = Profile::new(8_000.0, samples).unwrap();
    for model in MODELS {
        let lost = model().loss(&path(&profile, (20.0, 1.5))).unwrap();
        let sum: f64 = lost.parts.iter().map(|part| part.loss_db).sum();
        assert!((sum - lost.total_db).abs() < 1e-9);
        assert_eq!(lost.parts[0].mechanism, Mechanism::FreeSpace);
    }
    let lost = Model::P1812(Settings::default()).loss(&path(&profile, (20.0, 1.5))).unwrap();
    let cover = lost.parts.iter().find(|part| part.mechanism == Mechanism::ReceiverCover).unwrap();
    assert!(cover.loss_db > 15.0, "{lost:?}");
}

#[test]
fn more_time_and_more_places_cost_more() {
    let profile = ridge(15_000.0, 80.0);
    let p1812 = |time_percent: f64, places_percent: f64| {
        let settings = Settings { time_percent, places_percent, ..Settings::default() };
        loss_db(&Model::P1812(settings), &profile, (20.0, 2.0))
    };
    assert!(p1812(1.0, 50.0) < p1812(10.0, 50.0) && p1812(10.0, 50.0) < p1812(50.0, 50.0));
    assert!(p1812(50.0, 10.0) < p1812(50.0, 50.0) && p1812(50.0, 50.0) < p1812(50.0, 95.0));
    // §4.8: 1.645 deviations of (0.024 f + 0.52) 50^0.28 dB, a fifth less for an antenna 2 m above bare ground.
    let spread_db = 0.8 * 1.645 * (0.024 * 0.8683 + 0.52) * 50f64.powf(0.28);
    assert!((p1812(50.0, 95.0) - p1812(50.0, 50.0) - spread_db).abs() < 0.01);
    for mode in [Mode::SingleMessage, Mode::Individual, Mode::Mobile, Mode::Broadcast] {
        let at = |percent: f64| {
            let settings = IrregularSettings {
                mode,
                time_percent: percent,
                places_percent: percent,
                situations_percent: percent,
                ..IrregularSettings::default()
            };
            loss_db(&Model::IrregularTerrain(settings), &profile, (20.0, 2.0))
        };
        assert!(at(10.0) < at(50.0) && at(50.0) < at(90.0), "{mode:?}");
    }
}

#[test]
fn what_a_model_is_not_valid_for_is_named() {
    let profile = Profile::level(200.0, 0.0, 11).unwrap();
    let why = |model: &Model, profile: &Profile| model.loss(&path(profile, (10.0, 10.0))).unwrap_err().to_string();
    let p1812 = Model::P1812(Settings::default());
    assert_eq!(why(&p1812, &profile), "distance_km is 0.2 km; allowed are 0.25 to 3000 km");
    let far = Profile::level(5_000.0, 0.0, 11).unwrap();
    let always = Model::P1812(Settings { time_percent: 80.0, ..Settings::default() });
    assert!(why(&always, &far).contains("time_percent is 80 %; allowed are 1 to 50 %"));
    let irregular = Model::IrregularTerrain(IrregularSettings { refractivity: 100.0, ..IrregularSettings::default() });
    assert!(why(&irregular, &far).contains("refractivity is 100 N-units"));
    let high = Path { frequency_mhz: 5_800.0, ..path(&far, (10.0, 10.0)) };
    assert!(p1812.loss(&high).unwrap_err().to_string().contains("frequency_mhz is 5800 MHz"));
}

#[test]
fn nothing_jumps_as_a_hill_rises_into_the_way() {
    for (model, most_db) in MODELS.into_iter().zip([1.0, 2.5, 3.0]) {
        let model = model();
        let mut before = loss_db(&model, &ridge(10_000.0, 0.0), (15.0, 15.0));
        for height in 1..120 {
            let db = loss_db(&model, &ridge(10_000.0, f64::from(height)), (15.0, 15.0));
            assert!((db - before).abs() < most_db, "{model:?}: {before} → {db} dB at {height} m");
            before = db;
        }
    }
}

/// A terrain of a few waves, different each time.
fn terrain() -> impl Strategy<Value = Vec<Sample>> {
    let shields = prop::sample::select(vec![Shield::Open, Shield::Sea, Shield::TreesOrTown, Shield::Suburban]);
    let waves = prop::collection::vec((0.0..150.0f64, 1.0..40.0f64, 0.0..6.3f64), 1..4);
    (waves, 3usize..300, shields, 0.0..20.0f64).prop_map(|(waves, count, shield, cover_m)| {
        let height = |at: usize| {
            let share = at as f64 / (count - 1) as f64;
            waves.iter().map(|(size, turns, phase)| size * (1.0 + (share * turns + phase).sin())).sum::<f64>()
        };
        (0..count)
            .map(|at| match shield {
                Shield::Sea if at % 7 < 4 => Sample { shield, ..Sample::bare(0.0) },
                _ => Sample { ground_m: height(at), cover_m, loss_db: 5.0, shield },
            })
            .collect()
    })
}

proptest! {
    #[test]
    fn any_terrain_has_a_loss_and_it_is_the_same_back(samples in terrain(), km in 1.0..80.0f64,
        heights in (0.5..100.0f64, 0.5..100.0f64), frequency_mhz in 150.0..2_500.0f64) {
        let profile = Profile::new(km * 1000.0, samples).unwrap();
        let back = profile.reversed();
        let there = Path { frequency_mhz, ..path(&profile, heights) };
        for (model, off_db) in MODELS.into_iter().zip([1e-6, 12.0, 12.0]) {
            let model = model();
            let db = model.loss(&there).unwrap().total_db;
            prop_assert!(db.is_finite() && db > 0.0, "{model:?}: {db}");
            let other = Path { profile: back.whole(), tx_height_m: heights.1, rx_height_m: heights.0, ..there };
            let other_db = model.loss(&other).unwrap().total_db;
            prop_assert!((db - other_db).abs() < off_db, "{model:?}: {db} there, {other_db} back");
        }
    }

    #[test]
    fn a_higher_antenna_behind_a_hill_hears_more(hill in 40.0..200.0f64, km in 4.0..40.0f64, low in 2.0..20.0f64,
        more in 1.0..30.0f64) {
        let profile = ridge(km * 1000.0, hill);
        // Close behind a steep hill the irregular-terrain model jumps: 2.1 dB behind 199 m at 4 km, from 8.0 to 9.9 m.
        for (model, off_db) in MODELS.into_iter().zip([0.2, 0.2, 4.0]) {
            let model = model();
            let (low_db, high_db) = (loss_db(&model, &profile, (10.0, low)), loss_db(&model, &profile, (10.0, low + more)));
            prop_assert!(high_db <= low_db + off_db, "{model:?}: {low_db} at {low} m, {high_db} higher");
        }
    }
}

#[test]
fn the_receivers_part_can_be_taken_apart() {
    let mut samples = ridge(9_000.0, 70.0).samples().to_vec();
    let sample = Sample { cover_m: 7.0, loss_db: 5.0, shield: Shield::Suburban, ground_m: 3.0 };
    samples[200] = sample;
    let profile = Profile::new(9_000.0, samples).unwrap();
    for model in MODELS {
        let (model, path) = (model(), path(&profile, (20.0, 1.5)));
        let apart = model.without_receiver_db(&path).unwrap() + model.at_receiver_db(868.3, sample, 1.5);
        assert!((apart - model.loss(&path).unwrap().total_db).abs() < 1e-9, "{model:?}");
    }
}
