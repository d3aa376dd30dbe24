//! `script`: statements over the names of a workflow.

use std::sync::Arc;

use super::actions::{At, Compiled};
use super::steps::{End, Walk};
use crate::plan;
use kanzlei_lang::document::yaml::{Kind, Node};
use kanzlei_lang::expr::Expression;
use kanzlei_lang::types::Type;

/// Lines of a script that the sheet shows.
const SHOWN: usize = 4;

impl Walk<'_, '_, '_> {
    /// A script; its result is what it returns.
    pub(super) fn script(&mut self, node: &Node, at: At) -> Compiled {
        let end = End { ends: false, answered: at.answered };
        let Kind::Text(text) = &node.kind else {
            self.show(at.paragraph, "script", String::new(), Vec::new());
            self.report.error("wrong-type", node.at, format!("`script` takes statements as text, not {}", node.what()));
            self.report.help("write them as a block: `script: |`, indented below");
            return (None, end, Type::Unknown);
        };
        self.show(at.paragraph, "script", String::new(), script_lines(&text.text));
        self.look_at(node, true);
        match Expression::script(&text.text, &self.scope) {
            Ok(script) => {
                let of = self.compiled(&script, node);
                if !script.returns() {
                    self.report.warning("no-return", node.at, "this script returns nothing");
                    self.report.help("end it with `return …`; a script has no effect but what it returns");
                }
                (Some(plan::Action::Script(Arc::new(script))), end, of)
            }
            Err(faults) => {
                self.faults(faults, node);
                (None, end, Type::Unknown)
            }
        }
    }
}

/// The first lines of a script.
pub fn script_lines(text: &str) -> Vec<(String, String)> {
    let lines: Vec<&str> = text.lines().filter(|line| !line.trim().is_empty()).collect();
    let mut out: Vec<_> = lines.iter().take(SHOWN).map(|line| (String::new(), line.trim_end().to_owned())).collect();
    if lines.len() > SHOWN {
        out.push((String::new(), format!("… {} more lines", lines.len() - SHOWN)));
    }
    out
}
