//! `file` steps: what is stored must be a file, paths must be texts, places must be known.

use std::time::Duration;

use super::actions::{At, Compiled};
use super::steps::{End, Walk};
use crate::plan::file::{FileStep, InPlace, Work as Made};
use crate::plan::{self, Maker, sheet};
use kanzlei_lang::document::reader::Named;
use kanzlei_lang::document::step::file::{self, Work};
use kanzlei_lang::document::yaml::Node;
use kanzlei_lang::suggest;
use kanzlei_lang::types::{Text, Type};

/// How long it may take by default.
const WITHIN: Duration = Duration::from_secs(60);

impl Walk<'_, '_, '_> {
    /// `file`: works with files and places.
    pub(super) fn file(&mut self, step: &file::FileStep, at: At) -> Compiled {
        let At { paragraph, answered, .. } = at;
        let mut rows: Vec<(String, String)> =
            step.work.places().iter().map(|(name, node)| (name.text.clone(), sheet::inline(node))).collect();
        let of = match &step.work {
            Work::Store { of, .. }
            | Work::Zip { of, .. }
            | Work::Unzip(of)
            | Work::Read { of, .. }
            | Work::Write { of, .. } => sheet::inline(of),
            _ => String::new(),
        };
        if let Work::Link { span: Some(span), .. } = &step.work {
            rows.push(("for".to_owned(), sheet::inline(span)));
        }
        match &step.work {
            Work::Read { read, .. } => rows.extend(super::rows::shown(read)),
            Work::Write { write, .. } => rows.push(("format".to_owned(), write.format.word().to_owned())),
            _ => {}
        }
        self.show(paragraph, "file", format!("{} {of}", step.work.word()).trim_end().to_owned(), rows);
        for (name, _) in step.work.places() {
            self.known_place(name);
        }
        let (made, result) = match &step.work {
            Work::Read { of, read } => self.read_rows(of, read, paragraph as u32),
            Work::Write { of, write } => (self.write_rows(of, write), Type::file(Type::text(write.format.media()))),
            other => (self.file_work(other), result(other)),
        };
        let within = step.within.unwrap_or(WITHIN);
        let action = made.map(|work| plan::Action::File(Box::new(FileStep { work, within })));
        (action, End { ends: false, answered }, result)
    }

    fn file_work(&mut self, work: &Work) -> Option<Made> {
        Some(match work {
            Work::Store { of, to, replace } => {
                let file = self.file_of(of, false);
                let to: Option<Vec<InPlace>> = to.iter().map(|one| self.in_place(one, false)).collect();
                Made::Store { of: file?, to: to?, replace: *replace }
            }
            Work::Fetch(from) => Made::Fetch(self.in_place(from, false)?),
            Work::List { from, most } => Made::List { from: self.in_place(from, false)?, most: *most },
            Work::Remove(from) => Made::Remove(self.in_place(from, true)?),
            Work::Link { from, span } => {
                let from = self.in_place(from, false);
                let span = match span {
                    Some(span) => Some(self.timed(span, &[Text::Span])?),
                    None => None,
                };
                Made::Link { from: from?, span }
            }
            Work::Zip { of, name } => {
                let of = self.file_of(of, true);
                let name = match name {
                    Some(name) => Some(self.text_of(name, "the name of a file", false)?),
                    None => None,
                };
                Made::Zip { of: of?, name }
            }
            Work::Unzip(of) => Made::Unzip(self.file_of(of, false)?),
            // They are read with the types of their rows.
            Work::Read { .. } | Work::Write { .. } => return None,
        })
    }

    /// A file, or several: a list, or an object by path.
    pub(super) fn file_of(&mut self, node: &Node, several: bool) -> Option<Maker> {
        let (maker, of) = self.typed(node);
        if of.may_be_missing() && of != Type::Unknown {
            let missing = of.keep(Type::is_nullish).what();
            self.report.error("maybe-missing", node.at, format!("this may be {missing}, and a file is needed"));
            self.report.help("leave the step out where it is: `when: …`");
            return maker;
        }
        let is = |of: &Type| *of == Type::Unknown || of.is_file();
        let fits = |one: &Type| match one {
            Type::List(items) if several => is(&items.of) || items.of == Type::Never,
            Type::Object(shape) if several && !shape.file => {
                shape.members.iter().all(|member| is(&member.value)) && shape.rest.as_ref().is_none_or(is)
            }
            one => is(one) && !several,
        };
        if !of.alternatives().iter().all(fits) {
            let wanted = if several { "files: a list, or an object with a file for each path" } else { "a file" };
            self.report.error("wrong-type", node.at, format!("this is {}; it must be {wanted}", of.what()));
            self.report
                .help("a file is an input of `type: file`, the answer of a call, or what another `file` step returns");
        }
        maker
    }

    fn in_place(&mut self, (name, node): &(Named, Node), several: bool) -> Option<InPlace> {
        Some((name.text.clone(), self.text_of(node, "a path", several)?))
    }

    /// A text, where something else would be no path or name.
    pub(super) fn text_of(&mut self, node: &Node, what: &str, several: bool) -> Option<Maker> {
        let (maker, of) = self.typed(node);
        if of.may_be_missing() {
            let missing = of.keep(Type::is_nullish).what();
            self.report.error("maybe-missing", node.at, format!("this may be {missing}, and {what} is needed"));
            self.report.help("add a default: `?? …`");
            return maker;
        }
        let is = |one: &Type| matches!(one, Type::Text(_) | Type::Unknown);
        let fits = |one: &Type| {
            is(one) || matches!(one, Type::List(items) if several && items.of.alternatives().iter().all(is))
        };
        if !of.alternatives().iter().all(fits) {
            self.report.error("wrong-type", node.at, format!("{what} is a text, not {}", of.what()));
        }
        maker
    }

    fn known_place(&mut self, name: &Named) {
        let Some(known) = self.known.filter(|known| !known.places.contains(&name.text)) else { return };
        self.report.error("unknown-place", name.at, format!("the service knows no place `{}`", name.text));
        match suggest::nearest(&name.text, known.places.iter().map(String::as_str)) {
            Some(near) => self.report.did_you_mean(near),
            None => self.report.help(format!("name it in the service's settings: `places.{}.url`", name.text)),
        };
    }
}

/// The type of a step's result.
fn result(work: &Work) -> Type {
    let file = || Type::file(Type::TEXT);
    match work {
        Work::Store { to, .. } => Type::object(to.iter().map(|(name, _)| (name.text.as_str(), Type::TEXT))),
        Work::Fetch(_) => file(),
        Work::List { .. } => {
            Type::list(Type::object([("path", Type::TEXT), ("size", Type::NUMBER), ("stored", Type::INSTANT)]))
        }
        Work::Remove(_) => Type::object([("removed", Type::NUMBER)]),
        Work::Link { .. } => Type::object([("url", Type::TEXT), ("until", Type::INSTANT)]),
        Work::Zip { .. } => Type::file(Type::text("application/zip")),
        Work::Unzip(_) => Type::list(Type::object([("path", Type::TEXT), ("file", file())])),
        Work::Read { .. } | Work::Write { .. } => Type::Unknown,
    }
}
