//! The shape of the ground and what stands on it, from files of heights and of cover.

pub mod cover;
pub mod file;
pub mod geokeys;
pub mod geotiff;
pub mod grid;
pub mod height_file;
pub mod holes;
pub mod mosaic;
pub mod profile;
pub mod relief;
