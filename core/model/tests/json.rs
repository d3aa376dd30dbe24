//! JSON that is read as far as it is asked for, against serde_json, which reads all of it: on the JSON Parsing Test Suite (`json/`, with its
//! licence) and on generated texts, whole and broken.

use kanzlei_model::value::Value;
use kanzlei_samples::{Dice, with_dice};

/// So long that what is behind it stays text until it is asked for.
fn long(text: &[u8]) -> Vec<u8> {
    [format!("[\"{}\",", "x".repeat(600)).as_bytes(), text, b"]"].concat()
}

/// Both ways accept or refuse a text, with the same words, and make the same of it.
fn alike(text: &[u8]) {
    for text in [text.to_vec(), long(text), [b" \n[1, ", text, b"]\r\n\t"].concat()] {
        let shown = String::from_utf8_lossy(&text);
        let (quick, full) = (Value::read(text.as_slice().into()), serde_json::from_slice::<Value>(&text));
        let (quick, full) = match (quick, full) {
            (Ok(quick), Ok(full)) => (quick, full),
            (quick, full) => {
                let said = |one: serde_json::Result<Value>| one.map(|value| value.to_json()).map_err(|e| e.to_string());
                assert_eq!(said(quick), said(full), "{shown}");
                continue;
            }
        };
        // First as text, then member by member.
        assert_eq!(quick.to_json(), full.to_json(), "{shown}");
        assert_eq!((quick.depth(), quick.weight()), (full.depth(), full.weight()), "{shown}");
        same(&quick, &full, &shown);
        assert_eq!(quick.to_json(), full.to_json(), "{shown}");
    }
}

fn same(quick: &Value, full: &Value, shown: &str) {
    assert_eq!(std::mem::discriminant(quick), std::mem::discriminant(full), "{shown}");
    assert_eq!((quick.depth(), quick.weight()), (full.depth(), full.weight()), "{shown}");
    match (quick, full) {
        (Value::List(quick), Value::List(full)) => {
            assert_eq!(quick.len(), full.len(), "{shown}");
            quick.items().iter().zip(full.items()).for_each(|(quick, full)| same(quick, full, shown));
        }
        (Value::Object(quick), Value::Object(full)) => {
            assert_eq!(quick.len(), full.len(), "{shown}");
            for ((name, quick), (known, full)) in quick.iter().zip(full.iter()) {
                assert_eq!(name, known, "{shown}");
                same(quick, full, shown);
            }
        }
        (Value::Num(quick), Value::Num(full)) => assert_eq!(quick.to_bits(), full.to_bits(), "{shown}"),
        _ => assert_eq!(quick, full, "{shown}"),
    }
}

#[test]
fn the_test_suite_is_accepted_and_refused_as_before() {
    let mut seen = [0; 3];
    for line in include_str!("json/suite.jsonl").lines() {
        let (name, input): (String, String) = serde_json::from_str(line).expect("a line of the suite");
        let accepted = Value::read(input.as_bytes().into()).is_ok();
        match &name[..2] {
            "y_" => seen[0] += usize::from(accepted),
            "n_" => seen[1] += usize::from(!accepted),
            _ => seen[2] += 1,
        }
        alike(input.as_bytes());
    }
    assert_eq!(seen, [95, 186, 57], "all that are to be accepted or refused");
    let deep = |levels: usize| ["[".repeat(levels), "]".repeat(levels)].concat();
    for text in [&b"\xff"[..], b"\"\xc3\"", b"{\"\xed\xa0\x80\":1}", b"[1e400]", b"", &"9".repeat(400).into_bytes()] {
        alike(text);
    }
    for levels in [126, 127, 128, 100_000] {
        alike(deep(levels).as_bytes());
        alike("[{\"\":".repeat(levels / 2).as_bytes());
    }
}

const TEXTS: &[&str] = &[
    "",
    "a",
    "name",
    "10",
    "2",
    "01",
    "å",
    "😀",
    "\\n",
    "\\/",
    "\\u0001",
    "\\u001F",
    "\\u0041",
    "\\ud83d\\ude00",
    "\\\"x\\\\",
    "\\ud800",
    "\\u000a",
    "\u{2028}",
    "a longer text that is not so short",
];
const NUMBERS: &[&str] = &[
    "0",
    "-0",
    "7",
    "-12",
    "9007199254740993",
    "9223372036854775807",
    "-9223372036854775808",
    "18446744073709551615",
    "123456789012345678901234567890",
    "0.5",
    "1.0",
    "1.50",
    "-3.25",
    "0.1",
    "0.000001",
    "0.0000001",
    "1e5",
    "1E-7",
    "1e21",
    "2.5e+3",
    "123456789012.345",
    "0.30000000000000004",
    "1.7976931348623157e308",
    "1e400",
    "5e-324",
];

fn text(dice: &mut Dice, level: usize, out: &mut String) {
    let blank = *dice.pick(&["", "", "", "", " ", "\n  "]);
    out.push_str(blank);
    match dice.below(if level > 4 { 3 } else { 6 }) {
        0 => out.push_str(dice.pick::<&str>(NUMBERS)),
        1 => out.push_str(&format!("\"{}\"", dice.pick(TEXTS))),
        2 => out.push_str(dice.pick::<&str>(&["null", "true", "false"])),
        3 | 4 => {
            out.push('{');
            for index in 0..dice.below(12) {
                let name = match dice.one_in(2) {
                    true => (*dice.pick(TEXTS)).to_owned(),
                    false => format!("m{index}"),
                };
                out.push_str(&format!("{}\"{name}\"{blank}:", if index > 0 { "," } else { "" }));
                text(dice, level + 1, out);
            }
            out.push_str(&format!("{blank}}}"));
        }
        _ => {
            out.push('[');
            for index in 0..dice.below(6) {
                out.push_str(if index > 0 { "," } else { "" });
                text(dice, level + 1, out);
            }
            out.push(']');
        }
    }
    out.push_str(blank);
}

#[test]
fn generated_texts_are_read_as_before_whole_and_broken() {
    with_dice(2_000, 200, |dice| {
        let mut whole = String::new();
        text(dice, 0, &mut whole);
        alike(whole.as_bytes());
        let mut broken = whole.into_bytes();
        for _ in 0..=dice.below(3) {
            let at = dice.below(broken.len() + 1);
            match dice.below(3) {
                0 => _ = (at < broken.len()).then(|| broken.remove(at)),
                1 => broken.insert(at, *dice.pick(b"\"\\{}[],:-0e. u\xff")),
                _ => broken.truncate(at),
            }
            alike(&broken);
        }
    });
}

/// What JSON has no form for comes back as its text does; everything else is the same value.
#[test]
fn a_plain_value_is_what_its_text_says() {
    let object = |members: Vec<(&'static str, Value)>| Value::object(members);
    let groups = object(vec![("index", Value::Int(0))]);
    let Value::Object(groups) = groups else { unreachable!() };
    for value in [
        Value::Undefined,
        Value::Num(f64::NAN),
        Value::Num(f64::NEG_INFINITY),
        Value::Num(-0.0),
        Value::Num(0.5),
        Value::list(vec![Value::Int(1), Value::Undefined, Value::Num(f64::INFINITY)]),
        object(vec![("a", Value::Undefined), ("b", object(vec![("c", Value::Undefined), ("d", Value::Num(-0.0))]))]),
        Value::match_list(vec![Value::text("x")], groups),
        Value::read(format!("{{\"text\": \"{}\", \"n\": [1, 2.5]}}", "x".repeat(600)).into_bytes().into())
            .expect("JSON"),
    ] {
        let plain = value.plain();
        assert_eq!(plain.to_json(), value.to_json());
        assert_eq!(plain, Value::read(value.to_json().into_bytes().into()).expect("JSON"), "{}", value.to_json());
        assert_eq!(plain.plain(), plain);
    }
}
