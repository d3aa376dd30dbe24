//! Addresses at which drafts can be called before they are deployed.

use kanzlei_model::time::Timestamp;
use uuid::Uuid;

use crate::api;
use crate::drafts::DraftName;

api! {
    /// Drafts that get an address of their own, and what is performed when they are called there.
    pub struct NewPreview {
        pub drafts: Vec<DraftName>,
        /// Hours until it closes, 1 to 168; 8 by default.
        #[serde(default)]
        pub hours: Option<u32>,
        /// Whether everything is performed as if it were live.
        #[serde(default)]
        pub live: bool,
        /// Names of what is performed although it may change something: `customs.request`, `sql.harbour`, `keep`.
        #[serde(default)]
        pub real: Vec<String>,
        /// Names of what is not performed although it only reads.
        #[serde(default)]
        pub simulated: Vec<String>,
        /// Stubs, as a document of cases has them: YAML.
        #[serde(default)]
        pub stubs: String,
    }

    /// Addresses that are open, newest first.
    pub struct Previews {
        pub previews: Vec<Preview>,
    }

    /// An address at which drafts can be called.
    pub struct Preview {
        pub id: Uuid,
        /// What paths of endpoints are appended to: who knows it may call the drafts.
        pub url: String,
        pub drafts: Vec<DraftName>,
        /// Whose token opened it.
        pub operator: String,
        pub created: Timestamp,
        pub expires: Timestamp,
        /// The endpoints of the drafts; all live ones can be called there too.
        pub endpoints: Vec<PreviewEndpoint>,
        /// Why they cannot be called: the drafts have errors.
        pub refused: Option<String>,
    }

    /// An endpoint of a draft.
    pub struct PreviewEndpoint {
        pub method: String,
        pub url: String,
        /// A curl line with example values.
        pub curl: String,
    }
}
