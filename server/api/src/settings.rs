//! Settings: named values of an installation that are no secrets.

use crate::{Json, api};

api! {
    /// All settings that live documents declare.
    pub struct Settings {
        pub settings: Vec<Setting>,
    }

    /// One setting, with the value in force.
    pub struct Setting {
        pub name: String,
        /// The document that declares it.
        pub document: String,
        pub about: String,
        /// The type of its value, as messages write it.
        pub of: String,
        /// JSON Schema of its value.
        pub schema: Json,
        /// The value of installations that set none; null where there is none.
        pub default: Json,
        /// The value that this installation has set; null where it has set none.
        pub set: Json,
        /// Documents that use it, as KIND/NAME.
        pub users: Vec<String>,
    }
}
