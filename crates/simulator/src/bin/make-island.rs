//! Writes the demo's terrain: `cargo run -p simulator --bin make-island`.

use std::fs::File;
use std::path::Path;

use coverage::terrain::geotiff::{Samples, write};
use simulator::island::{DESCRIPTION, island};

fn main() -> Result<(), Box<dyn std::error::Error>> {
    let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../demo/tarnsey");
    let (heights, cover) = island()?;
    write(&heights, Samples::Whole, DESCRIPTION, File::create(folder.join("heights.tif"))?)?;
    write(&cover, Samples::Byte, DESCRIPTION, File::create(folder.join("cover.tif"))?)?;
    Ok(())
}
