//! `kanzlei`: the command line. Checks documents on its own, and speaks to the service's control API
//! for everything else. See `kanzlei --help`.

mod api;
mod args;
mod commands;
mod draw;
mod files;
mod language_server;
mod parts;
mod sarif;
#[cfg(test)]
mod tests;

use std::process::ExitCode;

use clap::Parser;

/// How a command ended: the exit codes of the handbook.
#[derive(Debug)]
pub enum Error {
    /// The thing asked about is bad.
    Bad,
    /// What was asked makes no sense.
    Usage(String),
    /// The service cannot be reached.
    Unavailable(String),
    /// Anything else, as it is shown.
    Failed(String),
}

pub type Done = Result<(), Error>;

fn main() -> ExitCode {
    // `kanzlei runs | head` ends quietly when head has seen enough.
    // SAFETY: called before any thread is started; the default disposition is always valid.
    unsafe {
        libc::signal(libc::SIGPIPE, libc::SIG_DFL);
    }
    let args = args::Args::parse();
    match commands::run(args) {
        Ok(()) => ExitCode::SUCCESS,
        Err(Error::Bad) => ExitCode::from(1),
        Err(Error::Failed(why)) => {
            eprintln!("error: {why}");
            ExitCode::from(1)
        }
        Err(Error::Usage(why)) => {
            eprintln!("error: {why}");
            ExitCode::from(2)
        }
        Err(Error::Unavailable(why)) => {
            eprintln!("error: {why}");
            ExitCode::from(3)
        }
    }
}
