//! `heron ground`: files of heights and of cover under an estate's maps and forecasts.

use std::path::{Path, PathBuf};

use anyhow::{Context as _, Result, ensure};
use api::ground::{EstateGround, GroundFile, GroundKind, NewGroundFile};
use clap::{Subcommand, ValueEnum};

use crate::client::Client;
use crate::commands::coverage::terrain::raster_lines;
use crate::complete;
use crate::show::{self, Out};

/// What is sent.
const RASTER: &str = "application/octet-stream";

#[derive(Subcommand)]
pub(crate) enum GroundVerb {
    /// List the files in the order in which they count.
    List,
    /// Show what a file of the estate's own holds.
    Show {
        /// Its name.
        #[arg(add = complete::ground_files())]
        name: String,
    },
    /// Add files to the estate's ground: GeoTIFF, or SRTM height files (.hgt). One that cannot be used keeps no other from being
    /// added.
    Add {
        /// The files.
        #[arg(required = true, value_name = "FILE")]
        files: Vec<PathBuf>,
        /// What their values are.
        #[arg(long, value_enum)]
        kind: KindWord,
        /// Another name than that of the file; of one file.
        #[arg(long)]
        name: Option<String>,
    },
    /// Remove a file. Forecasts that were made of it stay as they are, and say that the ground has changed.
    Remove {
        /// Its name.
        #[arg(add = complete::ground_files())]
        name: String,
    },
}

#[derive(Clone, Copy, ValueEnum)]
pub(crate) enum KindWord {
    /// Heights above the sea, in metres.
    Heights,
    /// Numbers of classes of what stands on the ground.
    Cover,
}

impl From<KindWord> for GroundKind {
    fn from(word: KindWord) -> Self {
        match word {
            KindWord::Heights => Self::Heights,
            KindWord::Cover => Self::Cover,
        }
    }
}

fn values(file: &GroundFile) -> String {
    let unit = if file.kind == GroundKind::Heights { " m" } else { "" };
    match (file.raster.least, file.raster.most) {
        (Some(least), Some(most)) => format!("{least:.0} to {most:.0}{unit}"),
        _ => "none".into(),
    }
}

fn lines(file: &GroundFile) -> Vec<(&'static str, String)> {
    let mut lines = vec![("file", file.name.clone()), ("kind", file.kind.label().into())];
    lines.extend(raster_lines(&file.raster));
    if let Some(at) = file.added_at {
        lines.push(("added", format!("{} by {}", show::moment(at), file.added_by)));
    }
    lines.extend(file.problem.iter().map(|why| ("problem", why.clone())));
    lines
}

async fn list(client: &Client, out: &Out) -> Result<()> {
    let ground: EstateGround = client.get(&client.in_estate("ground").await?, &[]).await?;
    if out.json {
        return out.json(&ground);
    }
    let none = "There are no files of the ground: all is computed as flat sea. Next: `heron ground add FILE`.";
    let head = ["FILE", "VALUES", "CELL", "CELLS", "HOLES", "FROM", "TO", "ADDED BY"];
    out.list(&ground.files, none, &head, |file| {
        let (raster, extent) = (&file.raster, &file.raster.extent);
        vec![
            file.name.clone(),
            format!("{}, {}", file.kind.label(), values(file)),
            format!("{:.0} m", raster.cell_width_m.max(raster.cell_height_m)),
            raster.cells().to_string(),
            format!("{:.1} %", raster.holes_percent()),
            format!("{:.3},{:.3}", extent.south_deg, extent.west_deg),
            format!("{:.3},{:.3}", extent.north_deg, extent.east_deg),
            match (&file.problem, file.by_operator) {
                (Some(why), _) => why.clone(),
                (None, true) => "the operator".into(),
                (None, false) => file.added_by.clone(),
            },
        ]
    })
}

async fn add_one(client: &Client, out: &Out, path: &Path, wanted: &NewGroundFile) -> Result<()> {
    let bytes = std::fs::read(path).with_context(|| path.display().to_string())?;
    let made: GroundFile = client.upload(&client.in_estate("ground/files").await?, wanted, (RASTER, bytes)).await?;
    out.one(&made, lines)
}

async fn add(client: &Client, out: &Out, files: &[PathBuf], (kind, name): (GroundKind, Option<String>)) -> Result<()> {
    ensure!(name.is_none() || files.len() == 1, "--name is for one file; {} were given", files.len());
    let mut failed = Vec::new();
    for path in files {
        let own = || path.file_name().unwrap_or_default().to_string_lossy().into_owned();
        let wanted = NewGroundFile { name: name.clone().unwrap_or_else(own), kind };
        match add_one(client, out, path, &wanted).await {
            Ok(()) => {}
            Err(why) if files.len() == 1 => return Err(why),
            Err(why) => failed.push(format!("{}: {why:#}", path.display())),
        }
    }
    ensure!(failed.is_empty(), "{} of {} files were not added:\n{}", failed.len(), files.len(), failed.join("\n"));
    Ok(())
}

pub(crate) async fn run(client: &Client, out: &Out, verb: GroundVerb, yes: bool) -> Result<()> {
    match verb {
        GroundVerb::List => list(client, out).await,
        GroundVerb::Show { name } => {
            let file: GroundFile = client.get(&client.one("ground/files", &name).await?, &[]).await?;
            out.one(&file, lines)
        }
        GroundVerb::Add { files, kind, name } => add(client, out, &files, (kind.into(), name)).await,
        GroundVerb::Remove { name } => {
            let what = "Forecasts that were made of it stay as they are.";
            show::confirm(yes, &format!("The file {name} will be removed from the ground. {what}"))?;
            client.delete(&client.one("ground/files", &name).await?).await?;
            out.said(format!("{name} was removed."))
        }
    }
}
