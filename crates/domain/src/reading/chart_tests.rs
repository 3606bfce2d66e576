use api::reading::chart::WantedLine;
use lorawan::Eui64;
use proptest::prelude::*;

use super::*;

fn bucket(at_min: i64, value: f64) -> Bucket {
    Bucket { at_ms: at_min * MINUTE_MS, count: 1, least: value, sum: value, most: value }
}

fn point(at_min: i64, word: Option<&str>) -> ChartPoint {
    ChartPoint { word: word.map(Into::into), ..gap(at_min * MINUTE_MS) }
}

#[test]
fn a_step_is_long_enough_for_the_points_wanted() {
    let day = 1440 * MINUTE_MS;
    assert_eq!(step_ms(day, 400) / MINUTE_MS, 5);
    assert_eq!(step_ms(30 * day, 400) / MINUTE_MS, 120);
    assert_eq!(step_ms(365 * day, 400) / MINUTE_MS, 1440);
    assert_eq!(step_ms(3650 * day, 10) / MINUTE_MS, 43_200);
}

#[test]
fn neighbours_are_taken_together() {
    let merged = merged([bucket(0, 1.0), bucket(7, 3.0), bucket(11, 5.0)], 10 * MINUTE_MS);
    assert_eq!(merged.len(), 2);
    assert_eq!((merged[0].count, merged[0].least, merged[0].sum, merged[0].most), (2, 1.0, 4.0, 3.0));
    assert_eq!(points_of(&merged, 10 * MINUTE_MS, None)[0].value, Some(2.0));
}

#[test]
fn gaps_are_where_values_are_missing_and_not_where_they_are_rare() {
    let buckets = [bucket(0, 1.0), bucket(60, 1.0), bucket(240, 1.0)];
    let gaps =
        |interval_s| points_of(&buckets, 60 * MINUTE_MS, interval_s).iter().filter(|p| p.value.is_none()).count();
    assert_eq!(gaps(Some(600.0)), 1);
    assert_eq!(gaps(Some(7200.0)), 0, "every two hours is what it does");
    let points: Vec<_> = [0, 10, 20, 30, 90, 100].into_iter().map(|at| point(at, Some("x"))).collect();
    let longest = longest_ms(&points);
    let with = with_gaps(points, longest);
    assert_eq!(with.iter().filter(|p| p.word.is_none()).map(|p| p.at_ms / MINUTE_MS).collect::<Vec<_>>(), [60]);
    assert!(longest_ms(&[point(0, None)]).is_infinite());
}

#[test]
fn texts_show_when_they_change() {
    let points = [point(0, Some("ebb")), point(1, Some("ebb")), point(2, Some("flood")), point(3, Some("ebb"))];
    let at: Vec<i64> = changes(points).iter().map(|point| point.at_ms / MINUTE_MS).collect();
    assert_eq!(at, [0, 2, 3]);
}

#[test]
fn a_reading_that_comes_now_and_then_is_not_missing() {
    let freshness = |age_s, interval_s| freshness(TimeDelta::seconds(age_s), interval_s, Some(600.0));
    assert_eq!(freshness(500, Some(600.0)), Freshness::Fresh);
    assert_eq!(freshness(7200, Some(600.0)), Freshness::Overdue);
    assert_eq!(freshness(7200, Some(21_600.0)), Freshness::NowAndThen);
    assert_eq!(freshness(90_000, Some(21_600.0)), Freshness::Overdue);
    assert_eq!(freshness(90_000, None), Freshness::Fresh);
}

#[test]
fn charts_that_make_no_sense_are_refused() {
    let now = DateTime::from_timestamp(1_790_000_000, 0).unwrap();
    let line = WantedLine { device: Eui64(1), reading: "level".into() };
    let good = WantedChart { lines: vec![line.clone()], from: now - TimeDelta::days(1), until: None, points: None };
    assert_eq!(check(&good, now).unwrap().2, 400);
    let field = |chart: WantedChart| check(&chart, now).unwrap_err().field.unwrap();
    assert_eq!(field(WantedChart { lines: vec![], ..good.clone() }), "lines");
    assert_eq!(field(WantedChart { lines: vec![line; 25], ..good.clone() }), "lines");
    assert_eq!(field(WantedChart { from: now, ..good.clone() }), "from");
    assert_eq!(field(WantedChart { from: now - TimeDelta::days(9000), ..good.clone() }), "from");
    assert_eq!(field(WantedChart { points: Some(3), ..good }), "points");
}

proptest! {
    #[test]
    fn merging_loses_no_value(times in prop::collection::vec(0i64..100_000, 1..80), step in 1i64..5000) {
        let mut times = times;
        times.sort_unstable();
        let merged = merged(times.iter().map(|at| bucket(*at, *at as f64)), step * MINUTE_MS);
        prop_assert_eq!(merged.iter().map(|b| b.count).sum::<u64>(), times.len() as u64);
        let sum: f64 = merged.iter().map(|b| b.sum).sum();
        prop_assert!((sum - times.iter().sum::<i64>() as f64).abs() < 1e-3);
        prop_assert!(merged.windows(2).all(|pair| pair[0].at_ms < pair[1].at_ms));
    }
}
