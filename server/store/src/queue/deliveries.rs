//! Deliveries: messages of senders, kept in the transaction that queues their jobs.
//!
//! What tells messages apart is a row of its own. The first message that writes it is processed; others that come before it
//! expires are repetitions and queue nothing.

use std::collections::HashMap;

use kanzlei_model::time::Timestamp;
use sqlx::mysql::MySqlRow;
use sqlx::{MySql, QueryBuilder, Row, Transaction};
use uuid::Uuid;

use super::{portions, portions_within, uuid};
use crate::names::{self, Called};
use crate::{Doing, Result, Store};

/// The most deliveries that one call reads for processing.
pub const MOST_PROCESSED: u32 = 1000;

/// What became of a delivery.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum DeliveryState {
    /// It is processed, or was.
    #[default]
    Accepted,
    /// It came before; nothing was done.
    Repeated,
    /// Its workflow does not accept it.
    Unfit,
    /// A draft's address collected it.
    Captured,
}

impl DeliveryState {
    /// All states with their codes and names.
    pub const ALL: [(DeliveryState, u8, &str); 4] = [
        (DeliveryState::Accepted, 1, "accepted"),
        (DeliveryState::Repeated, 2, "repeated"),
        (DeliveryState::Unfit, 3, "unfit"),
        (DeliveryState::Captured, 4, "captured"),
    ];

    /// Its name.
    pub fn name(self) -> &'static str {
        Self::ALL.iter().find(|(state, ..)| *state == self).map_or("", |(.., name)| name)
    }

    fn code(self) -> u8 {
        Self::ALL.iter().find(|(state, ..)| *state == self).map_or(0, |(_, code, _)| *code)
    }

    fn of_code(code: u8) -> Self {
        Self::ALL.iter().find(|(_, known, _)| *known == code).map_or(DeliveryState::Accepted, |(state, ..)| *state)
    }
}

/// A message as it is kept. Query, headers and body are sealed where `sealed` says so.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Delivery {
    /// UUID, version 7: sorts by the time it arrived.
    pub id: Uuid,
    /// The workflow that receives it.
    pub workflow: String,
    /// Its entry: `POST /from/customs`.
    pub entry: String,
    /// When it arrived.
    pub received: Timestamp,
    /// What became of it.
    pub state: DeliveryState,
    /// What tells it apart, cut to 200 characters.
    pub sender_key: Option<String>,
    /// The address it came from.
    pub caller: Option<String>,
    /// `X-Request-Id` of its request.
    pub request_id: String,
    /// How it was proven, and with which secret.
    pub proof: String,
    /// HTTP method.
    pub method: String,
    /// The query as it was sent.
    pub query: String,
    /// JSON: names and values, no credentials.
    pub headers: String,
    /// Media type.
    pub media: String,
    /// Bytes of the body.
    pub size: u64,
    /// SHA-256 of the body, in hexadecimal digits.
    pub digest: String,
    /// The body; empty in listings.
    pub body: Vec<u8>,
    /// Whether it is sealed.
    pub sealed: bool,
    /// The revision that received it, and its generation.
    pub revision: u32,
    /// Number of deploys at that time.
    pub generation: u64,
    /// The run or job that came of it last.
    pub run: Option<Uuid>,
    /// Whether that is a job.
    pub as_job: bool,
    /// How often it was processed.
    pub processed: u32,
    /// Of a repetition: the first one.
    pub first: Option<Uuid>,
    /// Why it is unfit, as JSON.
    pub problem: Option<String>,
}

/// A delivery to be kept, with what tells it apart.
#[derive(Clone, Debug, PartialEq)]
pub struct NewDelivery {
    /// The delivery; its run is the job that is queued with it.
    pub delivery: Delivery,
    /// Hash of what tells it apart, and until when that counts.
    pub key: Option<(String, Timestamp)>,
}

impl NewDelivery {
    /// Its bytes in a statement, about.
    pub(super) fn bytes(&self) -> usize {
        let delivery = &self.delivery;
        delivery.body.len() + delivery.headers.len() + delivery.query.len() + 500
    }
}

/// Of repetitions: the first delivery that was told apart by the same.
pub type Firsts = HashMap<Uuid, Uuid>;

/// Which deliveries to list; everything that is set must fit.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct DeliveryFilter {
    /// Only those to this workflow, by its names.
    pub workflow: Vec<Called>,
    /// Only those in this state.
    pub state: Option<DeliveryState>,
    /// Only those told apart by this text.
    pub sender_key: Option<String>,
    /// Only those of which this run or job came.
    pub run: Option<Uuid>,
    /// Only those that arrived from this instant on.
    pub since: Option<Timestamp>,
    /// Only those that arrived before this instant.
    pub until: Option<Timestamp>,
    /// Only those before this one, for the next page.
    pub before: Option<Uuid>,
    /// Most rows to return.
    pub limit: u32,
}

const COLUMNS: &str = "id, workflow, entry, received, state, sender_key, caller, request_id, proof, method, query, headers, media, size, digest, sealed, revision, generation, run, processed, first, problem, as_job";

impl Store {
    /// Writes deliveries within a transaction; returns the firsts of those that are repetitions.
    pub(super) async fn keep_deliveries(
        &self,
        tx: &mut Transaction<'_, MySql>,
        deliveries: &[NewDelivery],
    ) -> Result<Firsts> {
        let firsts = claim_keys(tx, deliveries).await?;
        for chunk in portions_within(deliveries, NewDelivery::bytes) {
            let mut query: QueryBuilder<MySql> = QueryBuilder::new(format!("INSERT INTO delivery ({COLUMNS}, body) "));
            query.push_values(chunk, |mut row, one| {
                let delivery = &one.delivery;
                let first = firsts.get(&delivery.id);
                let (state, run, processed) = match (first, delivery.state) {
                    (Some(_), _) => (DeliveryState::Repeated, None, 0),
                    (None, state) => (state, delivery.run, u32::from(state == DeliveryState::Accepted)),
                };
                row.push_bind(delivery.id.as_bytes().as_slice())
                    .push_bind(&delivery.workflow)
                    .push_bind(&delivery.entry)
                    .push_bind(delivery.received.as_micros())
                    .push_bind(state.code())
                    .push_bind(&delivery.sender_key)
                    .push_bind(&delivery.caller)
                    .push_bind(&delivery.request_id)
                    .push_bind(&delivery.proof)
                    .push_bind(&delivery.method)
                    .push_bind(&delivery.query)
                    .push_bind(&delivery.headers)
                    .push_bind(&delivery.media)
                    .push_bind(delivery.size)
                    .push_bind(&delivery.digest)
                    .push_bind(delivery.sealed)
                    .push_bind(delivery.revision)
                    .push_bind(delivery.generation)
                    .push_bind(run.map(|run| run.as_bytes().to_vec()))
                    .push_bind(processed)
                    .push_bind(first.or(delivery.first.as_ref()).map(|first| first.as_bytes().to_vec()))
                    .push_bind(&delivery.problem)
                    .push_bind(delivery.as_job)
                    .push_bind(&delivery.body);
            });
            // A transaction that is repeated writes the same again.
            query.push(" ON DUPLICATE KEY UPDATE id = VALUES(id)");
            query.build().execute(&mut **tx).await.doing("keeping deliveries")?;
        }
        Ok(firsts)
    }

    /// Keeps one delivery that queues no job.
    pub async fn keep_delivery(&self, delivery: &NewDelivery) -> Result<Firsts> {
        super::repeated(|| async {
            let mut tx = self.pool.begin().await.map_err(crate::Error::Unreachable)?;
            let firsts = self.keep_deliveries(&mut tx, std::slice::from_ref(delivery)).await?;
            tx.commit().await.doing("keeping a delivery")?;
            Ok(firsts)
        })
        .await
    }

    /// Deliveries without their bodies, newest first.
    pub async fn deliveries(&self, filter: &DeliveryFilter) -> Result<Vec<Delivery>> {
        let mut query = selected("", filter);
        query.push(" ORDER BY id DESC LIMIT ").push_bind(filter.limit);
        let rows = query.build().fetch_all(&self.pool).await.doing("listing deliveries")?;
        rows.iter().map(|row| read(row, false)).collect::<std::result::Result<_, _>>().doing("listing deliveries")
    }

    /// One delivery with its body.
    pub async fn delivery(&self, id: Uuid) -> Result<Option<Delivery>> {
        let mut query: QueryBuilder<MySql> =
            QueryBuilder::new(format!("SELECT {COLUMNS}, body FROM delivery WHERE id = "));
        query.push_bind(id.as_bytes().to_vec());
        let row = query.build().fetch_optional(&self.pool).await.doing("reading a delivery")?;
        row.map(|row| read(&row, true)).transpose().doing("reading a delivery")
    }

    /// Deliveries with their bodies, oldest first, for processing them again; at most [`MOST_PROCESSED`].
    pub async fn deliveries_to_process(&self, filter: &DeliveryFilter) -> Result<Vec<Uuid>> {
        let mut query = selected("id", filter);
        query.push(" ORDER BY id LIMIT ").push_bind(filter.limit.min(MOST_PROCESSED));
        let rows = query.build().fetch_all(&self.pool).await.doing("searching for deliveries")?;
        Ok(rows.iter().filter_map(|row| row.try_get::<Vec<u8>, _>(0).ok()).map(|id| uuid(&id)).collect())
    }

    /// Records that a delivery was processed by a run or job.
    pub async fn delivery_processed(&self, id: Uuid, run: Uuid) -> Result<()> {
        sqlx::query!(
            "UPDATE delivery SET state = 1, problem = NULL, run = ?, as_job = 1, processed = processed + 1 WHERE id = ?",
            run.as_bytes().as_slice(),
            id.as_bytes().as_slice()
        )
        .execute(&self.pool)
        .await
        .map(|_| ())
        .doing("recording that a delivery was processed")
    }

    /// Deletes what tells messages and changes apart, where its time is over; at most 5000. Returns how many.
    pub async fn purge_delivery_keys(&self, now: Timestamp) -> Result<u64> {
        let done = sqlx::query!("DELETE FROM delivery_key WHERE until < ? LIMIT 5000", now.as_micros());
        Ok(done.execute(&self.pool).await.doing("deleting old keys of deliveries")?.rows_affected())
    }

    /// Deletes deliveries that arrived before an instant, those beyond the newest `most`, and those beyond the newest
    /// `bytes` of bodies; at most 500. Returns how many.
    pub async fn purge_deliveries(&self, before: Timestamp, most: u64, bytes: u64) -> Result<u64> {
        let all = sqlx::query!("SELECT COUNT(*) AS n, CAST(COALESCE(SUM(size), 0) AS UNSIGNED) AS `bytes!: u64` FROM delivery FORCE INDEX (delivery_size)")
            .fetch_one(&self.pool)
            .await
            .doing("counting deliveries")?;
        let oldest = sqlx::query!("SELECT id, received, size FROM delivery ORDER BY id LIMIT 500")
            .fetch_all(&self.pool)
            .await
            .doing("searching for old deliveries")?;
        let (mut beyond, mut too_many) = ((all.n as u64).saturating_sub(most), all.bytes.saturating_sub(bytes));
        let mut gone = Vec::new();
        for row in oldest {
            if row.received >= before.as_micros() && beyond == 0 && too_many == 0 {
                break;
            }
            (beyond, too_many) = (beyond.saturating_sub(1), too_many.saturating_sub(row.size));
            gone.push(uuid(&row.id));
        }
        for chunk in portions(&gone) {
            let mut query: QueryBuilder<MySql> = QueryBuilder::new("DELETE FROM delivery WHERE id IN (");
            super::push_ids(&mut query, chunk);
            query.push(")");
            query.build().execute(&self.pool).await.doing("deleting old deliveries")?;
        }
        Ok(gone.len() as u64)
    }
}

/// Claims what tells messages apart; returns the firsts of those that were there before.
async fn claim_keys(tx: &mut Transaction<'_, MySql>, deliveries: &[NewDelivery]) -> Result<Firsts> {
    let mut keyed: Vec<(&str, Timestamp, &Delivery)> = deliveries
        .iter()
        .filter_map(|one| one.key.as_ref().map(|(hash, until)| (hash.as_str(), *until, &one.delivery)))
        .collect();
    // In one order everywhere, so that two transactions do not wait for each other.
    keyed.sort_by(|one, other| (one.0, one.2.id).cmp(&(other.0, other.2.id)));
    let mut firsts = Firsts::new();
    for chunk in portions(&keyed) {
        let insert = |how: &str| {
            let mut query: QueryBuilder<MySql> =
                QueryBuilder::new(format!("INSERT {how}INTO delivery_key (hash, delivery, until) "));
            query.push_values(chunk, |mut row, (hash, until, delivery)| {
                row.push_bind(*hash).push_bind(delivery.id.as_bytes().as_slice()).push_bind(until.as_micros());
            });
            query
        };
        // Most messages are the first of their key, and then nothing more is asked.
        let fresh = insert("IGNORE ").build().execute(&mut **tx).await.doing("telling deliveries apart")?;
        if fresh.rows_affected() == chunk.len() as u64 {
            continue;
        }
        let mut query = insert("");
        // Assignments are made in order: the instant is compared before it changes.
        let now = chunk.iter().map(|(.., delivery)| delivery.received).max().unwrap_or_default().as_micros();
        query
            .push(" ON DUPLICATE KEY UPDATE delivery = IF(until < ")
            .push_bind(now)
            .push(", VALUES(delivery), delivery)");
        query.push(", until = IF(until < ").push_bind(now).push(", VALUES(until), until)");
        query.build().execute(&mut **tx).await.doing("telling deliveries apart")?;
        let mut query: QueryBuilder<MySql> =
            QueryBuilder::new("SELECT hash, delivery FROM delivery_key WHERE hash IN (");
        let mut list = query.separated(", ");
        for (hash, ..) in chunk {
            list.push_bind(*hash);
        }
        query.push(")");
        let rows = query.build().fetch_all(&mut **tx).await.doing("telling deliveries apart")?;
        let known: HashMap<String, Uuid> = rows
            .iter()
            .filter_map(|row| Some((row.try_get(0).ok()?, uuid(&row.try_get::<Vec<u8>, _>(1).ok()?))))
            .collect();
        for (hash, _, delivery) in chunk {
            if let Some(first) = known.get(*hash).filter(|first| **first != delivery.id) {
                firsts.insert(delivery.id, *first);
            }
        }
    }
    Ok(firsts)
}

/// The deliveries that fit a filter: these columns, or all but the body.
fn selected(columns: &str, filter: &DeliveryFilter) -> QueryBuilder<MySql> {
    let columns = if columns.is_empty() { COLUMNS } else { columns };
    let mut query: QueryBuilder<MySql> = QueryBuilder::new(format!("SELECT {columns} FROM delivery WHERE 1 = 1"));
    names::narrow(&mut query, &filter.workflow);
    if let Some(state) = filter.state {
        query.push(" AND state = ").push_bind(state.code());
    }
    if let Some(key) = &filter.sender_key {
        query.push(" AND sender_key = ").push_bind(key.clone());
    }
    if let Some(run) = &filter.run {
        query.push(" AND run = ").push_bind(run.as_bytes().to_vec());
    }
    if let Some(since) = filter.since {
        query.push(" AND received >= ").push_bind(since.as_micros());
    }
    if let Some(until) = filter.until {
        query.push(" AND received < ").push_bind(until.as_micros());
    }
    if let Some(before) = &filter.before {
        query.push(" AND id < ").push_bind(before.as_bytes().to_vec());
    }
    query
}

fn read(row: &MySqlRow, body: bool) -> std::result::Result<Delivery, sqlx::Error> {
    let id = |at: usize| row.try_get::<Option<Vec<u8>>, _>(at).map(|id| id.map(|id| uuid(&id)));
    Ok(Delivery {
        id: id(0)?.unwrap_or_default(),
        workflow: row.try_get(1)?,
        entry: row.try_get(2)?,
        received: Timestamp::from_micros(row.try_get(3)?),
        state: DeliveryState::of_code(row.try_get(4)?),
        sender_key: row.try_get(5)?,
        caller: row.try_get(6)?,
        request_id: row.try_get(7)?,
        proof: row.try_get(8)?,
        method: row.try_get(9)?,
        query: row.try_get(10)?,
        headers: row.try_get(11)?,
        media: row.try_get(12)?,
        size: row.try_get(13)?,
        digest: row.try_get(14)?,
        sealed: row.try_get::<u8, _>(15)? != 0,
        revision: row.try_get(16)?,
        generation: row.try_get(17)?,
        run: id(18)?,
        processed: row.try_get(19)?,
        first: id(20)?,
        problem: row.try_get(21)?,
        as_job: row.try_get::<u8, _>(22)? != 0,
        body: if body { row.try_get(23)? } else { Vec::new() },
    })
}
