//! Statements that are performed once, however often a job asks for them.
//!
//! A writing step and a row that says so, its *marker*, are one transaction. Who asks again, after a crash or a
//! broken connection, finds the marker and gets the result that was kept with it. The marker stands in the
//! author's own database, because only there both can be of one transaction: an administrator makes its table by
//! [`TABLE`], or lets the service make it ([`Database::prepare`]).

use std::time::Duration;

use sqlx::{AssertSqlSafe, Connection, MySqlConnection, Row};
use uuid::Uuid;

use super::{Database, GRACE, Refused, StatementResult, Stop, TRIES, Work, each, refused};

/// The table of markers, by the statement that makes it.
pub const TABLE: &str = "CREATE TABLE IF NOT EXISTS kanzlei_done (
    installation BINARY(16)      NOT NULL,
    job          BINARY(16)      NOT NULL,
    attempt      INT UNSIGNED    NOT NULL,
    effect       BIGINT UNSIGNED NOT NULL,
    at           DATETIME(6)     NOT NULL DEFAULT UTC_TIMESTAMP(6),
    result       MEDIUMTEXT      NULL,
    PRIMARY KEY (installation, job, attempt, effect),
    INDEX kanzlei_done_at (installation, at)
) ENGINE = InnoDB DEFAULT CHARSET = utf8mb4 COLLATE = utf8mb4_bin";

/// The most bytes of a result that are kept for a repetition.
pub const MOST_RESULT: usize = 1 << 20;
/// Markers read in one round of the purge.
const PURGED: u32 = 500;
/// How long a probe of a database may take.
const PROBE: Duration = Duration::from_secs(3);

/// Which effect of which job.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Marker {
    /// Distinguishes services that write to one database.
    pub installation: [u8; 16],
    /// Id of the job.
    pub job: Uuid,
    /// How often the job began from its start.
    pub attempt: u32,
    /// Number of the effect in its run.
    pub effect: u64,
}

/// How results are written down: sealed and opened again. Nothing where that cannot be done.
pub trait Sealing: Send + Sync {
    /// Seals a text; nothing when that is impossible.
    fn seal(&self, text: String) -> Option<String>;
    /// Opens a sealed text; nothing when it was sealed with another key.
    fn open(&self, text: &str) -> Option<String>;
}

impl Database {
    /// Runs statements in one transaction with their marker; a repetition returns what they returned.
    pub async fn run_once(
        &self,
        marker: &Marker,
        work: impl Into<Work<'_>>,
        within: Duration,
        sealing: &dyn Sealing,
    ) -> Result<Vec<StatementResult>, Refused> {
        let (until, work) = (tokio::time::Instant::now() + within, work.into());
        let mut tries = 0;
        loop {
            tries += 1;
            match self.try_once(marker, work, until, sealing).await {
                // Whether it was committed is not known: the marker says so.
                Err(Refused::Unavailable(_)) if tries < TRIES && tokio::time::Instant::now() < until => {
                    tokio::time::sleep(Duration::from_millis(50)).await;
                }
                done => return done,
            }
        }
    }

    async fn try_once(
        &self,
        marker: &Marker,
        asked: Work<'_>,
        until: tokio::time::Instant,
        sealing: &dyn Sealing,
    ) -> Result<Vec<StatementResult>, Refused> {
        let mut connection = self.connection_until(until).await?;
        let left = until.saturating_duration_since(tokio::time::Instant::now());
        let bound = format!("SET max_statement_time = {:.3}", left.as_secs_f64().max(0.001));
        let work = async {
            sqlx::raw_sql(AssertSqlSafe(bound)).execute(&mut *connection).await.map_err(refused)?;
            for attempt in 1.. {
                match marked(&mut connection, marker, asked, sealing).await {
                    // Another transaction won; nothing of this one was done.
                    Err(Stop::Sql(error)) if crate::number(&error) == Some(1213) && attempt < TRIES => {}
                    done => return done.map_err(Refused::from),
                }
            }
            Err(Refused::Timeout)
        };
        match tokio::time::timeout_at(until + GRACE, work).await {
            Ok(done) => done,
            Err(_) => {
                // It is still busy with an abandoned statement.
                connection.close_on_drop();
                Err(Refused::Timeout)
            }
        }
    }

    /// What is missing for markers, each in a sentence; empty when nothing is missing.
    ///
    /// # Errors
    /// When the database cannot be asked.
    pub async fn unprepared(&self) -> Result<Vec<String>, Refused> {
        let probe = async {
            let mut connection = self.connection().await?;
            let engine: Option<Option<String>> = sqlx::query_scalar(
                "SELECT ENGINE FROM information_schema.TABLES WHERE TABLE_SCHEMA = DATABASE() AND TABLE_NAME = 'kanzlei_done'",
            )
            .fetch_optional(&mut *connection)
            .await
            .map_err(refused)?;
            let Some(engine) = engine else {
                return Ok(vec!["it has no table `kanzlei_done`, or its user may not see it".to_owned()]);
            };
            if engine.as_deref() != Some("InnoDB") {
                let engine = engine.unwrap_or_default();
                return Ok(vec![format!("its table `kanzlei_done` is stored by {engine}, not by InnoDB")]);
            }
            let mut missing = Vec::new();
            // Nothing of this stays.
            let mut tx = connection.begin().await.map_err(refused)?;
            for (right, statement) in [
                ("INSERT", "INSERT INTO kanzlei_done (installation, job, attempt, effect) VALUES ('', '', 0, 0)"),
                ("UPDATE", "UPDATE kanzlei_done SET result = '' WHERE installation = '' AND job = ''"),
                ("SELECT", "SELECT result FROM kanzlei_done WHERE installation = '' AND job = ''"),
                ("DELETE", "DELETE FROM kanzlei_done WHERE installation = '' AND job = ''"),
            ] {
                if let Err(error) = sqlx::raw_sql(statement).execute(&mut *tx).await {
                    match refused(error) {
                        Refused::Sql(why) => missing.push(format!("its user cannot {right} in `kanzlei_done`: {why}")),
                        other => return Err(other),
                    }
                }
            }
            tx.rollback().await.map_err(refused)?;
            Ok(missing)
        };
        tokio::time::timeout(PROBE, probe).await.unwrap_or(Err(Refused::Timeout))
    }

    /// Makes the table of markers.
    pub async fn prepare(&self) -> Result<(), Refused> {
        sqlx::raw_sql(TABLE).execute(&mut *self.connection().await?).await.map(|_| ()).map_err(refused)
    }

    /// Names of tables whose engine has no transactions, with the engine.
    pub async fn without_transactions(&self) -> Result<Vec<(String, String)>, Refused> {
        let mut connection = tokio::time::timeout(PROBE, self.connection()).await.unwrap_or(Err(Refused::Timeout))?;
        let rows = sqlx::query(
            "SELECT t.TABLE_NAME, t.ENGINE FROM information_schema.TABLES t
             JOIN information_schema.ENGINES e ON e.ENGINE = t.ENGINE
             WHERE t.TABLE_SCHEMA = DATABASE() AND t.TABLE_TYPE = 'BASE TABLE' AND COALESCE(e.TRANSACTIONS, 'NO') <> 'YES'",
        )
        .fetch_all(&mut *connection);
        let rows = tokio::time::timeout(PROBE, rows).await.map_err(|_| Refused::Timeout)?.map_err(refused)?;
        rows.iter()
            .map(|row| Ok((row.try_get(0)?, row.try_get(1)?)))
            .collect::<Result<_, sqlx::Error>>()
            .map_err(refused)
    }

    /// The oldest markers of an installation, of at least this age, with their jobs; at most 500.
    pub async fn old_markers(&self, installation: &[u8; 16], age: Duration) -> Result<Vec<Uuid>, Refused> {
        let rows: Vec<Vec<u8>> = sqlx::query_scalar(
            "SELECT DISTINCT job FROM kanzlei_done WHERE installation = ? AND at < UTC_TIMESTAMP(6) - INTERVAL ? SECOND
             ORDER BY at LIMIT ?",
        )
        .bind(installation.as_slice())
        .bind(age.as_secs())
        .bind(PURGED)
        .fetch_all(&mut *self.connection().await?)
        .await
        .map_err(refused)?;
        Ok(rows.iter().filter_map(|id| Uuid::from_slice(id).ok()).collect())
    }

    /// Deletes the markers of jobs that are gone.
    pub async fn remove_markers(&self, installation: &[u8; 16], jobs: &[Uuid]) -> Result<(), Refused> {
        let mut connection = self.connection().await?;
        for job in jobs {
            sqlx::query("DELETE FROM kanzlei_done WHERE installation = ? AND job = ?")
                .bind(installation.as_slice())
                .bind(job.as_bytes().as_slice())
                .execute(&mut *connection)
                .await
                .map_err(refused)?;
        }
        Ok(())
    }
}

/// The statements and their marker in one transaction, or what an earlier one returned.
async fn marked(
    connection: &mut MySqlConnection,
    marker: &Marker,
    work: Work<'_>,
    sealing: &dyn Sealing,
) -> Result<Vec<StatementResult>, Stop> {
    const KEY: &str = "installation = ? AND job = ? AND attempt = ? AND effect = ?";
    let mut tx = connection.begin().await?;
    // Waits for a transaction of the same effect that is under way, and fails behind one that was committed.
    let inserted = sqlx::query("INSERT INTO kanzlei_done (installation, job, attempt, effect) VALUES (?, ?, ?, ?)")
        .bind(marker.installation.as_slice())
        .bind(marker.job.as_bytes().as_slice())
        .bind(marker.attempt)
        .bind(marker.effect)
        .execute(&mut *tx)
        .await;
    match inserted {
        Ok(_) => {}
        Err(sqlx::Error::Database(error)) if error.is_unique_violation() => {
            tx.rollback().await?;
            let kept: Option<String> =
                sqlx::query_scalar(AssertSqlSafe(format!("SELECT result FROM kanzlei_done WHERE {KEY}")))
                    .bind(marker.installation.as_slice())
                    .bind(marker.job.as_bytes().as_slice())
                    .bind(marker.attempt)
                    .bind(marker.effect)
                    .fetch_one(connection)
                    .await?;
            let plain = kept.and_then(|kept| sealing.open(&kept));
            return plain
                .and_then(|plain| serde_json::from_str(&plain).ok())
                .ok_or_else(|| Stop::TooLarge("it was done before, and what it returned cannot be read".into()));
        }
        Err(error) => return Err(error.into()),
    }
    let given = each(&mut tx, work).await?;
    let written = serde_json::to_string(&given).unwrap_or_default();
    if written.len() > MOST_RESULT {
        let limit = MOST_RESULT >> 10;
        let detail = format!(
            "a writing step of a job returns at most {limit} KiB, which are kept for a repetition; select less, or set `once: false`"
        );
        return Err(Stop::TooLarge(detail));
    }
    let Some(sealed) = sealing.seal(written) else {
        return Err(Stop::TooLarge("its result is confidential, and the service has no key for secrets".into()));
    };
    sqlx::query(AssertSqlSafe(format!("UPDATE kanzlei_done SET result = ? WHERE {KEY}")))
        .bind(sealed)
        .bind(marker.installation.as_slice())
        .bind(marker.job.as_bytes().as_slice())
        .bind(marker.attempt)
        .bind(marker.effect)
        .execute(&mut *tx)
        .await?;
    tx.commit().await?;
    Ok(given)
}
