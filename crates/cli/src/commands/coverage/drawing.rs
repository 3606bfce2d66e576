//! A path's profile, drawn in characters.

use coverage::model::Path;
use coverage::model::obstacle::{Obstacle, bulge_m, fresnel_m};

/// Rows of a drawing.
const ROWS: usize = 14;

/// The profile as lines: ground, what stands on it, the line of sight, the first Fresnel zone, and the obstacle. The earth's
/// curvature is added to the ground.
pub(super) fn profile(path: &Path<'_>, obstacle: &Obstacle, width: usize) -> Vec<String> {
    let columns = width.saturating_sub(8).clamp(20, 120);
    let samples = path.profile.samples();
    let (length_m, (tx_m, rx_m)) = (path.profile.length_m(), path.antennas_m());
    let column = |at: usize| {
        let share = at as f64 / (columns - 1) as f64;
        let distance_m = share * length_m;
        let sample = samples[(share * (samples.len() - 1) as f64).round() as usize];
        let ground_m = sample.ground_m + bulge_m(distance_m, length_m);
        let line_m = tx_m + (rx_m - tx_m) * share;
        let zone_m = fresnel_m(path.frequency_mhz, distance_m, length_m);
        (ground_m, ground_m + sample.cover_m, line_m, zone_m)
    };
    let all: Vec<(f64, f64, f64, f64)> = (0..columns).map(column).collect();
    let lowest = all.iter().map(|one| one.0).fold(f64::INFINITY, f64::min);
    let highest = all.iter().map(|one| one.1.max(one.2 + one.3)).fold(f64::NEG_INFINITY, f64::max);
    // The top row is left for the mark above what is highest.
    let row_m = ((highest - lowest) / (ROWS - 2) as f64).max(0.5);
    let marked = (obstacle.distance_m / length_m * (columns - 1) as f64).round() as usize;
    let mut lines = Vec::with_capacity(ROWS + 2);
    for row in (0..ROWS).rev() {
        let (low, high) = (lowest + row_m * (row as f64 - 0.5), lowest + row_m * (row as f64 + 0.5));
        let middle = f64::midpoint(low, high);
        let cell = |(at, &(ground_m, cover_m, line_m, zone_m)): (usize, &(f64, f64, f64, f64))| {
            let edge = |height_m: f64| (low..high).contains(&height_m);
            match () {
                () if at == marked && middle > cover_m && middle - row_m <= cover_m => '▼',
                () if edge(line_m) => '─',
                () if middle <= ground_m => '█',
                () if middle <= cover_m => '▒',
                () if edge(line_m + zone_m) || edge(line_m - zone_m) => '·',
                () => ' ',
            }
        };
        let drawn: String = all.iter().enumerate().map(cell).collect();
        let scale = if row % 3 == 0 { format!("{middle:5.0} m") } else { String::new() };
        lines.push(format!("{scale:>7} {drawn}").trim_end().to_owned());
    }
    let end = format!("{:.2} km", length_m / 1000.0);
    lines.push(format!("{:>8}{end:>columns$}", "0 "));
    lines.push("        █ ground  ▒ cover  ─ line of sight  · first Fresnel zone  ▼ nearest to the line".to_owned());
    lines
}

#[cfg(test)]
mod tests {
    use coverage::model::Polarization;
    use coverage::terrain::profile::{Profile, Sample};

    use super::*;

    #[test]
    fn a_ridge_stands_where_it_is() {
        let mut samples = vec![Sample::bare(0.0); 101];
        samples[48..=52].fill(Sample { cover_m: 20.0, ..Sample::bare(60.0) });
        let profile = Profile::new(4_000.0, samples).unwrap();
        let path = Path {
            profile: profile.whole(),
            frequency_mhz: 868.3,
            polarization: Polarization::Vertical,
            tx_height_m: 20.0,
            rx_height_m: 20.0,
            latitude_deg: 54.7,
        };
        let lines = super::profile(&path, &path.obstacle(), 80);
        assert!(lines.iter().all(|line| line.chars().count() <= 90), "{lines:#?}");
        let drawn = lines.join("\n");
        for sign in ['█', '▒', '─', '·', '▼'] {
            assert!(drawn.contains(sign), "{sign} in {drawn}");
        }
        let top = lines.iter().find(|line| line.contains('▼')).unwrap();
        let at = top.chars().position(|sign| sign == '▼').unwrap() - 8;
        assert!((30..42).contains(&at), "the middle of 72 columns: {at}");
        assert!(lines[ROWS].ends_with("4.00 km"));
    }
}
