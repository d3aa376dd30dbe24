//! Web pages: HTML parsed as browsers do (the HTML Standard), and what is read from them by CSS selectors.
//!
//! Pages are untrusted input. Formatting that is opened and never closed is repeated in each paragraph, so that a small text can
//! produce millions of nodes. The parser therefore reads the text in small pieces; between them the caller is charged for the work
//! and can stop it. The cost of a selector is charged before the search begins. Nothing here knows expressions, or the origin of a page.
//!
//! ```
//! use kanzlei_pages::{Page, Unpaid};
//! let mut work = 0;
//! let page = Page::read("<title>Notices</title><p class=new>Crane 2 is <b>closed</b>", &mut |units, _| {
//!     work += units;
//!     Ok::<(), Unpaid>(())
//! });
//! let page = page.expect("a page");
//! assert_eq!(page.meta().title.as_deref(), Some("Notices"));
//! let found = page.select("p.new", &mut |_, _| Ok::<(), Unpaid>(())).expect("a selector");
//! assert_eq!(found[0].text(), "Crane 2 is closed");
//! ```

mod address;
mod text;

pub use address::{Address, address};

use std::collections::BTreeMap;

use ego_tree::NodeRef;
use html5ever::tendril::{StrTendril, TendrilSink};
use html5ever::{ParseOpts, parse_document};
use scraper::html::Html;
use scraper::{ElementRef, HtmlTreeSink, Node, Selector};
use url::Url;

/// The most nodes of a page.
pub const MOST_NODES: usize = 200_000;
/// The deepest nesting of a page; browsers stop there too.
pub const MOST_DEPTH: usize = 512;
/// The longest selector, in bytes.
pub const MOST_SELECTOR: usize = 500;
/// Bytes that the parser is fed at once: few, because each of them may repeat all formatting that is open.
const PIECE: usize = 16;
/// About what a node takes in memory.
const NODE: u64 = 160;

/// Charges the caller for units of work and bytes of memory; an error stops the work.
pub type Pay<'p, E> = &'p mut dyn FnMut(u64, u64) -> Result<(), E>;

/// The error type of a caller that refuses nothing.
#[derive(Debug, PartialEq, thiserror::Error)]
#[error("nothing is refused")]
pub struct Unpaid;

/// Why a page is not read.
#[derive(Debug, thiserror::Error)]
pub enum Fault<E> {
    /// The caller refused to be charged for more work.
    #[error("the work was ended")]
    Ended(E),
    /// It has too many parts, or they are nested too deep.
    #[error("{0}")]
    Bounds(String),
    /// The selector cannot be read.
    #[error("`{selector}` is no CSS selector: {why}")]
    Selector {
        /// The selector.
        selector: String,
        /// What is wrong about it.
        why: String,
    },
}

/// A page.
pub struct Page {
    html: Html,
    nodes: u64,
    /// The depths of all nodes, summed up: what it costs to look from each at all around it.
    depths: u64,
    /// The same for the nodes beside each.
    beside: u64,
}

/// What a page says of itself.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Meta {
    /// Its title.
    pub title: Option<String>,
    /// What it is about.
    pub description: Option<String>,
    /// Its language (BCP 47).
    pub language: Option<String>,
    /// The address that it prefers, as it stands there.
    pub canonical: Option<String>,
    /// `meta` elements by `name` or `property`; of several the first.
    pub properties: BTreeMap<String, String>,
}

/// An element that was found.
#[derive(Clone, Copy)]
pub struct Found<'p>(ElementRef<'p>);

/// A link of a page.
#[derive(Clone, Debug, PartialEq)]
pub struct Link {
    /// What it reads.
    pub text: String,
    /// Where it leads, absolute.
    pub url: String,
}

/// A selector, ready to be searched for.
pub struct Compiled {
    selector: Selector,
    parts: u64,
    /// Whether it looks at what stands beside an element.
    beside: bool,
}

/// Reads a selector.
///
/// # Errors
/// What is wrong about it.
pub fn selector<E>(text: &str) -> Result<Compiled, Fault<E>> {
    let fault = |why: String| Fault::Selector { selector: text.chars().take(60).collect(), why };
    if text.len() > MOST_SELECTOR {
        return Err(fault(format!("it has {} bytes; at most {MOST_SELECTOR} are allowed", text.len())));
    }
    let selector = Selector::parse(text).map_err(|error| fault(error.to_string()))?;
    let parts = text.bytes().filter(|byte| b" >~+,:.[#*".contains(byte)).count() as u64 + 1;
    Ok(Compiled { selector, parts, beside: text.contains(['~', '+', ':']) })
}

impl Page {
    /// Parses a page.
    ///
    /// # Errors
    /// When its work is ended, or it has too many nodes.
    pub fn read<E>(text: &str, pay: Pay<'_, E>) -> Result<Page, Fault<E>> {
        let mut parser = parse_document(HtmlTreeSink::new(Html::new_document()), ParseOpts::default());
        let (mut rest, mut known) = (text, 0);
        while !rest.is_empty() {
            let mut end = PIECE.min(rest.len());
            while !rest.is_char_boundary(end) {
                end += 1;
            }
            let (piece, left) = rest.split_at(end);
            rest = left;
            parser.process(StrTendril::from(piece));
            let (nodes, depth) = {
                let html = parser.tokenizer.sink.sink.0.borrow();
                // Each element looks through those around it, so that depth must end before it costs.
                let newest = html.tree.nodes().next_back();
                let depth = newest.map_or(0, |node| node.ancestors().take(MOST_DEPTH + 1).count());
                (html.tree.values().len(), depth)
            };
            if depth > MOST_DEPTH {
                return Err(Fault::Bounds(format!("the page is nested deeper than {MOST_DEPTH}")));
            }
            let new = nodes.saturating_sub(known) as u64;
            known = nodes;
            // A mark that begins nothing costs as much as some letters: it is an error, and a text of its own.
            let marks = piece.bytes().filter(|byte| matches!(byte, b'<' | b'&')).count();
            let work = piece.len() + 4 * marks + depth / 8 + 2;
            pay(work as u64 + new * 8, new * NODE).map_err(Fault::Ended)?;
            if nodes > MOST_NODES {
                return Err(Fault::Bounds(format!("the page has more than {MOST_NODES} nodes")));
            }
        }
        let html = parser.finish();
        let mut page = Page { html, nodes: known as u64, depths: 0, beside: 0 };
        page.measure()?;
        Ok(page)
    }

    /// Finds out how deep and how broad it is, without recursion.
    fn measure<E>(&mut self) -> Result<(), Fault<E>> {
        let mut open = vec![(self.html.tree.root(), 0usize)];
        let (mut depths, mut beside) = (0u64, 0u64);
        while let Some((node, depth)) = open.pop() {
            if depth > MOST_DEPTH {
                return Err(Fault::Bounds(format!("the page is nested deeper than {MOST_DEPTH}")));
            }
            depths += depth as u64 + 1;
            let before = open.len();
            open.extend(node.children().map(|child| (child, depth + 1)));
            let children = (open.len() - before) as u64;
            beside = beside.saturating_add(children.saturating_mul(children) / 2);
        }
        (self.depths, self.beside) = (depths, beside);
        Ok(())
    }

    /// What a search costs: each part of the selector may look at all that is around an element, and beside it.
    fn search<E>(&self, what: &Compiled, pay: Pay<'_, E>) -> Result<(), Fault<E>> {
        let around = self.depths + if what.beside { self.beside } else { 0 };
        pay(self.nodes / 2 + (around / 8).saturating_mul(what.parts), 0).map_err(Fault::Ended)
    }

    /// The elements that a selector means, in the order of the page.
    ///
    /// # Errors
    /// When the selector cannot be read, or the work is ended.
    pub fn select<E>(&self, text: &str, pay: Pay<'_, E>) -> Result<Vec<Found<'_>>, Fault<E>> {
        let compiled = selector(text)?;
        self.search(&compiled, pay)?;
        let found: Vec<Found<'_>> = self.html.select(&compiled.selector).map(Found).collect();
        pay(found.len() as u64, found.len() as u64 * 16).map_err(Fault::Ended)?;
        Ok(found)
    }

    /// For each element that a selector means: what the fields mean within it. A field is a selector, with `@name` behind it for an
    /// attribute; an empty selector is the element itself. The first that fits counts.
    ///
    /// # Errors
    /// When a selector cannot be read, or the work is ended.
    pub fn rows<E>(&self, text: &str, fields: &[&str], pay: Pay<'_, E>) -> Result<Vec<Vec<Option<String>>>, Fault<E>> {
        let mut compiled = Vec::with_capacity(fields.len());
        for field in fields {
            let (of, attribute) = match field.rsplit_once('@') {
                Some((of, name)) if !name.contains([']', '"', '\'', ' ']) => (of.trim(), Some(name)),
                _ => (field.trim(), None),
            };
            let of = if of.is_empty() { None } else { Some(selector(of)?) };
            compiled.push((of, attribute));
        }
        let mut out = Vec::new();
        for row in self.select(text, pay)? {
            // All that is inside is looked at for each field.
            let inside = row.0.descendants().count() as u64;
            let mut cells = Vec::with_capacity(compiled.len());
            for (of, attribute) in &compiled {
                let parts = of.as_ref().map_or(1, |of| of.parts * if of.beside { 8 } else { 2 });
                pay(inside.saturating_mul(parts) + 4, 0).map_err(Fault::Ended)?;
                let cell = match of {
                    None => Some(row),
                    Some(of) => row.0.select(&of.selector).next().map(Found),
                };
                let value = cell.and_then(|cell| match attribute {
                    Some(name) => cell.0.attr(name).map(str::to_owned),
                    None => Some(cell.text()),
                });
                pay(0, value.as_ref().map_or(0, String::len) as u64).map_err(Fault::Ended)?;
                cells.push(value);
            }
            out.push(cells);
        }
        Ok(out)
    }

    /// Its text as a reader sees it: paragraphs on lines of their own.
    pub fn text(&self) -> String {
        text::lines(*self.html.root_element(), false)
    }

    /// The text of what the page is for: of `main`, or of the only article, or of all but what leads through the site.
    pub fn main(&self) -> String {
        let named = |names: &[&str]| {
            let mut found = self.html.root_element().descendants().filter_map(ElementRef::wrap).filter(|element| {
                names.contains(&element.value().name()) || names.contains(&element.attr("role").unwrap_or_default())
            });
            let first = found.next();
            first.filter(|_| found.next().is_none())
        };
        match named(&["main"]).or_else(|| named(&["article"])) {
            Some(element) => text::lines(*element, true),
            None => text::lines(*self.html.root_element(), true),
        }
    }

    /// What it says of itself.
    pub fn meta(&self) -> Meta {
        let mut meta = Meta::default();
        let root = self.html.root_element();
        let filled = |text: &str| Some(text.trim().to_owned()).filter(|text| !text.is_empty());
        meta.language = root.attr("lang").and_then(filled);
        for element in root.descendants().filter_map(ElementRef::wrap) {
            match element.value().name() {
                // The title of a drawing is none of the page.
                "title" if meta.title.is_none() && !inside(*element, "svg") => {
                    meta.title = filled(&text::line(*element));
                }
                "link" if meta.canonical.is_none() && has_word(element.attr("rel"), "canonical") => {
                    meta.canonical = element.attr("href").and_then(filled);
                }
                "meta" => {
                    let name = element.attr("name").or_else(|| element.attr("property")).and_then(filled);
                    let content = element.attr("content").and_then(filled);
                    if let Some((name, content)) = name.zip(content) {
                        let name = name.to_lowercase();
                        if name == "description" && meta.description.is_none() {
                            meta.description = Some(content.clone());
                        }
                        meta.properties.entry(name).or_insert(content);
                    }
                }
                _ => {}
            }
        }
        meta
    }

    /// Where its links lead: absolute, by the address of the page and its `base`; only those of HTTP.
    pub fn links(&self, of: &str) -> Vec<Link> {
        let Ok(mut base) = Url::parse(of) else { return Vec::new() };
        let elements = || self.html.root_element().descendants().filter_map(ElementRef::wrap);
        if let Some(own) =
            elements().find(|element| element.value().name() == "base").and_then(|base| base.attr("href"))
            && let Ok(own) = base.join(own)
        {
            base = own;
        }
        let mut out = Vec::new();
        for element in elements().filter(|element| matches!(element.value().name(), "a" | "area")) {
            let Some(Ok(mut url)) = element.attr("href").map(|to| base.join(to.trim())) else { continue };
            if !matches!(url.scheme(), "http" | "https") {
                continue;
            }
            url.set_fragment(None);
            out.push(Link { text: text::line(*element), url: url.into() });
        }
        out
    }

    /// How many nodes it has.
    pub fn nodes(&self) -> u64 {
        self.nodes
    }
}

impl Found<'_> {
    /// Its name: `td`.
    pub fn tag(&self) -> &str {
        self.0.value().name()
    }

    /// Its text, on one line.
    pub fn text(&self) -> String {
        text::line(*self.0)
    }

    /// Itself, as HTML.
    pub fn html(&self) -> String {
        self.0.html()
    }

    /// Its attributes, in the order of their names.
    pub fn attributes(&self) -> BTreeMap<String, String> {
        self.0.value().attrs().map(|(name, value)| (name.to_owned(), value.to_owned())).collect()
    }
}

/// Whether a list of words has one.
fn has_word(list: Option<&str>, word: &str) -> bool {
    list.unwrap_or_default().split_ascii_whitespace().any(|one| one.eq_ignore_ascii_case(word))
}

fn inside(node: NodeRef<'_, Node>, name: &str) -> bool {
    node.ancestors().any(|around| around.value().as_element().is_some_and(|element| element.name() == name))
}

#[cfg(test)]
mod tests;
