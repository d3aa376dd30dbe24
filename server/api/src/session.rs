//! Signing in from a browser.

use crate::api;

api! {
    /// An operator token.
    pub struct SignIn {
        pub token: String,
    }

    /// Who is signed in.
    pub struct Session {
        /// To be sent as `X-CSRF-Token` with requests that change something; null with a token.
        pub csrf: Option<String>,
        /// Whose token it is.
        pub name: String,
        pub role: String,
    }
}
