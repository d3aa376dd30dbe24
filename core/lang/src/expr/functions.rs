//! The tables of what can be called: methods on values, functions by full name, constants, and what is
//! left out of ECMAScript with the reason that is shown.

/// Whether and where a call accepts a function as argument.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum FunctionArg {
    /// Takes no function.
    No,
    /// Takes a function as this argument, counted from 0.
    Required(usize),
    /// May have a function as this argument, counted from 0.
    Optional(usize),
}

const ANY: usize = usize::MAX;

macro_rules! callables {
    ($kind:ident: $($variant:ident $name:literal $least:literal..$most:tt $function:expr;)*) => {
        #[doc = concat!("What can be called as a ", stringify!($kind), "; the table holds names, arity and functions taken.")]
        #[derive(Clone, Copy, Debug, PartialEq, Eq)]
        pub enum $kind { $(#[doc = concat!("`", $name, "`.")] $variant),* }

        impl $kind {
            const ALL: &[($kind, &'static str, usize, usize, FunctionArg)] = {
                #[allow(unused_imports)]
                use FunctionArg::{No, Optional, Required};
                &[$(($kind::$variant, $name, $least, $most, $function)),*]
            };

            /// Returns the one of a name.
            pub fn by_name(name: &str) -> Option<Self> {
                Self::ALL.iter().find(|entry| entry.1 == name).map(|entry| entry.0)
            }

            /// Returns all names.
            pub fn names() -> impl Iterator<Item = &'static str> {
                Self::ALL.iter().map(|entry| entry.1)
            }

            /// Returns the name.
            pub fn name(self) -> &'static str {
                Self::ALL[self as usize].1
            }

            /// The least and the most arguments.
            pub fn arity(self) -> (usize, usize) {
                let entry = &Self::ALL[self as usize];
                (entry.2, entry.3)
            }

            /// Where it accepts a function.
            pub fn takes_function(self) -> FunctionArg {
                Self::ALL[self as usize].4
            }
        }
    };
}

callables! { Method:
    At "at" 1..1 No;
    CharAt "charAt" 0..1 No;
    CharCodeAt "charCodeAt" 0..1 No;
    CodePointAt "codePointAt" 0..1 No;
    Concat "concat" 0..ANY No;
    EndsWith "endsWith" 1..2 No;
    Entries "entries" 0..0 No;
    Every "every" 1..2 Required(0);
    Filter "filter" 1..2 Required(0);
    Find "find" 1..2 Required(0);
    FindIndex "findIndex" 1..2 Required(0);
    FindLast "findLast" 1..2 Required(0);
    FindLastIndex "findLastIndex" 1..2 Required(0);
    Flat "flat" 0..1 No;
    FlatMap "flatMap" 1..2 Required(0);
    HasOwnProperty "hasOwnProperty" 1..1 No;
    Includes "includes" 1..2 No;
    IndexOf "indexOf" 1..2 No;
    IsWellFormed "isWellFormed" 0..0 No;
    Join "join" 0..1 No;
    Keys "keys" 0..0 No;
    LastIndexOf "lastIndexOf" 1..2 No;
    LocaleCompare "localeCompare" 2..3 No;
    Map "map" 1..2 Required(0);
    Match "match" 1..1 No;
    MatchAll "matchAll" 1..1 No;
    Normalize "normalize" 0..1 No;
    PadEnd "padEnd" 1..2 No;
    PadStart "padStart" 1..2 No;
    Reduce "reduce" 1..2 Required(0);
    ReduceRight "reduceRight" 1..2 Required(0);
    Repeat "repeat" 1..1 No;
    Replace "replace" 2..2 Optional(1);
    ReplaceAll "replaceAll" 2..2 Optional(1);
    Search "search" 1..1 No;
    Slice "slice" 0..2 No;
    Some "some" 1..2 Required(0);
    Split "split" 0..2 No;
    StartsWith "startsWith" 1..2 No;
    Substring "substring" 1..2 No;
    ToExponential "toExponential" 0..1 No;
    ToFixed "toFixed" 0..1 No;
    ToLocaleString "toLocaleString" 1..2 No;
    ToLowerCase "toLowerCase" 0..0 No;
    ToPrecision "toPrecision" 0..1 No;
    ToReversed "toReversed" 0..0 No;
    ToSorted "toSorted" 0..1 Optional(0);
    ToSpliced "toSpliced" 0..ANY No;
    ToString "toString" 0..1 No;
    ToUpperCase "toUpperCase" 0..0 No;
    ToWellFormed "toWellFormed" 0..0 No;
    Trim "trim" 0..0 No;
    TrimEnd "trimEnd" 0..0 No;
    TrimStart "trimStart" 0..0 No;
    Values "values" 0..0 No;
    ValueOf "valueOf" 0..0 No;
    With "with" 2..2 No;
}

impl Method {
    /// Whether the first argument may be a pattern.
    pub fn takes_pattern(self) -> bool {
        use Method::*;
        matches!(self, Match | MatchAll | Replace | ReplaceAll | Search | Split)
    }
}

callables! { Change:
    Fill "fill" 1..3 No;
    ForEach "forEach" 1..1 Required(0);
    Pop "pop" 0..0 No;
    Push "push" 0..ANY No;
    Reverse "reverse" 0..0 No;
    Shift "shift" 0..0 No;
    Sort "sort" 0..1 Optional(0);
    Splice "splice" 1..ANY No;
    Unshift "unshift" 0..ANY No;
}

callables! { Static:
    Boolean "Boolean" 0..1 No;
    Number "Number" 0..1 No;
    String "String" 0..1 No;
    ParseInt "parseInt" 1..2 No;
    ParseFloat "parseFloat" 1..1 No;
    IsNaN "isNaN" 1..1 No;
    IsFinite "isFinite" 1..1 No;
    EncodeURIComponent "encodeURIComponent" 1..1 No;
    DecodeURIComponent "decodeURIComponent" 1..1 No;
    EncodeURI "encodeURI" 1..1 No;
    DecodeURI "decodeURI" 1..1 No;
    ArrayIsArray "Array.isArray" 1..1 No;
    ArrayOf "Array.of" 0..ANY No;
    ArrayFrom "Array.from" 1..2 Optional(1);
    NumberIsFinite "Number.isFinite" 1..1 No;
    NumberIsInteger "Number.isInteger" 1..1 No;
    NumberIsNaN "Number.isNaN" 1..1 No;
    NumberIsSafeInteger "Number.isSafeInteger" 1..1 No;
    NumberParseFloat "Number.parseFloat" 1..1 No;
    NumberParseInt "Number.parseInt" 1..2 No;
    ObjectEntries "Object.entries" 1..1 No;
    ObjectFromEntries "Object.fromEntries" 1..1 No;
    ObjectHasOwn "Object.hasOwn" 2..2 No;
    ObjectIs "Object.is" 2..2 No;
    ObjectKeys "Object.keys" 1..1 No;
    ObjectValues "Object.values" 1..1 No;
    StringFromCharCode "String.fromCharCode" 0..ANY No;
    StringFromCodePoint "String.fromCodePoint" 0..ANY No;
    JsonParse "JSON.parse" 1..1 No;
    JsonStringify "JSON.stringify" 1..3 No;
    MathAbs "Math.abs" 1..1 No;
    MathAcos "Math.acos" 1..1 No;
    MathAcosh "Math.acosh" 1..1 No;
    MathAsin "Math.asin" 1..1 No;
    MathAsinh "Math.asinh" 1..1 No;
    MathAtan "Math.atan" 1..1 No;
    MathAtan2 "Math.atan2" 2..2 No;
    MathAtanh "Math.atanh" 1..1 No;
    MathCbrt "Math.cbrt" 1..1 No;
    MathCeil "Math.ceil" 1..1 No;
    MathClz32 "Math.clz32" 1..1 No;
    MathCos "Math.cos" 1..1 No;
    MathCosh "Math.cosh" 1..1 No;
    MathExp "Math.exp" 1..1 No;
    MathExpm1 "Math.expm1" 1..1 No;
    MathFloor "Math.floor" 1..1 No;
    MathFround "Math.fround" 1..1 No;
    MathHypot "Math.hypot" 0..ANY No;
    MathImul "Math.imul" 2..2 No;
    MathLog "Math.log" 1..1 No;
    MathLog10 "Math.log10" 1..1 No;
    MathLog1p "Math.log1p" 1..1 No;
    MathLog2 "Math.log2" 1..1 No;
    MathMax "Math.max" 0..ANY No;
    MathMin "Math.min" 0..ANY No;
    MathPow "Math.pow" 2..2 No;
    MathRound "Math.round" 1..1 No;
    MathSign "Math.sign" 1..1 No;
    MathSin "Math.sin" 1..1 No;
    MathSinh "Math.sinh" 1..1 No;
    MathSqrt "Math.sqrt" 1..1 No;
    MathTan "Math.tan" 1..1 No;
    MathTanh "Math.tanh" 1..1 No;
    MathTrunc "Math.trunc" 1..1 No;
    TimeAdd "time.add" 2..3 No;
    TimeSubtract "time.subtract" 2..3 No;
    TimeBetween "time.between" 2..3 No;
    TimeCompare "time.compare" 2..2 No;
    TimeFormat "time.format" 2..3 No;
    TimeFromUnix "time.fromUnix" 1..1 No;
    TimeToUnix "time.toUnix" 1..1 No;
    TimeIn "time.in" 2..2 No;
    TimeStartOf "time.startOf" 2..3 No;
    TimeDate "time.date" 1..2 No;
    TimeParse "time.parse" 2..3 No;
    TimeWeek "time.week" 1..1 No;
    TimeWeekday "time.weekday" 1..1 No;
    TimeAddWorkingDays "time.addWorkingDays" 2..3 No;
    TimeIsWorkingDay "time.isWorkingDay" 1..2 No;
    TimeWorkingDays "time.workingDays" 2..3 No;
    DigestBase64 "digest.base64" 1..1 No;
    DigestFromBase64 "digest.fromBase64" 1..1 No;
    DigestHmacSha256 "digest.hmacSha256" 2..2 No;
    DigestSha256 "digest.sha256" 1..1 No;
    DigestHash "digest.hash" 2..3 No;
    DigestHmac "digest.hmac" 3..4 No;
    DigestBase64url "digest.base64url" 1..1 No;
    DigestFromBase64url "digest.fromBase64url" 1..1 No;
    DigestUuid "digest.uuid" 1..1 No;
    HtmlLinks "html.links" 2..2 No;
    HtmlMain "html.main" 1..1 No;
    HtmlMeta "html.meta" 1..1 No;
    HtmlRows "html.rows" 3..3 No;
    HtmlSelect "html.select" 2..2 No;
    HtmlText "html.text" 1..1 No;
    HtmlUrl "html.url" 1..2 No;
    ListChunk "list.chunk" 2..2 No;
    ListGroup "list.group" 2..2 Required(1);
    ListRange "list.range" 1..3 No;
    ListScan "list.scan" 3..3 Required(1);
    ListSortBy "list.sortBy" 2..2 Required(1);
    ListSum "list.sum" 1..2 Optional(1);
    ListUnique "list.unique" 1..2 Optional(1);
    ListZip "list.zip" 2..ANY No;
    Reveal "reveal" 1..1 No;
    StructuredClone "structuredClone" 1..1 No;
}

/// Names that only stand before a dot.
pub fn is_namespace(name: &str) -> bool {
    matches!(name, "Math" | "Object" | "Array" | "Number" | "String" | "JSON" | "time" | "digest" | "list" | "html")
}

/// Whether a global function has this name.
pub fn is_callable(name: &str) -> bool {
    Static::by_name(name).is_some()
}

/// A call to show to a person who used the bare name.
pub fn example(name: &str) -> String {
    match Static::names().find(|full| *full == name || full.starts_with(&format!("{name}."))) {
        Some(full) => format!("{full}(…)"),
        None => format!("{name}(…)"),
    }
}

/// Returns a constant of a namespace: `Math.PI`.
pub fn constant(namespace: &str, name: &str) -> Option<f64> {
    use std::f64::consts;
    Some(match (namespace, name) {
        ("Math", "PI") => consts::PI,
        ("Math", "E") => consts::E,
        ("Math", "LN2") => consts::LN_2,
        ("Math", "LN10") => consts::LN_10,
        ("Math", "LOG2E") => consts::LOG2_E,
        ("Math", "LOG10E") => consts::LOG10_E,
        ("Math", "SQRT2") => consts::SQRT_2,
        ("Math", "SQRT1_2") => consts::FRAC_1_SQRT_2,
        ("Number", "MAX_SAFE_INTEGER") => 9_007_199_254_740_991.0,
        ("Number", "MIN_SAFE_INTEGER") => -9_007_199_254_740_991.0,
        ("Number", "MAX_VALUE") => f64::MAX,
        ("Number", "MIN_VALUE") => 5e-324,
        ("Number", "EPSILON") => f64::EPSILON,
        ("Number", "POSITIVE_INFINITY") => f64::INFINITY,
        ("Number", "NEGATIVE_INFINITY") => f64::NEG_INFINITY,
        ("Number", "NaN") => f64::NAN,
        _ => return None,
    })
}

/// Why a global of ECMAScript is left out, and what to use.
pub fn refused(name: &str) -> Option<&'static str> {
    Some(match name {
        "Date" | "Temporal" | "Intl" => "instants are RFC 3339 texts; see the `time` functions",
        "Math.random" => "a run returns the same result for the same input; use a value of the input or `run.id`",
        "Object.assign" => "use a spread: `{...a, ...b}`",
        "Object.groupBy" | "Map.groupBy" => "use `list.group(items, item => key)`",
        "eval" | "Function" => "expressions never build programs",
        "fetch" | "XMLHttpRequest" => "use a `call` step",
        "console" => "use a `note` step",
        "process" | "globalThis" | "window" | "require" | "module" => "expressions see only the names of the workflow",
        "Promise" | "setTimeout" => "steps run one after another; for a wait use a `pause` step",
        "BigInt" => "integers keep 64 bits while they are passed through",
        "Symbol" | "Map" | "Set" | "WeakMap" | "WeakSet" | "Proxy" | "Reflect" => "use objects and arrays",
        "RegExp" => "write the pattern itself, as in `/^[A-Z]+$/`",
        "atob" => "use `digest.fromBase64(text)`",
        "btoa" => "use `digest.base64(text)`",
        "Error" => "use a `fail` step",
        _ => return None,
    })
}

/// Why a method of ECMAScript is left out, and what to use.
pub fn refused_method(name: &str) -> Option<&'static str> {
    Some(match name {
        "sort" => "values never change; use `toSorted`",
        "reverse" => "values never change; use `toReversed`",
        "splice" => "values never change; use `toSpliced`",
        "push" | "unshift" => "values never change; use a spread: `[...items, item]`",
        "pop" | "shift" => "values never change; use `slice`",
        "fill" | "copyWithin" => "values never change; use `map`",
        "forEach" => "use `map`, or an `each` step",
        "substr" => "use `slice` or `substring`",
        "toLocaleUpperCase" | "toLocaleLowerCase" => "use `toUpperCase` or `toLowerCase`",
        "toLocaleDateString" | "toLocaleTimeString" => "use `time.format` with a pattern",
        "then" | "catch" => "steps run one after another; what a step gave is already there",
        "call" | "apply" | "bind" => "functions are only arguments of methods",
        _ => return None,
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_callable_is_found_by_its_own_name() {
        for name in Method::names() {
            assert_eq!(Method::by_name(name).map(Method::name), Some(name));
        }
        for name in Static::names() {
            assert_eq!(Static::by_name(name).map(Static::name), Some(name));
        }
    }
}
