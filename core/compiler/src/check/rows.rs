//! Rows of files: the step that reads them, and the steps that use them. Each is used once, under its name alone: `in: lines`, `of: ${lines}`.

use std::sync::Arc;

use super::steps::Walk;
use crate::input::InputPlan;
use crate::plan::Maker;
use crate::plan::file::Work as Made;
use crate::plan::rows::{Reading, Writing};
use kanzlei_lang::document::step::Statement;
use kanzlei_lang::document::step::rows::{Read, Readable, Write};
use kanzlei_lang::document::workflow::Answer;
use kanzlei_lang::document::yaml::Node;
use kanzlei_lang::expr::Expression;
use kanzlei_lang::expr::template::Template;
use kanzlei_lang::suggest;
use kanzlei_lang::types::{Member, Shape, Type, schema};

/// Rows that a step uses.
pub(super) struct Used {
    expression: Option<Expression>,
    template: Option<Template>,
    /// How they are read.
    pub reading: Arc<Reading>,
    /// What each of them is.
    pub row: Type,
}

impl Used {
    /// Their files, as an expression.
    pub fn expression(&self) -> Option<Expression> {
        self.expression.clone()
    }

    /// Their files, as a value.
    pub fn maker(&self) -> Option<Maker> {
        self.template.clone().map(Maker::Text)
    }
}

/// Rows that a statement is performed for.
pub(super) struct Each {
    /// The list, or the files whose rows are read.
    pub list: Option<Expression>,
    /// How they are read.
    pub reading: Option<Arc<Reading>>,
    row: Type,
}

/// What the sheet says of how rows are read.
pub(super) fn shown(read: &Read) -> Vec<(String, String)> {
    let mut rows = vec![("format".to_owned(), read.format.word().to_owned())];
    if let Some(row) = &read.row {
        let names: Vec<&str> = row.iter().map(|one| one.name.text.as_str()).collect();
        rows.push(("row".to_owned(), names.join(", ")));
    }
    if read.whole {
        rows.push(("whole".to_owned(), "true".to_owned()));
    }
    rows
}

impl Walk<'_, '_, '_> {
    /// `file: read`.
    pub(super) fn read_rows(&mut self, of: &Node, read: &Read, paragraph: u32) -> (Option<Made>, Type) {
        let files = self.one_or_several(of);
        let row = match &read.row {
            None => Some(None),
            Some(row) => match InputPlan::new(row, false) {
                Ok(plan) => Some(Some(plan)),
                Err(faults) => {
                    for (index, message) in faults {
                        let at = row.get(index).map_or(of.at, |property| property.at);
                        self.report.error("bad-schema", at, message);
                    }
                    None
                }
            },
        };
        for property in read.row.iter().flatten().filter(|property| property.secret) {
            self.report.error(
                "secret-row",
                property.at,
                "what is confidential in a row cannot be told apart: the file would have to be",
            );
            self.report.help("declare the file itself as `secret: true`");
        }
        if let Some(label) =
            read.encoding.as_ref().filter(|label| encoding_rs::Encoding::for_label(label.text.as_bytes()).is_none())
        {
            self.report.error("wrong-value", label.at, format!("`{}` is no character encoding", label.text));
            let known = ["utf-8", "utf-16le", "utf-16be", "windows-1252", "iso-8859-15"];
            match suggest::nearest(&label.text, known) {
                Some(near) => self.report.did_you_mean(near),
                None => self.report.help("it is a label of the Encoding standard, such as `windows-1252`"),
            };
        }
        let of_row = row_type(read);
        let reading = row.map(|row| {
            Arc::new(Reading {
                format: read.format,
                delimiter: read.delimiter,
                encoding: read.encoding.as_ref().map(|label| label.text.clone()),
                element: read.element.clone(),
                row,
            })
        });
        if let Some(reading) = &reading {
            self.readings.insert(paragraph, (reading.clone(), self.apart_from_client));
        }
        let result = if read.whole { Type::list(of_row) } else { Type::rows(of_row, paragraph) };
        let made = files.zip(reading).map(|(of, reading)| Made::Read { of, reading, whole: read.whole });
        (made, result)
    }

    /// A file, or a list of files.
    pub(super) fn one_or_several(&mut self, node: &Node) -> Option<Maker> {
        let (maker, of) = self.typed(node);
        let is = |one: &Type| *one == Type::Unknown || one.is_file();
        let fits = |one: &Type| is(one) || matches!(one, Type::List(items) if is(&items.of) || items.of == Type::Never);
        if of.may_be_missing() && of != Type::Unknown {
            let missing = of.keep(Type::is_nullish).what();
            self.report.error("maybe-missing", node.at, format!("this may be {missing}, and a file is needed"));
            self.report.help("leave the step out where it is: `when: …`");
        } else if !of.alternatives().iter().all(fits) {
            self.report.error(
                "wrong-type",
                node.at,
                format!("this is {}; it must be a file, or a list of files", of.what()),
            );
            self.report
                .help("a file is an input of `type: file`, the answer of a call, or what another `file` step returns");
        }
        maker
    }

    /// `file: write`.
    pub(super) fn write_rows(&mut self, of: &Node, write: &Write) -> Option<Made> {
        let rows = self.rows_in(of, false);
        let (maker, row) = match &rows {
            Some(rows) => (rows.maker(), rows.row.clone()),
            None => self.list_of(of, "rows to write"),
        };
        self.known_columns(write, &row);
        let (writing, name) = self.written(write)?;
        Some(Made::Write { of: maker?, rows: rows.map(|rows| rows.reading), writing, name })
    }

    /// A list and the type of its items.
    pub(super) fn list_of(&mut self, node: &Node, what: &str) -> (Option<Maker>, Type) {
        let (maker, of) = self.typed(node);
        if of.may_be_missing() && of != Type::Unknown {
            let missing = of.keep(Type::is_nullish).what();
            self.report.error("maybe-missing", node.at, format!("this may be {missing}, and {what} are needed"));
            self.report.help("add a default: `?? []`");
        } else if !of.alternatives().iter().all(|one| matches!(one, Type::List(_) | Type::Unknown)) {
            self.report.error(
                "wrong-type",
                node.at,
                format!("{what} are a list or what `file: read` returns, not {}", of.what()),
            );
        }
        (maker, of.items())
    }

    /// What is written into a file, with its name.
    pub(super) fn written(&mut self, write: &Write) -> Option<(Arc<Writing>, Option<Maker>)> {
        let name = match &write.name {
            None => None,
            Some(name) => Some(self.text_of(name, "the name of a file", false)?),
        };
        let writing = Writing {
            format: write.format,
            columns: write.columns.iter().map(|column| column.text.clone()).collect(),
            keep_formulas: write.keep_formulas,
        };
        Some((Arc::new(writing), name))
    }

    /// Rows or a list, as a bare expression.
    pub(super) fn rows_of(&mut self, node: &Node) -> Each {
        match self.rows_in(node, true) {
            Some(used) => Each { list: used.expression(), reading: Some(used.reading.clone()), row: used.row },
            None => {
                let list = self.condition("from", node);
                let of = self.last.clone();
                let wrong = of.keep(|one| !matches!(one, Type::List(_) | Type::Unknown));
                if wrong.may_be_missing() {
                    self.report.error(
                        "maybe-missing",
                        node.at,
                        format!("this may be {}, and rows are needed", wrong.what()),
                    );
                    self.report.help("add a default: `?? []`");
                } else if wrong != Type::Never {
                    let message = format!("rows are a list or what `file: read` returns, not {}", wrong.what());
                    self.report.error("wrong-operand", node.at, message);
                }
                Each { list, reading: None, row: of.items() }
            }
        }
    }

    /// Whether rows have a member; reported where a statement has a parameter of its name.
    pub(super) fn member_of(&mut self, rows: &Each, name: &str, (statement, at): (&Statement, usize)) -> bool {
        let has = |one: &Type| match one {
            Type::Object(shape) => shape.get(name).is_some() || shape.rest.is_some(),
            Type::Unknown => true,
            _ => false,
        };
        if rows.row.alternatives().iter().all(has) {
            return true;
        }
        let place = statement.text.place_in(self.report.text(), at, at + name.len() + 1);
        self.report.error("missing-parameter", place, format!("`:{name}` is neither bound nor a member of the rows"));
        let known = rows.row.alternatives().iter().flat_map(|one| match one {
            Type::Object(shape) => shape.members.iter().map(|member| member.name.to_string()).collect(),
            _ => Vec::new(),
        });
        let known: Vec<String> = known.collect();
        match suggest::nearest(name, known.iter().map(String::as_str)) {
            Some(near) => self.report.did_you_mean_as(near, &format!(":{near}")),
            None if known.is_empty() => self.report.help(format!("add it under `bind`: `{name}: …`")),
            None => self.report.help(format!("rows have {}; other values are set under `bind`", known.join(", "))),
        };
        false
    }

    fn known_columns(&mut self, write: &Write, row: &Type) {
        let Type::Object(shape) = row else { return };
        for column in write.columns.iter().filter(|column| shape.rest.is_none() && shape.get(&column.text).is_none()) {
            self.report.error("unknown-member", column.at, format!("the rows have no `{}`", column.text));
            let known: Vec<&str> = shape.members.iter().map(|member| &*member.name).collect();
            match suggest::nearest(&column.text, known.iter().copied()) {
                Some(near) => self.report.did_you_mean(near),
                None => self.report.help(format!("they have {}", known.join(", "))),
            };
        }
    }

    /// The rows that a node names, as a bare name or inside `${…}`; nothing where it names something else.
    pub(super) fn rows_in(&mut self, node: &Node, bare: bool) -> Option<Used> {
        let text = node.as_text()?.trim();
        let name = if bare { text } else { text.strip_prefix("${")?.strip_suffix('}')?.trim() };
        let slot = self.scope.slot(name)?;
        let of = self.env.slots.get(slot as usize)?.clone();
        let (row, step) = match of.as_rows() {
            Some((row, step)) => (row.clone(), step),
            None if of.may_be_rows() => {
                let why = match of.may_be_missing() {
                    true => "may not have been read",
                    false => "are read by one of several steps",
                };
                self.report.error("maybe-missing", node.at, format!("`{name}` {why}"));
                self.report.help("read and use them in the same branch");
                return None;
            }
            None => return None,
        };
        let (reading, depth) = self.readings.get(&step)?.clone();
        if depth != self.apart_from_client {
            self.report.error(
                "rows-twice",
                node.at,
                format!("the rows of `{name}` would be read once for each item or branch"),
            );
            self.report.help("read the file in the same loop or branch: `file: read`");
        } else if !self.consumed.insert(step) {
            self.report.error(
                "rows-twice",
                node.at,
                format!("the rows of `{name}` are read once, and a step before this one does"),
            );
            self.report.help("read the file again: `file: read`");
        }
        let expression = if bare { Expression::compile(text, &self.scope).ok() } else { None };
        let template = if bare { None } else { Template::compile(text, &self.scope).ok() };
        self.look_at(node, bare);
        let uses = expression
            .iter()
            .chain(template.iter().flat_map(|one| one.expressions()))
            .flat_map(|one| one.uses().to_vec());
        let uses = uses.collect();
        self.note_uses(uses, node);
        Some(Used { expression, template, reading, row })
    }

    /// Rows go to a client that waits; a job has a result that is kept.
    pub(super) fn only_to_clients(&mut self, node: &Node) {
        let waits =
            !self.workflow.entries.is_empty() && self.workflow.entries.iter().all(|entry| entry.answer == Answer::Now);
        let jobs = !(self.workflow.webhooks.is_empty()
            && self.workflow.watches.is_empty()
            && self.workflow.timetables.is_empty());
        if !waits || jobs {
            self.report.error(
                "rows-in-job",
                node.at,
                "rows are sent while they are read, to a client that waits; a job has none",
            );
            self.report.help("write them into a file and reply with it: `file: write`");
        }
    }
}

/// What each row is.
fn row_type(read: &Read) -> Type {
    match (&read.row, read.format) {
        (Some(row), _) => {
            let members = row.iter().map(|property| Member {
                name: property.name.text.as_str().into(),
                value: schema::read(&property.schema),
                optional: property.optional && property.default.is_none(),
            });
            Type::Object(Arc::new(Shape { members: members.collect(), ..Shape::default() }))
        }
        (None, Readable::Csv) => Type::record(Type::TEXT),
        (None, Readable::Text) => Type::TEXT,
        (None, _) => Type::Unknown,
    }
}
