//! A `mail` step: a message to one or several addresses.
//!
//! ```yaml
//! - mail:
//!     to: ${agent.mail}
//!     subject: Dues of ${vessel.name}
//!     text: ${reminder}
//!     attach: ${bill}
//! ```

use std::time::Duration;

use super::super::keys::MAIL_PARTS;
use super::super::reader::Members;
use super::super::values::MAX_WITHIN;
use super::super::yaml::Node;
use crate::diagnostic::Report;

/// A `mail` step.
#[derive(Clone, Debug)]
pub struct Mail {
    /// Recipients that all see.
    pub to: Option<Node>,
    /// Recipients of a copy.
    pub cc: Option<Node>,
    /// Recipients that the others do not see.
    pub bcc: Option<Node>,
    /// Where replies go.
    pub reply_to: Option<Node>,
    /// What it is about.
    pub subject: Node,
    /// Its text.
    pub text: Option<Node>,
    /// The same as a page.
    pub html: Option<Node>,
    /// A file, or a list of files.
    pub attach: Option<Node>,
    /// Timeout.
    pub within: Option<Duration>,
}

/// Reads a `mail` step.
pub(super) fn read(members: &Members, report: &mut Report) -> Option<Mail> {
    let node = members.get("mail")?;
    let parts = Members::new(node, "`mail`", &[MAIL_PARTS], report)?;
    let get = |name: &str| parts.get(name).cloned();
    if ["to", "cc", "bcc"].iter().all(|name| parts.get(name).is_none()) {
        report.error("missing-key", parts.at, "`mail` needs `to`");
        report.help("an address, or a list of addresses: `to: ${input.agent}`");
    }
    if parts.get("subject").is_none() {
        report.error("missing-key", parts.at, "`mail` needs `subject`");
    }
    if parts.get("text").is_none() && parts.get("html").is_none() {
        report.error("missing-key", parts.at, "`mail` needs `text` or `html`");
    }
    Some(Mail {
        to: get("to"),
        cc: get("cc"),
        bcc: get("bcc"),
        reply_to: get("reply_to"),
        subject: get("subject")?,
        text: get("text"),
        html: get("html"),
        attach: get("attach"),
        within: members.duration("within", MAX_WITHIN, report),
    })
}
