//! The catalogue.

use std::path::PathBuf;

use clap::{Args, Subcommand};

use crate::args::ListArgs;

/// The verbs of `heron catalogue`.
#[derive(Subcommand)]
pub(crate) enum CatalogueVerb {
    #[command(flatten)]
    Remote(RemoteCatalogueVerb),
    #[command(flatten)]
    Local(LocalCatalogueVerb),
}

/// Those that need no service.
#[derive(Subcommand)]
pub(crate) enum LocalCatalogueVerb {
    /// Try a folder of models on their own test payloads, here and without a service.
    Check {
        /// The folder.
        folder: PathBuf,
    },
}

/// Those that ask the service.
#[derive(Subcommand)]
pub(crate) enum RemoteCatalogueVerb {
    /// List where models came from.
    List(ListArgs),
    /// Import models from a folder, an archive, a git repository, or as they come with the service. What was edited
    /// stays.
    Import(CatalogueImportArgs),
    /// Import a catalogue again from where it came.
    Refresh {
        /// Where it is from, as `heron catalogue list` shows it.
        source: String,
        /// Only show what would become of each model.
        #[arg(long = "dry-run")]
        preview: bool,
    },
}

#[derive(Args)]
pub(crate) struct CatalogueImportArgs {
    /// A folder with models, or an archive of one (zip, tar, tar.gz).
    #[arg(required_unless_present_any = ["git", "shipped"], conflicts_with_all = ["git", "shipped"])]
    pub from: Option<PathBuf>,
    /// What files are known by from now on; the folder's or archive's own name if not given.
    #[arg(long, requires = "from")]
    pub name: Option<String>,
    /// The address of a git repository; the service fetches it.
    #[arg(long, value_name = "ADDRESS", conflicts_with = "shipped")]
    pub git: Option<String>,
    /// A branch or tag of it.
    #[arg(long, requires = "git")]
    pub branch: Option<String>,
    /// The models that come with the service.
    #[arg(long)]
    pub shipped: bool,
    /// Only show what would become of each model.
    #[arg(long = "dry-run")]
    pub preview: bool,
}
