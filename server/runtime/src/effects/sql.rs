//! Statements of `sql` steps, sent to the databases that the configuration names.

use std::sync::Arc;
use std::time::Duration;

use kanzlei_engine::machine::{EffectError, EffectId, FileInto, FileRows, Load, Query, Rows, Sql};
use kanzlei_engine::rows::Row;
use kanzlei_model::run::FailureKind;
use kanzlei_model::value::Value;
use kanzlei_rehearsal::shelf::unreadable;
use kanzlei_store::databases::load::{Chunk, Load as Loading, Loaded, TOGETHER, VALUES};
use kanzlei_store::databases::once::{Marker, Sealing};
use kanzlei_store::databases::{Refused, Statement, StatementResult, Work};
use sha2::{Digest, Sha256};
use tokio::sync::mpsc;
use tokio_util::task::AbortOnDropHandle;

use super::{Context, Effects};
use crate::files::{self, Holder};
use crate::secrets::Secrets;

/// The mark of an installation, by its secret bytes.
pub fn mark_of(installation: &[u8]) -> [u8; 16] {
    let digest = Sha256::new().chain_update("markers").chain_update(installation).finalize();
    let mut mark = [0; 16];
    mark.copy_from_slice(&digest[..16]);
    mark
}

/// Results of statements as they lie beside their markers.
struct Sealed {
    secrets: Arc<Secrets>,
    confidential: bool,
}

impl Sealing for Sealed {
    fn seal(&self, text: String) -> Option<String> {
        self.secrets.guard(text, self.confidential)
    }

    fn open(&self, text: &str) -> Option<String> {
        self.secrets.unguard(text)
    }
}

impl Effects {
    /// Sends the statements of a step; those of a job are performed once.
    pub(super) async fn query(
        &self,
        run: &Context,
        id: EffectId,
        query: &Query,
        left: Duration,
    ) -> Result<Vec<Rows>, EffectError> {
        let not_sent = |detail| Err(EffectError { kind: FailureKind::Sql, detail });
        let Some(outside) = self.databases.get(&query.database) else {
            return not_sent(format!("the service knows no database `{}`", query.database));
        };
        // The settings may allow less than they did when the workflow was deployed.
        if let Some(refused) = query.needs.refused_by(&query.database, &outside.allowed) {
            return not_sent(refused.message);
        }
        let statements = statements(query);
        let load = query.load.as_ref().map(|load| self.rows_for(run, query, load));
        let within = query.within.min(left);
        let (database, transaction) = (outside.database.clone(), query.transaction);
        let apart = query.needs.own_connection();
        // Only jobs ask again.
        let marker = (query.once && run.job).then_some(Marker {
            installation: self.installation,
            job: run.id,
            attempt: run.attempt,
            effect: id,
        });
        let sealed = Sealed { secrets: self.secrets.clone(), confidential: run.confidential };
        let work = self.runtime.spawn(async move {
            let work = load.as_ref().map_or(Work::Statements(&statements), Work::Load);
            match marker {
                Some(marker) => database.run_once(&marker, work, within, &sealed).await,
                None if apart => database.run_apart(work, transaction, within).await,
                None => database.run(work, transaction, within).await,
            }
        });
        self.given(&query.database, AbortOnDropHandle::new(work).await)
    }
}

impl Effects {
    /// Rows that a statement is performed for, read again as often as they are asked for.
    fn rows_for(&self, run: &Context, query: &Query, load: &Load) -> Loading {
        let (holder, load) = (run.files.clone(), load.clone());
        let what = match &load.rows {
            FileRows::Read(..) => "line",
            FileRows::List(_) => "row",
        };
        let text = query.statements.first().map_or_else(String::new, |sql| sql.text.clone());
        let (tuple, runtime) = (load.tuple.clone(), self.runtime.clone());
        let open = move || {
            let (sender, receiver) = mpsc::channel(CHUNKS);
            let _within = runtime.enter();
            let rows = rows_of(&holder, &load.rows);
            let load = load.clone();
            tokio::task::spawn_blocking(move || chunks(rows, &load, &sender));
            receiver
        };
        Loading { text, tuple, what, open: Box::new(open) }
    }

    /// Writes the rows of a query into a file as they come.
    pub(super) async fn query_into(
        &self,
        run: &Context,
        query: &Query,
        into: &FileInto,
        left: Duration,
    ) -> Result<Value, EffectError> {
        let not_sent = |detail| Err(EffectError { kind: FailureKind::Sql, detail });
        let Some(outside) = self.databases.get(&query.database) else {
            return not_sent(format!("the service knows no database `{}`", query.database));
        };
        if let Some(refused) = query.needs.refused_by(&query.database, &outside.allowed) {
            return not_sent(refused.message);
        }
        let Some(statement) = statements(query).pop() else { return not_sent("there is no statement".to_owned()) };
        let (database, within) = (outside.database.clone(), query.within.min(left));
        let (sender, mut receiver) = mpsc::channel::<Vec<serde_json::Value>>(CHUNKS);
        let asked =
            AbortOnDropHandle::new(self.runtime.spawn(async move { database.pass(&statement, within, sender).await }));
        let rows = std::iter::from_fn(move || receiver.blocking_recv())
            .flatten()
            .map(|row| Ok::<_, kanzlei_engine::rows::Fault>(Value::from_json(&row)));
        let bytes = files::rows::send(rows, &into.writing).await.map_err(unreadable)?;
        let kept = super::files::written(&run.files, bytes, &into.name, into.writing.format.media()).await;
        // A query that failed ends the rows early: the file is not whole then.
        match asked.await {
            Ok(Ok(())) => kept,
            Ok(Err(refused)) => {
                let (kind, detail) = refused.reported();
                Err(EffectError { kind, detail: format!("{}: {detail}", query.database) })
            }
            Err(error) => {
                let detail = format!("{}: the statement was interrupted ({error})", query.database);
                Err(EffectError { kind: FailureKind::Database, detail })
            }
        }
    }

    /// Sends statements that read, in a transaction that can do nothing else.
    pub(crate) async fn read(&self, query: &Query, left: Duration) -> Result<Vec<Rows>, EffectError> {
        let Some(outside) = self.databases.get(&query.database) else {
            let detail = format!("the service knows no database `{}`", query.database);
            return Err(EffectError { kind: FailureKind::Sql, detail });
        };
        let statements = statements(query);
        let (database, within) = (outside.database.clone(), query.within.min(left));
        let work = self.runtime.spawn(async move { database.read(&statements, within).await });
        self.given(&query.database, AbortOnDropHandle::new(work).await)
    }

    /// What came of statements, as a run sees it.
    fn given(
        &self,
        database: &str,
        done: Result<Result<Vec<StatementResult>, Refused>, tokio::task::JoinError>,
    ) -> Result<Vec<Rows>, EffectError> {
        let given = match done {
            Ok(given) => given,
            Err(error) => {
                let detail = format!("{database}: the statement was interrupted ({error})");
                return Err(EffectError { kind: FailureKind::Database, detail });
            }
        };
        given.map(|all| all.into_iter().map(rows).collect()).map_err(|refused| {
            let (kind, detail) = refused.reported();
            EffectError { kind, detail: format!("{database}: {detail}") }
        })
    }
}

/// Chunks of rows that wait for the database, or for the file.
const CHUNKS: usize = 2;

/// Rows with the numbers of their lines, or their own from 1 on.
type Numbered = Box<dyn Iterator<Item = Result<Row, kanzlei_engine::rows::Fault>> + Send>;

fn rows_of(holder: &Arc<Holder>, rows: &FileRows) -> Numbered {
    match rows {
        FileRows::List(list) => {
            let list = list.clone();
            let row = |(value, line)| Ok(Row { file: None, line, bytes: 0, value });
            Box::new((0..).map_while(move |at| list.as_list()?.get(at).cloned()).zip(1..).map(row))
        }
        FileRows::Read(from, reading) => Box::new(files::rows::rows(holder, from, reading)),
    }
}

/// Sends rows as they are read, as many together as the database is sent at once.
fn chunks(rows: Numbered, load: &Load, sender: &mpsc::Sender<Chunk>) {
    let most = TOGETHER.min(VALUES / load.values.len().max(1)).max(1);
    let (mut some, mut bytes) = (Vec::with_capacity(most), 0);
    for row in rows {
        let row = match row {
            Ok(row) => row,
            Err(why) => {
                let fault = unreadable(why);
                let _ = sender.blocking_send(Err((fault.kind, fault.detail)));
                return;
            }
        };
        let values: Vec<_> = load.of(&row.value).iter().map(Value::to_serde).collect();
        bytes += values.iter().map(|value| value.as_str().map_or(8, str::len)).sum::<usize>();
        some.push(Loaded { file: row.file, line: row.line, values });
        if (some.len() >= most || bytes >= MOST_OF_CHUNK)
            && sender.blocking_send(Ok(std::mem::take(&mut some))).is_err()
        {
            return;
        }
        if some.is_empty() {
            bytes = 0;
        }
    }
    if !some.is_empty() {
        let _ = sender.blocking_send(Ok(some));
    }
}

/// Bytes of values after which a chunk ends.
const MOST_OF_CHUNK: usize = 1 << 20;

fn statements(query: &Query) -> Vec<Statement> {
    let one =
        |sql: &Sql| Statement { text: sql.text.clone(), values: sql.values.iter().map(Value::to_serde).collect() };
    query.statements.iter().map(one).collect()
}

fn rows(given: StatementResult) -> Rows {
    Rows { rows: given.rows.iter().map(Value::from_json).collect(), count: given.count, id: given.id }
}
