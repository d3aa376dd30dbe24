//! How alerts stand over all processes, when they lasted, and the counts that they measure.
//!
//! A round is claimed by one process. The row of an alert is changed by compare-and-set on its version, so that a round which takes
//! longer than the pause between rounds changes nothing that a later one has changed.

use kanzlei_model::time::Timestamp;
use sqlx::{MySql, QueryBuilder};

use crate::names::Called;
use crate::{Doing, Result, Store};

/// An alert as the records keep it.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct AlertRow {
    /// Its name.
    pub name: String,
    /// A digest of its condition and terms.
    pub definition: String,
    /// When it was stepped last.
    pub checked: Timestamp,
    /// Since when its condition holds.
    pub holds_since: Option<Timestamp>,
    /// Since when it does not, where the alert has begun.
    pub calm_since: Option<Timestamp>,
    /// When it began.
    pub began: Option<Timestamp>,
    /// When it was announced last.
    pub announced: Option<Timestamp>,
    /// The measures of the last step, as JSON.
    pub measures: String,
    /// Why it could not be measured.
    pub fault: Option<String>,
    /// Until when it announces nothing.
    pub silence: Option<Silence>,
    /// Counts its changes.
    pub version: u64,
}

/// A time in which an alert announces nothing.
#[derive(Clone, Debug, PartialEq)]
pub struct Silence {
    /// When it ends.
    pub until: Timestamp,
    /// Who ordered it.
    pub by: String,
    /// Why.
    pub reason: String,
}

/// A time in which an alert lasted.
#[derive(Clone, Debug, PartialEq)]
pub struct AlertSpan {
    /// The alert.
    pub alert: String,
    /// When it began.
    pub began: Timestamp,
    /// When it ended; nothing while it lasts.
    pub ended: Option<Timestamp>,
    /// The measures when it began, as JSON.
    pub measures: String,
    /// How often it was announced.
    pub notices: u32,
}

/// What became of the timetables of a workflow.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub struct Instants {
    /// Due instants that queued a job.
    pub queued: u64,
    /// Those that passed while no process worked.
    pub missed: u64,
    /// Those that were skipped.
    pub skipped: u64,
    /// Those whose job was refused.
    pub refused: u64,
    /// Jobs of them that failed.
    pub failed: u64,
}

const FAILED: u8 = crate::queue::JobPhase::Failed as u8;

impl Store {
    /// Claims the round that is due, where the last one was before an instant; true for one process.
    pub async fn claim_alert_round(&self, now: Timestamp, before: Timestamp) -> Result<bool> {
        let done =
            sqlx::query!("UPDATE alert_round SET at = ? WHERE id = 1 AND at <= ?", now.as_micros(), before.as_micros())
                .execute(&self.pool)
                .await
                .doing("claiming a round of alerts")?;
        Ok(done.rows_affected() == 1)
    }

    /// When the alerts were stepped last.
    pub async fn last_alert_round(&self) -> Result<Timestamp> {
        let at = sqlx::query_scalar!("SELECT at FROM alert_round WHERE id = 1")
            .fetch_optional(&self.pool)
            .await
            .doing("reading the last round of alerts")?;
        Ok(Timestamp::from_micros(at.unwrap_or(0)))
    }

    /// All alerts that were stepped.
    pub async fn alerts(&self) -> Result<Vec<AlertRow>> {
        let rows = sqlx::query!(
            "SELECT name, definition, checked, holds_since, calm_since, began, announced, measures, fault, silenced_until, silenced_by, silence_reason, version
             FROM alert ORDER BY name LIMIT 5000"
        )
        .fetch_all(&self.pool)
        .await
        .doing("reading alerts")?;
        let time = |at: Option<i64>| at.map(Timestamp::from_micros);
        Ok(rows
            .into_iter()
            .map(|row| AlertRow {
                name: row.name,
                definition: row.definition,
                checked: Timestamp::from_micros(row.checked),
                holds_since: time(row.holds_since),
                calm_since: time(row.calm_since),
                began: time(row.began),
                announced: time(row.announced),
                measures: row.measures,
                fault: row.fault,
                silence: row.silenced_until.map(|until| Silence {
                    until: Timestamp::from_micros(until),
                    by: row.silenced_by.unwrap_or_default(),
                    reason: row.silence_reason.unwrap_or_default(),
                }),
                version: row.version,
            })
            .collect())
    }

    /// Writes how an alert stands, where nothing changed it since it was read; silences are left as they are.
    pub async fn write_alert(&self, row: &AlertRow) -> Result<bool> {
        let time = |at: Option<Timestamp>| at.map(Timestamp::as_micros);
        if row.version == 0 {
            let done = sqlx::query!(
                "INSERT IGNORE INTO alert (name, definition, checked, holds_since, calm_since, began, announced, measures, fault, version)
                 VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, 1)",
                row.name,
                row.definition,
                row.checked.as_micros(),
                time(row.holds_since),
                time(row.calm_since),
                time(row.began),
                time(row.announced),
                row.measures,
                row.fault
            )
            .execute(&self.pool)
            .await
            .doing("writing an alert")?;
            return Ok(done.rows_affected() == 1);
        }
        let done = sqlx::query!(
            "UPDATE alert SET definition = ?, checked = ?, holds_since = ?, calm_since = ?, began = ?, announced = ?, measures = ?, fault = ?,
                    version = version + 1
             WHERE name = ? AND version = ?",
            row.definition,
            row.checked.as_micros(),
            time(row.holds_since),
            time(row.calm_since),
            time(row.began),
            time(row.announced),
            row.measures,
            row.fault,
            row.name,
            row.version
        )
        .execute(&self.pool)
        .await
        .doing("writing an alert")?;
        Ok(done.rows_affected() == 1)
    }

    /// Notes that an alert began, was announced or ended; a repetition changes nothing but the number of notices.
    pub async fn note_alert(&self, span: &AlertSpan) -> Result<()> {
        sqlx::query!(
            "INSERT INTO alert_span (alert, began, ended, measures, notices) VALUES (?, ?, ?, ?, ?)
             ON DUPLICATE KEY UPDATE ended = VALUES(ended), notices = notices + VALUES(notices)",
            span.alert,
            span.began.as_micros(),
            span.ended.map(Timestamp::as_micros),
            span.measures,
            span.notices
        )
        .execute(&self.pool)
        .await
        .map(|_| ())
        .doing("noting an alert")
    }

    /// When alerts lasted, the newest first; of one alert or of all.
    pub async fn alert_spans(&self, alert: Option<&str>, limit: u32) -> Result<Vec<AlertSpan>> {
        let rows = sqlx::query!(
            "SELECT alert, began, ended, measures, notices FROM alert_span WHERE (? IS NULL OR alert = ?) ORDER BY began DESC, alert LIMIT ?",
            alert,
            alert,
            limit
        )
        .fetch_all(&self.pool)
        .await
        .doing("reading when alerts lasted")?;
        Ok(rows
            .into_iter()
            .map(|row| AlertSpan {
                alert: row.alert,
                began: Timestamp::from_micros(row.began),
                ended: row.ended.map(Timestamp::from_micros),
                measures: row.measures,
                notices: row.notices,
            })
            .collect())
    }

    /// Silences an alert, or ends its silence; false where it was never stepped.
    pub async fn silence_alert(&self, name: &str, silence: Option<&Silence>) -> Result<bool> {
        let done = sqlx::query!(
            "UPDATE alert SET silenced_until = ?, silenced_by = ?, silence_reason = ?, version = version + 1 WHERE name = ?",
            silence.map(|silence| silence.until.as_micros()),
            silence.map(|silence| &silence.by),
            silence.map(|silence| &silence.reason),
            name
        )
        .execute(&self.pool)
        .await
        .doing("silencing an alert")?;
        Ok(done.rows_affected() == 1)
    }

    /// Deletes alerts that are not live any more, and times that ended before an instant, at most 5,000; returns how many.
    pub async fn purge_alerts(&self, live: &[&str], before: Timestamp) -> Result<u64> {
        let done = sqlx::query!("DELETE FROM alert_span WHERE ended < ? LIMIT 5000", before.as_micros())
            .execute(&self.pool)
            .await
            .doing("deleting old alerts")?;
        let mut query: QueryBuilder<MySql> = QueryBuilder::new("DELETE FROM alert WHERE name NOT IN ('' ");
        for name in live {
            query.push(", ").push_bind(*name);
        }
        query.push(") AND checked < ").push_bind(before.as_micros()).push(" LIMIT 5000");
        let gone = query.build().execute(&self.pool).await.doing("deleting old alerts")?;
        Ok(done.rows_affected() + gone.rows_affected())
    }

    /// The last minute with a run of a workflow that succeeded, by its names, since one.
    pub async fn last_success(&self, names: &[Called], since_minute: i64) -> Result<Option<i64>> {
        let mut last = None;
        for called in names {
            let (from, until) = called.minutes();
            let found = sqlx::query_scalar!(
                "SELECT MAX(minute) FROM tally WHERE workflow = ? AND minute BETWEEN ? AND ? AND runs > rejected + failed",
                called.name,
                from.max(since_minute),
                until
            )
            .fetch_one(&self.pool)
            .await
            .doing("reading the last success")?;
            last = last.max(found);
        }
        Ok(last)
    }

    /// Requests to a workflow that were refused for their key, token or proof since an instant.
    pub async fn denied(&self, workflow: &str, since: Timestamp) -> Result<u64> {
        sqlx::query_scalar!(
            "SELECT CAST(COUNT(*) AS UNSIGNED) AS `count!: u64` FROM refusal WHERE workflow = ? AND status IN (401, 403) AND at >= ?",
            workflow,
            since.as_micros()
        )
        .fetch_one(&self.pool)
        .await
        .doing("counting refusals")
    }

    /// What became of the instants of a workflow's timetables that were due since an instant.
    pub async fn instants(&self, workflow: &str, since: Timestamp) -> Result<Instants> {
        let rows = sqlx::query!(
            "SELECT f.result, CAST(COUNT(*) AS UNSIGNED) AS `count!: u64`, CAST(COALESCE(SUM(j.phase = ?), 0) AS UNSIGNED) AS `failed!: u64`
             FROM firing f LEFT JOIN job j ON j.id = f.job WHERE f.workflow = ? AND f.due >= ? GROUP BY f.result",
            FAILED,
            workflow,
            since.as_micros()
        )
        .fetch_all(&self.pool)
        .await
        .doing("reading firings")?;
        let mut all = Instants::default();
        for row in rows {
            match row.result.as_str() {
                "missed" => all.missed += row.count,
                "skipped" => all.skipped += row.count,
                "refused" => all.refused += row.count,
                _ => all.queued += row.count,
            }
            all.failed += row.failed;
        }
        Ok(all)
    }

    /// Callers of an allowance in a period, and the most that one of them has used.
    pub async fn most_used(&self, allowance: &str, period: Timestamp) -> Result<(u64, u64)> {
        let row = sqlx::query!(
            "SELECT CAST(COUNT(*) AS UNSIGNED) AS `callers!: u64`, CAST(COALESCE(MAX(used), 0) AS UNSIGNED) AS `most!: u64` FROM meter WHERE allowance = ? AND period = ?",
            allowance,
            period.as_micros()
        )
        .fetch_one(&self.pool)
        .await
        .doing("reading what callers used")?;
        Ok((row.callers, row.most))
    }
}
