//! Which hosts a service may be at whose base names none: `base: "https://{host}"`.
//!
//! The host of a call is a value of the run, which may come from a stranger. It is a name, never an address, and whether the
//! service lets it be called is decided here, for live calls, rehearsals and redirects alike. The performer of the call
//! makes sure that the name resolves to public addresses only.
//!
//! ```
//! use kanzlei_lang::document::hosts::Hosts;
//! let hosts = Hosts::Named(vec!["*.lindvik.example".into(), "nesholm.example".into()]);
//! assert_eq!(hosts.admit("Board.Lindvik.example"), Ok("board.lindvik.example".to_owned()));
//! assert!(hosts.admit("lindvik.example.evil.example").is_err());
//! ```

use url::Host;

use super::reader::Members;
use super::yaml::Kind;
use crate::diagnostic::Report;

/// What stands for the host in a base address.
pub const HOST: &str = "{host}";
/// The most patterns of a service.
const MOST: usize = 100;

/// The hosts of a service.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Hosts {
    /// Every name.
    Any,
    /// Names, and with `*.` in front all names below one.
    Named(Vec<String>),
}

impl Hosts {
    /// A host as it is called: in lower case, other scripts as Punycode (the URL Standard).
    ///
    /// # Errors
    /// Why it is not called.
    pub fn admit(&self, host: &str) -> Result<String, String> {
        let shown: String = host.chars().take(80).collect();
        let name = match Host::parse(host) {
            Ok(Host::Domain(name)) => name,
            Ok(_) => return Err(format!("`{shown}` is an address; a service is at a host by its name")),
            Err(_) => return Err(format!("`{shown}` is no name of a host")),
        };
        let labels = name.split('.').filter(|label| !label.is_empty()).count();
        if labels < 2 || name.ends_with('.') || name.starts_with('.') || name.len() > 253 {
            return Err(format!("`{shown}` is no full name of a host, such as `board.lindvik.example`"));
        }
        let fits = |pattern: &String| match pattern.strip_prefix('*') {
            Some(suffix) => name.len() > suffix.len() && name.ends_with(suffix),
            None => name == *pattern,
        };
        match self {
            Hosts::Any => Ok(name),
            Hosts::Named(patterns) if patterns.iter().any(fits) => Ok(name),
            Hosts::Named(patterns) => Err(format!("`{name}` is none of its hosts: {}", patterns.join(", "))),
        }
    }

    /// As documents write it.
    pub fn shown(&self) -> Vec<String> {
        match self {
            Hosts::Any => vec!["any".to_owned()],
            Hosts::Named(patterns) => patterns.clone(),
        }
    }
}

/// Reads `hosts`.
pub(super) fn read(members: &Members, report: &mut Report) -> Option<Hosts> {
    let node = members.get("hosts")?;
    if node.as_text() == Some("any") {
        return Some(Hosts::Any);
    }
    let Kind::List(_) = node.kind else {
        report.error(
            "wrong-value",
            node.at,
            "`hosts` is `any`, or a list of names: `[board.lindvik.example, \"*.nesholm.example\"]`",
        );
        return None;
    };
    let (mut patterns, mut sound) = (Vec::new(), true);
    for node in members.list("hosts", report) {
        let text = node.as_text().unwrap_or_default();
        let name = text.strip_prefix("*.").unwrap_or(text);
        match Hosts::Any.admit(name) {
            Ok(name) => patterns.push(if text.starts_with("*.") { format!("*.{name}") } else { name }),
            Err(_) => {
                let message = "a host is written as `board.lindvik.example`, or `*.lindvik.example` for all below it";
                report.error("wrong-value", node.at, message);
                sound = false;
            }
        }
    }
    if !sound {
        return None;
    }
    if patterns.is_empty() || patterns.len() > MOST {
        report.error("wrong-value", node.at, format!("`hosts` names 1 to {MOST} hosts"));
        return None;
    }
    Some(Hosts::Named(patterns))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_names_that_a_service_has_are_called() {
        let some = Hosts::Named(vec!["*.lindvik.example".into(), "nesholm.example".into()]);
        for (host, any, named) in [
            ("board.lindvik.example", true, true),
            ("a.b.LINDVIK.example", true, true),
            ("nesholm.example", true, true),
            ("lindvik.example", true, false),
            ("evil-lindvik.example", true, false),
            ("board.lindvik.example.evil.example", true, false),
            ("www.nesholm.example", true, false),
            ("h\u{e5}vn.lindvik.example", true, true),
            // No name, or one that ends elsewhere.
            ("127.0.0.1", false, false),
            ("2130706433", false, false),
            ("0x7f.1", false, false),
            ("[::1]", false, false),
            ("localhost", false, false),
            ("board.lindvik.example.", false, false),
            ("board.lindvik.example:8080", false, false),
            ("user@board.lindvik.example", false, false),
            ("board.lindvik.example/x", false, false),
            ("evil.example#.lindvik.example", false, false),
            ("evil.example?.lindvik.example", false, false),
            ("evil.example\\.lindvik.example", false, false),
            ("board.lindvik.example\r\nx: y", false, false),
            (" ", false, false),
            ("", false, false),
        ] {
            assert_eq!((Hosts::Any.admit(host).is_ok(), some.admit(host).is_ok()), (any, named), "{host:?}");
        }
        assert_eq!(Hosts::Any.admit("h\u{e5}vn.example").as_deref(), Ok("xn--hvn-ula.example"));
    }
}
