//! Signing in from a browser.

use kanzlei_model::role::Role;
use kanzlei_model::time::Timestamp;

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
        pub role: Role,
    }

    /// How one can sign in beside with a token.
    pub struct SignInWays {
        /// The address that begins a sign-in through a provider of identities; null where there is none.
        pub openid: Option<String>,
        /// The provider.
        pub provider: Option<String>,
    }

    /// Sessions of the console: all for an operator, one's own for others.
    pub struct Sessions {
        pub sessions: Vec<SessionLine>,
    }

    /// A session that has not ended.
    pub struct SessionLine {
        /// What ends it: the beginning of its hash.
        pub id: String,
        pub name: String,
        pub role: Role,
        pub created: Timestamp,
        pub expires: Timestamp,
        pub address: Option<String>,
        /// What the browser calls itself.
        pub agent: String,
        /// Whether a provider of identities signed in, and no token.
        pub by_provider: bool,
        /// Whether this request belongs to it.
        pub yours: bool,
    }

    /// Sessions that were ended.
    pub struct SessionsEnded {
        pub ended: u32,
    }
}
