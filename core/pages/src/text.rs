//! The text of elements: white space collapsed, blocks on lines of their own, nothing that no reader sees.

use ego_tree::NodeRef;
use ego_tree::iter::Edge;
use scraper::Node;

/// Elements whose text no reader sees.
const UNSEEN: &[&str] = &["script", "style", "template", "noscript", "head", "svg", "iframe", "object"];
/// Elements that lead through a site and are not what a page is for.
const AROUND: &[&str] = &["nav", "header", "footer", "aside", "form", "button", "dialog", "menu"];
/// Elements that begin and end lines.
const BLOCKS: &[&str] = &[
    "address",
    "article",
    "aside",
    "blockquote",
    "body",
    "dd",
    "details",
    "div",
    "dl",
    "dt",
    "fieldset",
    "figcaption",
    "figure",
    "footer",
    "form",
    "h1",
    "h2",
    "h3",
    "h4",
    "h5",
    "h6",
    "header",
    "hr",
    "html",
    "li",
    "main",
    "nav",
    "ol",
    "p",
    "pre",
    "section",
    "summary",
    "table",
    "tbody",
    "tfoot",
    "thead",
    "tr",
    "ul",
];

/// The text of a node on one line.
pub fn line(node: NodeRef<'_, Node>) -> String {
    collect(node, false).split_whitespace().collect::<Vec<_>>().join(" ")
}

/// The text of a node with a line for each block; `main` leaves out what leads through the site.
pub fn lines(node: NodeRef<'_, Node>, main: bool) -> String {
    let text = collect(node, main);
    let lines = text.lines().map(|line| line.split_whitespace().collect::<Vec<_>>().join(" "));
    lines.filter(|line| !line.is_empty()).collect::<Vec<_>>().join("\n")
}

fn collect(of: NodeRef<'_, Node>, main: bool) -> String {
    let mut out = String::new();
    // How many elements around leave their text out. The node itself counts, whatever it is.
    let mut hidden = 0u32;
    for edge in of.traverse() {
        let (node, opens) = match edge {
            Edge::Open(node) => (node, true),
            Edge::Close(node) => (node, false),
        };
        match node.value() {
            Node::Text(text) if opens && hidden == 0 => {
                // Line breaks of the source are white space.
                out.extend(text.chars().map(|c| if c.is_whitespace() { ' ' } else { c }));
            }
            Node::Element(element) => {
                let name = element.name();
                if node.id() != of.id() && (UNSEEN.contains(&name) || main && AROUND.contains(&name)) {
                    hidden = if opens { hidden + 1 } else { hidden.saturating_sub(1) };
                }
                match name {
                    "br" if opens => out.push('\n'),
                    "td" | "th" if opens => out.push(' '),
                    _ if BLOCKS.contains(&name) => out.push('\n'),
                    _ => {}
                }
            }
            _ => {}
        }
    }
    out
}
