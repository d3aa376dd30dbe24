//! Names of workflows that were renamed: records keep the name they were made under, and are found under the name of today.
//!
//! A rename is part of a deploy. Runs, jobs and refusals stay as they are; a row of `former_name` says until when a name
//! belonged to which workflow. What there is once for each workflow, such as what it remembers, moves.

use kanzlei_model::time::Timestamp;
use sqlx::{MySql, QueryBuilder};
use uuid::Uuid;

use crate::{Doing, Error, Result, Store};

/// A workflow that gets another name.
#[derive(Clone, Copy, Debug)]
pub struct Rename<'r> {
    /// The name until now.
    pub from: &'r str,
    /// The name from now on.
    pub to: &'r str,
    /// Drafts that move along: kind, version, text with the new name.
    pub drafts: &'r [(String, u64, String)],
}

/// A name that a workflow had.
#[derive(Clone, Debug, PartialEq)]
pub struct FormerName {
    /// The name of today.
    pub workflow: String,
    /// The former name.
    pub former: String,
    /// What was made under it before then belongs to the workflow.
    pub until: Timestamp,
}

/// A name, and for which time it means one workflow: from an id on and before another; ids sort by time.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Called {
    /// The name as records have it.
    pub name: String,
    /// The first id that it holds for.
    pub from: Option<Uuid>,
    /// The first id that it holds for no more.
    pub until: Option<Uuid>,
}

impl Called {
    /// The minutes for which the name means the workflow, the last one included.
    pub(crate) fn minutes(&self) -> (i64, i64) {
        let minute = |id: Uuid| ((id.as_u128() >> 80) / 60_000) as i64;
        (self.from.map_or(i64::MIN, minute), self.until.map_or(i64::MAX, minute))
    }

    /// Restricts a query to the ids that it holds for; `table` is whose ids, where there are others.
    pub(crate) fn within(&self, query: &mut QueryBuilder<MySql>, table: &str) {
        let dot = if table.is_empty() { "" } else { "." };
        for (bound, compare) in [(self.from, ">="), (self.until, "<")] {
            if let Some(id) = bound {
                query.push(format_args!(" AND {table}{dot}id {compare} ")).push_bind(id.as_bytes().to_vec());
            }
        }
    }
}

impl From<&str> for Called {
    fn from(name: &str) -> Self {
        Called { name: name.to_owned(), ..Called::default() }
    }
}

/// The first id of an instant (RFC 9562, version 7).
fn first_id(at: Timestamp) -> Uuid {
    Uuid::from_u128(((at.as_micros() / 1000).max(0) as u128) << 80)
}

/// All names under which records of a workflow are found.
pub fn names_of(workflow: &str, former: &[FormerName]) -> Vec<Called> {
    // When a name came to mean another workflow, before an instant.
    let begins = |name: &str, before: Option<Timestamp>| {
        let ends = former.iter().filter(|one| one.former == name).map(|one| one.until);
        ends.filter(|until| before.is_none_or(|before| *until < before)).max().map(first_id)
    };
    let own = Called { name: workflow.to_owned(), from: begins(workflow, None), until: None };
    let others = former.iter().filter(|one| one.workflow == workflow).map(|one| Called {
        name: one.former.clone(),
        from: begins(&one.former, Some(one.until)),
        until: Some(first_id(one.until)),
    });
    std::iter::once(own).chain(others).collect()
}

/// The name of today of the workflow that had this name when an id was made.
pub fn name_now<'n>(name: &'n str, id: Uuid, former: &'n [FormerName]) -> &'n str {
    let held = former.iter().filter(|one| one.former == name && id < first_id(one.until));
    held.min_by_key(|one| one.until).map_or(name, |one| &one.workflow)
}

/// Restricts a query to the records of a workflow by its names; without names the query stays as it is.
pub(crate) fn narrow(query: &mut QueryBuilder<MySql>, names: &[Called]) {
    for (index, called) in names.iter().enumerate() {
        query.push(if index == 0 { " AND ((workflow = " } else { " OR (workflow = " }).push_bind(called.name.clone());
        called.within(query, "");
        query.push(if index + 1 == names.len() { "))" } else { ")" });
    }
}

impl Store {
    /// All names that workflows had.
    pub async fn former_names(&self) -> Result<Vec<FormerName>> {
        let rows = sqlx::query!("SELECT workflow, former, until FROM former_name ORDER BY until")
            .fetch_all(&self.pool)
            .await
            .doing("reading former names")?;
        let one = |row: (String, String, i64)| FormerName {
            workflow: row.0,
            former: row.1,
            until: Timestamp::from_micros(row.2),
        };
        Ok(rows.into_iter().map(|row| one((row.workflow, row.former, row.until))).collect())
    }
}

/// Gives a workflow its new name, inside of a deploy.
pub(crate) async fn rename(
    tx: &mut sqlx::Transaction<'_, MySql>,
    Rename { from, to, drafts }: &Rename<'_>,
    now: Timestamp,
) -> Result<()> {
    let other = sqlx::query_scalar!(
        "SELECT COUNT(*) FROM revision n
         LEFT JOIN revision o ON o.kind = n.kind AND o.name = ? AND o.number = n.number AND o.digest = n.digest
         WHERE n.kind = 'workflow' AND n.name = ? AND o.number IS NULL",
        from,
        to
    );
    if other.fetch_one(&mut **tx).await.doing("looking for revisions of that name")? > 0 {
        return Err(Error::NameTaken((*to).to_owned()));
    }
    sqlx::query!(
        "INSERT IGNORE INTO revision (kind, name, number, path, source, file, digest, created, operator)
         SELECT kind, ?, number, path, source, file, digest, created, operator FROM revision WHERE kind = 'workflow' AND name = ?",
        to,
        from
    )
    .execute(&mut **tx)
    .await
    .doing("taking revisions along")?;
    sqlx::query!("DELETE FROM live WHERE kind = 'workflow' AND name = ?", from)
        .execute(&mut **tx)
        .await
        .doing("renaming what is live")?;
    sqlx::query!("DELETE FROM kept WHERE workflow = ?", to).execute(&mut **tx).await.doing("renaming what is kept")?;
    sqlx::query!("UPDATE kept SET workflow = ? WHERE workflow = ?", to, from)
        .execute(&mut **tx)
        .await
        .doing("renaming what is kept")?;
    sqlx::query!("UPDATE waking SET workflow = ? WHERE workflow = ?", to, from)
        .execute(&mut **tx)
        .await
        .doing("renaming what is passed on")?;
    sqlx::query!("UPDATE callback SET workflow = ? WHERE workflow = ?", to, from)
        .execute(&mut **tx)
        .await
        .doing("renaming what waits by a key")?;
    sqlx::query!("DELETE FROM timetable WHERE workflow = ?", to)
        .execute(&mut **tx)
        .await
        .doing("renaming timetables")?;
    sqlx::query!("UPDATE timetable SET workflow = ? WHERE workflow = ?", to, from)
        .execute(&mut **tx)
        .await
        .doing("renaming timetables")?;
    sqlx::query!("UPDATE IGNORE firing SET workflow = ? WHERE workflow = ?", to, from)
        .execute(&mut **tx)
        .await
        .doing("renaming due times")?;
    sqlx::query!(
        "INSERT INTO tally (workflow, minute, runs, rejected, failed, dropped, duration)
         SELECT ?, o.minute, o.runs, o.rejected, o.failed, o.dropped, o.duration FROM tally o WHERE o.workflow = ?
         ON DUPLICATE KEY UPDATE runs = tally.runs + VALUES(runs), rejected = tally.rejected + VALUES(rejected), failed = tally.failed + VALUES(failed),
             dropped = tally.dropped + VALUES(dropped), duration = tally.duration + VALUES(duration)",
        to,
        from
    )
    .execute(&mut **tx)
    .await
    .doing("renaming counts")?;
    sqlx::query!("DELETE FROM tally WHERE workflow = ?", from).execute(&mut **tx).await.doing("renaming counts")?;
    sqlx::query!("UPDATE former_name SET workflow = ? WHERE workflow = ?", to, from)
        .execute(&mut **tx)
        .await
        .doing("noting a former name")?;
    sqlx::query!("DELETE FROM former_name WHERE workflow = former")
        .execute(&mut **tx)
        .await
        .doing("noting a former name")?;
    sqlx::query!("INSERT INTO former_name (workflow, former, until) VALUES (?, ?, ?)", to, from, now.as_micros())
        .execute(&mut **tx)
        .await
        .doing("noting a former name")?;
    for (kind, version, text) in *drafts {
        let moved = sqlx::query!(
            "UPDATE draft SET name = ?, source = ?, version = version + 1 WHERE kind = ? AND name = ? AND version = ?",
            to,
            text,
            kind,
            from,
            version
        );
        if moved.execute(&mut **tx).await.doing("renaming a draft")?.rows_affected() == 0 {
            return Err(Error::DraftChanged(format!("{kind} `{from}`")));
        }
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_name_means_one_workflow_at_a_time() {
        let at = |ms: i64| Timestamp::from_micros(ms * 1000);
        let former = |workflow: &str, former: &str, until| FormerName {
            workflow: workflow.into(),
            former: former.into(),
            until: at(until),
        };
        // `a` became `b` at 100; another workflow `a` became `c` at 200; a third one is `a` now.
        let all = [former("b", "a", 100), former("c", "a", 200)];
        for (name, when, now) in [("a", 50, "b"), ("a", 150, "c"), ("a", 250, "a"), ("b", 50, "b"), ("x", 1, "x")] {
            assert_eq!(name_now(name, first_id(at(when)), &all), now, "{name} at {when}");
        }
        let shown = |workflow: &str| -> Vec<(String, Option<Uuid>, Option<Uuid>)> {
            names_of(workflow, &all).into_iter().map(|called| (called.name, called.from, called.until)).collect()
        };
        let id = |ms| Some(first_id(at(ms)));
        assert_eq!(shown("a"), [("a".to_owned(), id(200), None)]);
        assert_eq!(shown("b"), [("b".to_owned(), None, None), ("a".to_owned(), None, id(100))]);
        assert_eq!(shown("c"), [("c".to_owned(), None, None), ("a".to_owned(), id(100), id(200))]);
    }
}
