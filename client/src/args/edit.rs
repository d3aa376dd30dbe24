//! Changes of documents: drafts on the service, steps in files.

use std::path::PathBuf;

use clap::Subcommand;

/// What is done with a draft.
#[derive(Subcommand)]
pub enum Draft {
    /// Write a draft into a file; without one, what is live
    Pull {
        /// The workflow, or KIND/NAME
        name: String,
        /// The file; default: NAME.yaml
        #[arg(long, value_name = "FILE")]
        to: Option<PathBuf>,
    },
    /// Save files as drafts
    Push {
        /// Documents, or folders with documents
        #[arg(required = true)]
        paths: Vec<PathBuf>,
        /// Merge with what another author saved in between
        #[arg(long)]
        merge: bool,
    },
    /// Discard a draft
    Discard {
        /// The workflow, or KIND/NAME
        name: String,
    },
}

/// Changes of steps.
#[derive(Subcommand)]
pub enum Edit {
    /// Move a step before another one, or behind it
    Move {
        /// The step
        step: String,
        /// The step it will stand before
        #[arg(long, value_name = "STEP", conflicts_with = "behind", required_unless_present = "behind")]
        before: Option<String>,
        /// The step it will stand behind
        #[arg(long, value_name = "STEP")]
        behind: Option<String>,
    },
    /// Write a step before another one, or behind it
    Insert {
        /// The new step, as YAML
        value: String,
        /// The step it will stand before
        #[arg(long, value_name = "STEP", conflicts_with = "behind", required_unless_present = "behind")]
        before: Option<String>,
        /// The step it will stand behind
        #[arg(long, value_name = "STEP")]
        behind: Option<String>,
    },
    /// Write a step once more behind itself
    Duplicate {
        /// The step
        step: String,
    },
    /// Delete a step
    Delete {
        /// The step
        step: String,
    },
    /// Switch a step off; it is kept and not run
    Off {
        /// The step
        step: String,
    },
    /// Switch a step on again
    On {
        /// The step
        step: String,
    },
    /// Set a key of a step
    Set {
        /// The step
        step: String,
        /// The key; keys inside others are separated by slashes: `send/imo`
        key: String,
        /// The value, as YAML
        value: String,
    },
    /// Remove a key of a step
    Unset {
        /// The step
        step: String,
        /// The key
        key: String,
    },
    /// Put steps into a new one
    Wrap {
        /// The first of the steps
        step: String,
        /// How many
        #[arg(long, default_value_t = 1)]
        count: usize,
        /// The keys of the new step, as YAML: `if: input.nights > 1`
        #[arg(long, value_name = "YAML")]
        with: String,
        /// The key that holds the steps: `then`, `steps`
        #[arg(long, value_name = "KEY")]
        under: String,
    },
    /// Put the steps inside a step in its place
    Unwrap {
        /// The step
        step: String,
        /// The branch whose steps remain; by default the first
        #[arg(long, value_name = "KEY")]
        branch: Option<String>,
    },
    /// Make a workflow of steps, which is invoked in their place
    Extract {
        /// The first of the steps
        step: String,
        /// How many
        #[arg(long, default_value_t = 1)]
        count: usize,
        /// The name of the new workflow; it is written beside this one
        #[arg(long)]
        name: String,
    },
}
