//! The trace that a request, a run or a job belongs to (W3C Trace Context).
//!
//! A trace has an id, the span that it continues, and whether its spans are kept. The service that begins a trace decides that for all of it;
//! the flag `sampled` passes the decision on.
//!
//! ```
//! use kanzlei_model::trace::Trace;
//! let trace = Trace::read("00-0af7651916cd43dd8448eb211c80319c-b7ad6b7169203331-01").expect("a trace");
//! assert!(trace.sampled);
//! assert_eq!(trace.header(0xb9c7c989f97918e1), "00-0af7651916cd43dd8448eb211c80319c-b9c7c989f97918e1-01");
//! assert_eq!(Trace::of_columns(&trace.id_text(), Some(&trace.parent_text())), trace);
//! ```

use crate::hex;

/// A trace, as far as one of its spans continues it.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Trace {
    /// Its id, which is not zero.
    pub id: u128,
    /// The span that is continued; none where the trace begins.
    pub parent: Option<u64>,
    /// Whether its spans are kept.
    pub sampled: bool,
}

impl Trace {
    /// The trace of a valid `traceparent` (§3.2). Later versions may have further parts.
    pub fn read(header: &str) -> Option<Self> {
        let mut parts = header.split('-');
        let hex = |part: &str, length: usize| {
            part.len() == length && part.bytes().all(|b| b.is_ascii_digit() || (b'a'..=b'f').contains(&b))
        };
        let (version, id, parent, flags) = (parts.next()?, parts.next()?, parts.next()?, parts.next()?);
        let fits = hex(version, 2) && version != "ff" && hex(id, 32) && hex(parent, 16) && hex(flags, 2);
        if !fits || (version == "00" && parts.next().is_some()) {
            return None;
        }
        let id = u128::from_str_radix(id, 16).ok().filter(|id| *id != 0)?;
        let parent = u64::from_str_radix(parent, 16).ok().filter(|parent| *parent != 0)?;
        let flags = u8::from_str_radix(flags, 16).ok()?;
        Some(Trace { id, parent: Some(parent), sampled: flags & 1 == 1 })
    }

    /// The same trace, continued from a span of it.
    #[must_use]
    pub fn within(self, span: u64) -> Self {
        Trace { parent: Some(span), ..self }
    }

    /// The `traceparent` of what a span of it calls.
    pub fn header(&self, span: u64) -> String {
        let mut text = String::with_capacity(55);
        text.push_str("00-");
        hex::push(&mut text, self.id, 32);
        text.push('-');
        hex::push(&mut text, span.into(), 16);
        text.push_str(if self.sampled { "-01" } else { "-00" });
        text
    }

    /// The id in 32 hexadecimal digits.
    pub fn id_text(&self) -> String {
        hex::of(&self.id.to_be_bytes())
    }

    /// The span that is continued, and the flags: what is kept beside the id.
    pub fn parent_text(&self) -> String {
        format!("{:016x}-{:02x}", self.parent.unwrap_or(0), u8::from(self.sampled))
    }

    /// What was kept with [`Trace::id_text`] and [`Trace::parent_text`]. Text that is none stands for no trace that is kept.
    pub fn of_columns(id: &str, parent: Option<&str>) -> Self {
        let (parent, flags) = parent.and_then(|text| text.split_once('-')).unwrap_or(("0", "00"));
        Trace {
            id: u128::from_str_radix(id, 16).unwrap_or(0),
            parent: u64::from_str_radix(parent, 16).ok().filter(|parent| *parent != 0),
            sampled: flags == "01",
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn headers_are_read_as_the_recommendation_says() {
        let id = "0af7651916cd43dd8448eb211c80319c";
        for (header, sampled) in [
            (format!("00-{id}-b7ad6b7169203331-01"), Some(true)),
            (format!("00-{id}-b7ad6b7169203331-00"), Some(false)),
            (format!("00-{id}-b7ad6b7169203331-03"), Some(true)),
            (format!("01-{id}-b7ad6b7169203331-01-more"), Some(true)),
            (format!("00-{id}-b7ad6b7169203331-01-more"), None),
            (format!("ff-{id}-b7ad6b7169203331-01"), None),
            (format!("00-{id}-0000000000000000-01"), None),
            (format!("00-{}-b7ad6b7169203331-01", "0".repeat(32)), None),
            (format!("00-{}-b7ad6b7169203331-01", id.to_uppercase()), None),
            (format!("00-{id}-b7ad6b7169203331"), None),
            ("00-é".into(), None),
        ] {
            assert_eq!(Trace::read(&header).map(|trace| trace.sampled), sampled, "{header}");
        }
    }
}
