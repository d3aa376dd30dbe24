//! What an installation has beside documents: databases, operators, keys, secrets, settings.

use clap::Subcommand;

#[derive(Subcommand)]
pub enum Databases {
    /// Print its tables as a document, so that `check` types statements offline
    Describe {
        /// The name of the database, as the service is configured
        name: String,
    },
    /// Print the statement that prepares a database, or have the service run it
    Prepare {
        /// The name of the database, as the service is configured
        name: String,
        /// Have the service run it, where its user may
        #[arg(long)]
        apply: bool,
    },
}

#[derive(Subcommand)]
pub enum Operators {
    /// List tokens with their expiry and last use
    List,
    /// Make a token and show it, once
    Add {
        /// Whose token it is
        name: String,
        /// Days until it expires; never by default
        #[arg(long)]
        days: Option<u32>,
        /// What it allows: `viewer` looks, `author` composes and deploys, `operator` does everything
        #[arg(long, default_value = "operator", value_parser = ["viewer", "author", "operator"])]
        role: String,
    },
    /// Replace a token and show the new one, once
    Rotate {
        /// Whose token it is
        name: String,
        /// Days until the new one expires; never by default
        #[arg(long)]
        days: Option<u32>,
    },
    /// Remove a token and end its sessions
    Revoke {
        /// Whose token it is
        name: String,
    },
}

#[derive(Subcommand)]
pub enum Keys {
    /// List keys with owner, expiry and last use
    List,
    /// Make a key and show it, once
    Add {
        /// Its name
        name: String,
        /// How much it may ask for, by the name of an allowance
        #[arg(long, value_name = "ALLOWANCE")]
        allowance: Option<String>,
        /// Whose it is
        #[arg(long, default_value_t)]
        owner: String,
        /// What it is for
        #[arg(long, default_value_t)]
        note: String,
        /// A workflow it is for; repeatable, all without one
        #[arg(long = "for", value_name = "WORKFLOW")]
        workflows: Vec<String>,
        /// A tag of workflows it is for too; repeatable
        #[arg(long = "tag", value_name = "TAG")]
        tags: Vec<String>,
        /// Days until it expires; never by default
        #[arg(long)]
        days: Option<u32>,
    },
    /// Put another key in place of one and show it, once
    Rotate {
        /// Its name
        name: String,
        /// Days until the new one expires; never by default
        #[arg(long)]
        days: Option<u32>,
        /// Hours for which the former one is valid too; 24 by default, 0 for none
        #[arg(long, value_name = "HOURS")]
        overlap: Option<u32>,
    },
    /// Revoke a key at once
    Revoke {
        /// Its name
        name: String,
    },
}

#[derive(Subcommand)]
pub enum Secrets {
    /// Set or replace a secret; prompts for its value
    Set {
        /// The name by which services refer to it
        name: String,
        /// What it may be used for: an address below which it is sent, `signing` or `mail`; repeatable
        #[arg(long = "for", value_name = "PURPOSE")]
        purposes: Vec<String>,
    },
    /// Seal everything with the key of today, after the service's settings name it and the former one
    #[command(
        after_help = "Make the new key, name both in the settings of every process, start them again, rotate, and take the former key out of the settings.\n\nExample:\n  kanzlei secrets rotate-key"
    )]
    RotateKey,
    /// Remove a secret that no live service uses
    Remove {
        /// The name of the secret
        name: String,
    },
}

#[derive(Subcommand)]
pub enum Settings {
    /// Set the value of a setting on this installation
    Set {
        /// The setting, as a document declares it
        name: String,
        /// JSON where it can be, else text; settings that are strings by their schema keep digits as they are
        #[arg(allow_hyphen_values = true)]
        value: String,
    },
    /// Remove the value that is set, so that the default is in force again
    Unset {
        /// The setting
        name: String,
    },
}
