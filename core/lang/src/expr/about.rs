//! What methods and functions do, in a line each, for editors.
//!
//! ```
//! use kanzlei_lang::expr::about;
//! assert_eq!(about::function("time.add").unwrap().signature(), "time.add(instant, span, zone?) → instant");
//! ```

/// What a method or function is for.
#[derive(Debug)]
pub struct About {
    /// Its name; a function's with its namespace.
    pub name: &'static str,
    /// Its parameters; those that may be left out end with `?`, those that may be repeated begin with `…`.
    pub parameters: &'static str,
    /// What it returns.
    pub returns: &'static str,
    /// What it does, in a sentence.
    pub about: &'static str,
}

impl About {
    /// The call with its parameters and result, on one line.
    pub fn signature(&self) -> String {
        format!("{}({}) → {}", self.name, self.parameters, self.returns)
    }
}

/// Returns what is known of a method.
pub fn method(name: &str) -> Option<&'static About> {
    METHODS.iter().chain(CHANGES).find(|about| about.name == name)
}

/// Returns what is known of a function, by its full name.
pub fn function(name: &str) -> Option<&'static About> {
    FUNCTIONS.iter().find(|about| about.name == name)
}

macro_rules! abouts {
    ($($name:literal ($parameters:literal) $returns:literal $about:literal;)*) => {
        &[$(About { name: $name, parameters: $parameters, returns: $returns, about: $about }),*]
    };
}

/// Methods that only scripts have: they change the list that they are called on.
const CHANGES: &[About] = abouts! {
    "fill" ("value, start?, end?") "list" "Puts a value in place of all items, or of those between two positions.";
    "forEach" ("do") "undefined" "Runs a function for each item.";
    "pop" ("") "item" "Removes the last item and returns it.";
    "push" ("…items") "number" "Adds items at the end; returns the number of items.";
    "reverse" ("") "list" "Reverses the order of the items.";
    "shift" ("") "item" "Removes the first item and returns it.";
    "sort" ("compare?") "list" "Puts the items in order; without a function they compare as texts.";
    "splice" ("start, count?, …items") "list" "Replaces some items by others; returns those that were removed.";
    "unshift" ("…items") "number" "Adds items at the start; returns the number of items.";
};

const METHODS: &[About] = abouts! {
    "at" ("position") "item" "Returns the item or character at a position; negative positions count from the end.";
    "charAt" ("position?") "text" "Returns the character at a position, or an empty text.";
    "charCodeAt" ("position?") "number" "Returns the UTF-16 code unit at a position.";
    "codePointAt" ("position?") "number" "Returns the code point at a position.";
    "concat" ("…others") "list or text" "Returns this and the others joined one behind the other.";
    "endsWith" ("text, end?") "boolean" "Whether the text ends with another one.";
    "entries" ("") "list" "Returns pairs of position and item.";
    "every" ("test") "boolean" "Whether all items pass a test.";
    "filter" ("test") "list" "Returns the items that pass a test.";
    "find" ("test") "item" "Returns the first item that passes a test, or `undefined`.";
    "findIndex" ("test") "number" "Returns the position of the first item that passes a test, or -1.";
    "findLast" ("test") "item" "Returns the last item that passes a test, or `undefined`.";
    "findLastIndex" ("test") "number" "Returns the position of the last item that passes a test, or -1.";
    "flat" ("depth?") "list" "Returns the items of the lists in it.";
    "flatMap" ("change") "list" "Returns the items of the lists that a function makes of each item.";
    "hasOwnProperty" ("name") "boolean" "Whether a member of that name is there.";
    "includes" ("value, from?") "boolean" "Whether an item or a piece of text is in it.";
    "indexOf" ("value, from?") "number" "Returns the first position of an item or a piece of text, or -1.";
    "isWellFormed" ("") "boolean" "Whether the text holds no half of a surrogate pair; always true.";
    "join" ("separator?") "text" "Returns the items as one text, separated by a comma unless another separator is passed.";
    "keys" ("") "list" "Returns the positions of the items.";
    "lastIndexOf" ("value, from?") "number" "Returns the last position of an item or a piece of text, or -1.";
    "localeCompare" ("other, locale, options?") "number" "Returns -1, 0 or 1, as the text stands before another, with it or behind it in the order of a language: `'nb'`. Options: `numeric`, `sensitivity`.";
    "map" ("change") "list" "Returns what a function makes of each item.";
    "match" ("pattern") "list or null" "Returns the first match with its groups; with the flag `g` all matches.";
    "matchAll" ("pattern") "list" "Returns all matches, each with its groups.";
    "normalize" ("form?") "text" "Returns the text in a Unicode normalization form; default: `NFC`.";
    "padEnd" ("length, with?") "text" "Returns the text filled up to a length at its end.";
    "padStart" ("length, with?") "text" "Returns the text filled up to a length at its start.";
    "reduce" ("combine, first?") "value" "Returns what a function makes of all items, from left to right.";
    "reduceRight" ("combine, first?") "value" "Returns what a function makes of all items, from right to left.";
    "repeat" ("count") "text" "Returns the text so many times.";
    "replace" ("what, with") "text" "Returns the text with the first match replaced; with the flag `g` all matches.";
    "replaceAll" ("what, with") "text" "Returns the text with all matches replaced.";
    "search" ("pattern") "number" "Returns the position of the first match, or -1.";
    "slice" ("start?, end?") "list or text" "Returns the part from a position up to another; negative positions count from the end.";
    "some" ("test") "boolean" "Whether an item passes a test.";
    "split" ("separator?, most?") "list" "Returns the pieces of a text between separators.";
    "startsWith" ("text, from?") "boolean" "Whether the text begins with another one.";
    "substring" ("start, end?") "text" "Returns the part from a position up to another.";
    "toExponential" ("digits?") "text" "Returns the number in exponential notation.";
    "toLocaleString" ("locale, options?") "text" "Returns the number as it is written in a language: `'de'`, `'en-GB'`. Options: `minimumFractionDigits`, `maximumFractionDigits`, `useGrouping`.";
    "toFixed" ("digits?") "text" "Returns the number with so many digits behind the point.";
    "toLowerCase" ("") "text" "Returns the text in lower case.";
    "toPrecision" ("digits?") "text" "Returns the number with so many significant digits.";
    "toReversed" ("") "list" "Returns the items in reverse order.";
    "toSorted" ("compare?") "list" "Returns the items in order; without a function they compare as texts.";
    "toSpliced" ("start?, count?, …items") "list" "Returns the list with some items replaced by others.";
    "toString" ("radix?") "text" "Returns the value as text; a number in another base where one is passed.";
    "toUpperCase" ("") "text" "Returns the text in upper case.";
    "toWellFormed" ("") "text" "Returns the text itself.";
    "trim" ("") "text" "Returns the text without white space around it.";
    "trimEnd" ("") "text" "Returns the text without white space at its end.";
    "trimStart" ("") "text" "Returns the text without white space at its start.";
    "values" ("") "list" "Returns the items.";
    "valueOf" ("") "value" "Returns the value itself.";
    "with" ("position, item") "list" "Returns the list with the item at a position replaced.";
};

const FUNCTIONS: &[About] = abouts! {
    "Boolean" ("value?") "boolean" "Whether a value counts as true.";
    "Number" ("value?") "number" "Returns a value as a number; `NaN` where it is none.";
    "String" ("value?") "text" "Returns a value as text.";
    "parseInt" ("text, radix?") "number" "Returns the whole number a text begins with.";
    "parseFloat" ("text") "number" "Returns the number a text begins with.";
    "isNaN" ("value") "boolean" "Whether a value is no number, once it is read as one.";
    "isFinite" ("value") "boolean" "Whether a value is a finite number, once it is read as one.";
    "encodeURIComponent" ("text") "text" "Returns a text percent-encoded as one part of a URI.";
    "decodeURIComponent" ("text") "text" "Returns a percent-encoded part of a URI as text.";
    "encodeURI" ("text") "text" "Returns a URI with what may not stand in one percent-encoded.";
    "decodeURI" ("text") "text" "Returns a URI with its percent-encoding undone.";
    "Array.isArray" ("value") "boolean" "Whether a value is a list.";
    "Array.of" ("…items") "list" "Returns a list of the arguments.";
    "Array.from" ("value, change?") "list" "Returns a list of the items of a list or the characters of a text.";
    "Number.isFinite" ("value") "boolean" "Whether a value is a finite number.";
    "Number.isInteger" ("value") "boolean" "Whether a value is a whole number.";
    "Number.isNaN" ("value") "boolean" "Whether a value is `NaN`.";
    "Number.isSafeInteger" ("value") "boolean" "Whether a value is a whole number that a double holds exactly.";
    "Number.parseFloat" ("text") "number" "Returns the number a text begins with.";
    "Number.parseInt" ("text, radix?") "number" "Returns the whole number a text begins with.";
    "Object.entries" ("object") "list" "Returns pairs of name and value.";
    "Object.fromEntries" ("pairs") "object" "Returns an object made of pairs of name and value.";
    "Object.hasOwn" ("object, name") "boolean" "Whether a member of that name is there.";
    "Object.is" ("a, b") "boolean" "Whether two values are the same.";
    "Object.keys" ("object") "list" "Returns the names of the members.";
    "Object.values" ("object") "list" "Returns the values of the members.";
    "String.fromCharCode" ("…units") "text" "Returns the text of UTF-16 code units.";
    "String.fromCodePoint" ("…points") "text" "Returns the text of code points.";
    "JSON.parse" ("text") "value" "Reads a JSON text.";
    "JSON.stringify" ("value, members?, indent?") "text" "Returns a value as JSON text.";
    "Math.abs" ("number") "number" "Returns the absolute value.";
    "Math.acos" ("number") "number" "Returns the arc cosine, in radians.";
    "Math.acosh" ("number") "number" "Returns the inverse hyperbolic cosine.";
    "Math.asin" ("number") "number" "Returns the arc sine, in radians.";
    "Math.asinh" ("number") "number" "Returns the inverse hyperbolic sine.";
    "Math.atan" ("number") "number" "Returns the arc tangent, in radians.";
    "Math.atan2" ("y, x") "number" "Returns the angle of a point, in radians.";
    "Math.atanh" ("number") "number" "Returns the inverse hyperbolic tangent.";
    "Math.cbrt" ("number") "number" "Returns the cube root.";
    "Math.ceil" ("number") "number" "Rounds up.";
    "Math.clz32" ("number") "number" "Returns the leading zero bits of the number as 32 bits.";
    "Math.cos" ("angle") "number" "Returns the cosine of an angle in radians.";
    "Math.cosh" ("number") "number" "Returns the hyperbolic cosine.";
    "Math.exp" ("number") "number" "Returns e to a power.";
    "Math.expm1" ("number") "number" "Returns e to a power, less 1.";
    "Math.floor" ("number") "number" "Rounds down.";
    "Math.fround" ("number") "number" "Rounds to a 32-bit float.";
    "Math.hypot" ("…numbers") "number" "Returns the square root of the sum of squares.";
    "Math.imul" ("a, b") "number" "Returns the product as 32 bits.";
    "Math.log" ("number") "number" "Returns the natural logarithm.";
    "Math.log10" ("number") "number" "Returns the logarithm to base 10.";
    "Math.log1p" ("number") "number" "Returns the natural logarithm of the number plus 1.";
    "Math.log2" ("number") "number" "Returns the logarithm to base 2.";
    "Math.max" ("…numbers") "number" "Returns the greatest number.";
    "Math.min" ("…numbers") "number" "Returns the least number.";
    "Math.pow" ("base, exponent") "number" "Returns a power.";
    "Math.round" ("number") "number" "Rounds to the nearest whole number, halves up.";
    "Math.sign" ("number") "number" "Returns -1, 0 or 1.";
    "Math.sin" ("angle") "number" "Returns the sine of an angle in radians.";
    "Math.sinh" ("number") "number" "Returns the hyperbolic sine.";
    "Math.sqrt" ("number") "number" "Returns the square root.";
    "Math.tan" ("angle") "number" "Returns the tangent of an angle in radians.";
    "Math.tanh" ("number") "number" "Returns the hyperbolic tangent.";
    "Math.trunc" ("number") "number" "Drops what stands behind the point.";
    "time.add" ("instant, span, zone?") "instant" "Returns an instant later by a span: `2 days`, `PT48H`, `1 month`.";
    "time.subtract" ("instant, span, zone?") "instant" "Returns an instant earlier by a span.";
    "time.between" ("a, b, unit?") "number" "Returns the time from one instant to another, in seconds or another unit.";
    "time.compare" ("a, b") "number" "Returns -1, 0 or 1: which of two instants is earlier.";
    "time.format" ("instant, pattern, zone?") "text" "Returns an instant as text: `%d.%m.%Y`.";
    "time.fromUnix" ("seconds") "instant" "Returns the instant so many seconds after 1970.";
    "time.toUnix" ("instant") "number" "Returns the seconds since 1970.";
    "time.in" ("instant, zone") "text" "Returns an instant with the offset of a time zone: `Europe/Oslo`.";
    "time.date" ("instant, zone?") "date" "Returns the day of an instant on the clocks of a zone: `2026-12-24`.";
    "time.parse" ("text, pattern, zone?") "date or instant" "Reads a text by a pattern: `%d.%m.%Y` reads 24.12.2026.";
    "time.week" ("date") "number" "Returns the number of the week (ISO 8601), 1 to 53.";
    "time.weekday" ("date") "number" "Returns the day of the week, 1 for Monday to 7 for Sunday.";
    "time.addWorkingDays" ("date, count, holidays?") "date" "Returns the date so many working days later, or earlier; Monday to Friday, but for the holidays. With 0 the date itself, or the next working day.";
    "time.isWorkingDay" ("date, holidays?") "boolean" "Whether a date is a working day.";
    "time.workingDays" ("from, to, holidays?") "number" "Returns how many working days there are from a date up to, and without, another.";
    "time.startOf" ("instant, unit, zone?") "instant" "Returns when the year, month, week, day, hour or minute of an instant begins.";
    "digest.base64" ("text") "text" "Returns a text in Base64.";
    "digest.fromBase64" ("text") "text" "Returns the text of Base64.";
    "digest.hmacSha256" ("key, text") "text" "Returns the HMAC-SHA-256 of a text, in hexadecimal.";
    "digest.sha256" ("text") "text" "Returns the SHA-256 of a text, in hexadecimal.";
    "digest.hash" ("algorithm, text, encoding?") "text" "Returns the hash of a text: SHA-256, SHA-384, SHA-512, SHA-1, MD5; in `hex`, `base64` or `base64url`.";
    "digest.hmac" ("algorithm, key, text, encoding?") "text" "Returns the HMAC of a text, with the same algorithms and encodings.";
    "digest.base64url" ("text") "text" "Returns a text in Base64 for URLs, without padding.";
    "digest.fromBase64url" ("text") "text" "Returns the text of Base64 for URLs.";
    "digest.uuid" ("name") "text" "Returns a UUID that nobody can guess: the same for the same name in one run, also when the run is repeated.";
    "html.links" ("page, address") "list" "Returns the links of a page: `text`, and the absolute `url` by the address of the page.";
    "html.main" ("page") "text" "Returns the text of what a page is for, without what leads through the site.";
    "html.meta" ("page") "object" "Returns what a page says of itself: `title`, `description`, `language`, `canonical`, `properties`.";
    "html.rows" ("page, selector, fields") "list" "Returns an object for each element of a CSS selector; each field is a selector within it, with `@name` for an attribute: `{title: 'h2', link: 'a@href'}`.";
    "html.select" ("page, selector") "list" "Returns the elements of a CSS selector: `tag`, `text`, `html`, `attributes`.";
    "html.text" ("page") "text" "Returns the text of a page as a reader sees it; like all of `html`, of a text or of the lines of a file.";
    "html.url" ("text, base?") "object" "Returns the parts of an address, or `null`: `href`, `scheme`, `host`, `port`, `path`, `query`, `fragment`.";
    "list.scan" ("list, combine, first") "list" "Returns what a function makes of each item and of its result for the items before: running totals.";
    "list.chunk" ("list, size") "list" "Returns the items in lists of at most so many.";
    "list.group" ("list, key") "object" "Returns lists of items by the key that a function returns for each.";
    "list.range" ("from?, to, step?") "list" "Returns the numbers from one up to, and without, another.";
    "list.sortBy" ("list, key") "list" "Returns the items in the order of what a function returns for each.";
    "list.sum" ("list, number?") "number" "Returns the sum of the items, or of what a function returns for each.";
    "list.unique" ("list, key?") "list" "Returns the items without those that occur before.";
    "list.zip" ("list, …others") "list" "Returns lists of the items that stand at the same position.";
    "reveal" ("value") "value" "Returns a confidential value as one that may be shown.";
    "structuredClone" ("value") "value" "Returns a copy, all the way down, which a script can change.";
};

#[cfg(test)]
mod tests {
    use super::*;
    use crate::expr::functions::{Change, Method, Static};

    /// How many arguments a line of parameters allows.
    fn arity(parameters: &str) -> (usize, usize) {
        let names: Vec<&str> = parameters.split(", ").filter(|name| !name.is_empty()).collect();
        let least = names.iter().filter(|name| !name.ends_with('?') && !name.starts_with('…')).count();
        let most = if names.iter().any(|name| name.starts_with('…')) { usize::MAX } else { names.len() };
        (least, most)
    }

    #[test]
    fn every_method_and_function_is_described() {
        for name in Method::names() {
            let about = method(name).unwrap_or_else(|| panic!("`{name}` is not described"));
            let (least, most) = Method::by_name(name).expect("a method").arity();
            // The second argument of methods with a function is the value that ECMAScript binds; it means nothing here.
            let shown = arity(about.parameters);
            assert!(shown.0 == least && shown.1 <= most, "{name}: {shown:?}, {least} to {most}");
        }
        for name in Static::names() {
            let about = function(name).unwrap_or_else(|| panic!("`{name}` is not described"));
            let (least, most) = Static::by_name(name).expect("a function").arity();
            let shown = arity(about.parameters);
            assert!(shown.0 <= least.max(1) && shown.1 == most, "{name}: {shown:?}, {least} to {most}");
        }
        for name in Change::names() {
            assert!(CHANGES.iter().any(|about| about.name == name), "`{name}` is not described");
        }
        let described = METHODS.len() + FUNCTIONS.len() + CHANGES.len();
        assert_eq!(described, Method::names().count() + Static::names().count() + Change::names().count());
    }
}
