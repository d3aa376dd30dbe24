//! Revisions of documents, and which of them are live.

use crate::gradual::{self, End, Gradual, Outcome};
use crate::names::{self, Rename};
use crate::{Doing, Error, Result, Store};
use kanzlei_model::time::Timestamp;

/// A document to be put live.
#[derive(Clone, Debug, PartialEq)]
pub struct NewDocument {
    /// Kind of the document: `workflow`, `service`, `lane`, `cases`.
    pub kind: String,
    /// Name of the document.
    pub name: String,
    /// Path of the file it was deployed from.
    pub path: String,
    /// Text of the document.
    pub source: String,
    /// The text of the file it names.
    pub file: Option<String>,
    /// Over source and file; equal digests are the same revision.
    pub digest: String,
}

/// A document that is live.
#[derive(Clone, Debug, PartialEq)]
pub struct LiveDocument {
    /// Kind of the document: `workflow`, `service`, `lane`, `cases`.
    pub kind: String,
    /// Name of the document.
    pub name: String,
    /// Number of the revision, counted from 1.
    pub number: u32,
    /// When it went live.
    pub since: Timestamp,
    /// Path of the file it was deployed from.
    pub path: String,
    /// Text of the document.
    pub source: String,
    /// Text of the file that the document names: the OpenAPI document of a service.
    pub file: Option<String>,
}

/// What a deploy did with one document.
#[derive(Clone, Debug, PartialEq)]
pub struct Deployed {
    /// Kind of the document: `workflow`, `service`, `lane`, `cases`.
    pub kind: String,
    /// Name of the document.
    pub name: String,
    /// Number of the revision, counted from 1.
    pub number: u32,
    /// It was live already, just as it is.
    pub unchanged: bool,
}

/// A deployed revision of a document.
#[derive(Clone, Debug, PartialEq)]
pub struct Revision {
    /// Number of the revision, counted from 1.
    pub number: u32,
    /// When it was created.
    pub created: Timestamp,
    /// Whose token deployed it.
    pub operator: String,
    /// Whether it is the live revision.
    pub live: bool,
}

/// What is put live at once.
#[derive(Clone, Copy, Debug)]
pub struct Deploy<'d> {
    /// The documents.
    pub documents: &'d [NewDocument],
    /// Drafts among them, by kind, name and version; none may have changed since.
    pub drafts: &'d [(String, String, u64)],
    /// Rules under which the workflows among them serve a share beside what is live, as a JSON object.
    pub gradual: Option<&'d str>,
    /// A workflow among them that gets another name.
    pub rename: Option<Rename<'d>>,
    /// Whose token deploys.
    pub operator: &'d str,
    /// The instant of the deploy.
    pub now: Timestamp,
}

/// How often a deploy that lost against another one is retried.
const TRIES: u32 = 5;

impl Store {
    /// Puts documents live, all or none. Returns what happened to each, in order. Drafts among them are gone afterwards.
    pub async fn deploy(&self, deploy: &Deploy<'_>) -> Result<Vec<Deployed>> {
        for _ in 0..TRIES {
            match self.try_deploy(deploy).await {
                Err(error) if error.is_contention() => {}
                other => return other,
            }
        }
        Err(Error::Contended)
    }

    async fn try_deploy(&self, deploy: &Deploy<'_>) -> Result<Vec<Deployed>> {
        let Deploy { documents, drafts, gradual, rename, operator, now } = *deploy;
        let mut tx = self.pool.begin().await.map_err(Error::Unreachable)?;
        let generation = next_generation(&mut tx).await?;
        if let Some(rename) = &rename {
            names::rename(&mut tx, rename, now).await?;
            gradual::finish(&mut tx, (rename.from, None), &replaced(operator, now), generation).await?;
            note_deployed(&mut tx, "workflow", rename.from, generation, None).await?;
        }
        let mut done = Vec::with_capacity(documents.len());
        for document in documents {
            let live = sqlx::query!(
                "SELECT l.number, r.digest FROM live l JOIN revision r USING (kind, name, number) WHERE l.kind = ? AND l.name = ?",
                document.kind,
                document.name
            )
            .fetch_optional(&mut *tx)
            .await
            .doing("reading what is live")?;
            let deployed = |number, unchanged| Deployed {
                kind: document.kind.clone(),
                name: document.name.clone(),
                number,
                unchanged,
            };
            if let Some(live) = &live
                && live.digest == document.digest
            {
                done.push(deployed(live.number, true));
                continue;
            }
            let (number, known) = match gradual::number_of(&mut tx, document).await? {
                Some(number) => (number, true),
                None => (next_number(&mut tx, document).await?, false),
            };
            if !known {
                insert(&mut tx, document, number, operator, now).await?;
            }
            if let Some(rules) = gradual {
                let (workflow, rules, operator) = (document.name.clone(), rules.to_owned(), operator.to_owned());
                let new = Gradual { workflow, number, since: now, operator, rules, end: None };
                gradual::begin(&mut tx, &new, generation).await?;
                done.push(deployed(number, known));
                continue;
            }
            if document.kind == "workflow" {
                let end = End {
                    outcome: if known { Outcome::Finished } else { Outcome::Replaced },
                    ..replaced(operator, now)
                };
                gradual::finish(&mut tx, (&document.name, None), &end, generation).await?;
            }
            sqlx::query!(
                "INSERT INTO live (kind, name, number, since) VALUES (?, ?, ?, ?)
                 ON DUPLICATE KEY UPDATE number = VALUES(number), since = VALUES(since)",
                document.kind,
                document.name,
                number,
                now.as_micros()
            )
            .execute(&mut *tx)
            .await
            .doing("putting a revision live")?;
            note_deployed(&mut tx, &document.kind, &document.name, generation, Some(number)).await?;
            done.push(deployed(number, false));
        }
        for (kind, name, version) in drafts {
            let gone =
                sqlx::query!("DELETE FROM draft WHERE kind = ? AND name = ? AND version = ?", kind, name, version)
                    .execute(&mut *tx)
                    .await
                    .doing("finishing with a draft")?;
            if gone.rows_affected() == 0 {
                return Err(Error::DraftChanged(format!("{kind} `{name}`")));
            }
        }
        tx.commit().await.doing("finishing a deploy")?;
        Ok(done)
    }

    /// Takes a document off; false when it was not live.
    pub async fn retire(&self, kind: &str, name: &str, operator: &str, now: Timestamp) -> Result<bool> {
        let mut tx = self.pool.begin().await.map_err(Error::Unreachable)?;
        let generation = next_generation(&mut tx).await?;
        let done = sqlx::query!("DELETE FROM live WHERE kind = ? AND name = ?", kind, name)
            .execute(&mut *tx)
            .await
            .doing("retiring")?;
        if done.rows_affected() > 0 {
            note_deployed(&mut tx, kind, name, generation, None).await?;
            if kind == "workflow" {
                gradual::finish(&mut tx, (name, None), &replaced(operator, now), generation).await?;
            }
        }
        tx.commit().await.doing("retiring")?;
        Ok(done.rows_affected() > 0)
    }

    /// Counts the deploys and retirements so far.
    pub async fn generation(&self) -> Result<u64> {
        sqlx::query_scalar!("SELECT number FROM generation WHERE id = 1")
            .fetch_one(&self.pool)
            .await
            .doing("reading the generation")
    }

    /// Everything that was live at a generation, services before workflows as in [`Store::live`].
    pub async fn live_at(&self, generation: u64) -> Result<Vec<LiveDocument>> {
        sqlx::query_as!(
            LiveDocument,
            "SELECT d.kind, d.name, r.number, r.created AS since, r.path, r.source, r.file
             FROM deployed d
             JOIN (SELECT kind, name, MAX(generation) AS last FROM deployed WHERE generation <= ? GROUP BY kind, name) m
               ON m.kind = d.kind AND m.name = d.name AND m.last = d.generation
             JOIN revision r ON r.kind = d.kind AND r.name = d.name AND r.number = d.number
             ORDER BY d.kind, d.name",
            generation
        )
        .fetch_all(&self.pool)
        .await
        .doing("reading what was live")
    }

    /// Everything that is live, services first.
    pub async fn live(&self) -> Result<Vec<LiveDocument>> {
        sqlx::query_as!(
            LiveDocument,
            "SELECT kind, name, number, since, path, source, file FROM live JOIN revision USING (kind, name, number) ORDER BY kind, name"
        )
        .fetch_all(&self.pool)
        .await
        .doing("reading what is live")
    }

    /// All revisions of a document, newest first.
    pub async fn revisions(&self, kind: &str, name: &str) -> Result<Vec<Revision>> {
        let rows = sqlx::query!(
            "SELECT r.number, r.created, r.operator, (l.number IS NOT NULL AND l.number = r.number) AS `live!: bool`
             FROM revision r LEFT JOIN live l ON l.kind = r.kind AND l.name = r.name
             WHERE r.kind = ? AND r.name = ? ORDER BY r.number DESC LIMIT 1000",
            kind,
            name
        )
        .fetch_all(&self.pool)
        .await
        .doing("reading revisions")?;
        Ok(rows
            .into_iter()
            .map(|row| Revision {
                number: row.number,
                created: Timestamp::from_micros(row.created),
                operator: row.operator,
                live: row.live,
            })
            .collect())
    }

    /// Source and file of one revision.
    pub async fn source(&self, kind: &str, name: &str, number: u32) -> Result<Option<(String, Option<String>)>> {
        let row = sqlx::query!(
            "SELECT source, file FROM revision WHERE kind = ? AND name = ? AND number = ?",
            kind,
            name,
            number
        )
        .fetch_optional(&self.pool)
        .await
        .doing("reading a revision")?;
        Ok(row.map(|row| (row.source, row.file)))
    }
}

/// The number of a document's next revision.
async fn next_number(tx: &mut sqlx::Transaction<'_, sqlx::MySql>, document: &NewDocument) -> Result<u32> {
    let last = sqlx::query_scalar!(
        "SELECT MAX(number) FROM revision WHERE kind = ? AND name = ?",
        document.kind,
        document.name
    );
    Ok(last.fetch_one(&mut **tx).await.doing("numbering a revision")?.unwrap_or(0) + 1)
}

/// Saves a revision.
async fn insert(
    tx: &mut sqlx::Transaction<'_, sqlx::MySql>,
    document: &NewDocument,
    number: u32,
    operator: &str,
    now: Timestamp,
) -> Result<()> {
    sqlx::query!(
        "INSERT INTO revision (kind, name, number, path, source, file, digest, created, operator)
         VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)",
        document.kind,
        document.name,
        number,
        document.path,
        document.source,
        document.file,
        document.digest,
        now.as_micros(),
        operator
    )
    .execute(&mut **tx)
    .await
    .map(|_| ())
    .doing("saving a revision")
}

/// The end of a gradual deploy whose workflow is deployed whole, renamed or retired.
fn replaced(operator: &str, now: Timestamp) -> End {
    End { at: now, outcome: Outcome::Replaced, by: operator.to_owned(), reason: String::new() }
}

/// Counts the generation up, first of all, so that two deploys at once queue up or conflict here.
pub(crate) async fn next_generation(tx: &mut sqlx::Transaction<'_, sqlx::MySql>) -> Result<u64> {
    sqlx::query!("UPDATE generation SET number = number + 1 WHERE id = 1")
        .execute(&mut **tx)
        .await
        .doing("beginning a deploy")?;
    sqlx::query_scalar!("SELECT number FROM generation WHERE id = 1")
        .fetch_one(&mut **tx)
        .await
        .doing("beginning a deploy")
}

pub(crate) async fn note_deployed(
    tx: &mut sqlx::Transaction<'_, sqlx::MySql>,
    kind: &str,
    name: &str,
    generation: u64,
    number: Option<u32>,
) -> Result<()> {
    sqlx::query!(
        "INSERT INTO deployed (kind, name, generation, number) VALUES (?, ?, ?, ?)
         ON DUPLICATE KEY UPDATE number = VALUES(number)",
        kind,
        name,
        generation,
        number
    )
    .execute(&mut **tx)
    .await
    .map(|_| ())
    .doing("writing down a deploy")
}
