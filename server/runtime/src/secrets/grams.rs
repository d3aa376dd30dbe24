//! Where forms of secrets can begin in bytes: almost nowhere, which is found out by looking at few of them.
//!
//! Behind a window as long as the shortest form, the last three bytes say how far the next window may be (the search of Wu and Manber):
//! where they occur in no form, none begins within the window. Most places are passed in steps of nearly a window. Letters count in any case.
//!
//! ```text
//! Grams::of(["s3cret-value"]).first(b"{\"harbour\":\"LIN\"}", 0)   // nothing, after two looks
//! ```

/// Bytes that are looked at together.
const GRAM: usize = 3;
/// The longest window.
const LONGEST: usize = 32;
/// Entries of the table for each part of a form; with fewer, too many places look like a beginning.
const ENTRIES: usize = 16;
/// The smallest and the largest table, as powers of two of bytes.
const SMALLEST: u32 = 12;
const LARGEST: u32 = 16;

/// How far a window may be moved, by its last bytes.
#[derive(Debug)]
pub(super) struct Grams {
    window: usize,
    shift: u32,
    steps: Box<[u8]>,
}

impl Grams {
    /// The table for these forms; `None` if one is shorter than three bytes or the table would be too large.
    pub fn of<'f>(forms: impl Iterator<Item = &'f [u8]> + Clone) -> Option<Self> {
        let window = forms.clone().map(<[u8]>::len).min()?.min(LONGEST);
        let parts = forms.clone().count() * window.checked_sub(GRAM - 1).filter(|parts| *parts > 0)?;
        let power = (parts * ENTRIES).next_power_of_two().ilog2().max(SMALLEST);
        if power > LARGEST {
            return None;
        }
        let farthest = (window - GRAM + 1) as u8;
        let mut grams = Grams { window, shift: u32::BITS - power, steps: vec![farthest; 1 << power].into() };
        for form in forms {
            for (at, gram) in form[..window].windows(GRAM).enumerate() {
                let place = grams.place(gram);
                grams.steps[place] = grams.steps[place].min((window - GRAM - at) as u8);
            }
        }
        Some(grams)
    }

    /// The first place from one on at which a form can begin.
    pub fn first(&self, bytes: &[u8], from: usize) -> Option<usize> {
        let mut end = from + self.window;
        while let Some(gram) = bytes.get(end - GRAM..end) {
            match self.steps[self.place(gram)] {
                0 => return Some(end - self.window),
                step => end += usize::from(step),
            }
        }
        None
    }

    /// The entry of three bytes: capitals have those of small letters.
    fn place(&self, gram: &[u8]) -> usize {
        let number = gram.iter().fold(0, |number, byte| number << 8 | u32::from(byte | 0x20));
        // The golden ratio spreads them over the table.
        (number.wrapping_mul(0x9E37_79B1) >> self.shift) as usize
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn no_beginning_is_passed_over() {
        let forms = ["s3cret-value", "0123456789abcdef0123456789abcdef", "Pilots' word"];
        let grams = Grams::of(forms.iter().map(|form| form.as_bytes())).expect("a table");
        let around = ["", "x", "s3cret-valu", "a longer text in which nothing is to be found ", "\u{e5}\u{ff}-"];
        for form in forms {
            for (before, behind) in around.iter().flat_map(|before| around.map(|behind| (before, behind))) {
                for form in [form.to_owned(), form.to_uppercase()] {
                    let text = format!("{before}{form}{behind}");
                    let mut places = std::iter::successors(grams.first(text.as_bytes(), 0), |place| {
                        grams.first(text.as_bytes(), place + 1)
                    });
                    assert!(places.any(|place| place == before.len()), "{text}");
                }
            }
        }
    }

    #[test]
    fn few_places_look_like_a_beginning() {
        let forms: Vec<String> = (0..100).map(|n| format!("{:x}", (n as u128 + 1) * 0x9E37_79B9_7F4A_7C15)).collect();
        let grams = Grams::of(forms.iter().map(|form| form.as_bytes())).expect("a table");
        let text = "{\"harbour\":\"LIN\",\"imo\":\"9074720\",\"nights\":2,\"cargo\":\"UN1202 gas oil\"}".repeat(100);
        let places = std::iter::successors(grams.first(text.as_bytes(), 0), |at| grams.first(text.as_bytes(), at + 1));
        assert!(places.count() < text.len() / 50);
        let many: Vec<Vec<u8>> = (0..5000_u32).map(|n| n.to_le_bytes().repeat(4)).collect();
        for (forms, table) in [(&["ab".into()][..], false), (&["abc".into()], true), (&many, false), (&[], false)] {
            assert_eq!(Grams::of(forms.iter().map(Vec::as_slice)).is_some(), table);
        }
    }
}
