//! What is done to alerts.

use clap::Subcommand;

#[derive(Subcommand)]
pub enum AlertAction {
    /// Announce nothing for a span; the alert still begins and ends
    Silence {
        /// The alert
        name: String,
        /// For how long, at most 30 days
        #[arg(long = "for", value_name = "SPAN")]
        span: String,
        /// Why, for the others
        #[arg(long, value_name = "TEXT")]
        reason: String,
    },
    /// Retire an alert; what lasts of it ends
    Retire {
        /// The alert
        name: String,
    },
    /// End a silence
    Speak {
        /// The alert
        name: String,
    },
}
