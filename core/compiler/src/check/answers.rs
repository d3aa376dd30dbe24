//! Steps that answer the client.

use super::actions::{At, Compiled};
use super::steps::{Answered, End, Walk};
use crate::plan::{self, sheet};
use kanzlei_lang::diagnostic::Place;
use kanzlei_lang::document::reader::Named;
use kanzlei_lang::document::step::{Action, Step};
use kanzlei_lang::document::yaml::Node;
use kanzlei_lang::types::{Type, contradiction, schema};

impl Walk<'_, '_, '_> {
    /// `reply`: what the client gets.
    pub(super) fn reply(
        &mut self,
        status: &Node,
        headers: &[(Named, Node)],
        body: &Option<Node>,
        step: &Step,
        at: At,
    ) -> Compiled {
        let At { paragraph, answered, .. } = at;
        let mut rows = sheet::header_rows(headers);
        rows.extend(body.iter().flat_map(|body| sheet::rows("body", body)));
        self.show(paragraph, "reply", sheet::inline(status), rows);
        if let Some(why) = self.no_answer.last() {
            self.report.error("reply-apart", step.at, *why);
            self.report.help("collect the results and put the `reply` behind them");
        }
        if answered == Answered::Yes {
            let message = "the client already has its answer from a `reply` before this one";
            self.report.error("second-reply", step.at, message);
        }
        let at = body.as_ref().map_or(status.at, |body| body.at);
        let status = self.status(status, 200, 599);
        let code = match &self.last {
            Type::Number(Some(code)) => Some(*code as u16),
            _ => None,
        };
        let names = headers.iter().map(|(name, _)| name.text.clone()).collect();
        let headers = self.named_makers(headers);
        let rows = body.as_ref().and_then(|body| self.rows_in(body, false));
        let (body, of) = match (&rows, body) {
            (Some(rows), Some(body)) => {
                self.only_to_clients(body);
                (rows.maker(), Type::list(rows.row.clone()))
            }
            (_, Some(body)) => self.typed(body),
            (_, None) => (None, Type::Undefined),
        };
        let declared = self.declared(code, &of, at);
        let shape = plan::ReplyShape { status: code, body: of, headers: names, declared };
        if !step.off && !self.replies.contains(&shape) {
            self.replies.push(shape);
        }
        let rows = rows.map(|rows| rows.reading);
        let action = status.map(|status| plan::Action::Reply(Box::new(plan::Reply { status, headers, body, rows })));
        (action, End { ends: false, answered: Answered::Yes }, Type::Undefined)
    }

    /// `fail`: the run ends with a problem.
    pub(super) fn fail(&mut self, step: &Step, at: At) -> Compiled {
        let At { paragraph, answered, .. } = at;
        let Action::Fail { status, title, detail, problem_type, with } = &step.action else {
            return (None, End { ends: false, answered }, Type::Undefined);
        };
        let shown = |label: &str, node: &Option<Node>| node.as_ref().map(|n| (label.to_owned(), sheet::inline(n)));
        let named = title.as_ref().map(|t| format!("{} {}", sheet::inline(status), sheet::inline(t)));
        let rows =
            shown("detail", detail).into_iter().chain(shown("type", problem_type)).chain(shown("with", with)).collect();
        self.show(paragraph, "fail", named.unwrap_or_else(|| sheet::inline(status)), rows);
        let status = self.status(status, 400, 599);
        if let (Type::Number(Some(code)), false) = (&self.last, step.off) {
            self.fails.push((*code as u16, title.as_ref().and_then(|t| t.as_text().map(str::to_owned))));
        }
        let mut part = |node: &Option<Node>| node.as_ref().and_then(|node| self.maker(node));
        let (title, detail, problem_type, with) = (part(title), part(detail), part(problem_type), part(with));
        let action =
            status.map(|status| plan::Action::Fail(Box::new(plan::Fail { status, title, detail, problem_type, with })));
        (action, End { ends: true, answered }, Type::Undefined)
    }

    /// The schema that the document declares for a status; a body that contradicts it is reported.
    fn declared(&mut self, status: Option<u16>, body: &Type, at: Place) -> Option<serde_json::Value> {
        if self.workflow.replies.is_empty() {
            return None;
        }
        let status = status?;
        let Some((_, declared, _)) = self.workflow.replies.iter().find(|(known, _, _)| *known == status) else {
            self.report.error(
                "undeclared-reply",
                at,
                format!("the status {status} is not among the declared `replies`"),
            );
            self.report.help(format!("declare it: `{status}: {{type: object, …}}`"));
            return None;
        };
        if let Some((pointer, why)) = contradiction(body, &schema::read(declared)) {
            let pointer = if pointer.is_empty() { "the body".to_owned() } else { format!("`{pointer}`") };
            self.report.error("wrong-reply", at, format!("{pointer} contradicts the declared reply {status}: {why}"));
        }
        Some(declared.clone())
    }
}
