//! Any file of heights: a GeoTIFF, its keys, or a height file by any name.
#![no_main]

use std::io::Cursor;

use coverage::terrain::geokeys::GeoTags;
use coverage::terrain::geotiff::GeoTiff;
use coverage::terrain::height_file;
use libfuzzer_sys::fuzz_target;

fuzz_target!(|bytes: &[u8]| {
    if let Ok(mut file) = GeoTiff::open(Cursor::new(bytes)) {
        let layout = file.layout();
        if layout.width * layout.height < 1_000_000 {
            let _ = file.read();
        }
    }
    let words: Vec<u16> = bytes.chunks_exact(2).map(|pair| u16::from_le_bytes([pair[0], pair[1]])).collect();
    let numbers: Vec<f64> =
        bytes.chunks_exact(8).map(|eight| f64::from_le_bytes(eight.try_into().expect("eight bytes"))).collect();
    let tags =
        GeoTags { directory: words, pixel_scale: numbers.clone(), tie_points: numbers.clone(), transformation: numbers };
    let _ = tags.reference();
    let _ = height_file::read(&String::from_utf8_lossy(bytes), bytes);
    let _ = height_file::read("N54E003.hgt", bytes);
});
