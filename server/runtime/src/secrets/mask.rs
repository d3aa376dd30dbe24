//! Masks: secrets and confidential values out of texts that leave the service, in the forms in which they travel.
//!
//! A value of eight bytes or more is found as it is and as JSON, a URL, base64 (both alphabets, at any place of what was
//! encoded) and hexadecimal digits write it, reversed too, all in any case. Values of four to seven bytes are found as they
//! are, in JSON and in URLs; shorter ones would be found everywhere. What a workflow computes from a value (a digest, a part, a
//! sum) is not found.
//!
//! ```text
//! Forms::of(["s3cret-value"]).mask("key czNjcmV0LXZhbHVl".into())   // "key •••"
//! ```

use std::cell::OnceCell;
use std::collections::BTreeSet;

use aho_corasick::{AhoCorasick, Input, MatchKind};
use base64::Engine;
use base64::engine::general_purpose::{STANDARD_NO_PAD, URL_SAFE_NO_PAD};
use kanzlei_engine::machine::Machine;
use kanzlei_model::hex;
use kanzlei_model::value::Value;

use super::grams::Grams;
use super::{MASK, Secrets};

/// Shorter values are not looked for.
const SHORTEST: usize = 4;
/// Shorter values are not looked for in encodings.
const SHORTEST_ENCODED: usize = 8;
/// The most bytes of all forms together; what is beyond is found as it is only.
const MOST: usize = 4 << 20;
/// Places that look like the beginning of a form, behind which all of the rest is searched.
const TRIES: usize = 16;
/// Steps of a run whose confidential values are looked for in texts.
const RECORDS: usize = 1000;

/// The forms of some values, searched for all at once.
#[derive(Default)]
pub struct Forms(Option<Search>);

struct Search {
    automaton: AhoCorasick,
    /// An index of the places where a form may begin; `None` if the forms are too many for it.
    grams: Option<Grams>,
    longest: usize,
}

impl Forms {
    /// The forms of values.
    pub fn of<'v>(values: impl IntoIterator<Item = &'v str>) -> Self {
        let (mut forms, mut bytes) = (BTreeSet::new(), 0);
        for value in values.into_iter().filter(|value| value.len() >= SHORTEST) {
            let all = if bytes < MOST { forms_of(value) } else { vec![value.as_bytes().to_vec()] };
            bytes += all.iter().map(Vec::len).sum::<usize>();
            forms.extend(all);
        }
        if forms.is_empty() {
            return Forms(None);
        }
        let grams = Grams::of(forms.iter().map(Vec::as_slice));
        let longest = forms.iter().map(Vec::len).max().unwrap_or_default();
        let mut builder = AhoCorasick::builder();
        match builder.match_kind(MatchKind::LeftmostLongest).ascii_case_insensitive(true).build(forms) {
            Ok(automaton) => Forms(Some(Search { automaton, grams, longest })),
            Err(error) => {
                tracing::error!(%error, "secrets cannot be looked for in texts");
                Forms(None)
            }
        }
    }

    /// The text with [`MASK`] in place of every form.
    pub fn mask(&self, text: String) -> String {
        match self.mask_bytes(text.as_bytes()) {
            // A form is found at the borders of characters, or it holds bytes that no text has.
            Some(masked) => String::from_utf8_lossy(&masked).into_owned(),
            None => text,
        }
    }

    /// Whether bytes hold a form.
    pub fn occur_in(&self, bytes: &[u8]) -> bool {
        self.0.as_ref().is_some_and(|search| search.first(bytes).is_some())
    }

    /// The bytes with [`MASK`] in place of every form; nothing when there is none.
    pub fn mask_bytes(&self, bytes: &[u8]) -> Option<Vec<u8>> {
        let search = self.0.as_ref()?;
        let (mut masked, mut from) = (Vec::new(), 0);
        let first = search.first(bytes)?;
        for found in search.automaton.find_iter(Input::new(bytes).range(first..)) {
            masked.extend_from_slice(&bytes[from..found.start()]);
            masked.extend_from_slice(MASK.as_bytes());
            from = found.end();
        }
        if from == 0 {
            return None;
        }
        masked.extend_from_slice(&bytes[from..]);
        Some(masked)
    }
}

impl Search {
    /// A place before which no form begins; nothing where there is none at all.
    fn first(&self, bytes: &[u8]) -> Option<usize> {
        let is_within = |from: usize, to: usize| self.automaton.is_match(Input::new(bytes).range(from..to));
        let mut from = 0;
        if let Some(grams) = &self.grams {
            for _ in 0..TRIES {
                from = grams.first(bytes, from)?;
                if is_within(from, bytes.len().min(from + self.longest)) {
                    return Some(from);
                }
                from += 1;
            }
        }
        is_within(from, bytes.len()).then_some(from)
    }
}

/// A value as it is, and as others write it.
fn forms_of(value: &str) -> Vec<Vec<u8>> {
    let mut json = serde_json::Value::from(value).to_string();
    json.pop();
    let mut ascii = String::new();
    for unit in value.encode_utf16() {
        match char::from_u32(unit.into()).filter(|c| c.is_ascii() && !c.is_ascii_control()) {
            Some(c @ ('"' | '\\')) => ascii.extend(['\\', c]),
            Some(c) => ascii.push(c),
            None => ascii.push_str(&format!("\\u{unit:04x}")),
        }
    }
    let percent: String = value.bytes().map(percent_encoded).collect();
    let every: String = value.bytes().map(|byte| format!("%{byte:02x}")).collect();
    let slashes = json.get(1..).unwrap_or_default().replace('/', "\\/");
    let mut forms: Vec<String> = vec![
        value.into(),
        json.get(1..).unwrap_or_default().into(),
        ascii,
        slashes,
        percent.clone(),
        percent.replace("%20", "+"),
        every,
    ];
    if value.len() >= SHORTEST_ENCODED {
        forms.push(hex::of(value.as_bytes()));
        forms.extend(in_base64(value.as_bytes()));
        forms.push(value.chars().rev().collect());
    }
    forms.into_iter().map(String::into_bytes).collect()
}

/// What of a value's base64 does not depend on what stands around it, at each of the three places.
fn in_base64(value: &[u8]) -> impl Iterator<Item = String> {
    let value = value.to_vec();
    (0..3).flat_map(move |before| {
        let bytes = [&vec![0; before][..], &value].concat();
        let (first, partial) = ([0, 2, 3][before], usize::from(bytes.len() % 3 != 0));
        [STANDARD_NO_PAD.encode(&bytes), URL_SAFE_NO_PAD.encode(&bytes)]
            .map(|text| text[first..text.len() - partial].to_owned())
    })
}

fn percent_encoded(byte: u8) -> String {
    match byte {
        b'a'..=b'z' | b'A'..=b'Z' | b'0'..=b'9' | b'-' | b'.' | b'_' | b'~' => (byte as char).to_string(),
        _ => format!("%{byte:02X}"),
    }
}

/// Masks texts that may quote a value of a run, such as the detail of a failure.
pub struct RunMask<'s> {
    secrets: &'s Secrets,
    own: BTreeSet<String>,
    forms: OnceCell<Forms>,
}

impl Secrets {
    /// What masks texts of one run: the secrets, and what its workflow declares as confidential.
    pub fn of_run(&self, machine: &Machine, input: &Value) -> RunMask<'_> {
        let mut own = BTreeSet::new();
        let labels = &machine.plan().labels;
        if labels.any {
            machine.plan().input.label.collect(input, &mut own);
            for record in machine.records().iter().take(RECORDS) {
                let Some(shown) = machine.shown(record) else { continue };
                shown.sent.collect(&record.sent, &mut own);
                shown.outcome.collect(&record.outcome(machine.plan_of(record)), &mut own);
            }
        }
        RunMask { secrets: self, own, forms: OnceCell::new() }
    }
}

impl Secrets {
    /// What masks texts made of values that are confidential.
    pub fn of_values(&self, own: BTreeSet<String>) -> RunMask<'_> {
        RunMask { secrets: self, own, forms: OnceCell::new() }
    }
}

impl RunMask<'_> {
    /// The text without secrets and confidential values.
    pub fn text(&self, text: String) -> String {
        let text = self.secrets.mask(text);
        if self.own.is_empty() {
            return text;
        }
        self.forms.get_or_init(|| Forms::of(self.own.iter().map(String::as_str))).mask(text)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use base64::engine::general_purpose::{STANDARD, URL_SAFE};

    #[test]
    fn a_secret_is_masked_however_it_is_written() {
        let secret = "s3\"cret/ö?> ok";
        let forms = Forms::of([secret, "abc", "abcd"]);
        let hex: String = secret.bytes().map(|b| format!("{b:02X}")).collect();
        for (text, wanted) in [
            (format!("x {secret} y"), "x ••• y"),
            (format!("x {} y", secret.to_uppercase().replace('Ö', "ö")), "x ••• y"),
            (format!("x {} y", secret.chars().rev().collect::<String>()), "x ••• y"),
            (serde_json::json!({"k": secret}).to_string(), r#"{"k":"•••"}"#),
            (r#"{"k":"s3\"cret\/ö?> ok"}"#.into(), r#"{"k":"•••"}"#),
            (r#"{"k":"s3\"cret/\u00F6?> ok"}"#.into(), r#"{"k":"•••"}"#),
            ("?k=s3%22cret%2F%C3%B6%3F%3E%20ok&n=1".into(), "?k=•••&n=1"),
            ("?k=s3%22cret%2f%c3%b6%3f%3e+ok&n=1".into(), "?k=•••&n=1"),
            (format!("h {hex} h"), "h ••• h"),
            ("abc is too short to be found".into(), "abc is too short to be found"),
            ("four: ABCD, but not YWJjZA==".into(), "four: •••, but not YWJjZA=="),
        ] {
            assert_eq!(forms.mask(text.clone()), wanted, "{text}");
        }
        for before in ["", "a", "ab", "abc:"] {
            for after in ["", "z", "yz", ":xyz"] {
                for engine in [STANDARD, URL_SAFE] {
                    let text = engine.encode(format!("{before}{secret}{after}"));
                    let masked = forms.mask(text.clone());
                    let middle = engine.encode(secret);
                    assert!(masked.contains(MASK) && masked.len() < text.len() - 8, "{text} {masked}");
                    assert!(!masked.contains(&middle[..8]), "{masked}");
                }
            }
        }
    }

    /// Texts made of pieces of forms and of others are masked alike with and without passing over places.
    #[test]
    fn passing_over_places_changes_nothing() {
        let forms = Forms::of(["s3cret-value", "value of another", "9074720"]);
        let Forms(Some(search)) = Forms::of(["s3cret-value", "value of another", "9074720"]) else { panic!() };
        let whole = Forms(Some(Search { grams: None, ..search }));
        let pieces =
            ["s3cret-value", " of another", "S3CRET", "-val", "9074720", "907", "{\"imo\":\"", "czNjcmV0LXZhbHVl", "å"];
        let mut number = 7_u64;
        for _ in 0..2000 {
            let mut text = String::new();
            for _ in 0..number % 12 {
                number = number.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
                text.push_str(pieces[(number >> 33) as usize % pieces.len()]);
            }
            number = number.wrapping_add(1);
            assert_eq!(forms.mask(text.clone()), whole.mask(text));
        }
    }

    #[test]
    fn bytes_without_a_secret_are_not_copied() {
        let forms = Forms::of(["s3cret-value"]);
        assert_eq!(forms.mask_bytes(b"\xff nothing here"), None);
        let masked = [b"\xff ".as_slice(), MASK.as_bytes(), b"\xfe"].concat();
        assert_eq!(forms.mask_bytes(b"\xff s3cret-value\xfe"), Some(masked));
        assert_eq!(Forms::of([]).mask_bytes(b"x"), None);
    }
}
