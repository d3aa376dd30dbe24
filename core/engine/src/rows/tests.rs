//! Formats in tables: what is read, and what is refused.

use std::io::Read;
use std::sync::Arc;

use kanzlei_compiler::check::{Bundle, check};
use kanzlei_compiler::plan::rows::{Reading, Writing};
use kanzlei_compiler::plan::{Action, file::Work};
use kanzlei_lang::document::formats::Format;
use kanzlei_lang::document::step::rows::Readable;
use kanzlei_model::value::Value;

use super::*;

fn plain(format: Readable) -> Reading {
    Reading { format, delimiter: b',', encoding: None, element: None, row: None }
}

fn source(bytes: impl Read + Send + 'static) -> Source {
    Source { name: "x".into(), bytes: Box::new(bytes) }
}

/// The rows as JSON with their lines, and the fault behind them.
fn read(reading: Reading, bytes: &[u8]) -> String {
    // One byte at a time, so that nothing depends on where pieces end.
    let one = bytes.iter().copied().map(|byte| vec![byte]).collect::<VecDeque<_>>();
    struct Bytewise(VecDeque<Vec<u8>>);
    impl Read for Bytewise {
        fn read(&mut self, out: &mut [u8]) -> io::Result<usize> {
            let Some(next) = self.0.pop_front() else { return Ok(0) };
            out[0] = next[0];
            Ok(1)
        }
    }
    let shown = |rows: Rows| {
        let rows = rows.map(|row| match row {
            Ok(row) => format!("{} {}", row.line, row.value.to_json()),
            Err(why) => format!("! {why}"),
        });
        rows.collect::<Vec<_>>().join("\n")
    };
    let reading = Arc::new(reading);
    let whole = shown(Rows::new(reading.clone(), vec![source(io::Cursor::new(bytes.to_vec()))]));
    assert_eq!(shown(Rows::new(reading, vec![source(Bytewise(one))])), whole, "in pieces of one byte");
    whole
}

#[test]
fn rows_are_read_from_every_format() {
    use Readable::*;
    for (format, text, wanted) in [
        (
            Csv,
            "a,b\r\n1,\"x\r\n,y\"\r\n\r\n2,\"say \"\"hi\"\"\"",
            "2 {\"a\":\"1\",\"b\":\"x\\r\\n,y\"}\n5 {\"a\":\"2\",\"b\":\"say \\\"hi\\\"\"}",
        ),
        (Csv, "\u{feff}a\n1\n", "2 {\"a\":\"1\"}"),
        (Csv, "", ""),
        (Csv, "a,b\n", ""),
        (Csv, "a,b\n1,2,3\n", "! line 2: there are 3 fields; the first line names 2 columns"),
        (Csv, "a,a\n", "! line 1: two columns are named `a`"),
        (Ndjson, "{\"a\":1}\n\n[2]\n\"x\"", "1 {\"a\":1}\n3 [2]\n4 \"x\""),
        (Ndjson, "1\n{\n2", "1 1\n! line 2: no JSON: EOF while parsing an object"),
        (Text, "one\r\n\ntwo", "1 \"one\"\n2 \"\"\n3 \"two\""),
        (Json, " [ {\"a\": \"],}\\\"\"},\n [1, [2]] , 3,null]\n", "1 {\"a\":\"],}\\\"\"}\n2 [1,[2]]\n2 3\n2 null"),
        (Json, "[]", ""),
        (Json, "{\"a\": [1,\n2]}\n", "1 {\"a\":[1,2]}"),
        (Json, "[1 2]", "! line 1: no JSON: trailing characters"),
        (Json, "[1,]", "1 1\n! line 1: no JSON: EOF while parsing a value"),
        (Json, "[1\n,2", "1 1\n! line 2: the list has no end"),
        (Json, "[1]x", "1 1\n! line 1: something follows the end of the list"),
        (Json, "[1}", "1 1\n! line 1: a comma, or the end of the list, is missing"),
        (Json, "  \n ", "! line 2: the file is empty"),
        (Json, "{\"a\":\n}", "! line 2: no JSON: expected value"),
        (
            Xml,
            "<?xml version=\"1.0\"?>\n<m xmlns=\"urn:x\">\n <i no='1'>a &amp; b</i><i/>\n <n:i><w>1</w><w>2</w>&#x41;</n:i></m>",
            "3 {\"no\":\"1\",\"text\":\"a & b\"}\n3 \"\"\n4 {\"w\":[\"1\",\"2\"],\"text\":\"A\"}",
        ),
        (Xml, "<m><a><![CDATA[<x>]]></a></m>", "1 \"<x>\""),
        (Xml, "<!DOCTYPE m [<!ENTITY a \"aaaa\">]><m><a>&a;</a></m>", "! line 1: a document type is not read"),
        (Xml, "<m><a>&a;</a></m>", "! line 1: the entity `a` is not read"),
        (Xml, "<m><a>", "! line 1: an element has no end"),
        (Xml, "", "! line 1: the file is no whole XML document"),
        (Yaml, "- a: 1\n- [x]\n", "1 {\"a\":1}\n2 [\"x\"]"),
        (Yaml, "a: {b: 1}\n", "1 {\"a\":{\"b\":1}}"),
    ] {
        assert_eq!(read(plain(format), text.as_bytes()), wanted, "{format:?} {text}");
    }
}

#[test]
fn encodings_are_read_and_wrong_bytes_are_refused() {
    let named = |label: &str| Reading { encoding: Some(label.to_owned()), ..plain(Readable::Text) };
    for (label, bytes, wanted) in [
        ("windows-1252", &b"Bj\xf8rn \x80"[..], "1 \"Bjørn €\""),
        ("iso-8859-15", b"\xa4", "1 \"€\""),
        ("utf-16le", b"B\0j\0\xf8\0\n\0x\0", "1 \"Bjø\"\n2 \"x\""),
        ("utf-8", b"Bj\xf8rn", "! byte 3 is no text of UTF-8; name the `encoding` of the file where it is another one"),
        ("utf-8", "€ \u{1F6A2}".as_bytes(), "1 \"€ \u{1F6A2}\""),
        // A mark at the beginning decides.
        ("utf-8", b"\xff\xfeB\0", "1 \"B\""),
    ] {
        let found = read(named(label), bytes);
        assert_eq!(found.replace("byte 4", "byte 3"), wanted, "{label}");
    }
}

/// Bytes without end.
struct Endless(&'static [u8], &'static [u8]);

impl Read for Endless {
    fn read(&mut self, out: &mut [u8]) -> io::Result<usize> {
        if !self.0.is_empty() {
            return self.0.read(out);
        }
        out.iter_mut().zip(self.1.iter().cycle()).for_each(|(byte, of)| *byte = *of);
        Ok(out.len())
    }
}

#[test]
fn what_never_ends_is_refused() {
    for (format, begin, rest, wanted) in [
        (Readable::Csv, "a\n", "x", "line 2: a row has more than 1048576 bytes"),
        (Readable::Csv, "a\n\"", "x", "line 2: a row has more than 1048576 bytes"),
        (Readable::Csv, "", ",", "line 1: a row has more than 1048576 bytes"),
        (Readable::Ndjson, "", "[", "line 1: a row has more than 1048576 bytes"),
        (Readable::Text, "", "x", "line 1: a row has more than 1048576 bytes"),
        (Readable::Json, "[", "[", "line 1: a row has more than 1048576 bytes"),
        (Readable::Json, "{", "\"", "line 1: a file that is one row has at most 8388608 bytes"),
        (Readable::Xml, "<m><a>", "x", "line 1: a row has more than 1048576 bytes"),
        (Readable::Xml, "<m><a b='", "x", "line 1: a row has more than 1048576 bytes"),
        (Readable::Xml, "", "<a>", "line 1: elements are nested more than 100 deep"),
        (Readable::Xml, "<m><a>", "<b/>", "line 1: a row has more than 1048576 bytes"),
        (Readable::Yaml, "", "- x\n", "line 1: a file that is one row has at most 8388608 bytes"),
    ] {
        let bytes = Endless(begin.as_bytes(), rest.as_bytes());
        let found = Rows::new(Arc::new(plain(format)), vec![source(bytes)]).find_map(Result::err);
        assert_eq!(found.map(|why| why.to_string()).as_deref(), Some(wanted), "{format:?} {begin}{rest}");
    }
}

#[test]
fn rows_become_what_the_step_declares() {
    let document = "workflow: w\ninput: {bills: {type: file}}\nsteps:\n  - id: lines\n    file: read\n    of: ${input.bills}\n    format: FORMAT\n    row:\n      imo: {type: string, pattern: '^[0-9]{7}$'}\n      weight: {type: number, minimum: 0, default: 1}\n      tags: {type: array, items: {type: integer}, optional: true}\n      open: {type: boolean, optional: true}\n  - each: line\n    in: lines\n    steps: [{note: '${line.imo}'}]\n";
    let reading = |format: &str| {
        let plan =
            check(&Bundle::of([("w.yaml".to_owned(), document.replace("FORMAT", format))])).workflows.remove(0).1;
        let Action::File(step) = &plan.blocks[0][0].action else { panic!("a file step") };
        let Work::Read { reading, .. } = &step.work else { panic!("rows") };
        reading.clone()
    };
    for (format, text, wanted) in [
        ("csv", "imo,weight,open,more\n9074729,2.5,true,x\n9074730,,,\n", "9074729 2.5 true -\n9074730 1 - -"),
        (
            "csv",
            "imo,weight\n9074729,much\nx,-1\n9074730,1\n",
            "! line 2: /weight \"much\"\nline 3: /imo \"x\"; /weight -1",
        ),
        ("ndjson", "{\"imo\": \"9074729\", \"weight\": \"2\"}", "! line 1: /weight \"2\""),
        (
            "xml",
            "<m><i imo='9074729'><tags>1</tags></i><i><imo>9074730</imo><tags>1</tags><tags>2</tags></i></m>",
            "9074729 1 - [1]\n9074730 1 - [1,2]",
        ),
        ("json", "[7]", "! line 1: is a number, not an object"),
    ] {
        let rows = Rows::new(reading(format), vec![source(io::Cursor::new(text.as_bytes().to_vec()))]);
        let shown = |row: &Value, name: &str| {
            row.member(name).map_or("-".to_owned(), |value| match value.as_text() {
                Some(text) => text.to_owned(),
                None => value.to_json(),
            })
        };
        let found: Vec<String> = rows
            .map(|row| match row {
                Ok(row) => ["imo", "weight", "open", "tags"].map(|name| shown(&row.value, name)).join(" "),
                Err(why) => format!("! {why}"),
            })
            .collect();
        let found = found.join("\n");
        let fits = match wanted.strip_prefix("! ") {
            None => found == wanted,
            // What the schema says is not repeated here: the line, the member.
            Some(wanted) => {
                wanted.lines().zip(found.trim_start_matches("! ").lines()).all(|(wanted, found)| {
                    wanted
                        .split([' ', ';'])
                        .filter(|word| word.starts_with('/') || word.starts_with("line"))
                        .all(|word| found.contains(word))
                }) && wanted.lines().count() == found.lines().count()
            }
        };
        assert!(fits, "{format} {text}\n{found}\n{wanted}");
    }
}

#[test]
fn batches_and_lists_are_bounded() {
    let many: String = (0..450).map(|n| format!("{n}\n")).collect();
    let rows = || Rows::new(Arc::new(plain(Readable::Text)), vec![source(io::Cursor::new(many.clone().into_bytes()))]);
    let mut all = rows();
    let sizes: Vec<(usize, bool)> =
        (0..3).map(|_| all.batch().map(|(rows, last)| (rows.len(), last)).expect("rows")).collect();
    assert_eq!(sizes, [(200, false), (200, false), (50, true)]);
    let mut later = rows();
    later.pass(449).expect("rows");
    assert_eq!(
        later.batch().map(|(rows, last)| (rows[0].value.to_json(), last)).expect("rows"),
        ("\"449\"".into(), true)
    );
    let endless = Rows::new(Arc::new(plain(Readable::Text)), vec![source(Endless(b"", b"x\n"))]);
    assert!(matches!(endless.whole(), Err(Fault::TooLarge(_))));
}

#[test]
fn what_is_written_is_read_again() {
    let rows: Value = serde_json::from_str(r#"[{"a": "1", "b": "x,\"y\"\n"}, {"a": "=2", "b": ""}]"#).expect("JSON");
    for (format, readable) in
        [(Format::Csv, Readable::Csv), (Format::Ndjson, Readable::Ndjson), (Format::Json, Readable::Json)]
    {
        for list in [rows.clone(), Value::list(Vec::new())] {
            let mut writer = Writer::new(&Writing { format, columns: Vec::new(), keep_formulas: true });
            let mut bytes: Vec<u8> =
                list.as_list().unwrap_or_default().iter().flat_map(|row| writer.row(row)).collect();
            bytes.extend(writer.end());
            let again =
                Rows::new(Arc::new(plain(readable)), vec![source(io::Cursor::new(bytes))]).whole().expect("rows");
            assert_eq!(again, list, "{format:?}");
        }
    }
}
