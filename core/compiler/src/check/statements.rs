//! SQL statements: named parameters out of the text, what is bound against them, and what [`crate::sql`] says of
//! each. Whether its tables and columns exist is for its database to say, when it is deployed.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

use super::steps::Walk;
use crate::plan::{self, Maker, Plan, Statement};
use crate::sql::columns::{Described, Unknown, described};
use crate::sql::{Class, Needs, judge, parameters, tuple, words};
use kanzlei_lang::diagnostic::{Place, Report};
use kanzlei_lang::document::reader::Named;
use kanzlei_lang::document::step::Sql;
use kanzlei_lang::document::workflow::Answer;
use kanzlei_lang::document::{self, Workflow};
use kanzlei_lang::suggest;
use kanzlei_lang::types::{Type, row};

/// How long statements may take by default.
const WITHIN: std::time::Duration = std::time::Duration::from_secs(5);
/// How long they may take that go through files.
const LONG: std::time::Duration = std::time::Duration::from_secs(60);

/// Reports a database that the service does not know.
pub(super) fn known_database(named: &Named, known: Option<&super::Known>, report: &mut Report) {
    let Some(known) = known.filter(|known| !known.databases.contains_key(&named.text)) else { return };
    let name = &named.text;
    report.error("unknown-database", named.at, format!("the service knows no database `{name}`"));
    match suggest::nearest(name, known.databases.keys().map(String::as_str)) {
        Some(near) => report.did_you_mean(near),
        None => report.help(format!("name it in the service's settings: `databases.{name}.url`")),
    };
}

pub(super) fn compile(walk: &mut Walk, sql: &Sql) -> Option<plan::Sql> {
    let mut statements = Vec::with_capacity(sql.statements.len());
    let mut needs = Needs::default();
    let mut writes = false;
    let mut whole = true;
    known_database(&sql.database, walk.known, walk.report);
    let rows = sql.from.as_ref().map(|node| walk.rows_of(node));
    let mut members: Vec<kanzlei_model::value::Str> = Vec::new();
    for statement in &sql.statements {
        let text = statement.text.as_text().unwrap_or_default();
        if let Some(at) = text.find("${") {
            let place = statement.text.place_in(walk.report.text(), at, at + 2);
            walk.report.error("pasted-value", place, "values are never pasted into a statement");
            walk.report.help("name a parameter, `:name`, and set its value under `bind`");
            whole = false;
            continue;
        }
        let (texts, found) = parameters(text);
        let compiled = texts.join("?");
        let class = match judge(&compiled, found.len(), sql.transaction) {
            Ok(judged) => {
                let mut own = Needs::default();
                own.add(&judged);
                let allowed = walk.known.and_then(|known| known.databases.get(&sql.database.text));
                if let Some(refused) = allowed.and_then(|allowed| own.refused_by(&sql.database.text, allowed)) {
                    walk.report.error("not-allowed", statement.text.at, refused.message);
                    walk.report.help(refused.help);
                }
                needs.add(&judged);
                judged.class
            }
            Err(refused) => {
                walk.report.error("refused-statement", statement.text.at, refused.message);
                walk.report.help(refused.help);
                whole = false;
                continue;
            }
        };
        writes |= class != Class::Reads;
        once_fits(walk, sql, statement.text.at, text, class);
        let makers: Vec<Option<(kanzlei_model::value::Str, Maker)>> =
            statement.bind.iter().map(|(name, node)| Some((name.text.as_str().into(), walk.maker(node)?))).collect();
        let mut indexes = Vec::with_capacity(found.len());
        for (at, name) in &found {
            match statement.bind.iter().position(|(bound, _)| bound.text == *name) {
                Some(index) => indexes.push(index),
                None if rows.as_ref().is_some_and(|rows| walk.member_of(rows, name, (statement, *at))) => {
                    let known = members.iter().position(|member| **member == **name);
                    let index = known.unwrap_or(members.len());
                    if known.is_none() {
                        members.push(name.as_str().into());
                    }
                    indexes.push(statement.bind.len() + index);
                }
                None if rows.is_some() => whole = false,
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
                    walk.report.did_you_mean(near);
                }
                whole = false;
            }
        }
        let compiled = Arc::new(Statement { texts, parameters: indexes });
        match walk.described(&sql.database.text, &compiled) {
            Some(Err(why)) => {
                let message = format!("the database rejects this: {why}");
                walk.report.error("refused-statement", statement.text.at, message);
            }
            Some(Ok(described)) => {
                for unknown in described.faults {
                    report_unknown(walk, statement, &sql.database.text, &unknown);
                }
            }
            None => {}
        }
        walk.statements.push((sql.database.text.clone(), compiled.clone()));
        whole &= makers.iter().all(Option::is_some);
        statements.push((compiled, makers.into_iter().flatten().collect()));
    }
    if let (Some(node), false) = (&sql.from, writes) {
        walk.report.error(
            "wrong-value",
            node.at,
            "a statement is performed for each row when it writes; this one reads",
        );
    }
    if let (Some(into), true) = (&sql.into, writes) {
        let at =
            into.name.as_ref().or(sql.statements.first().map(|one| &one.text)).map_or(sql.database.at, |node| node.at);
        walk.report.error(
            "wrong-value",
            at,
            "`into` makes a file of the rows that a query returns; this statement writes",
        );
    }
    let into = match &sql.into {
        None => None,
        Some(write) => Some(walk.written(write)?),
    };
    let from = match rows {
        None => None,
        Some(rows) => {
            let tuple = statements.first().and_then(|(one, _): &(Arc<Statement>, plan::Bound)| tuple(&one.prepared()));
            Some(plan::From { list: rows.list?, rows: rows.reading, members, tuple })
        }
    };
    let once = sql.once && writes;
    if once && !walk.once.contains(&sql.database) {
        walk.once.push(sql.database.clone());
    }
    whole.then(|| plan::Sql {
        database: sql.database.text.clone(),
        statements,
        transaction: sql.transaction,
        within: sql.within.unwrap_or(if from.is_some() || into.is_some() { LONG } else { WITHIN }),
        once,
        needs: Arc::new(needs),
        from,
        into,
    })
}

/// Reports a table or column that the description of a database lacks.
fn report_unknown(walk: &mut Walk, statement: &document::step::Statement, database: &str, unknown: &Unknown) {
    let text = statement.text.as_text().unwrap_or_default();
    let whole = |at: usize| {
        let part = |c: char| c.is_ascii_alphanumeric() || c == '_' || c == '$';
        let behind = text[at + unknown.name.len()..].chars().next();
        !text[..at].chars().next_back().is_some_and(|c| part(c) || c == ':') && !behind.is_some_and(part)
    };
    let at = text.match_indices(&unknown.name).map(|(at, _)| at).find(|at| whole(*at));
    let place = match at {
        Some(at) => statement.text.place_in(walk.report.text(), at, at + unknown.name.len()),
        None => statement.text.at,
    };
    let (code, message) = match &unknown.column_of {
        None => ("unknown-table", format!("`{database}` has no table `{}`", unknown.name)),
        Some(tables) => ("unknown-column", format!("there is no column `{}` in {tables}", unknown.name)),
    };
    walk.report.error(code, place, message);
    match &unknown.near {
        Some(near) => walk.report.did_you_mean(near),
        None => walk.report.help(format!(
            "where the database has changed, describe it again: `kanzlei databases describe {database}`"
        )),
    };
}

/// What is wrong with a statement that is to be performed once.
fn once_fits(walk: &mut Walk, sql: &Sql, at: Place, text: &str, class: Class) {
    let words = words(text);
    if let Some(own) = OWN.iter().find(|own| words.iter().any(|word| word.eq_ignore_ascii_case(own))) {
        walk.report.error("reserved-table", at, format!("`{own}` is the service's own table"));
        walk.report.help("it holds which steps of jobs were performed; no statement may name it");
    }
    let commits = matches!(class, Class::Defines | Class::Calls);
    let first = || words.first().map(|word| word.to_uppercase()).unwrap_or_default();
    if commits && sql.statements.len() > 1 {
        let message = format!("{} may commit by itself, so these statements are no transaction", first());
        walk.report.error("commits-by-itself", at, message);
        walk.report.help("give it a step of its own");
    }
    if !sql.once || class == Class::Reads {
        return;
    }
    if commits {
        let message = format!("{} may commit by itself, so a job cannot perform it once", first());
        walk.report.error("commits-by-itself", at, message);
        walk.report.help("write `once: false` if it may be repeated after a crash");
    }
    let known = walk.known.and_then(|known| known.no_transactions.get(&sql.database.text));
    let plain = known.into_iter().flatten().find(|(table, _)| words.contains(&table.as_str()));
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
    workflows: &[(usize, Arc<Workflow>)],
    plans: &BTreeMap<String, Arc<Plan>>,
    reports: &mut [Report],
) {
    let queued: BTreeSet<&str> = plans.values().flat_map(|plan| &plan.enqueues).map(String::as_str).collect();
    let mut jobs: Vec<&Arc<Plan>> = plans
        .values()
        .filter(|plan| {
            let later =
                plan.endpoints.iter().any(|endpoint| endpoint.answer != Answer::Now) || !plan.watches.is_empty();
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

/// The service's own tables in databases of authors: which steps of jobs were performed, and which rows changed.
pub const OWN: [&str; 2] = ["kanzlei_done", "kanzlei_change"];

impl Walk<'_, '_, '_> {
    /// What the database reported of a statement, where it was asked; else what its description says.
    pub(super) fn described(&self, database: &str, statement: &Statement) -> Option<Result<Described, String>> {
        let text = statement.prepared();
        if let Some(known) = self.known {
            let reported = known.statements.get(&(database.to_owned(), text)).cloned();
            return reported
                .map(|reported| reported.map(|columns| Described { columns: Some(columns), faults: vec![] }));
        }
        Some(Ok(described(&text, &self.databases.get(database)?.tables)))
    }
}

/// The type of what the statements return.
pub(super) fn result(walk: &Walk, sql: &plan::Sql) -> Type {
    if let Some((writing, _)) = &sql.into {
        return Type::file(Type::text(writing.format.media()));
    }
    let one = |statement: &Statement| {
        let row = match walk.described(&sql.database, statement) {
            Some(Ok(Described { columns: Some(columns), .. })) if columns.is_empty() => Type::Never,
            Some(Ok(Described { columns: Some(columns), .. })) => {
                row(columns.iter().map(|c| (c.name.as_str(), c.type_name.as_str(), c.nullable)))
            }
            _ => Type::Unknown,
        };
        Type::object([("rows", Type::list(row)), ("count", Type::NUMBER), ("id", Type::NUMBER.or(Type::Null))])
    };
    let results = sql.statements.iter().map(|(statement, _)| one(statement));
    if sql.transaction { Type::beginning(results, Type::Never) } else { Type::union(results) }
}
