//! SQL statements: named parameters out of the text, and what is bound against them.
//!
//! Only as much of SQL is read as is needed to find `:name` outside of strings, quoted names and
//! comments. Whether a statement is good is for its database to say, when it is deployed.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

use super::steps::Walk;
use crate::plan::{self, Maker, Plan, Statement};
use kanzlei_lang::diagnostic::{Place, Report};
use kanzlei_lang::document::Workflow;
use kanzlei_lang::document::step::Sql;
use kanzlei_lang::document::workflow::Answer;
use kanzlei_lang::suggest;
use kanzlei_lang::types::{Type, row};

/// How long statements may take by default.
const WITHIN: std::time::Duration = std::time::Duration::from_secs(5);

pub(super) fn compile(walk: &mut Walk, sql: &Sql) -> Option<plan::Sql> {
    let mut statements = Vec::with_capacity(sql.statements.len());
    let mut kinds = Vec::with_capacity(sql.statements.len());
    let mut whole = true;
    if let Some(known) = walk.known.filter(|known| !known.databases.contains(&sql.database.text)) {
        let name = &sql.database.text;
        walk.report.error("unknown-database", sql.database.at, format!("the service knows no database `{name}`"));
        match suggest::nearest(name, known.databases.iter().map(String::as_str)) {
            Some(near) => walk.report.help(format!("did you mean `{near}`?")),
            None => walk.report.help(format!("name it in the service's settings: `databases.{name}.url`")),
        };
    }
    for statement in &sql.statements {
        let text = statement.text.as_text().unwrap_or_default();
        if let Some(at) = text.find("${") {
            let place = statement.text.place_in(walk.report.text(), at, at + 2);
            walk.report.error("pasted-value", place, "values are never pasted into a statement");
            walk.report.help("name a parameter, `:name`, and set its value under `bind`");
            whole = false;
            continue;
        }
        let kind = kind_of(text);
        kinds.push(kind);
        once_fits(walk, sql, statement.text.at, text, kind);
        let (texts, found) = parameters(text);
        let makers: Vec<Option<(kanzlei_model::value::Str, Maker)>> =
            statement.bind.iter().map(|(name, node)| Some((name.text.as_str().into(), walk.maker(node)?))).collect();
        let mut indexes = Vec::with_capacity(found.len());
        for (at, name) in &found {
            match statement.bind.iter().position(|(bound, _)| bound.text == *name) {
                Some(index) => indexes.push(index),
                None => {
                    let place = statement.text.place_in(walk.report.text(), *at, at + name.len() + 1);
                    walk.report.error("missing-parameter", place, format!("`:{name}` is not bound"));
                    walk.report.help(format!("add it under `bind`: `{name}: …`"));
                    whole = false;
                }
            }
        }
        for (name, _) in &statement.bind {
            if !found.iter().any(|(_, known)| *known == name.text) {
                walk.report.error("unknown-parameter", name.at, format!("the statement has no `:{}`", name.text));
                if let Some(near) = suggest::nearest(&name.text, found.iter().map(|(_, known)| known.as_str())) {
                    walk.report.help(format!("did you mean `:{near}`?"));
                }
                whole = false;
            }
        }
        let compiled = Arc::new(Statement { texts, parameters: indexes });
        if let Some(Err(why)) = walk.described(&sql.database.text, &compiled) {
            walk.report.error("refused-statement", statement.text.at, format!("the database rejects this: {why}"));
        }
        walk.statements.push((sql.database.text.clone(), compiled.clone()));
        whole &= makers.iter().all(Option::is_some);
        statements.push((compiled, makers.into_iter().flatten().collect()));
    }
    let writes = kinds.iter().any(|kind| *kind != Kind::Reads);
    let once = sql.once && writes;
    if once && !walk.once.contains(&sql.database) {
        walk.once.push(sql.database.clone());
    }
    whole.then(|| plan::Sql {
        database: sql.database.text.clone(),
        statements,
        transaction: sql.transaction,
        within: sql.within.unwrap_or(WITHIN),
        once,
    })
}

/// What is wrong with a statement that is to be performed once.
fn once_fits(walk: &mut Walk, sql: &Sql, at: Place, text: &str, kind: Kind) {
    let words: Vec<String> = words(text);
    if words.iter().any(|word| word.eq_ignore_ascii_case(MARKERS)) {
        walk.report.error("reserved-table", at, format!("`{MARKERS}` is the service's own table"));
        walk.report.help("it holds which steps of jobs were performed; no statement may name it");
    }
    if !sql.once || kind == Kind::Reads {
        return;
    }
    if kind == Kind::Commits {
        let first = words.first().map(|word| word.to_uppercase()).unwrap_or_default();
        let message = format!("{first} commits by itself, so a job cannot perform it once");
        walk.report.error("commits-by-itself", at, message);
        walk.report.help("write `once: false` if it may be repeated after a crash");
    }
    let known = walk.known.and_then(|known| known.no_transactions.get(&sql.database.text));
    let plain = known.into_iter().flatten().find(|(table, _)| words.iter().any(|word| word == table));
    if let Some((table, engine)) = plain {
        let message =
            format!("`{table}` is stored by {engine}, which has no transactions: a job cannot perform this once");
        walk.report.error("no-transactions", at, message);
        walk.report.help(format!("run `ALTER TABLE {table} ENGINE = InnoDB`, or write `once: false`"));
    }
}

/// Reports databases that lack what jobs need to perform steps once, where a workflow may run as a job.
pub(super) fn unprepared(
    known: &super::Known,
    workflows: &[(usize, Workflow)],
    plans: &BTreeMap<String, Arc<Plan>>,
    reports: &mut [Report],
) {
    let queued: BTreeSet<&str> = plans.values().flat_map(|plan| &plan.enqueues).map(String::as_str).collect();
    let mut jobs: Vec<&Arc<Plan>> = plans
        .values()
        .filter(|plan| {
            let later = plan.endpoints.iter().any(|endpoint| endpoint.answer != Answer::Now);
            later || plan.durable || !plan.timetables.is_empty() || queued.contains(plan.name.as_str())
        })
        .collect();
    // What a job invokes belongs to it.
    let mut seen = BTreeSet::new();
    while let Some(plan) = jobs.pop() {
        if !seen.insert(plan.name.clone()) {
            continue;
        }
        jobs.extend(plan.invokes.iter().filter_map(|name| plans.get(name)));
        let Some((index, _)) = workflows.iter().find(|(_, workflow)| workflow.name.text == plan.name) else { continue };
        for database in &plan.once {
            let Some(missing) = known.unprepared.get(&database.text) else { continue };
            let name = &database.text;
            let message = format!("jobs cannot perform steps once in `{name}`: {}", missing.join("; "));
            reports[*index].error("unprepared-database", database.at, message);
            reports[*index].help(format!("prepare it with `kanzlei databases prepare {name}`, or write `once: false`"));
        }
    }
}

/// The table that holds which steps of jobs were performed.
pub const MARKERS: &str = "kanzlei_done";

/// What a statement does to the database, by its words.
#[derive(Clone, Copy, Debug, PartialEq)]
enum Kind {
    Reads,
    Writes,
    /// Writes, and commits the transaction around it.
    Commits,
}

/// The kind of a statement. What is not known to read counts as writing.
fn kind_of(text: &str) -> Kind {
    const WRITES: [&str; 4] = ["INSERT", "UPDATE", "DELETE", "REPLACE"];
    let words: Vec<String> = words(text).into_iter().map(|word| word.to_uppercase()).collect();
    match words.first().map(String::as_str).unwrap_or_default() {
        "SELECT" | "SHOW" | "DESCRIBE" | "DESC" | "EXPLAIN" | "VALUES" => Kind::Reads,
        "WITH" if !words.iter().any(|word| WRITES.contains(&word.as_str())) => Kind::Reads,
        "CREATE" | "ALTER" | "DROP" | "TRUNCATE" | "RENAME" | "GRANT" | "REVOKE" | "LOCK" | "UNLOCK" | "ANALYZE"
        | "OPTIMIZE" | "REPAIR" | "CHECK" | "FLUSH" | "START" | "BEGIN" | "COMMIT" | "ROLLBACK" | "LOAD" => {
            Kind::Commits
        }
        _ => Kind::Writes,
    }
}

/// The words of a statement outside of strings and comments; quoted names are words too.
fn words(text: &str) -> Vec<String> {
    let bytes = text.as_bytes();
    let mut words = Vec::new();
    let mut at = 0;
    while at < bytes.len() {
        let rest = &text[at..];
        let is_word = |b: &u8| b.is_ascii_alphanumeric() || *b == b'_' || *b == b'$' || *b >= 0x80;
        at += match bytes[at] {
            b'`' => {
                let length = quoted(&bytes[at..], b'`').min(rest.len());
                words.push(rest[1..length.max(2) - 1].to_owned());
                length
            }
            quote @ (b'\'' | b'"') => quoted(&bytes[at..], quote),
            b'#' => line(rest),
            b'-' if rest.starts_with("-- ") || rest == "--" || rest.starts_with("--\n") => line(rest),
            b'/' if rest.starts_with("/*") => rest[2..].find("*/").map_or(rest.len(), |end| end + 4),
            b if is_word(&b) => {
                let length = rest.bytes().take_while(|b| is_word(b)).count();
                words.push(rest[..length].to_owned());
                length
            }
            _ => 1,
        };
        at = at.min(text.len());
    }
    words
}

impl Walk<'_, '_, '_> {
    /// What the database reported of a statement, where it was asked.
    pub(super) fn described(
        &self,
        database: &str,
        statement: &Statement,
    ) -> Option<Result<Vec<super::Column>, String>> {
        self.known?.statements.get(&(database.to_owned(), statement.prepared())).cloned()
    }
}

/// The type of what the statements return.
pub(super) fn result(walk: &Walk, sql: &plan::Sql) -> Type {
    let one = |statement: &Statement| {
        let row = match walk.described(&sql.database, statement) {
            Some(Ok(columns)) if columns.is_empty() => Type::Never,
            Some(Ok(columns)) => row(columns.iter().map(|c| (c.name.as_str(), c.type_name.as_str(), c.nullable))),
            _ => Type::Unknown,
        };
        Type::object([("rows", Type::list(row)), ("count", Type::NUMBER), ("id", Type::NUMBER.or(Type::Null))])
    };
    let results = sql.statements.iter().map(|(statement, _)| one(statement));
    if sql.transaction { Type::beginning(results, Type::Never) } else { Type::union(results) }
}

/// The texts around the named parameters, and each parameter with its place.
fn parameters(text: &str) -> (Vec<String>, Vec<(usize, String)>) {
    let bytes = text.as_bytes();
    let mut texts = Vec::new();
    let mut found = Vec::new();
    let mut from = 0;
    let mut at = 0;
    while at < bytes.len() {
        let rest = &text[at..];
        at += match bytes[at] {
            quote @ (b'\'' | b'"' | b'`') => quoted(&bytes[at..], quote),
            b'#' => line(rest),
            b'-' if rest.starts_with("-- ") || rest == "--" || rest.starts_with("--\n") => line(rest),
            b'/' if rest.starts_with("/*") => rest[2..].find("*/").map_or(rest.len(), |end| end + 4),
            b':' => {
                let name: usize = rest[1..].bytes().take_while(|b| b.is_ascii_alphanumeric() || *b == b'_').count();
                let begins = bytes.get(at + 1).is_some_and(|b| b.is_ascii_alphabetic() || *b == b'_');
                let after_name = at > 0 && (bytes[at - 1].is_ascii_alphanumeric() || bytes[at - 1] == b':');
                if begins && !after_name {
                    texts.push(text[from..at].to_owned());
                    found.push((at, rest[1..=name].to_owned()));
                    from = at + 1 + name;
                    1 + name
                } else {
                    1
                }
            }
            _ => rest.chars().next().map_or(1, char::len_utf8),
        };
    }
    texts.push(text[from..].to_owned());
    (texts, found)
}

fn line(rest: &str) -> usize {
    rest.find('\n').map_or(rest.len(), |end| end + 1)
}

/// The length of a quoted text, its quotes included; a doubled quote and `\\` do not end it.
fn quoted(bytes: &[u8], quote: u8) -> usize {
    let mut at = 1;
    while at < bytes.len() {
        match bytes[at] {
            b'\\' if quote != b'`' => at += 2,
            b if b == quote => match bytes.get(at + 1) {
                Some(next) if *next == quote => at += 2,
                _ => return at + 1,
            },
            _ => at += 1,
        }
    }
    bytes.len()
}

#[cfg(test)]
mod tests {
    use super::{Kind, kind_of, parameters, words};

    #[test]
    fn statements_are_told_apart_by_their_words() {
        for (text, kind) in [
            ("SELECT 1", Kind::Reads),
            ("  -- INSERT\n select * from `update`", Kind::Reads),
            ("WITH a AS (SELECT 1) SELECT * FROM a", Kind::Reads),
            ("WITH a AS (SELECT 1) DELETE FROM b", Kind::Writes),
            ("INSERT INTO a SELECT 1", Kind::Writes),
            ("CALL work()", Kind::Writes),
            ("/* x */ TRUNCATE a", Kind::Commits),
            ("", Kind::Writes),
        ] {
            assert_eq!(kind_of(text), kind, "{text}");
        }
        assert_eq!(words("UPDATE `a b`.c SET d='e f', g=\"h\" # i"), ["UPDATE", "a b", "c", "SET", "d", "g"]);
        assert_eq!(words("`"), [""]);
    }

    #[test]
    fn parameters_are_found_outside_of_strings_and_comments() {
        for (text, wanted) in [
            ("SELECT * FROM v WHERE imo = :imo AND kind IN (:kinds)", &["imo", "kinds"][..]),
            ("SELECT ':no' , \":no\", `:no` -- :no\n, :yes", &["yes"]),
            ("SELECT 'it''s :no', 'a\\':no', :a_1", &["a_1"]),
            ("SELECT /* :no */ :a # :no\n + :a", &["a", "a"]),
            ("SELECT @x := 1, 12:30, a::b, :å", &[]),
            ("SELECT '", &[]),
            (":", &[]),
        ] {
            let (texts, found) = parameters(text);
            let names: Vec<&str> = found.iter().map(|(_, name)| name.as_str()).collect();
            assert_eq!(names, wanted, "{text}");
            let mut whole = texts[0].clone();
            for (name, after) in names.iter().zip(&texts[1..]) {
                whole.push_str(&format!(":{name}{after}"));
            }
            assert_eq!(whole, text, "nothing is lost");
        }
    }
}
