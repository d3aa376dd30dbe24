//! `html.*`: what is read from web pages; the pages themselves are `kanzlei_pages`.

use kanzlei_pages::{Fault, Page, address};

use super::arg;
use crate::expr::eval::{Eval, Res, Stop, range_failure, type_failure};
use crate::expr::functions::Static;
use kanzlei_model::value::{ObjectBuilder, Value, key};

/// Members of what `html.url` returns, in order.
pub const ADDRESS: [&str; 7] = ["href", "scheme", "host", "port", "path", "query", "fragment"];

fn fault(fault: Fault<Stop>) -> Res {
    match fault {
        Fault::Ended(error) => Err(error),
        Fault::Bounds(why) => range_failure(why),
        Fault::Selector { .. } => range_failure(fault.to_string()),
    }
}

impl Eval<'_> {
    pub(super) fn html(&mut self, what: Static, args: &[Value]) -> Res {
        if what == Static::HtmlUrl {
            return self.address(args);
        }
        let given = arg(args, 0);
        let text = match (&given, self.items(&given)) {
            (Value::Text(text), _) => text.clone(),
            // The lines of a file.
            (_, Some(lines)) => {
                let mut whole = String::new();
                for line in lines.iter() {
                    let line = self.text_of(line)?;
                    self.will_make(line.len() + 1)?;
                    whole.push_str(&line);
                    whole.push('\n');
                }
                whole.into()
            }
            _ => return type_failure(format!("`{}` takes the text of a page, not {}", what.name(), given.kind())),
        };
        let page = match Page::read(&text, &mut |work, bytes| self.paid(work, bytes)) {
            Ok(page) => page,
            Err(why) => return fault(why),
        };
        // Each of the others goes once through all of the page.
        self.work(page.nodes() + text.len() as u64 / 8)?;
        match what {
            Static::HtmlSelect => {
                let selector = self.text_at(args, 1)?;
                let found = match page.select(&selector, &mut |work, bytes| self.paid(work, bytes)) {
                    Ok(found) => found,
                    Err(why) => return fault(why),
                };
                let mut out = Vec::with_capacity(found.len());
                for one in found {
                    let (inner, html) = (one.text(), one.html());
                    // Elements inside each other are written out once for each.
                    self.work(html.len() as u64 / 4)?;
                    let tag = self.make_text(one.tag())?;
                    let (inner, html) = (self.make_text(inner)?, self.make_text(html)?);
                    let attributes = self.texts(one.attributes())?;
                    out.push(self.members([
                        ("tag", tag),
                        ("text", inner),
                        ("html", html),
                        ("attributes", attributes),
                    ])?);
                }
                self.make_list(out)
            }
            Static::HtmlRows => self.rows(&page, args),
            Static::HtmlText => self.make_text(page.text()),
            Static::HtmlMain => self.make_text(page.main()),
            Static::HtmlLinks => {
                let base = self.text_at(args, 1)?;
                let mut out = Vec::new();
                for link in page.links(&base) {
                    self.work(link.url.len() as u64 / 4)?;
                    let (text, url) = (self.make_text(link.text)?, self.make_text(link.url)?);
                    out.push(self.members([("text", text), ("url", url)])?);
                }
                self.make_list(out)
            }
            _ => {
                let meta = page.meta();
                let properties = self.texts(meta.properties)?;
                let mut members = Vec::with_capacity(5);
                for (name, value) in [
                    ("title", meta.title),
                    ("description", meta.description),
                    ("language", meta.language),
                    ("canonical", meta.canonical),
                ] {
                    members.push((name, self.text_or_null(value)?));
                }
                members.push(("properties", properties));
                self.members(members)
            }
        }
    }

    /// An object for each element, with what its fields mean.
    fn rows(&mut self, page: &Page, args: &[Value]) -> Res {
        let selector = self.text_at(args, 1)?;
        let fields = self.settled(&arg(args, 2))?;
        let Some(fields) = fields.as_object() else {
            return type_failure(format!("`html.rows` takes fields by name, not {}", fields.kind()));
        };
        let mut named = Vec::with_capacity(fields.len());
        for (name, field) in fields.iter() {
            named.push((name.clone(), self.text_of(field)?));
        }
        let selectors: Vec<&str> = named.iter().map(|(_, selector)| &**selector).collect();
        let rows = match page.rows(&selector, &selectors, &mut |work, bytes| self.paid(work, bytes)) {
            Ok(rows) => rows,
            Err(why) => return fault(why),
        };
        let mut out = Vec::with_capacity(rows.len());
        for cells in rows {
            let mut row = ObjectBuilder::with_capacity(named.len());
            for ((name, _), cell) in named.iter().zip(cells) {
                row.insert(name.clone(), self.text_or_null(cell)?);
            }
            out.push(self.make_object(row, named.len())?);
        }
        self.make_list(out)
    }

    /// The parts of an address; `null` for a text that is none.
    fn address(&mut self, args: &[Value]) -> Res {
        let text = self.text_at(args, 0)?;
        let base = match args.get(1) {
            None | Some(Value::Undefined) => None,
            Some(base) => Some(self.text_of(base)?),
        };
        self.item_work(text.len() / 4)?;
        let Some(parts) = address(&text, base.as_deref()) else { return Ok(Value::Null) };
        let port = parts.port.map_or(Value::Null, |port| Value::Int(port.into()));
        let texts =
            [Some(parts.href), Some(parts.scheme), parts.host, None, Some(parts.path), parts.query, parts.fragment];
        let mut members = Vec::with_capacity(ADDRESS.len());
        for (name, text) in ADDRESS.into_iter().zip(texts) {
            let value = if name == "port" { port.clone() } else { self.text_or_null(text)? };
            members.push((name, value));
        }
        self.members(members)
    }

    fn paid(&mut self, work: u64, bytes: u64) -> Res<()> {
        self.work(work)?;
        self.will_make(bytes as usize)
    }

    fn text_or_null(&mut self, text: Option<String>) -> Res {
        text.map_or(Ok(Value::Null), |text| self.make_text(text))
    }

    fn members<'n>(&mut self, members: impl IntoIterator<Item = (&'n str, Value)>) -> Res {
        let mut builder = ObjectBuilder::default();
        let mut count = 0;
        for (name, value) in members {
            builder.insert(key(name), value);
            count += 1;
        }
        self.make_object(builder, count)
    }

    fn texts(&mut self, texts: impl IntoIterator<Item = (String, String)>) -> Res {
        let mut builder = ObjectBuilder::default();
        let mut count = 0;
        for (name, text) in texts {
            self.will_make(name.len())?;
            builder.insert(name.as_str().into(), self.make_text(text)?);
            count += 1;
        }
        self.make_object(builder, count)
    }
}
