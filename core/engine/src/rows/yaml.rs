//! YAML 1.2: the items of a list, or one row. Read like the documents of Kanzlei, with the same bounds: 1 MiB, 100,000 nodes.

use std::io::BufRead;

use kanzlei_lang::diagnostic::Report;
use kanzlei_lang::document::yaml::{self, Kind, Node};

use super::{Format, Found, Row, Wrong, document};

pub struct Yaml<R> {
    bytes: R,
    rows: Option<std::vec::IntoIter<Row>>,
}

impl<R: BufRead + Send> Yaml<R> {
    pub fn new(bytes: R) -> Self {
        Yaml { bytes, rows: None }
    }

    fn read(&mut self) -> Result<Vec<Row>, Wrong> {
        let text = document(&mut self.bytes)?;
        let mut report = Report::new("file", &text);
        let root = yaml::parse(&mut report);
        let row = |node: &Node, report: &Report, bytes| Row {
            file: None,
            line: report.line(node.at.start).into(),
            bytes,
            value: node.to_value(),
        };
        let rows = root.map(|root| match &root.kind {
            Kind::List(items) => {
                let bytes = text.len() / items.len().max(1);
                items.iter().map(|item| row(item, &report, bytes)).collect()
            }
            _ => vec![row(&root, &report, text.len())],
        });
        match (rows, report.finish().into_iter().next()) {
            (_, Some(found)) => Err(Wrong::At(found.line.into(), format!("no YAML: {}", found.message))),
            (Some(rows), None) => Ok(rows),
            (None, None) => Err(Wrong::At(1, "the file is empty".to_owned())),
        }
    }
}

impl<R: BufRead + Send> Format for Yaml<R> {
    fn next(&mut self) -> Option<Found> {
        if self.rows.is_none() {
            match self.read() {
                Ok(rows) => self.rows = Some(rows.into_iter()),
                Err(wrong) => {
                    self.rows = Some(Vec::new().into_iter());
                    return Some(Err(wrong));
                }
            }
        }
        self.rows.as_mut()?.next().map(Ok)
    }
}
