//! Writing what came of running jobs, many in one transaction: outcomes, what clients see, and how a job
//! leaves the worker. Every job is looked at under its fence first; who has an old one is refused.

use std::collections::HashMap;

use sqlx::{MySql, QueryBuilder, Row};
use uuid::Uuid;

use super::{JobPhase, TRIES, portions, push_ids, uuid};
use crate::{Doing, Error, Micros, Result, Store};

/// An outcome to be written down.
#[derive(Clone, Debug, PartialEq)]
pub struct NewOutcome {
    pub seq: u32,
    pub effect: u64,
    pub at: Micros,
    pub data: String,
    pub sealed: bool,
}

/// How a job leaves its worker.
#[derive(Clone, Debug, PartialEq)]
pub struct End {
    pub phase: JobPhase,
    pub claim_rank: u8,
    /// When it is ready again, or when it ended.
    pub wake: Micros,
    pub waits: Option<&'static str>,
    pub failure: Option<String>,
    pub tries: u32,
    /// Until when the result can be had.
    pub expires: Option<Micros>,
    /// Takes the latest outcome back: the step that failed is to be done again.
    pub void_last: bool,
    /// A line for the job's own history.
    pub past: Option<String>,
    pub ordering_key: Option<String>,
    /// Who is to be told, kept in the same transaction.
    pub notice: Option<Box<super::Notice>>,
}

/// What is to be written of one running job.
#[derive(Clone, Debug, PartialEq)]
pub struct Write {
    pub job: Uuid,
    pub fence: u32,
    pub attempt: u32,
    pub outcomes: Vec<NewOutcome>,
    pub progress: Option<f64>,
    /// All notes to be shown, as JSON.
    pub notes: Option<String>,
    /// Status, and the answer as JSON.
    pub reply: Option<(u16, String)>,
    pub end: Option<End>,
}

impl Store {
    /// Writes what came of jobs, all in one transaction; says for each whether it was still this
    /// worker's. What was not is not written. May be done again when it is not known whether it worked
    /// (a connection broke while the transaction was ending): what is there already stays as it is.
    pub async fn write_jobs(&self, writes: &[&Write], now: Micros) -> Result<Vec<bool>> {
        for attempt in 1.. {
            match self.try_write(writes, now).await {
                Err(error) if error.is_contention() && attempt < TRIES => super::again(attempt).await,
                other => return other,
            }
        }
        Err(Error::Contended)
    }

    async fn try_write(&self, writes: &[&Write], now: Micros) -> Result<Vec<bool>> {
        let mut tx = self.pool.begin().await.map_err(Error::Unreachable)?;
        let mut found = HashMap::with_capacity(writes.len());
        for chunk in portions(writes) {
            let mut query: QueryBuilder<MySql> = QueryBuilder::new("SELECT id, fence, phase FROM job WHERE id IN (");
            push_ids(&mut query, chunk.iter().map(|write| &write.job));
            query.push(") FOR UPDATE");
            for row in query.build().fetch_all(&mut *tx).await.doing("looking at fences")? {
                let id: Vec<u8> = row.try_get(0).doing("looking at fences")?;
                let fence: u32 = row.try_get(1).doing("looking at fences")?;
                found.insert(uuid(&id), (fence, row.try_get::<u8, _>(2).doing("looking at fences")?));
            }
        }
        let running = JobPhase::Running as u8;
        let stands =
            |write: &Write| found.get(&write.job).filter(|(fence, _)| *fence == write.fence).map(|(_, at)| *at);
        let left = |write: &Write, at: u8| write.end.as_ref().is_some_and(|end| end.phase as u8 == at);
        // One that left under this very fence did so by this write, done before.
        let ours =
            writes.iter().map(|write| stands(write).is_some_and(|at| at == running || left(write, at))).collect();
        let good: Vec<&Write> = writes.iter().filter(|write| stands(write) == Some(running)).copied().collect();
        let outcomes: Vec<(&Write, &NewOutcome)> =
            good.iter().flat_map(|write| write.outcomes.iter().map(move |outcome| (*write, outcome))).collect();
        for chunk in portions(&outcomes) {
            let mut query: QueryBuilder<MySql> =
                QueryBuilder::new("INSERT IGNORE INTO outcome (job, attempt, seq, effect, at, data, sealed) ");
            query.push_values(chunk, |mut row, (write, outcome)| {
                row.push_bind(write.job.as_bytes().as_slice())
                    .push_bind(write.attempt)
                    .push_bind(outcome.seq)
                    .push_bind(outcome.effect)
                    .push_bind(outcome.at)
                    .push_bind(&outcome.data)
                    .push_bind(outcome.sealed);
            });
            query.build().execute(&mut *tx).await.doing("writing outcomes")?;
        }
        for chunk in portions(&good) {
            update(&mut tx, chunk, now).await?;
        }
        for write in &good {
            let Some(end) = &write.end else { continue };
            if end.void_last {
                sqlx::query!(
                    "UPDATE outcome SET void = 1 WHERE job = ? AND attempt = ? AND void = 0 ORDER BY seq DESC LIMIT 1",
                    write.job.as_bytes().as_slice(),
                    write.attempt
                )
                .execute(&mut *tx)
                .await
                .doing("taking an outcome back")?;
            }
            if let Some(notice) = &end.notice {
                super::clients::add_notice(&mut tx, notice).await?;
            }
            if let Some(ordering_key) = end.ordering_key.as_deref().filter(|_| end.phase.ended()) {
                release_ordering_key(&mut tx, ordering_key, write.job).await?;
            }
        }
        tx.commit().await.doing("writing jobs")?;
        Ok(ours)
    }
}

/// The next one of an ordering key is ready when the one before has ended.
pub(super) async fn release_ordering_key(tx: &mut sqlx::MySqlConnection, ordering_key: &str, job: Uuid) -> Result<()> {
    sqlx::query!("DELETE FROM ordering_holder WHERE name = ? AND job = ?", ordering_key, job.as_bytes().as_slice())
        .execute(&mut *tx)
        .await
        .doing("giving an ordering key on")?;
    sqlx::query!(
        "UPDATE job SET phase = 1 WHERE ordering_key = ? AND phase = 3 ORDER BY claim_rank, wake LIMIT 1",
        ordering_key
    )
    .execute(&mut *tx)
    .await
    .doing("giving an ordering key on")?;
    Ok(())
}

/// One statement for all rows: what changes stands in a derived table beside the jobs.
async fn update(tx: &mut sqlx::MySqlConnection, writes: &[&Write], now: Micros) -> Result<()> {
    let mut query: QueryBuilder<MySql> = QueryBuilder::new("UPDATE job j JOIN (");
    for (index, write) in writes.iter().enumerate() {
        query.push(if index == 0 { "SELECT " } else { " UNION ALL SELECT " });
        let end = write.end.as_ref();
        let name = |query: &mut QueryBuilder<MySql>, name: &str| {
            if index == 0 {
                query.push(" AS ").push(name);
            }
            if name != "past" {
                query.push(", ");
            }
        };
        query.push_bind(write.job.as_bytes().to_vec());
        name(&mut query, "id");
        query.push_bind(end.map_or(JobPhase::Running, |end| end.phase) as u8);
        name(&mut query, "phase");
        query.push_bind(end.map(|end| end.claim_rank));
        name(&mut query, "claim_rank");
        query.push_bind(end.map(|end| end.wake));
        name(&mut query, "wake");
        query.push_bind(end.and_then(|end| end.waits));
        name(&mut query, "waits");
        query.push_bind(end.and_then(|end| end.failure.as_deref()));
        name(&mut query, "failure");
        query.push_bind(end.map(|end| end.tries));
        name(&mut query, "tries");
        query.push_bind(end.and_then(|end| end.expires));
        name(&mut query, "expires");
        query.push_bind(write.outcomes.last().map(|outcome| outcome.seq + 1));
        name(&mut query, "outcomes");
        query.push_bind(write.progress);
        name(&mut query, "progress");
        query.push_bind(write.notes.as_deref());
        name(&mut query, "notes");
        query.push_bind(write.reply.as_ref().map(|(status, _)| *status));
        name(&mut query, "status");
        query.push_bind(write.reply.as_ref().map(|(_, reply)| reply.as_str()));
        name(&mut query, "reply");
        query.push_bind(end.and_then(|end| end.past.as_deref()));
        name(&mut query, "past");
    }
    query.push(
        ") v ON j.id = v.id SET
         j.wake = CASE WHEN v.wake IS NULL THEN j.wake WHEN v.phase = 1 AND j.poked = 1 THEN LEAST(v.wake, ",
    );
    query.push_bind(now);
    query.push(
        ") ELSE v.wake END,
         j.claim_rank = COALESCE(v.claim_rank, j.claim_rank), j.phase = v.phase,
         j.worker = IF(v.phase = 2, j.worker, NULL), j.waits = v.waits,
         j.failure = IF(v.phase = 2, j.failure, v.failure), j.tries = COALESCE(v.tries, j.tries), j.expires = v.expires,
         j.ended = IF(v.phase > 10, v.wake, NULL), j.outcomes = GREATEST(j.outcomes, COALESCE(v.outcomes, 0)),
         j.progress = COALESCE(v.progress, j.progress), j.notes = COALESCE(v.notes, j.notes),
         j.status = COALESCE(v.status, j.status), j.reply = COALESCE(v.reply, j.reply),
         j.past = IF(v.past IS NULL, j.past, CONCAT(COALESCE(j.past, ''), v.past, '\\n')),
         j.changes = j.changes + 1",
    );
    query.build().execute(&mut *tx).await.doing("writing jobs")?;
    Ok(())
}
