//! Libraries: what they share, and who uses them.

use kanzlei_model::time::Timestamp;

use crate::api;

api! {
    /// Live libraries.
    pub struct Libraries {
        pub libraries: Vec<LibraryLine>,
    }

    /// A live library.
    pub struct LibraryLine {
        pub name: String,
        pub about: String,
        /// As its document says; null where it says nothing.
        pub version: Option<String>,
        pub revision: u32,
        pub since: Timestamp,
        /// The names of its functions.
        pub functions: Vec<String>,
        /// The names of its types.
        pub types: Vec<String>,
        /// Its groups of steps, as `invoke` names them.
        pub groups: Vec<String>,
        /// The libraries that it uses itself.
        pub uses: Vec<String>,
        /// The live workflows that use it, themselves or through other libraries.
        pub workflows: Vec<String>,
    }
}
