//! How many paths a second each model computes, and what sharing the paths of an area saves. Run it with
//! `cargo bench -p coverage --features parallel`.

use std::hint::black_box;
use std::io::{Cursor, Read, Seek, SeekFrom};
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::Instant;

use coverage::area::loss::{Source, Task};
use coverage::area::{Area, picture};
use coverage::geo::{Extent, Place};
use coverage::model::{Model, Path, Polarization, Surroundings, irregular, p1812};
use coverage::survey::areas::areas;
use coverage::survey::hexagons::{Hexagons, Quantity};
use coverage::survey::observation::{Heard, Observation};
use coverage::survey::record::{Filter, Record};
use coverage::terrain::geotiff::{self, GeoTiff, Samples};
use coverage::terrain::grid::{Grid, Layout, Projection};
use coverage::terrain::mosaic::{NoData, Terrain};
use coverage::terrain::relief::Tile;
use criterion::Criterion;

const CENTRE: Place = Place { latitude_deg: 54.7, longitude_deg: 3.9 };
/// Cells on a side of the area.
const SIDE: f64 = 1_000.0;

/// An island of hills up to 180 m, a height each second of arc, as Tarnsey's is, in the sea.
fn island() -> Terrain {
    let step = 1.0 / 3600.0;
    let layout = Layout {
        projection: Projection::Geographic,
        width: 1200,
        height: 1200,
        west: CENTRE.longitude_deg - 600.0 * step,
        north: CENTRE.latitude_deg + 600.0 * step,
        dx: step,
        dy: step,
    };
    let height = |at: usize| {
        let (x, y) = ((at % 1200) as f64, (at / 1200) as f64);
        let waves = (x / 37.0).sin() * (y / 29.0).cos()
            + 0.5 * (x / 11.0 + y / 17.0).sin()
            + 0.2 * (x / 5.0).cos() * (y / 6.0).sin();
        let inland = 1.0 - (((x - 600.0) / 450.0).powi(2) + ((y - 600.0) / 300.0).powi(2)).min(1.0);
        (100.0 * inland.sqrt() * (0.8 + 0.6 * waves)).max(0.0) as f32
    };
    let grid = Grid::new(layout, (0..1_440_000).map(height).collect()).expect("a grid");
    let heights = vec![Arc::new(grid)];
    Terrain { heights, no_data: NoData::Sea, ..Terrain::default() }
}

fn paths(criterion: &mut Criterion, terrain: &Terrain) {
    let to = CENTRE.towards(70.0, 9_000.0);
    let profile = terrain.profile(CENTRE, to, 30.0).expect("a profile");
    criterion.bench_function("profile/9 km of 30 m", |b| b.iter(|| terrain.profile(CENTRE, black_box(to), 30.0)));
    let path = Path {
        profile: profile.whole(),
        frequency_mhz: 868.3,
        polarization: Polarization::Vertical,
        tx_height_m: 60.0,
        rx_height_m: 1.5,
        latitude_deg: 54.7,
    };
    for (name, model) in [
        ("free space", Model::FreeSpace),
        ("hata", Model::Hata(Surroundings::Open)),
        ("diffraction", Model::Diffraction),
        ("p1812", Model::P1812(p1812::Settings::default())),
        ("irregular terrain", Model::IrregularTerrain(irregular::Settings::default())),
    ] {
        criterion.bench_function(&format!("path/{name}, 301 samples"), |b| b.iter(|| model.loss(black_box(&path))));
    }
}

fn area(terrain: &Terrain) {
    let model = Model::P1812(p1812::Settings::default());
    let source = Source {
        place: CENTRE,
        height_m: 15.0,
        receiver_height_m: 1.5,
        frequency_mhz: 868.3,
        polarization: Polarization::Vertical,
    };
    let radius_m = 15.0 * (SIDE - 1.0);
    let area = Area { centre: CENTRE, radius_m, cell_m: 30.0 };
    let task = Task { terrain, model: &model, source, area, step_m: 30.0 };
    let timed = |threads: usize, work: &(dyn Fn() -> Grid + Sync)| {
        let pool = rayon::ThreadPoolBuilder::new().num_threads(threads).build().expect("a pool");
        let begun = Instant::now();
        let grid = pool.install(work);
        (grid, begun.elapsed().as_secs_f64())
    };
    let radials = || task.losses(&|_, _| true).expect("losses");
    let (_, two_s) = timed(2, &radials);
    let (quick, one_s) = timed(1, &radials);
    let (slow, loop_s) = timed(1, &|| task.losses_cell_by_cell(&|_, _| true).expect("losses"));
    let mut off: Vec<f32> = quick
        .values()
        .iter()
        .zip(slow.values())
        .filter(|(a, b)| !a.is_nan() && !b.is_nan())
        .map(|(a, b)| (a - b).abs())
        .collect();
    off.sort_by(f32::total_cmp);
    println!("area of {SIDE} × {SIDE} cells, P.1812: {} cells in the circle", off.len());
    println!("  a path for each cell   {loop_s:8.2} s");
    println!("  radials, one thread    {one_s:8.2} s  {:5.1} ×", loop_s / one_s);
    println!("  radials, two threads   {two_s:8.2} s  {:5.1} ×", loop_s / two_s);
    println!(
        "  they differ by {:.2} dB at the median, {:.2} dB at 99 %",
        off[off.len() / 2],
        off[off.len() * 99 / 100]
    );
}

/// Counts what is read.
struct Counting<'a> {
    from: Cursor<&'a [u8]>,
    bytes: &'a AtomicU64,
}

impl Read for Counting<'_> {
    fn read(&mut self, into: &mut [u8]) -> std::io::Result<usize> {
        let read = self.from.read(into)?;
        self.bytes.fetch_add(read as u64, Ordering::Relaxed);
        Ok(read)
    }
}

impl Seek for Counting<'_> {
    fn seek(&mut self, to: SeekFrom) -> std::io::Result<u64> {
        self.from.seek(to)
    }
}

/// A window out of a hundred million pixels.
fn window() {
    const PIXELS: usize = 10_000;
    let layout = Layout {
        projection: Projection::Geographic,
        width: PIXELS,
        height: PIXELS,
        west: 3.0,
        north: 56.0,
        dx: 1.0 / 3600.0,
        dy: 1.0 / 3600.0,
    };
    let height = |at: usize| ((at % PIXELS) as f32 / 37.0).sin() * 40.0 + ((at / PIXELS) as f32 / 91.0).cos() * 30.0;
    let grid = Grid::new(layout, (0..PIXELS * PIXELS).map(height).collect()).expect("a grid");
    let mut file = Cursor::new(Vec::new());
    geotiff::write(&grid, Samples::Whole, "a bench", &mut file).expect("a file");
    drop(grid);
    let (file, bytes) = (file.into_inner(), AtomicU64::new(0));
    let timed = |work: &dyn Fn(&mut GeoTiff<Counting<'_>>) -> Grid| {
        bytes.store(0, Ordering::Relaxed);
        let begun = Instant::now();
        let mut tiff = GeoTiff::open(Counting { from: Cursor::new(&file), bytes: &bytes }).expect("a file");
        let cells = work(&mut tiff).values().len();
        (cells, bytes.load(Ordering::Relaxed), begun.elapsed().as_secs_f64())
    };
    let extent = Extent::of(Place { latitude_deg: 54.7, longitude_deg: 4.4 }, 7_500.0).expect("a box");
    println!("a GeoTIFF of {PIXELS} × {PIXELS} pixels, {:.1} MB", file.len() as f64 / 1e6);
    for (what, (cells, bytes, s)) in [
        ("a window of 15 km", timed(&|tiff| tiff.window(&extent).expect("a window"))),
        ("all of it", timed(&|tiff| tiff.read().expect("all"))),
    ] {
        println!("  {what:<18} {cells:>10} pixels, {:7.2} MB read, {s:6.2} s", bytes as f64 / 1e6);
    }
}

/// A million points: half a million uplinks that two gateways heard, of devices on the move.
fn survey() {
    const UPLINKS: u64 = 500_000;
    let timed = |what: &str, work: &mut dyn FnMut() -> usize| {
        let begun = Instant::now();
        let count = work();
        println!("  {what:<44} {count:>9}, {:6.2} s", begun.elapsed().as_secs_f64());
    };
    let observed = |n: u64| Observation {
        at_s: 1_770_000_000 + n as i64 * 5,
        device: n % 5_000,
        place: Some(CENTRE.towards((n * 137 % 360) as f64, (n * 271 % 20_000) as f64)),
        moves: true,
        data_rate: 5,
        needed_snr_db: -7.5,
        power_dbm: 14.0,
        reserve_db: 12.5,
        uplinks: 1,
        lost: 0,
        heard: [1, 2].map(|gateway| Heard { gateway, rssi_dbm: -100.0 - (n % 20) as f32, snr_db: 3.0 }).into(),
    };
    println!("a survey of a million points ({UPLINKS} uplinks, each heard by two gateways)");
    let (mut record, mut hexagons) = (Record::default(), Hexagons::new(9, Quantity::Margin, Filter::default()));
    timed("taken in", &mut || (0..UPLINKS).filter(|n| record.add(&observed(*n)).is_ok()).count());
    let hexagons = hexagons.as_mut().expect("a resolution");
    timed("aggregated in hexagons of 200 m", &mut || {
        hexagons.catch_up(&record);
        hexagons.len()
    });
    timed("a thousand more, taken in and aggregated", &mut || {
        let more = (UPLINKS..UPLINKS + 1_000).filter(|n| record.add(&observed(*n)).is_ok()).count();
        hexagons.catch_up(&record);
        more
    });
    let tile = Tile::new(11, 1046, 650).expect("a tile");
    timed("a tile of it", &mut || {
        picture::tile(&Quantity::Margin.legend(), tile, |place| Some(hexagons.at(place)?.value)).len()
    });
    timed("weak and dark areas", &mut || areas(&record, &Filter::default(), 9).len());
}

fn main() {
    let terrain = island();
    let mut criterion = Criterion::default().configure_from_args();
    paths(&mut criterion, &terrain);
    criterion.final_summary();
    if !std::env::args().any(|arg| arg == "--test") {
        area(&terrain);
        window();
        survey();
    }
}
