//! What is taken from one installation to another.

use std::path::PathBuf;

use clap::Args as ClapArgs;

/// What is exported, and where to.
#[derive(ClapArgs)]
pub struct Exporting {
    /// Workflows, with all that they need; default: everything. Last: a new folder, or a file that ends with .zip
    #[arg(required = true, value_name = "NAME… TARGET")]
    pub what: Vec<String>,
    /// Take along what the workflows remember
    #[arg(long)]
    pub kept: bool,
    /// Write into a folder that is not empty
    #[arg(long)]
    pub over: bool,
}

/// What is imported, and how.
#[derive(ClapArgs)]
pub struct Importing {
    /// A folder or a ZIP archive that an export wrote
    pub from: PathBuf,
    /// Set what the workflows remember, where they remember nothing yet
    #[arg(long)]
    pub kept: bool,
    /// Skip the cases
    #[arg(long)]
    pub unrehearsed: bool,
    /// Set a setting in the same deploy
    #[arg(long, value_name = "NAME=VALUE")]
    pub set: Vec<String>,
    /// Show what would change, and import nothing
    #[arg(long)]
    pub dry_run: bool,
}
