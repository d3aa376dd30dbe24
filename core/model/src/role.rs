//! What somebody may do with the service.
//!
//! ```
//! use kanzlei_model::role::Role;
//! assert!(Role::Operator.may(Role::Author) && !Role::Viewer.may(Role::Author));
//! assert_eq!(Role::of("author"), Some(Role::Author));
//! ```

use serde::{Deserialize, Serialize};

/// A role; each may do what those before it may.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "lowercase")]
pub enum Role {
    /// Looks at everything that is no secret, and changes nothing.
    #[default]
    Viewer,
    /// Composes, tries and deploys.
    Author,
    /// Runs the service: jobs, lanes, keys, secrets, tokens, the audit trail.
    Operator,
}

impl Role {
    /// All roles with their names.
    pub const ALL: [(&'static str, Role); 3] =
        [("viewer", Role::Viewer), ("author", Role::Author), ("operator", Role::Operator)];

    /// Its name.
    pub fn name(self) -> &'static str {
        Self::ALL.iter().find(|(_, role)| *role == self).map_or("", |(name, _)| name)
    }

    /// The role of a name.
    pub fn of(name: &str) -> Option<Self> {
        Self::ALL.iter().find(|(known, _)| *known == name).map(|(_, role)| *role)
    }

    /// Whether it may do what needs another.
    pub fn may(self, needed: Role) -> bool {
        self >= needed
    }
}
