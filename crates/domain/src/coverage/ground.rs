//! Files of the ground: what they hold, and which are taken.

use std::io::Cursor;

use api::ground::{GroundFile, GroundKind, GroundRaster, NewGroundFile};
use api::problem::{Problem, bad_field};
use coverage::terrain::file::described;
use coverage::terrain::grid::{Grid, Projection};

use super::ground_extent;
use crate::input;

/// The largest file, in bytes.
pub const LARGEST: usize = 64 << 20;
/// Cells of an estate's files together: four bytes each are held in memory while forecasts are computed.
pub const MOST_CELLS: u64 = 20_000_000;
/// Files of an estate.
pub const MOST_FILES: usize = 40;
/// Heights on the earth, in metres: the shore of the Dead Sea lies at -430, the highest mountain reaches 8,849.
const HEIGHTS_M: (f64, f64) = (-500.0, 9_000.0);
/// Numbers of classes of cover.
const CLASSES: (f64, f64) = (0.0, 65_535.0);

/// What a grid holds.
pub fn raster(grid: &Grid, description: &str) -> GroundRaster {
    let (layout, extent) = (grid.layout(), grid.extent());
    let (cell_width_m, cell_height_m) = layout.cell_m(extent);
    let there = || grid.values().iter().copied().filter(|value| !value.is_nan()).map(f64::from);
    let count = |cells: usize| u32::try_from(cells).unwrap_or(u32::MAX);
    GroundRaster {
        description: description.chars().take(500).collect(),
        projection: match layout.projection {
            Projection::Geographic => "degrees of WGS 84".to_owned(),
            Projection::Utm { zone, south } => format!("UTM zone {zone} {}", if south { "south" } else { "north" }),
        },
        columns: count(layout.width),
        rows: count(layout.height),
        cell_width_m,
        cell_height_m,
        extent: ground_extent(extent),
        least: there().reduce(f64::min),
        most: there().reduce(f64::max),
        holes: count(grid.holes()),
    }
}

/// Reads a file that is to join an estate's ground, whose own files are `there`. Who adds it and when is left open.
///
/// # Errors
/// Names the field: it cannot be read, is too large, has values that cannot be, or there is such a file already.
pub fn new_file(
    wanted: &NewGroundFile,
    bytes: &[u8],
    (sha256, there): (String, &[GroundFile]),
) -> Result<GroundFile, Problem> {
    let name = input::name("name", &wanted.name)?;
    let kind = wanted.kind;
    if there.iter().any(|one| one.name == name) {
        return Err(bad_field("name", &name, "another file of the ground has this name: remove that first"));
    }
    if let Some(same) = there.iter().find(|one| one.sha256 == sha256 && one.kind == kind) {
        return Err(bad_field("name", &name, format!("it has the same content as {}", same.name)));
    }
    if there.len() >= MOST_FILES {
        return Err(bad_field("name", &name, format!("an estate has at most {MOST_FILES} files of the ground")));
    }
    let taken: u64 = there.iter().map(|one| one.raster.cells()).sum();
    let left = usize::try_from(MOST_CELLS.saturating_sub(taken)).unwrap_or(usize::MAX);
    let (grid, description) =
        described(&name, Cursor::new(bytes), left).map_err(|why| bad_field("file", &name, format!("{why}")))?;
    let file = told((name, kind), raster(&grid, &description), bytes.len() as u64);
    values(&file.name, kind, &file.raster)?;
    Ok(GroundFile { sha256, ..file })
}

/// What is told of a file before it is anybody's.
pub fn told((name, kind): (String, GroundKind), raster: GroundRaster, size_bytes: u64) -> GroundFile {
    GroundFile {
        name,
        kind,
        raster,
        size_bytes,
        sha256: String::new(),
        by_operator: false,
        problem: None,
        added_by: String::new(),
        added_at: None,
    }
}

/// Refuses values that a kind cannot have: somebody may have taken one kind for the other.
fn values(name: &str, kind: GroundKind, raster: &GroundRaster) -> Result<(), Problem> {
    let (Some(least), Some(most)) = (raster.least, raster.most) else {
        return Err(bad_field("file", name, "none of its cells has a value"));
    };
    let (from, to) = match kind {
        GroundKind::Heights => HEIGHTS_M,
        GroundKind::Cover => CLASSES,
    };
    if least < from || most > to {
        let what = match kind {
            GroundKind::Heights => "heights are metres above the sea",
            GroundKind::Cover => "cover is numbers of classes",
        };
        return Err(bad_field(
            "kind",
            kind.label(),
            format!("{what}, {from} to {to}; this file has {least} to {most}"),
        ));
    }
    Ok(())
}

fn cell_m2(file: &GroundFile) -> f64 {
    file.raster.cell_width_m * file.raster.cell_height_m
}

/// The order in which files count: an estate's own with smaller cells before those with larger ones, and each before those of the
/// operator that have cells as large or larger. The operator's keep the order in which they were named.
pub fn in_order<T>(mut own: Vec<T>, of_operator: Vec<T>, about: impl Fn(&T) -> &GroundFile) -> Vec<T> {
    own.sort_by(|a, b| cell_m2(about(a)).total_cmp(&cell_m2(about(b))).then_with(|| about(a).name.cmp(&about(b).name)));
    let mut all = Vec::with_capacity(own.len() + of_operator.len());
    let mut own = own.into_iter().peekable();
    for theirs in of_operator {
        while let Some(ours) = own.next_if(|ours| cell_m2(about(ours)) <= cell_m2(about(&theirs))) {
            all.push(ours);
        }
        all.push(theirs);
    }
    all.extend(own);
    all
}

#[cfg(test)]
mod tests {
    use super::*;

    const HEIGHTS: &[u8] = include_bytes!("../../../../demo/tarnsey/heights.tif");

    fn wanted(name: &str, kind: GroundKind) -> NewGroundFile {
        NewGroundFile { name: name.into(), kind }
    }

    fn taken(wanted: &NewGroundFile, bytes: &[u8], there: &[GroundFile]) -> Result<GroundFile, String> {
        new_file(wanted, bytes, ("aa".into(), there)).map_err(|problem| problem.to_string())
    }

    #[test]
    fn a_file_is_read_and_told() {
        let file = taken(&wanted(" heights.tif ", GroundKind::Heights), HEIGHTS, &[]).unwrap();
        assert_eq!((file.name.as_str(), file.size_bytes), ("heights.tif", HEIGHTS.len() as u64));
        let raster = &file.raster;
        assert!(raster.cells() > 10_000 && raster.most.unwrap() > 100.0, "{raster:?}");
        assert_eq!((raster.holes, raster.least), (0, Some(0.0)), "the sea is 0 m");
        assert!((raster.extent.south_deg..raster.extent.north_deg).contains(&54.7));
    }

    #[test]
    fn what_cannot_be_is_refused_with_its_reason() {
        let heights = wanted("heights.tif", GroundKind::Heights);
        let first = taken(&heights, HEIGHTS, &[]).unwrap();
        let why = |wanted: &NewGroundFile, bytes: &[u8], there: &[GroundFile]| taken(wanted, bytes, there).unwrap_err();
        assert!(
            why(&heights, HEIGHTS, std::slice::from_ref(&first)).contains("another file of the ground has this name")
        );
        let again = wanted("again.tif", GroundKind::Heights);
        assert!(why(&again, HEIGHTS, std::slice::from_ref(&first)).contains("same content as heights.tif"));
        assert!(why(&heights, b"no raster at all", &[]).contains("TIFF"));
        assert!(why(&wanted("harbour.hgt", GroundKind::Heights), &[0; 2_884_802], &[]).contains("harbour.hgt"));
        assert!(why(&wanted("", GroundKind::Heights), HEIGHTS, &[]).contains("1 to 80 characters"));
        let many: Vec<GroundFile> = (0..MOST_FILES)
            .map(|n| GroundFile { name: format!("{n}"), sha256: format!("{n}"), ..first.clone() })
            .collect();
        assert!(why(&heights, HEIGHTS, &many).contains("at most 40 files"));
        let mut large = GroundFile { name: "large".into(), sha256: "b".into(), ..first };
        (large.raster.columns, large.raster.rows) = (5_000, 3_999);
        let full = why(&heights, HEIGHTS, &[large]);
        assert!(full.contains("at most 5000 are allowed"), "{full}");
        let mut salt = vec![0u8; 2_884_802];
        salt[..2].copy_from_slice(&i16::to_be_bytes(12_000));
        let high = why(&wanted("N54E003.hgt", GroundKind::Heights), &salt, &[]);
        assert!(high.contains("this file has 0 to 12000"), "{high}");
        salt[..2].copy_from_slice(&i16::to_be_bytes(-3));
        assert!(why(&wanted("N54E003.hgt", GroundKind::Cover), &salt, &[]).contains("numbers of classes"));
        let void: Vec<u8> = (0..1_442_401).flat_map(|_| i16::to_be_bytes(-32_768)).collect();
        assert!(why(&wanted("N54E003.hgt", GroundKind::Heights), &void, &[]).contains("none of its cells"));
    }

    #[test]
    fn holes_are_counted() {
        let height = |at: u32| if at % 1_201 < 600 { i16::MIN } else { 12 };
        let bytes: Vec<u8> = (0..1_201 * 1_201).flat_map(|at| height(at).to_be_bytes()).collect();
        let file = taken(&wanted("N54E003.hgt", GroundKind::Heights), &bytes, &[]).unwrap();
        assert_eq!((file.raster.holes, file.raster.most), (600 * 1_201, Some(12.0)));
        assert!((file.raster.holes_percent() - 50.0).abs() < 0.1);
    }

    #[test]
    fn small_cells_count_first() {
        let coarse = taken(&wanted("coarse.tif", GroundKind::Heights), HEIGHTS, &[]).unwrap();
        let of = |name: &str, times: f64| {
            let mut file = GroundFile { name: name.into(), ..coarse.clone() };
            file.raster.cell_width_m *= times;
            file
        };
        let own = vec![of("wide", 4.0), of("same", 1.0), of("fine", 0.5)];
        let of_operator = vec![of("theirs", 1.0), of("their finest", 0.2)];
        let names: Vec<String> = in_order(own, of_operator, |file| file).into_iter().map(|file| file.name).collect();
        assert_eq!(names, ["fine", "same", "theirs", "their finest", "wide"]);
    }
}
