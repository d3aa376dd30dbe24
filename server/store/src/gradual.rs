//! Gradual deploys: revisions that serve a share of what comes to a workflow, beside the live one.
//!
//! Each begin, change and end counts the generation up, so that every process follows, and so that jobs of former generations find
//! the revision that they had. Rules are text here.

use kanzlei_model::time::Timestamp;
use sqlx::{MySql, Transaction};

use crate::documents::{LiveDocument, NewDocument, next_generation, note_deployed};
use crate::{Doing, Error, Result, Store};

/// The kind under which `deployed` has gradual revisions.
const KIND: &str = "gradual";
/// The most gradual deploys at the same time; each is checked with every deploy.
pub const MOST: usize = 16;

/// How a gradual deploy ended.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Outcome {
    /// Its revision is the live one.
    Finished,
    /// The live revision serves everything again.
    TakenBack,
    /// Another deploy took its place.
    Replaced,
}

impl Outcome {
    /// Its name in records and interfaces.
    pub fn name(self) -> &'static str {
        match self {
            Outcome::Finished => "finished",
            Outcome::TakenBack => "taken-back",
            Outcome::Replaced => "replaced",
        }
    }

    fn of(name: &str) -> Self {
        match name {
            "finished" => Outcome::Finished,
            "taken-back" => Outcome::TakenBack,
            _ => Outcome::Replaced,
        }
    }
}

/// The end of a gradual deploy.
#[derive(Clone, Debug, PartialEq)]
pub struct End {
    /// When it ended.
    pub at: Timestamp,
    /// How.
    pub outcome: Outcome,
    /// Who ended it.
    pub by: String,
    /// Why.
    pub reason: String,
}

/// A gradual deploy.
#[derive(Clone, Debug, PartialEq)]
pub struct Gradual {
    /// The workflow.
    pub workflow: String,
    /// The revision that serves a share.
    pub number: u32,
    /// Since when.
    pub since: Timestamp,
    /// Who deployed it.
    pub operator: String,
    /// A JSON object.
    pub rules: String,
    /// Its end, where it has ended.
    pub end: Option<End>,
}

/// A row of a gradual deploy.
struct Row {
    workflow: String,
    number: u32,
    since: i64,
    operator: String,
    rules: String,
    ended: Option<i64>,
    outcome: Option<String>,
    ended_by: Option<String>,
    reason: Option<String>,
}

impl From<Row> for Gradual {
    fn from(row: Row) -> Self {
        let end = row.ended.map(|ended| End {
            at: Timestamp::from_micros(ended),
            outcome: Outcome::of(&row.outcome.unwrap_or_default()),
            by: row.ended_by.unwrap_or_default(),
            reason: row.reason.unwrap_or_default(),
        });
        let since = Timestamp::from_micros(row.since);
        Gradual { workflow: row.workflow, number: row.number, since, operator: row.operator, rules: row.rules, end }
    }
}

impl Store {
    /// Gradual deploys that are under way, by name.
    pub async fn graduals(&self) -> Result<Vec<Gradual>> {
        let rows = sqlx::query_as!(
            Row,
            "SELECT workflow, number, since, operator, rules, ended, outcome, ended_by, reason
             FROM gradual WHERE ended IS NULL ORDER BY workflow"
        );
        let rows = rows.fetch_all(&self.pool).await.doing("reading gradual deploys")?;
        Ok(rows.into_iter().map(Gradual::from).collect())
    }

    /// The last gradual deploy of a workflow, also one that has ended.
    pub async fn gradual(&self, workflow: &str) -> Result<Option<Gradual>> {
        let row = sqlx::query_as!(
            Row,
            "SELECT workflow, number, since, operator, rules, ended, outcome, ended_by, reason FROM gradual WHERE workflow = ?",
            workflow
        );
        Ok(row.fetch_optional(&self.pool).await.doing("reading a gradual deploy")?.map(Gradual::from))
    }

    /// The revisions of workflows that served a share at a generation, as documents.
    pub async fn gradual_at(&self, generation: u64) -> Result<Vec<LiveDocument>> {
        sqlx::query_as!(
            LiveDocument,
            "SELECT r.kind, r.name, r.number, r.created AS since, r.path, r.source, r.file
             FROM deployed d
             JOIN (SELECT name, MAX(generation) AS last FROM deployed WHERE kind = 'gradual' AND generation <= ? GROUP BY name) m
               ON m.name = d.name AND m.last = d.generation
             JOIN revision r ON r.kind = 'workflow' AND r.name = d.name AND r.number = d.number
             WHERE d.kind = 'gradual' ORDER BY d.name",
            generation
        )
        .fetch_all(&self.pool)
        .await
        .doing("reading gradual revisions")
    }

    /// The revision of a workflow that was live when a gradual one began.
    pub async fn live_before(&self, workflow: &str, gradual: u32) -> Result<Option<u32>> {
        let number = sqlx::query_scalar!(
            "SELECT d.number FROM deployed d WHERE d.kind = 'workflow' AND d.name = ? AND d.generation <=
                 (SELECT MIN(g.generation) FROM deployed g WHERE g.kind = 'gradual' AND g.name = ? AND g.number = ?)
             ORDER BY d.generation DESC LIMIT 1",
            workflow,
            workflow,
            gradual
        );
        Ok(number.fetch_optional(&self.pool).await.doing("reading what was live")?.flatten())
    }

    /// Gives a gradual deploy other rules; false where this revision does not serve a share any more.
    pub async fn change_gradual(&self, workflow: &str, number: u32, rules: &str) -> Result<bool> {
        let mut tx = self.pool.begin().await.map_err(Error::Unreachable)?;
        next_generation(&mut tx).await?;
        let changed = sqlx::query!(
            "UPDATE gradual SET rules = ? WHERE workflow = ? AND number = ? AND ended IS NULL",
            rules,
            workflow,
            number
        );
        // Rules that are the same are changed as well.
        let known = sqlx::query_scalar!(
            "SELECT COUNT(*) FROM gradual WHERE workflow = ? AND number = ? AND ended IS NULL",
            workflow,
            number
        );
        let known = known.fetch_one(&mut *tx).await.doing("looking for a gradual deploy")? > 0;
        changed.execute(&mut *tx).await.doing("changing a gradual deploy")?;
        tx.commit().await.doing("changing a gradual deploy")?;
        Ok(known)
    }

    /// Ends a gradual deploy: its revision becomes the live one, or serves nothing any more. False where it does not serve a share
    /// any more; one of several callers ends it.
    pub async fn end_gradual(&self, workflow: &str, number: u32, end: &End) -> Result<bool> {
        let mut tx = self.pool.begin().await.map_err(Error::Unreachable)?;
        let generation = next_generation(&mut tx).await?;
        if !finish(&mut tx, (workflow, Some(number)), end, generation).await? {
            return Ok(false);
        }
        if end.outcome == Outcome::Finished {
            let live = sqlx::query!(
                "UPDATE live SET number = ?, since = ? WHERE kind = 'workflow' AND name = ?",
                number,
                end.at.as_micros(),
                workflow
            );
            live.execute(&mut *tx).await.doing("finishing a gradual deploy")?;
            note_deployed(&mut tx, "workflow", workflow, generation, Some(number)).await?;
        }
        tx.commit().await.doing("ending a gradual deploy")?;
        Ok(true)
    }
}

/// Puts a revision beside the live one, inside of a deploy.
pub(crate) async fn begin(tx: &mut Transaction<'_, MySql>, new: &Gradual, generation: u64) -> Result<()> {
    sqlx::query!(
        "INSERT INTO gradual (workflow, number, since, operator, rules) VALUES (?, ?, ?, ?, ?)
         ON DUPLICATE KEY UPDATE since = IF(number = VALUES(number) AND ended IS NULL, since, VALUES(since)),
             operator = VALUES(operator), rules = VALUES(rules), number = VALUES(number),
             ended = NULL, outcome = NULL, ended_by = NULL, reason = NULL",
        new.workflow,
        new.number,
        new.since.as_micros(),
        new.operator,
        new.rules
    )
    .execute(&mut **tx)
    .await
    .doing("beginning a gradual deploy")?;
    note_deployed(tx, KIND, &new.workflow, generation, Some(new.number)).await
}

/// The number of the revision that serves a share already with this text.
pub(crate) async fn number_of(tx: &mut Transaction<'_, MySql>, document: &NewDocument) -> Result<Option<u32>> {
    if document.kind != "workflow" {
        return Ok(None);
    }
    let number = sqlx::query_scalar!(
        "SELECT r.number FROM gradual g JOIN revision r ON r.kind = 'workflow' AND r.name = g.workflow AND r.number = g.number
         WHERE g.workflow = ? AND g.ended IS NULL AND r.digest = ?",
        document.name,
        document.digest
    );
    number.fetch_optional(&mut **tx).await.doing("looking for a gradual revision")
}

/// Ends the gradual deploy of a workflow, of any revision or of this one; false where there is none.
pub(crate) async fn finish(
    tx: &mut Transaction<'_, MySql>,
    (workflow, number): (&str, Option<u32>),
    end: &End,
    generation: u64,
) -> Result<bool> {
    let reason: String = end.reason.chars().take(500).collect();
    let done = sqlx::query!(
        "UPDATE gradual SET ended = ?, outcome = ?, ended_by = ?, reason = ?
         WHERE workflow = ? AND ended IS NULL AND (? IS NULL OR number = ?)",
        end.at.as_micros(),
        end.outcome.name(),
        end.by,
        reason,
        workflow,
        number,
        number
    );
    if done.execute(&mut **tx).await.doing("ending a gradual deploy")?.rows_affected() == 0 {
        return Ok(false);
    }
    note_deployed(tx, KIND, workflow, generation, None).await?;
    Ok(true)
}
