//! What the start command, the tests and the benchmarks need around the programs: a private MariaDB,
//! processes that end with their parent, free ports, waiting for conditions, Debian packages.
//!
//! Nothing of the product depends on this crate.

#[cfg(feature = "certificates")]
pub mod certificates;
pub mod cluster;
pub mod disks;
pub mod mariadb;
pub mod network;
pub mod office;
pub mod packages;
pub mod ports;
pub mod process;
pub mod rights;
pub mod scratch;
pub mod wait;

#[derive(Debug, thiserror::Error)]
pub enum Error {
    #[error("{doing}: {source}")]
    Io { doing: String, source: std::io::Error },
    #[error("{0}")]
    Failed(String),
}

pub type Result<T> = std::result::Result<T, Error>;

pub(crate) fn io(doing: impl Into<String>) -> impl FnOnce(std::io::Error) -> Error {
    let doing = doing.into();
    move |source| Error::Io { doing, source }
}
