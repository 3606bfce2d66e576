//! `heron coverage`: computed here from files; nothing is asked of a service.

mod area;
pub(crate) mod args;
mod drawing;
mod ground;
pub(crate) mod layer_file;
mod overlay;
mod path;
mod picture;
mod profile_picture;
mod radio;
pub(crate) mod sites;
pub(crate) mod terrain;

use anyhow::Result;

use crate::commands::coverage::args::CoverageVerb;
use crate::show::Out;

pub(crate) fn run(out: &Out, verb: CoverageVerb) -> Result<()> {
    match verb {
        CoverageVerb::Path(args) => path::run(out, &args),
        CoverageVerb::Area(args) => area::run(out, &args),
        CoverageVerb::Terrain { files } => terrain::run(out, &files),
    }
}
