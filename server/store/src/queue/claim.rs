//! Claiming jobs: which lanes have due jobs, and claiming the first ones of a lane for a worker. A worker is a
//! process; its lease is its own row, and each claimed job gets a new fence.

use std::collections::{BTreeMap, BTreeSet, HashSet};

use kanzlei_model::caller::Caller;
use kanzlei_model::time::{Span, Timestamp};
use kanzlei_model::trace::Trace;
use sqlx::{MySql, QueryBuilder, Row};
use uuid::Uuid;

use super::repair::{held_names, moved_waits};
use super::{portions, push_ids, uuid};
use crate::{Doing, Error, Result, Store};

/// How long a lane may make up for unused slots of its pace.
const UNUSED: Span = Span::from_micros(250_000);
/// The same of a lane whose pace is faster than its jobs can be claimed one by one.
const UNUSED_FAST: Span = Span::from_micros(100_000);

/// The earliest job of one lane and claim_rank, and how the lane stands.
#[derive(Clone, Debug, PartialEq)]
pub struct Head {
    /// Name of the lane.
    pub lane: String,
    /// 0 for a job that has started, otherwise its priority, 1 to 9.
    pub claim_rank: u8,
    /// When that job is ready.
    pub ready_at: Timestamp,
    /// Whether an operator holds the lane.
    pub held: bool,
    /// When the lane's pace allows the next job.
    pub next: Timestamp,
}

/// The state of a lane that an operator sets.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct LaneState {
    /// Name of the document.
    pub name: String,
    /// Whether an operator holds the lane.
    pub held: bool,
}

/// The limits of a lane at a generation.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub struct Room {
    /// The most jobs that run at the same time, over all processes.
    pub at_once: Option<u32>,
    /// The time between the starts of two jobs.
    pub gap: Option<Span>,
    /// The generation that this process serves. Jobs of a later deploy are not claimed: this process may not know the
    /// limits of their lane yet.
    pub generation: u64,
}

/// A job that was claimed.
#[derive(Clone, Debug, PartialEq)]
pub struct Claimed {
    /// UUID, version 7: sorts by creation time.
    pub id: Uuid,
    /// Incremented at each claim and reclaim; a write with an older one is refused.
    pub fence: u32,
    /// Name of the lane.
    pub lane: String,
    /// Name of the workflow.
    pub workflow: String,
    /// Revision of the workflow.
    pub revision: u32,
    /// Number of deploys and retirements at the time it was accepted; its plan comes from there.
    pub generation: u64,
    /// How many jobs stand between it and what began the chain.
    pub depth: u32,
    /// 1, the highest, to 9.
    pub priority: u8,
    /// Jobs of one key run one after another.
    pub ordering_key: Option<String>,
    /// Tag to find it by.
    pub tags: Vec<String>,
    /// Entry it came through: `POST /harbours/{harbour}/quotes`.
    pub entry: String,
    /// Whose credential the request carried.
    pub caller: Caller,
    /// `X-Request-Id` of the request that caused it.
    pub request_id: String,
    /// Trace id of W3C Trace Context, 32 hexadecimal digits.
    pub trace: Trace,
    /// When it was accepted.
    pub accepted: Timestamp,
    /// When it is due.
    pub due: Timestamp,
    /// When it started.
    pub started: Timestamp,
    /// Whether a stop was requested.
    pub stop: bool,
    /// How often it was started from its first step.
    pub attempt: u32,
    /// How often its retry policy has retried it in this attempt.
    pub retries: u32,
    /// Number of outcomes recorded in this attempt.
    pub outcomes: u32,
    /// Whether its reply is recorded.
    pub replied: bool,
    /// Notes as a JSON list.
    pub notes: Option<String>,
    /// Input as JSON, sealed where `sealed` says so.
    pub input: String,
    /// Whether its values are sealed with the key of the secrets.
    pub sealed: bool,
    /// Microseconds that the result is kept after the end.
    pub kept_for: Span,
    /// Whether a timetable queued it, so that there is no caller to reject.
    pub unattended: bool,
    /// Effects whose waits were moved by hand, and until when they wait.
    pub moved: BTreeMap<u64, Timestamp>,
}

/// The result of a claim, and when the next one is worthwhile.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct ClaimResult {
    /// The claimed jobs, by rank and due time.
    pub jobs: Vec<Claimed>,
    /// When the lane's pace allows the next job.
    pub next: Option<Timestamp>,
    /// Whether the claim was filled, so that there may be more.
    pub more: bool,
}

/// A recorded outcome.
#[derive(Clone, Debug, PartialEq)]
pub struct OutcomeRow {
    /// Id of the job.
    pub job: Uuid,
    /// How often it was started from its first step.
    pub attempt: u32,
    /// Position among the outcomes of its attempt.
    pub seq: u32,
    /// Number of the effect in its run.
    pub effect: u64,
    /// When it was recorded.
    pub at: Timestamp,
    /// Outcome as JSON, sealed where the job is.
    pub data: String,
    /// Whether `data` is sealed.
    pub sealed: bool,
    /// Whether it was withdrawn because its step is retried.
    pub void: bool,
    /// Whether it came behind the failure of the run, to the steps that handle it.
    pub closing: bool,
}

impl Store {
    /// The earliest job of each lane and claim_rank that is ready from an instant on, due or not, in the order of claims. Reads one
    /// entry of the index for each, however many wait behind it. Beside them the names of workflows that are held.
    ///
    /// Entries of jobs that were claimed stay in the index until the server has removed them. Searching from an instant that is known to
    /// have no jobs before it skips them.
    pub async fn heads(&self, from: Timestamp) -> Result<(Vec<Head>, BTreeSet<String>)> {
        // Not by grouping: whether that reads entry by entry depends on the optimizer and its statistics.
        let rows = sqlx::query!(
            "SELECT l.name, l.held AS `held: bool`, l.next, p.claim_rank AS `claim_rank!: u8`,
                    (SELECT j.ready_at FROM job j FORCE INDEX (job_work)
                     WHERE j.phase = 1 AND j.lane = l.name AND j.claim_rank = p.claim_rank AND j.ready_at >= ?
                     ORDER BY j.ready_at LIMIT 1) AS `ready_at: i64`,
                    (SELECT GROUP_CONCAT(workflow) FROM workflow_hold) AS `holds: String`
             FROM lane_state l CROSS JOIN (SELECT 0 AS claim_rank UNION ALL SELECT 1 UNION ALL SELECT 2 UNION ALL SELECT 3 UNION ALL SELECT 4
                                           UNION ALL SELECT 5 UNION ALL SELECT 6 UNION ALL SELECT 7 UNION ALL SELECT 8 UNION ALL SELECT 9) p",
            from.as_micros()
        )
        .fetch_all(&self.pool)
        .await
        .doing("searching for due jobs")?;
        let holds = held_names(rows.first().and_then(|row| row.holds.as_deref()));
        let mut heads: Vec<Head> = rows
            .into_iter()
            .filter_map(|row| {
                let ready_at = row.ready_at?;
                Some(Head {
                    lane: row.name,
                    claim_rank: row.claim_rank,
                    ready_at: Timestamp::from_micros(ready_at),
                    held: row.held,
                    next: Timestamp::from_micros(row.next),
                })
            })
            .collect();
        heads.sort_unstable_by(|a, b| (&a.lane, a.claim_rank).cmp(&(&b.lane, b.claim_rank)));
        Ok((heads, holds))
    }

    /// Lanes that ever had a job or were held.
    pub async fn lane_states(&self) -> Result<Vec<LaneState>> {
        let rows = sqlx::query!("SELECT name, held AS `held: bool` FROM lane_state")
            .fetch_all(&self.pool)
            .await
            .doing("reading lanes")?;
        Ok(rows.into_iter().map(|row| LaneState { name: row.name, held: row.held }).collect())
    }

    /// Claims up to `most` due jobs of a lane for a worker, in the order of the given ranks, each with the instant from which on it is
    /// searched. `stamp` is the current time, unique among the claims of a worker.
    pub async fn claim(
        &self,
        worker: Uuid,
        (lane, places): (&str, &[(u8, Timestamp)]),
        room: Room,
        most: u32,
        stamp: Timestamp,
    ) -> Result<ClaimResult> {
        let claim = Claim { worker, lane, places, generation: room.generation, stamp };
        let claimed = super::repeated(|| async {
            match room {
                Room { at_once: None, gap: None, .. } => self.claim_plain(claim, most).await,
                _ => self.claim_limited(claim, room, most).await,
            }
        });
        let claimed = claimed.await?;
        if claimed.jobs.iter().all(|job| job.ordering_key.is_none()) {
            return Ok(claimed);
        }
        // The jobs are marked as claimed; a transaction that loses against another process is retried.
        let again = std::sync::atomic::AtomicBool::new(false);
        super::repeated(|| {
            self.serve_keys(worker, claimed.clone(), again.swap(true, std::sync::atomic::Ordering::Relaxed))
        })
        .await
    }

    async fn claim_plain(&self, claim: Claim<'_>, most: u32) -> Result<ClaimResult> {
        let mut connection = self.pool.acquire().await.map_err(Error::Unreachable)?;
        let (jobs, due) = mark_and_read(&mut connection, claim, most).await?;
        Ok(ClaimResult { more: due == most, jobs, next: None })
    }

    /// Claims from a lane with limits, one process at a time: the lane's row orders them, on one node by its lock and
    /// over several nodes by certification.
    async fn claim_limited(&self, claim: Claim<'_>, room: Room, most: u32) -> Result<ClaimResult> {
        let Claim { lane, stamp, .. } = claim;
        let mut tx = self.pool.begin().await.map_err(Error::Unreachable)?;
        sqlx::query!(
            "INSERT INTO lane_state (name, version) VALUES (?, 1) ON DUPLICATE KEY UPDATE version = version + 1",
            lane
        )
        .execute(&mut *tx)
        .await
        .doing("entering a lane")?;
        let state = sqlx::query!("SELECT held AS `held: bool`, next FROM lane_state WHERE name = ?", lane)
            .fetch_one(&mut *tx)
            .await
            .doing("entering a lane")?;
        let mut most = i64::from(most);
        if let Some(at_once) = room.at_once {
            let running = sqlx::query_scalar!("SELECT COUNT(*) FROM job WHERE phase = 2 AND lane = ?", lane)
                .fetch_one(&mut *tx)
                .await
                .doing("counting what runs in a lane")?;
            most = most.min(i64::from(at_once) - running);
        }
        let mut slot = Timestamp::from_micros(state.next);
        if let Some(gap) = room.gap {
            // Slots that are unused for longer are lost. A slot further ahead than one gap was
            // assigned under a slower pace.
            slot = slot.clamp(stamp - UNUSED.min(gap).max(UNUSED_FAST), stamp + gap);
            let open = if slot > stamp { 0 } else { (stamp - slot).as_micros() / gap.as_micros().max(1) + 1 };
            most = most.min(open);
        }
        if state.held || most <= 0 {
            tx.rollback().await.doing("leaving a lane")?;
            let next = (room.gap.is_some() && slot > stamp && !state.held).then_some(slot);
            return Ok(ClaimResult { next, ..ClaimResult::default() });
        }
        let (jobs, due) = mark_and_read(&mut tx, claim, most as u32).await?;
        let mut next = None;
        if let Some(gap) = room.gap {
            slot = slot + gap * jobs.len() as i64;
            next = Some(slot);
            sqlx::query!("UPDATE lane_state SET next = ? WHERE name = ?", slot.as_micros(), lane)
                .execute(&mut *tx)
                .await
                .doing("pacing a lane")?;
        }
        tx.commit().await.doing("taking jobs")?;
        Ok(ClaimResult { more: i64::from(due) == most && room.gap.is_none(), jobs, next })
    }

    /// Blocks all but one of the jobs with the same ordering key. What a repetition finds blocked by the time before is claimed no more.
    async fn serve_keys(&self, worker: Uuid, mut claimed: ClaimResult, again: bool) -> Result<ClaimResult> {
        if again {
            let keyed: Vec<Uuid> =
                claimed.jobs.iter().filter(|job| job.ordering_key.is_some()).map(|job| job.id).collect();
            let still = self.still_claimed(worker, &keyed).await?;
            claimed.jobs.retain(|job| job.ordering_key.is_none() || still.contains(&job.id));
        }
        let turns: Vec<(&str, Uuid)> =
            claimed.jobs.iter().filter_map(|job| Some((job.ordering_key.as_deref()?, job.id))).collect();
        let mut behind = Vec::new();
        for chunk in portions(&turns) {
            let mut query: QueryBuilder<MySql> = QueryBuilder::new("INSERT IGNORE INTO ordering_holder (name, job) ");
            query.push_values(chunk, |mut row, (ordering_key, job)| {
                row.push_bind(*ordering_key).push_bind(job.as_bytes().to_vec());
            });
            query.build().execute(&self.pool).await.doing("taking turns")?;
            let mut query: QueryBuilder<MySql> =
                QueryBuilder::new("SELECT name, job FROM ordering_holder WHERE name IN (");
            let mut list = query.separated(", ");
            for (ordering_key, _) in chunk {
                list.push_bind(*ordering_key);
            }
            query.push(")");
            let rows = query.build().fetch_all(&self.pool).await.doing("taking turns")?;
            let mut holders = std::collections::HashMap::new();
            for row in rows {
                let (name, job): (String, Vec<u8>) =
                    (row.try_get(0).doing("taking turns")?, row.try_get(1).doing("taking turns")?);
                holders.insert(name, uuid(&job));
            }
            behind.extend(
                chunk.iter().filter(|(ordering_key, job)| holders.get(*ordering_key) != Some(job)).map(|(_, job)| *job),
            );
        }
        let held: Vec<Uuid> = turns.iter().map(|(_, job)| *job).filter(|job| !behind.contains(job)).collect();
        let early = self.too_early(&held).await?;
        for (key, job) in turns.iter().filter(|(_, job)| early.contains(job)) {
            sqlx::query!("DELETE FROM ordering_holder WHERE name = ? AND job = ?", *key, job.as_bytes().as_slice())
                .execute(&self.pool)
                .await
                .doing("giving a turn back")?;
        }
        behind.extend(&early);
        for behind in portions(&behind) {
            let mut query: QueryBuilder<MySql> = QueryBuilder::new(
                "UPDATE job SET phase = 3, worker = NULL, fence = fence + 1, ready_at = due, claim_rank = IF(outcomes > 0 OR waits_for IS NOT NULL OR retries > 0, claim_rank, priority), started = IF(outcomes > 0 OR waits_for IS NOT NULL OR retries > 0, started, NULL) WHERE phase = 2 AND worker = ",
            );
            query.push_bind(worker.as_bytes().to_vec()).push(" AND id IN (");
            push_ids(&mut query, behind);
            query.push(")");
            query.build().execute(&self.pool).await.doing("putting jobs behind others of their ordering key")?;
        }
        for (key, _) in turns.iter().filter(|(_, job)| early.contains(job)) {
            sqlx::query!(
                "UPDATE job SET phase = 1 WHERE ordering_key = ? AND phase = 3 AND NOT EXISTS (SELECT 1 FROM ordering_holder WHERE name = ?)
                 ORDER BY claim_rank, ready_at LIMIT 1",
                *key,
                *key
            )
            .execute(&self.pool)
            .await
            .doing("giving a turn to an older job")?;
        }
        claimed.jobs.retain(|job| !behind.contains(&job.id));
        Ok(claimed)
    }

    /// Which of these jobs a worker still has.
    async fn still_claimed(&self, worker: Uuid, jobs: &[Uuid]) -> Result<HashSet<Uuid>> {
        let mut still = HashSet::new();
        for chunk in portions(jobs) {
            let mut query: QueryBuilder<MySql> = QueryBuilder::new("SELECT id FROM job WHERE phase = 2 AND worker = ");
            query.push_bind(worker.as_bytes().to_vec()).push(" AND id IN (");
            push_ids(&mut query, chunk);
            query.push(")");
            let rows = query.build().fetch_all(&self.pool).await.doing("reading claimed jobs")?;
            still.extend(rows.iter().filter_map(|row| row.try_get::<Vec<u8>, _>(0).ok()).map(|id| uuid(&id)));
        }
        Ok(still)
    }

    /// Which of these jobs have the turn of their key although one waits that was due before them and is as urgent: a job that ended between
    /// their claim and their turn left the key to nobody.
    async fn too_early(&self, jobs: &[Uuid]) -> Result<Vec<Uuid>> {
        let mut early = Vec::new();
        for chunk in portions(jobs) {
            let mut query: QueryBuilder<MySql> = QueryBuilder::new("SELECT h.id FROM job h WHERE h.id IN (");
            push_ids(&mut query, chunk);
            // One that has begun keeps its turn.
            query.push(") AND h.outcomes = 0 AND h.waits_for IS NULL AND h.retries = 0 AND (");
            let other = "EXISTS (SELECT 1 FROM job o FORCE INDEX (job_ordering_key) WHERE o.ordering_key = h.ordering_key AND o.phase = ";
            for phase in [1_u8, 3] {
                query.push(other).push(phase).push(" AND o.claim_rank = h.priority AND o.ready_at < h.due) OR ");
            }
            // One that was reclaimed from a process that died before it asked for its turn, and one that another process claimed and that
            // has not asked for it yet.
            let before =
                " AND o.id <> h.id AND o.priority = h.priority AND (o.due < h.due OR (o.due = h.due AND o.id < h.id)))";
            for phase in [1_u8, 3] {
                query.push(other).push(phase).push(" AND o.claim_rank = 0").push(before).push(" OR ");
            }
            query.push(other).push("2").push(before).push(")");
            let rows = query.build().fetch_all(&self.pool).await.doing("looking for older jobs")?;
            early.extend(rows.iter().filter_map(|row| row.try_get::<Vec<u8>, _>(0).ok()).map(|id| uuid(&id)));
        }
        Ok(early)
    }

    /// Releases blocked jobs whose ordering key has no holder, as a process that died may leave them.
    pub async fn free_turns(&self, limit: u32) -> Result<u64> {
        // A holder that is blocked, has ended or is gone was left by a process that died meanwhile.
        let stale = sqlx::query!(
            "SELECT t.name, t.job FROM ordering_holder t LEFT JOIN job j ON j.id = t.job WHERE j.id IS NULL OR j.phase NOT IN (1, 2) LIMIT ?",
            limit
        )
        .fetch_all(&self.pool)
        .await
        .doing("searching for stale turns")?;
        for holder in stale {
            sqlx::query!("DELETE FROM ordering_holder WHERE name = ? AND job = ?", holder.name, holder.job)
                .execute(&self.pool)
                .await
                .doing("removing a stale turn")?;
        }
        // Searched without locks: an update with a subquery would lock the whole table.
        let free = sqlx::query_scalar!(
            "SELECT j.id FROM job j LEFT JOIN ordering_holder t ON t.name = j.ordering_key WHERE j.phase = 3 AND t.name IS NULL LIMIT ?",
            limit
        )
        .fetch_all(&self.pool)
        .await
        .doing("searching for free turns")?;
        for id in &free {
            sqlx::query!("UPDATE job SET phase = 1 WHERE id = ? AND phase = 3", id)
                .execute(&self.pool)
                .await
                .doing("freeing an ordering key")?;
        }
        Ok(free.len() as u64)
    }

    /// The recorded outcomes of jobs in their current attempt, in order, without void ones.
    pub async fn outcomes(&self, jobs: &[(Uuid, u32)]) -> Result<Vec<OutcomeRow>> {
        let mut out = Vec::new();
        for (job, attempt) in jobs {
            let rows = sqlx::query!(
                "SELECT seq, effect, at, data, sealed AS `sealed: bool`, closing AS `closing: bool` FROM outcome WHERE job = ? AND attempt = ? AND void = 0 ORDER BY seq",
                job.as_bytes().as_slice(),
                attempt
            )
            .fetch_all(&self.pool)
            .await
            .doing("reading outcomes")?;
            out.extend(rows.into_iter().map(|row| OutcomeRow {
                job: *job,
                attempt: *attempt,
                seq: row.seq,
                effect: row.effect,
                at: Timestamp::from_micros(row.at),
                data: row.data,
                sealed: row.sealed,
                void: false,
                closing: row.closing,
            }));
        }
        Ok(out)
    }

    /// Registers a process as a worker. Jobs of an earlier process of the same name are reclaimed at once.
    pub async fn begin_worker(&self, id: Uuid, name: &str, now: Timestamp, expires: Timestamp) -> Result<()> {
        let before = sqlx::query_scalar!("SELECT id FROM worker WHERE name = ?", name)
            .fetch_all(&self.pool)
            .await
            .doing("searching for a predecessor")?;
        sqlx::query!(
            "INSERT INTO worker (id, name, started, heartbeat, expires) VALUES (?, ?, ?, 0, ?)
             ON DUPLICATE KEY UPDATE expires = VALUES(expires)",
            id.as_bytes().as_slice(),
            name,
            now.as_micros(),
            expires.as_micros()
        )
        .execute(&self.pool)
        .await
        .doing("beginning work")?;
        for dead in before.iter().map(|bytes| uuid(bytes)).filter(|dead| *dead != id) {
            self.reclaim(dead, now).await?;
        }
        Ok(())
    }

    /// Renews the lease of a worker; false when it was declared dead meanwhile.
    pub async fn heartbeat(&self, id: Uuid, expires: Timestamp) -> Result<bool> {
        let done = sqlx::query!(
            "UPDATE worker SET heartbeat = heartbeat + 1, expires = ? WHERE id = ?",
            expires.as_micros(),
            id.as_bytes().as_slice()
        )
        .execute(&self.pool)
        .await
        .doing("renewing the lease")?;
        Ok(done.rows_affected() > 0)
    }

    /// Workers: id, name, number of renewals, and the end of the lease.
    pub async fn workers(&self) -> Result<Vec<(Uuid, String, u64, Timestamp)>> {
        let rows = sqlx::query!("SELECT id, name, heartbeat, expires FROM worker")
            .fetch_all(&self.pool)
            .await
            .doing("reading workers")?;
        Ok(rows
            .into_iter()
            .map(|row| (uuid(&row.id), row.name, row.heartbeat, Timestamp::from_micros(row.expires)))
            .collect())
    }

    /// Reclaims the jobs of an expired worker: each gets a new fence. Returns how many.
    pub async fn reclaim(&self, dead: Uuid, now: Timestamp) -> Result<u64> {
        let mut all = 0;
        loop {
            let some = super::repeated(|| async {
                sqlx::query!(
                    "UPDATE job SET phase = 1, claim_rank = 0, ready_at = ?, worker = NULL, fence = fence + 1, changes = changes + 1
                 WHERE phase = 2 AND worker = ? LIMIT 500",
                    now.as_micros(),
                    dead.as_bytes().as_slice()
                )
                .execute(&self.pool)
                .await
                .doing("reclaiming jobs of a dead worker")
            });
            let some = some.await?.rows_affected();
            all += some;
            if some < 500 {
                break;
            }
        }
        sqlx::query!("DELETE FROM worker WHERE id = ?", dead.as_bytes().as_slice())
            .execute(&self.pool)
            .await
            .doing("reclaiming jobs of an expired worker")?;
        Ok(all)
    }

    /// Jobs that a worker claimed before an instant and still has, with their fences.
    pub async fn claimed_before(&self, worker: Uuid, before: Timestamp) -> Result<Vec<(Uuid, u32)>> {
        let rows = sqlx::query!(
            "SELECT id, fence FROM job WHERE phase = 2 AND worker = ? AND ready_at < ?",
            worker.as_bytes().as_slice(),
            before.as_micros()
        )
        .fetch_all(&self.pool)
        .await
        .doing("reading claimed jobs")?;
        Ok(rows.into_iter().map(|row| (uuid(&row.id), row.fence)).collect())
    }

    /// Releases jobs that were claimed and not begun, each under its fence. One that never began is due when it was, so that no later one of
    /// its ordering key overtakes it.
    pub async fn release(&self, worker: Uuid, jobs: &[(Uuid, u32)], now: Timestamp) -> Result<()> {
        for (job, fence) in jobs {
            sqlx::query!(
                "UPDATE job SET phase = 1, ready_at = IF(claim_rank = 0, ?, due), worker = NULL, fence = fence + 1 WHERE id = ? AND phase = 2 AND worker = ? AND fence = ?",
                now.as_micros(),
                job.as_bytes().as_slice(),
                worker.as_bytes().as_slice(),
                fence
            )
            .execute(&self.pool)
            .await
            .doing("releasing jobs")?;
        }
        Ok(())
    }

    /// Workers of running jobs that are not registered, and therefore dead.
    pub async fn expired_workers(&self) -> Result<Vec<Uuid>> {
        let rows = sqlx::query_scalar!(
            "SELECT DISTINCT j.worker AS `worker!: Vec<u8>` FROM job j LEFT JOIN worker w ON w.id = j.worker WHERE j.phase = 2 AND w.id IS NULL AND j.worker IS NOT NULL"
        )
        .fetch_all(&self.pool)
        .await
        .doing("searching for expired workers")?;
        Ok(rows.iter().map(|bytes| uuid(bytes)).collect())
    }

    /// Which of these running jobs are to stop.
    pub async fn to_stop(&self, worker: Uuid) -> Result<Vec<Uuid>> {
        let rows = sqlx::query_scalar!(
            "SELECT id FROM job WHERE phase = 2 AND worker = ? AND stop = 1",
            worker.as_bytes().as_slice()
        )
        .fetch_all(&self.pool)
        .await
        .doing("searching for jobs to stop")?;
        Ok(rows.iter().map(|bytes| uuid(bytes)).collect())
    }
}

/// The terms of one claim.
#[derive(Clone, Copy)]
struct Claim<'c> {
    worker: Uuid,
    lane: &'c str,
    places: &'c [(u8, Timestamp)],
    generation: u64,
    stamp: Timestamp,
}

/// Marks the first due jobs of a lane as claimed, claim_rank by claim_rank, and reads them. Returns, too, how many were due: another worker
/// may have claimed some of them meanwhile.
///
/// They are searched without locks and locked by their ids. An update that searches them locks entries of the index first and jobs behind them;
/// those who write jobs lock in the other order, and one of both lost.
async fn mark_and_read(
    connection: &mut sqlx::MySqlConnection,
    claim: Claim<'_>,
    most: u32,
) -> Result<(Vec<Claimed>, u32)> {
    let Claim { worker, lane, places, generation, stamp } = claim;
    let key = worker.as_bytes().as_slice();
    let mut due: Vec<Vec<u8>> = Vec::new();
    for (claim_rank, from) in places {
        let left = most - due.len() as u32;
        if left == 0 {
            break;
        }
        let found = sqlx::query_scalar!(
            "SELECT id FROM job FORCE INDEX (job_work)
             WHERE phase = 1 AND lane = ? AND claim_rank = ? AND ready_at BETWEEN ? AND ? AND generation <= ? ORDER BY ready_at LIMIT ?",
            lane,
            claim_rank,
            from.as_micros(),
            stamp.as_micros(),
            generation,
            left
        );
        due.extend(found.fetch_all(&mut *connection).await.doing("searching for due jobs")?);
    }
    let mut marked = 0;
    for ids in portions(&due) {
        let mut query: QueryBuilder<MySql> =
            QueryBuilder::new("UPDATE job FORCE INDEX (PRIMARY) SET phase = 2, ready_at = ");
        query.push_bind(stamp.as_micros()).push(", worker = ").push_bind(key);
        query.push(", started = COALESCE(started, ").push_bind(stamp.as_micros());
        query.push("), fence = fence + 1, signalled = 0, changes = changes + 1 WHERE phase = 1 AND lane = ");
        query.push_bind(lane).push(" AND ready_at <= ").push_bind(stamp.as_micros()).push(" AND id IN (");
        let mut list = query.separated(", ");
        ids.iter().for_each(|id| _ = list.push_bind(id.as_slice()));
        query.push(")");
        marked += query.build().execute(&mut *connection).await.doing("claiming jobs")?.rows_affected();
    }
    if marked == 0 {
        return Ok((Vec::new(), due.len() as u32));
    }
    let rows = sqlx::query!(
        "SELECT id, fence, lane, workflow, revision, generation, depth, priority, ordering_key, tags, entry, caller, caller_facts, request_id, trace_id, trace_parent AS `trace_parent: String`, accepted, due,
                started AS `started!`, stop AS `stop: bool`, attempt, retries, outcomes, (status IS NOT NULL) AS `replied!: bool`, notes, input, sealed AS `sealed: bool`, kept_for, unattended AS `unattended: bool`, moved
         FROM job FORCE INDEX (job_work)
         WHERE phase = 2 AND lane = ? AND claim_rank IN (0, 1, 2, 3, 4, 5, 6, 7, 8, 9) AND ready_at = ? AND worker = ? ORDER BY claim_rank, due",
        lane,
        stamp.as_micros(),
        key
    )
    .fetch_all(&mut *connection)
    .await
    .doing("reading claimed jobs")?;
    let claimed = rows
        .into_iter()
        .map(|row| Claimed {
            id: uuid(&row.id),
            fence: row.fence,
            lane: row.lane,
            workflow: row.workflow,
            revision: row.revision,
            generation: row.generation,
            depth: row.depth,
            priority: row.priority,
            ordering_key: row.ordering_key,
            tags: super::tags_of(row.tags),
            entry: row.entry,
            caller: Caller::of(row.caller, row.caller_facts.as_deref()),
            request_id: row.request_id,
            trace: Trace::of_columns(&row.trace_id, row.trace_parent.as_deref()),
            accepted: Timestamp::from_micros(row.accepted),
            due: Timestamp::from_micros(row.due),
            started: Timestamp::from_micros(row.started),
            stop: row.stop,
            attempt: row.attempt,
            retries: row.retries,
            outcomes: row.outcomes,
            replied: row.replied,
            notes: row.notes,
            input: row.input,
            sealed: row.sealed,
            kept_for: Span::from_micros(row.kept_for),
            unattended: row.unattended,
            moved: moved_waits(row.moved.as_deref()),
        })
        .collect();
    Ok((claimed, due.len() as u32))
}
