//! How names are shown in lists that are passed on.

use clap::Args;

#[derive(Args, Clone, Copy, Debug)]
pub struct Names {
    /// Put pseudonyms in the place of callers, keys and tags
    #[arg(long)]
    pseudonyms: bool,
}

impl Names {
    /// What is asked for; nothing where names stay as they are.
    pub fn pseudonyms(self) -> Option<bool> {
        self.pseudonyms.then_some(true)
    }
}
