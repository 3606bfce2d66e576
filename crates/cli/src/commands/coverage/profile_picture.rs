//! A path's profile as a picture.

use coverage::model::Path;
use coverage::model::obstacle::{Obstacle, bulge_m, fresnel_m};

use crate::commands::coverage::picture::{Beside, Colour, Picture, Shape};

const WIDTH: u32 = 1280;
const HEIGHT: u32 = 560;
const LEFT: f64 = 80.0;
const RIGHT: f64 = 30.0;
const TOP: f64 = 80.0;
const BOTTOM: f64 = 60.0;

const PAPER: Colour = [252, 250, 244];
const INK: Colour = [40, 44, 46];
const PALE: Colour = [222, 218, 206];
const GROUND: Colour = [168, 150, 118];
const COVER: Colour = [112, 148, 98];
const ZONE: Colour = [214, 228, 236];
const SIGHT: Colour = [52, 100, 140];
const MARK: Colour = [176, 50, 36];

/// Numbers that a scale of about so many steps is marked at.
fn marks(least: f64, most: f64, about: f64) -> Vec<f64> {
    let rough = ((most - least) / about).max(1e-9);
    let power = 10f64.powf(rough.log10().floor());
    let step = [1.0, 2.0, 5.0, 10.0].into_iter().map(|n| n * power).find(|step| *step >= rough).unwrap_or(rough);
    let first = (least / step).ceil() as i64;
    (first..).map(|n| n as f64 * step).take_while(|mark| *mark <= most + step * 1e-6).collect()
}

/// The ground with the earth's curvature, what stands on it, the line of sight, the first Fresnel zone, and the obstacle.
pub(super) fn picture(path: &Path<'_>, obstacle: &Obstacle, title: [String; 2]) -> Picture {
    let samples = path.profile.samples();
    let (length_m, (tx_m, rx_m)) = (path.profile.length_m(), path.antennas_m());
    let at = |n: usize| {
        let distance_m = path.profile.step_m() * n as f64;
        let ground_m = samples[n].ground_m + bulge_m(distance_m, length_m);
        let line_m = tx_m + (rx_m - tx_m) * distance_m / length_m;
        (
            distance_m,
            ground_m,
            ground_m + samples[n].cover_m,
            line_m,
            fresnel_m(path.frequency_mhz, distance_m, length_m),
        )
    };
    let all: Vec<_> = (0..samples.len()).map(at).collect();
    let lowest = all.iter().map(|one| one.1.min(one.3 - one.4)).fold(f64::INFINITY, f64::min);
    let highest = all.iter().map(|one| one.2.max(one.3 + one.4)).fold(f64::NEG_INFINITY, f64::max);
    let (lowest, highest) = (lowest - 0.04 * (highest - lowest), highest + 0.12 * (highest - lowest).max(10.0));
    let (right, bottom) = (f64::from(WIDTH) - RIGHT, f64::from(HEIGHT) - BOTTOM);
    let x = |distance_m: f64| LEFT + distance_m / length_m * (right - LEFT);
    let y = |height_m: f64| bottom - (height_m - lowest) / (highest - lowest) * (bottom - TOP);
    let mut shapes = Vec::new();
    for mark in marks(lowest, highest, 6.0) {
        shapes.push(Shape::Line(vec![(LEFT, y(mark)), (right, y(mark))], PALE, 1));
        shapes.push(Shape::Text((LEFT - 8.0, y(mark) + 5.0), Beside::Left, format!("{mark:.0} m"), INK, false));
    }
    shapes.push(Shape::Band(all.iter().map(|one| (x(one.0), y(one.3 + one.4), y(one.3 - one.4))).collect(), ZONE));
    shapes.push(Shape::Band(all.iter().map(|one| (x(one.0), y(one.2), y(one.1))).collect(), COVER));
    shapes.push(Shape::Band(all.iter().map(|one| (x(one.0), y(one.1), bottom)).collect(), GROUND));
    for sign in [1.0, -1.0] {
        shapes.push(Shape::Line(all.iter().map(|one| (x(one.0), y(one.3 + sign * one.4))).collect(), SIGHT, 1));
    }
    shapes.push(Shape::Line(vec![(x(0.0), y(tx_m)), (x(length_m), y(rx_m))], SIGHT, 2));
    // The antennas, from the ground up.
    shapes.push(Shape::Line(vec![(x(0.0), y(all[0].1)), (x(0.0), y(tx_m))], INK, 4));
    let last = all[all.len() - 1];
    shapes.push(Shape::Line(vec![(x(length_m), y(last.1)), (x(length_m), y(rx_m))], INK, 4));
    let line_m = tx_m + (rx_m - tx_m) * obstacle.distance_m / length_m;
    shapes.extend(marked(obstacle, (x(obstacle.distance_m), y(line_m), y(line_m + obstacle.above_line_m))));
    for mark in marks(0.0, length_m / 1000.0, 8.0) {
        let at = x(mark * 1000.0);
        shapes.push(Shape::Line(vec![(at, bottom), (at, bottom + 6.0)], INK, 1));
        shapes.push(Shape::Text(
            (at, bottom + 22.0),
            Beside::Middle,
            format!("{} km", (mark * 100.0).round() / 100.0),
            INK,
            false,
        ));
    }
    shapes.push(Shape::Line(vec![(LEFT, bottom), (right, bottom)], INK, 1));
    let [first, second] = title;
    shapes.push(Shape::Text((LEFT, 30.0), Beside::Right, first, INK, true));
    shapes.push(Shape::Text((LEFT, 54.0), Beside::Right, second, INK, false));
    let legend =
        "brown: ground, green: cover, blue: line of sight and first Fresnel zone; the earth's curvature is added";
    shapes.push(Shape::Text((LEFT, f64::from(HEIGHT) - 14.0), Beside::Right, legend.into(), INK, false));
    Picture { width: WIDTH, height: HEIGHT, ground: PAPER, shapes }
}

/// The obstacle from the line of sight to its top.
fn marked(obstacle: &Obstacle, (x, line_y, top_y): (f64, f64, f64)) -> [Shape; 2] {
    let words = if obstacle.blocks() { "above the line" } else { "below the line" };
    let words = format!("{:.1} m {words} at {:.2} km", obstacle.above_line_m.abs(), obstacle.distance_m / 1000.0);
    let (beside, off) = if x > f64::from(WIDTH) / 2.0 { (Beside::Left, -8.0) } else { (Beside::Right, 8.0) };
    let bar = Shape::Line(vec![(x, line_y), (x, top_y)], MARK, 3);
    [bar, Shape::Text((x + off, top_y.min(line_y) - 10.0), beside, words, MARK, true)]
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn scales_have_round_numbers() {
        assert_eq!(marks(0.0, 4.52, 8.0), [0.0, 1.0, 2.0, 3.0, 4.0]);
        assert_eq!(marks(-12.0, 95.0, 6.0), [0.0, 20.0, 40.0, 60.0, 80.0]);
        assert!(marks(5.0, 5.0, 6.0).len() <= 2);
    }
}
