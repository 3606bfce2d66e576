use std::io::Cursor;

use proptest::prelude::*;

use super::super::grid::Projection;
use super::*;

/// Columns count up, rows by a hundred; the pixel in the middle has no value.
fn grid(width: usize, height: usize) -> Grid {
    let layout = Layout {
        projection: Projection::Geographic,
        width,
        height,
        west: 3.8,
        north: 54.8,
        dx: 1.0 / 3600.0,
        dy: 1.0 / 3600.0,
    };
    let mut values: Vec<f32> =
        (0..width * height).map(|at| (at % width % 100 + at / width % 50 * 100) as f32).collect();
    values[width * height / 2] = f32::NAN;
    Grid::new(layout, values).unwrap()
}

fn written(grid: &Grid, samples: Samples) -> Vec<u8> {
    let mut bytes = Cursor::new(Vec::new());
    write(grid, samples, "Made up: Tarnsey does not exist.", &mut bytes).unwrap();
    bytes.into_inner()
}

fn same(a: &Grid, b: &Grid) -> bool {
    a.values().iter().zip(b.values()).all(|(a, b)| a == b || (a.is_nan() && b.is_nan()))
}

#[test]
fn what_is_written_is_read_again_in_every_kind_of_sample() {
    let wanted = grid(300, 200);
    for samples in [Samples::Float, Samples::Whole] {
        let bytes = written(&wanted, samples);
        let mut file = GeoTiff::open(Cursor::new(bytes)).unwrap();
        assert_eq!(file.description(), "Made up: Tarnsey does not exist.");
        let read = file.read().unwrap();
        assert!(same(&read, &wanted), "{samples:?}");
        assert!((read.layout().west - 3.8).abs() < 1e-9 && (read.layout().dx - 1.0 / 3600.0).abs() < 1e-12);
    }
    let classes = Grid::new(*wanted.layout(), (0..60_000).map(|at| (at % 11 + 1) as f32).collect()).unwrap();
    let read = GeoTiff::open(Cursor::new(written(&classes, Samples::Byte))).unwrap().read().unwrap();
    assert!(same(&read, &classes));
}

#[test]
fn a_window_is_a_part_and_needs_only_its_part() {
    /// Counts the bytes that are read.
    struct Counting<'a>(Cursor<Vec<u8>>, &'a std::cell::Cell<usize>);
    impl Read for Counting<'_> {
        fn read(&mut self, into: &mut [u8]) -> std::io::Result<usize> {
            let read = self.0.read(into)?;
            self.1.set(self.1.get() + read);
            Ok(read)
        }
    }
    impl Seek for Counting<'_> {
        fn seek(&mut self, to: std::io::SeekFrom) -> std::io::Result<u64> {
            self.0.seek(to)
        }
    }
    let whole = grid(700, 1000);
    let bytes = written(&whole, Samples::Float);
    let (length, read) = (bytes.len(), std::cell::Cell::new(0));
    let mut file = GeoTiff::open(Counting(Cursor::new(bytes), &read)).unwrap();
    let centre = Place { latitude_deg: 54.8 - 500.0 / 3600.0, longitude_deg: 3.8 + 300.0 / 3600.0 };
    let extent = Extent::of(centre, 600.0).unwrap();
    let part = file.window(&extent).unwrap();
    assert!(part.layout().height < 60 && part.layout().width < 90, "{:?}", part.layout());
    assert_eq!(part.nearest(centre), whole.nearest(centre));
    assert!((part.between(centre).unwrap() - whole.between(centre).unwrap()).abs() < 1e-6);
    assert!(read.get() < length * 2 / 3, "{} of {length} bytes", read.get());
    let far = Extent::of(Place { latitude_deg: 50.0, longitude_deg: 3.8 }, 600.0).unwrap();
    assert!(matches!(file.window(&far), Err(GeoTiffError::Elsewhere)));
}

#[test]
fn files_that_cannot_be_are_refused() {
    let bytes = written(&grid(64, 64), Samples::Float);
    assert!(matches!(GeoTiff::open(Cursor::new(b"no tiff at all".to_vec())), Err(GeoTiffError::Tiff(_))));
    let cut = bytes[..bytes.len() / 2].to_vec();
    let read = GeoTiff::open(Cursor::new(cut)).and_then(|mut file| file.read());
    assert!(matches!(read, Err(GeoTiffError::Tiff(_) | GeoTiffError::Keys(_))), "cut in half");
    let empty = Grid::new(*grid(8, 8).layout(), vec![f32::NAN; 64]).unwrap();
    let read = GeoTiff::open(Cursor::new(written(&empty, Samples::Float))).unwrap().read();
    assert!(matches!(read, Err(GeoTiffError::Empty)));
    // A picture without a place.
    let mut plain = Cursor::new(Vec::new());
    TiffEncoder::new(&mut plain).unwrap().write_image::<colortype::Gray8>(4, 4, &[0; 16]).unwrap();
    assert!(matches!(GeoTiff::open(Cursor::new(plain.into_inner())), Err(GeoTiffError::Keys(KeyError::Directory))));
    let mut colours = Cursor::new(Vec::new());
    TiffEncoder::new(&mut colours).unwrap().write_image::<colortype::RGB8>(4, 4, &[0; 48]).unwrap();
    assert!(matches!(GeoTiff::open(Cursor::new(colours.into_inner())), Err(GeoTiffError::Pixels(_))));
    // A header that claims more pixels than any machine holds: ImageWidth is the entry with tag 256.
    let mut vast = bytes;
    let ifd = u32::from_le_bytes(vast[4..8].try_into().unwrap()) as usize;
    let entries = usize::from(u16::from_le_bytes(vast[ifd..ifd + 2].try_into().unwrap()));
    for at in (0..entries).map(|n| ifd + 2 + 12 * n) {
        if matches!(u16::from_le_bytes(vast[at..at + 2].try_into().unwrap()), 256 | 257) {
            vast[at + 2..at + 4].copy_from_slice(&4u16.to_le_bytes());
            vast[at + 8..at + 12].copy_from_slice(&900_000u32.to_le_bytes());
        }
    }
    let read = GeoTiff::open(Cursor::new(vast)).and_then(|mut file| file.read());
    assert!(read.is_err(), "{read:?}");
}

proptest! {
    #[test]
    fn no_damage_makes_it_panic(at in 0usize..4000, to: u8, cut in 8usize..4000) {
        let mut bytes = written(&grid(40, 40), Samples::Whole);
        let at = at % bytes.len();
        bytes[at] = to;
        let _ = GeoTiff::open(Cursor::new(bytes.clone())).and_then(|mut file| file.read());
        bytes.truncate(cut.min(bytes.len()));
        let _ = GeoTiff::open(Cursor::new(bytes)).and_then(|mut file| file.read());
    }
}
