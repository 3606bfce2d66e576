//! Heights and cover from GeoTIFF files, and grids written as such. A window of a file is read without the rest of it.

use std::io::{Read, Seek, Write};

use thiserror::Error;
use tiff::decoder::{ChunkType, Decoder, DecodingResult, Limits};
use tiff::encoder::{Compression, DeflateLevel, Predictor, TiffEncoder, colortype};
use tiff::tags::Tag;
use tiff::{ColorType, TiffError};

use super::geokeys::{GeoReference, GeoTags, KeyError};
use super::grid::{Grid, GridError, Layout, MOST_CELLS};
use crate::geo::{Extent, Place};

/// The longest side of a file that is read.
const LONGEST: u32 = 1_000_000;
/// The largest strip or tile, in bytes.
const LARGEST_CHUNK: usize = 256 << 20;

/// Why a GeoTIFF cannot be read or written.
#[derive(Debug, Error)]
pub enum GeoTiffError {
    /// It is no TIFF file, or damaged.
    #[error("the TIFF file cannot be read: {0}")]
    Tiff(TiffError),
    /// It does not say where it is.
    #[error(transparent)]
    Keys(#[from] KeyError),
    /// It is not one number for each pixel.
    #[error("the pixels are {0:?}; one number for each is read")]
    Pixels(ColorType),
    /// It is larger than anything sensible.
    #[error("{0} × {1} pixels are more than {LONGEST} on a side")]
    Size(u32, u32),
    /// The part that was asked for lies outside.
    #[error("the file does not reach the part that was asked for")]
    Elsewhere,
    /// The file is a picture without a single value.
    #[error("no pixel has a value")]
    Empty,
    /// It cannot be a grid.
    #[error(transparent)]
    Grid(#[from] GridError),
}

impl From<TiffError> for GeoTiffError {
    // Not as its source: the message has it already.
    fn from(why: TiffError) -> Self {
        Self::Tiff(why)
    }
}

/// A GeoTIFF that is open.
#[derive(Debug)]
pub struct GeoTiff<R: Read + Seek> {
    decoder: Decoder<R>,
    reference: GeoReference,
    width: u32,
    height: u32,
    no_data: Option<f64>,
    description: String,
}

impl<R: Read + Seek> GeoTiff<R> {
    /// Reads what the file says of itself.
    ///
    /// # Errors
    /// It is no GeoTIFF of one number for each pixel.
    pub fn open(from: R) -> Result<Self, GeoTiffError> {
        let mut limits = Limits::default();
        limits.decoding_buffer_size = LARGEST_CHUNK;
        limits.intermediate_buffer_size = LARGEST_CHUNK;
        let mut decoder = Decoder::new(from)?.with_limits(limits);
        let (width, height) = decoder.dimensions()?;
        if width > LONGEST || height > LONGEST {
            return Err(GeoTiffError::Size(width, height));
        }
        match decoder.colortype()? {
            ColorType::Gray(_) => {}
            other => return Err(GeoTiffError::Pixels(other)),
        }
        let tags = GeoTags {
            directory: decoder.get_tag_u16_vec(Tag::GeoKeyDirectoryTag).unwrap_or_default(),
            pixel_scale: decoder.get_tag_f64_vec(Tag::ModelPixelScaleTag).unwrap_or_default(),
            tie_points: decoder.get_tag_f64_vec(Tag::ModelTiepointTag).unwrap_or_default(),
            transformation: decoder.get_tag_f64_vec(Tag::ModelTransformationTag).unwrap_or_default(),
        };
        let no_data = decoder.get_tag_ascii_string(Tag::GdalNodata).ok();
        let no_data = no_data.and_then(|text| text.trim_matches(['\0', ' ']).parse().ok());
        let description = decoder.get_tag_ascii_string(Tag::ImageDescription).unwrap_or_default();
        Ok(Self { reference: tags.reference()?, width, height, no_data, description, decoder })
    }

    /// Where all of its pixels are; whether they can be held is not said.
    pub fn layout(&self) -> Layout {
        let GeoReference { projection, west, north, dx, dy } = self.reference;
        Layout { projection, width: self.width as usize, height: self.height as usize, west, north, dx, dy }
    }

    /// What it says it is.
    pub fn description(&self) -> &str {
        &self.description
    }

    /// All of it.
    ///
    /// # Errors
    /// It is damaged, too large, or without a value.
    pub fn read(&mut self) -> Result<Grid, GeoTiffError> {
        self.part((0, 0), (self.width, self.height))
    }

    /// The part within a box, and a pixel around it. Only the strips and tiles that it touches are decoded.
    ///
    /// # Errors
    /// As [`GeoTiff::read`]; or the file does not reach there.
    pub fn window(&mut self, extent: &Extent) -> Result<Grid, GeoTiffError> {
        let layout = self.layout();
        // One cell is enough to know the projection.
        let probe = Grid::new(Layout { width: 1, height: 1, ..layout }, vec![0.0])?;
        let (mut first, mut last) = ((f64::INFINITY, f64::INFINITY), (f64::NEG_INFINITY, f64::NEG_INFINITY));
        for n in 0..=8 {
            let share = f64::from(n) / 8.0;
            let latitude_deg = extent.south_deg + (extent.north_deg - extent.south_deg) * share;
            let longitude_deg = extent.west_deg + (extent.east_deg - extent.west_deg) * share;
            for (latitude_deg, longitude_deg) in [
                (latitude_deg, extent.west_deg),
                (latitude_deg, extent.east_deg),
                (extent.south_deg, longitude_deg),
                (extent.north_deg, longitude_deg),
            ] {
                let Some((column, row)) = probe.steps(Place { latitude_deg, longitude_deg }) else { continue };
                first = (first.0.min(column), first.1.min(row));
                last = (last.0.max(column), last.1.max(row));
            }
        }
        let begin = |at: f64, count: u32| (at.floor() - 1.0).clamp(0.0, f64::from(count)) as u32;
        let end = |at: f64, count: u32| (at.ceil() + 2.0).clamp(0.0, f64::from(count)) as u32;
        let (column, row) = (begin(first.0, self.width), begin(first.1, self.height));
        let (to_column, to_row) = (end(last.0, self.width), end(last.1, self.height));
        if column >= to_column || row >= to_row {
            return Err(GeoTiffError::Elsewhere);
        }
        self.part((column, row), (to_column - column, to_row - row))
    }

    /// A part by its first pixel and its size.
    fn part(&mut self, (left, top): (u32, u32), (width, height): (u32, u32)) -> Result<Grid, GeoTiffError> {
        let (columns, rows) = (width as usize, height as usize);
        if u64::from(width) * u64::from(height) > MOST_CELLS || width == 0 || height == 0 {
            return Err(GridError::Size { width: u64::from(width), height: u64::from(height) }.into());
        }
        let (chunk_width, chunk_height) = self.decoder.chunk_dimensions();
        let (chunk_width, chunk_height) = (chunk_width.max(1), chunk_height.max(1));
        let across = match self.decoder.get_chunk_type() {
            ChunkType::Strip => 1,
            ChunkType::Tile => self.width.div_ceil(chunk_width),
        };
        let mut values = vec![f32::NAN; columns * rows];
        for chunk_row in top / chunk_height..=(top + height - 1) / chunk_height {
            let chunks = if across == 1 { 0..=0 } else { left / chunk_width..=(left + width - 1) / chunk_width };
            for chunk_column in chunks {
                let index = chunk_row * across + chunk_column;
                let (there_width, there_height) = self.decoder.chunk_data_dimensions(index);
                let chunk = self.decoder.read_chunk(index)?;
                let (from_x, from_y) = (chunk_column * chunk_width, chunk_row * chunk_height);
                let xs = left.max(from_x)..(left + width).min(from_x + there_width);
                for y in top.max(from_y)..(top + height).min(from_y + there_height) {
                    let row = (y - from_y) as usize * there_width as usize;
                    let to = (y - top) as usize * columns;
                    for x in xs.clone() {
                        let value = number(&chunk, row + (x - from_x) as usize);
                        if Some(value) != self.no_data && value.is_finite() {
                            values[to + (x - left) as usize] = value as f32;
                        }
                    }
                }
            }
        }
        if values.iter().all(|value| value.is_nan()) {
            return Err(GeoTiffError::Empty);
        }
        let whole = self.layout();
        let layout = Layout {
            width: columns,
            height: rows,
            west: whole.west + whole.dx * f64::from(left),
            north: whole.north - whole.dy * f64::from(top),
            ..whole
        };
        Ok(Grid::new(layout, values)?)
    }
}

/// A sample as a number; not a number where the chunk is shorter than it should be.
fn number(chunk: &DecodingResult, at: usize) -> f64 {
    let found = match chunk {
        DecodingResult::U8(all) => all.get(at).copied().map(f64::from),
        DecodingResult::U16(all) => all.get(at).copied().map(f64::from),
        DecodingResult::U32(all) => all.get(at).copied().map(f64::from),
        DecodingResult::U64(all) => all.get(at).map(|value| *value as f64),
        DecodingResult::F16(all) => all.get(at).map(|value| f64::from(value.to_f32())),
        DecodingResult::F32(all) => all.get(at).copied().map(f64::from),
        DecodingResult::F64(all) => all.get(at).copied(),
        DecodingResult::I8(all) => all.get(at).copied().map(f64::from),
        DecodingResult::I16(all) => all.get(at).copied().map(f64::from),
        DecodingResult::I32(all) => all.get(at).copied().map(f64::from),
        DecodingResult::I64(all) => all.get(at).map(|value| *value as f64),
    };
    found.unwrap_or(f64::NAN)
}

/// What is written where a grid has no value.
const HOLE: f32 = -9999.0;

/// How a grid's values are written.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Samples {
    /// As 32-bit numbers with a fraction.
    Float,
    /// As whole 16-bit numbers: heights in metres.
    Whole,
    /// As bytes: cover classes. A hole is 0.
    Byte,
}

/// Writes a grid as a compressed GeoTIFF.
///
/// # Errors
/// It cannot be written.
pub fn write<W: Write + Seek>(grid: &Grid, samples: Samples, description: &str, to: W) -> Result<(), GeoTiffError> {
    let Layout { projection, width, height, west, north, dx, dy } = *grid.layout();
    let tags = GeoReference { projection, west, north, dx, dy }.tags();
    let mut encoder = TiffEncoder::new(to)?.with_compression(Compression::Deflate(DeflateLevel::Best));
    if samples != Samples::Byte && samples != Samples::Float {
        encoder = encoder.with_predictor(Predictor::Horizontal);
    }
    let size = |side: usize| u32::try_from(side).unwrap_or(u32::MAX);
    macro_rules! image {
        ($color:ty, $hole:expr, $value:expr) => {{
            let mut image = encoder.new_image::<$color>(size(width), size(height))?;
            image.rows_per_strip(64)?;
            let directory = image.encoder();
            directory.write_tag(Tag::GeoKeyDirectoryTag, &tags.directory[..])?;
            directory.write_tag(Tag::ModelPixelScaleTag, &tags.pixel_scale[..])?;
            directory.write_tag(Tag::ModelTiepointTag, &tags.tie_points[..])?;
            directory.write_tag(Tag::GdalNodata, $hole)?;
            if !description.is_empty() {
                directory.write_tag(Tag::ImageDescription, description)?;
            }
            let values: Vec<_> = grid.values().iter().map($value).collect();
            image.write_data(&values)?;
        }};
    }
    match samples {
        Samples::Float => image!(colortype::Gray32Float, "-9999", |value| if value.is_nan() { HOLE } else { *value }),
        Samples::Whole => image!(colortype::GrayI16, "-9999", |value| {
            if value.is_nan() { HOLE as i16 } else { value.round().clamp(-9998.0, 32_767.0) as i16 }
        }),
        Samples::Byte => image!(colortype::Gray8, "0", |value| if value.is_nan() {
            0
        } else {
            value.round().clamp(0.0, 255.0) as u8
        }),
    }
    Ok(())
}

#[cfg(test)]
mod tests;
