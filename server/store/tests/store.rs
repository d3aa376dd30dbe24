//! The store against a real MariaDB.

use kanzlei_harness::mariadb::Mariadb;
use kanzlei_model::run::RunState;
use kanzlei_model::time::{Span, Timestamp};
use kanzlei_store::Store;
use kanzlei_store::documents::NewDocument;
use kanzlei_store::journal::{Filter, Run, Step, Tally};
use kanzlei_store::outside::{Outside, Refused, Statement};
use uuid::Uuid;

fn time(micros: i64) -> Timestamp {
    Timestamp::from_micros(micros)
}

fn document(name: &str, source: &str) -> NewDocument {
    NewDocument {
        kind: "workflow".into(),
        name: name.into(),
        path: "a.yaml".into(),
        source: source.into(),
        file: None,
        digest: format!("{source:0>64}"),
    }
}

fn run(workflow: &str, state: &str, started: i64) -> Run {
    let step = Step {
        paragraph: 0,
        state: "succeeded".into(),
        started: time(started),
        duration: Span::from_micros(5),
        attempts: 2,
        earlier_attempts: Some("503".into()),
        sent: None,
        outcome: Some("{\"å\":1}".into()),
        failure: None,
        number: Some("2.1".into()),
        kind: Some("call".into()),
        title: Some("registry.getVessel".into()),
        items: None,
    };
    Run {
        id: Uuid::new_v7(uuid::Timestamp::from_unix(uuid::NoContext, (started / 1_000_000) as u64, 0)),
        workflow: workflow.into(),
        revision: 1,
        state: state.into(),
        entry: "GET /x".into(),
        status: Some(200),
        started: time(started),
        duration: Span::from_micros(10),
        request_id: "r".into(),
        trace_id: "0".repeat(32),
        caller: None,
        input: "{}".into(),
        kept: Some(r#"{"last":3}"#.into()),
        reply: Some("\"😀\"".into()),
        failure: None,
        process: Some("p".into()),
        steps: vec![step; 3],
    }
}

#[test]
fn records_are_kept() {
    let dir = kanzlei_harness::scratch::folder("store");
    let mut server = Mariadb::start(&dir).expect("MariaDB starts");
    let url = server.fresh("kanzlei_store").expect("database");
    let runtime = tokio::runtime::Runtime::new().expect("runtime");
    runtime.block_on(async {
        let store = Store::open(&url, 4).await.expect("opens");
        deploys(&store).await;
        journal(&store).await;
        access(&store).await;
        kept(&store).await;
        outside(&server.url("kanzlei_store")).await;
        // What is kept survives a restart of the server, and an open store continues.
        server.stop();
        assert!(store.live().await.expect_err("away").is_unreachable());
        server.run().expect("starts again");
        assert_eq!(store.live().await.expect("live").len(), 2);
        Store::open(&url, 1).await.expect("opens again without migrating twice");
    });
    drop(server);
    let _ = std::fs::remove_dir_all(dir);
}

async fn deploys(store: &Store) {
    let first = store.deploy(&[document("a", "1"), document("b", "1")], time(10)).await.expect("deploys");
    assert_eq!(first.iter().map(|d| (d.number, d.unchanged)).collect::<Vec<_>>(), [(1, false), (1, false)]);
    let second = store.deploy(&[document("a", "2"), document("b", "1")], time(20)).await.expect("deploys");
    assert_eq!(second.iter().map(|d| (d.number, d.unchanged)).collect::<Vec<_>>(), [(2, false), (1, true)]);
    assert!(store.retire("workflow", "a").await.expect("retires"));
    assert!(!store.retire("workflow", "a").await.expect("is off already"));
    let third = store.deploy(&[document("a", "2")], time(30)).await.expect("deploys");
    assert_eq!(third[0].number, 3, "revisions are never reused");
    let live = store.live().await.expect("live");
    assert_eq!(live.iter().map(|d| (d.name.as_str(), d.number)).collect::<Vec<_>>(), [("a", 3), ("b", 1)]);
    let revisions = store.revisions("workflow", "a").await.expect("revisions");
    assert_eq!(revisions.iter().map(|r| (r.number, r.live)).collect::<Vec<_>>(), [(3, true), (2, false), (1, false)]);
    assert_eq!(store.source("workflow", "a", 1).await.expect("source").expect("there").0, "1");

    // All or none: the second document cannot be saved, so the first is not live either.
    let too_long = document(&"x".repeat(100), "1");
    assert!(store.deploy(&[document("c", "1"), too_long], time(40)).await.is_err());
    assert_eq!(store.live().await.expect("live").len(), 2);

    // Deploys at once come one after another.
    let each = (0..8).map(|i| {
        let store = store.clone();
        tokio::spawn(async move {
            store.deploy(&[document("b", &format!("n{i}"))], time(50 + i)).await.map(|d| d[0].number)
        })
    });
    let mut numbers = Vec::new();
    for deploy in each.collect::<Vec<_>>() {
        numbers.push(deploy.await.expect("ends").expect("deploys"));
    }
    numbers.sort_unstable();
    assert_eq!(numbers, (2..=9).collect::<Vec<_>>());
    store.retire("workflow", "b").await.expect("retires");
    store.deploy(&[document("b", "1")], time(60)).await.expect("deploys");
}

async fn journal(store: &Store) {
    let runs: Vec<Run> = (0..450)
        .map(|i| {
            run(
                if i % 2 == 0 { "a" } else { "b" },
                if i % 10 == 0 { "failed" } else { "succeeded" },
                (i + 1) * 1_000_000,
            )
        })
        .collect();
    store.write_runs(&runs).await.expect("writes");
    store.write_runs(&runs[..10]).await.expect("the same batch again changes nothing");
    let newest = store.runs(&Filter { limit: 3, ..Filter::default() }).await.expect("lists");
    assert_eq!(newest.iter().map(|r| r.id).collect::<Vec<_>>(), [runs[449].id, runs[448].id, runs[447].id]);
    let filter = Filter {
        workflow: Some("a".into()),
        state: Some(RunState::Failed),
        before: Some(runs[100].id),
        limit: 100,
        ..Filter::default()
    };
    assert_eq!(store.runs(&filter).await.expect("lists").len(), 10);
    assert_eq!(store.run(runs[7].id).await.expect("reads").as_ref(), Some(&runs[7]));
    assert_eq!(store.run(Uuid::nil()).await.expect("reads"), None);
    let tally =
        |runs, failed| Tally { workflow: "a".into(), minute: 5, runs, rejected: 1, failed, dropped: 1, duration: 100 };
    store.add_tallies(&[tally(10, 1)]).await.expect("counts");
    store.add_tallies(&[tally(5, 2)]).await.expect("counts");
    let summary = store.summaries(0).await.expect("sums");
    assert_eq!(
        (summary[0].runs, summary[0].rejected, summary[0].failed, summary[0].dropped, summary[0].duration),
        (15, 2, 3, 2, 200)
    );
    assert_eq!(store.summaries(6).await.expect("sums"), []);
    assert_eq!(store.purge_runs(time(101_000_000), 60).await.expect("purges"), 60);
    assert_eq!(store.purge_runs(time(101_000_000), 60).await.expect("purges"), 40);
    assert_eq!(store.run(runs[50].id).await.expect("reads"), None);
}

async fn access(store: &Store) {
    store.add_token("h1", "kzo_1234", time(1)).await.expect("adds");
    assert_eq!(store.token_hashes().await.expect("reads"), ["h1"]);
    store.add_session("s1", time(10), time(20)).await.expect("adds");
    assert!(store.has_session("s1", time(15)).await.expect("reads"));
    assert!(!store.has_session("s1", time(20)).await.expect("reads"), "it has ended");
    store.end_session("s1").await.expect("ends");
    assert!(!store.has_session("s1", time(15)).await.expect("reads"));
}

async fn kept(store: &Store) {
    assert_eq!(store.kept("w").await.expect("kept").version, 0);
    assert!(store.keep("w", 0, r#"{"a":1}"#, time(1)).await.expect("kept"));
    // Who does not know the version keeps nothing.
    for version in [0, 7] {
        assert!(!store.keep("w", version, r#"{"a":2}"#, time(2)).await.expect("asked"), "version {version}");
    }
    assert!(store.keep("w", 1, r#"{"a":3}"#, time(3)).await.expect("kept"));
    let now = store.kept("w").await.expect("kept");
    assert_eq!((now.version, now.value.as_str()), (2, r#"{"a":3}"#));
    store.set_secret("s", &[1; 24], b"sealed", time(5)).await.expect("set");
    store.set_secret("s", &[2; 24], b"again", time(6)).await.expect("set");
    let secrets = store.secrets().await.expect("secrets");
    assert_eq!((secrets.len(), secrets[0].sealed.as_slice(), secrets[0].created), (1, b"again".as_slice(), time(5)));
    assert!(store.remove_secret("s").await.expect("removed") && !store.remove_secret("s").await.expect("asked"));
}

/// Statements of builders: values stay values, columns become JSON of their type, refusals are distinguished.
async fn outside(url: &str) {
    let database = Outside::connect(url, 2).expect("pool");
    let within = std::time::Duration::from_secs(10);
    let statement = |text: &str, values: &[serde_json::Value]| Statement { text: text.into(), values: values.into() };
    let one = async |text: &str, values: &[serde_json::Value]| {
        database.run(&[statement(text, values)], false, within).await.map(|mut all| all.remove(0))
    };
    one("CREATE TABLE t (id INT AUTO_INCREMENT PRIMARY KEY, b BOOLEAN, n BIGINT, u BIGINT UNSIGNED, d DECIMAL(8,2), f FLOAT, g DOUBLE, t VARCHAR(40) UNIQUE, at DATETIME(3), day DATE, clock TIME, j JSON, y BLOB)", &[])
        .await
        .expect("table");
    let values = [
        true.into(),
        (-5).into(),
        7.into(),
        "12.50".into(),
        1.1.into(),
        0.25.into(),
        "'; DROP TABLE t; --".into(),
        "2027-03-04 06:07:08.250".into(),
        "2027-03-04".into(),
        "-01:30:00".into(),
        r#"{"k":[1]}"#.into(),
        "x".into(),
    ];
    let insert = "INSERT INTO t (b,n,u,d,f,g,t,at,day,clock,j,y) VALUES (?,?,?,?,?,?,?,?,?,?,?,?)";
    let given = one(insert, &values).await.expect("inserted");
    assert_eq!((given.count, given.id, given.rows.len()), (1, Some(1), 0));
    let given = one("SELECT *, NULL AS nothing FROM t WHERE id = ?", &[1.into()]).await.expect("rows");
    assert_eq!(
        given.rows[0].to_string(),
        r#"{"id":1,"b":true,"n":-5,"u":7,"d":12.5,"f":1.1,"g":0.25,"t":"'; DROP TABLE t; --","at":"2027-03-04T06:07:08.25Z","day":"2027-03-04","clock":"-01:30:00","j":"{\"k\":[1]}","y":"x","nothing":null}"#
    );
    assert_eq!((given.count, given.id), (1, None));
    assert!(matches!(one(insert, &values).await, Err(Refused::Duplicate(_))));
    assert!(matches!(one("SELEC 1", &[]).await, Err(Refused::Sql(_))));
    let slow = database.run(&[statement("SELECT SLEEP(5)", &[])], false, std::time::Duration::from_millis(50)).await;
    assert_eq!(slow, Err(Refused::Timeout));
    // What took too long is ended: the only connection of a pool is free again at once.
    let single = Outside::connect(url, 1).expect("pool");
    let quick = std::time::Duration::from_secs(2);
    let hold = [statement("SELECT SLEEP(60)", &[])];
    assert_eq!(single.run(&hold, false, std::time::Duration::from_millis(50)).await, Err(Refused::Timeout));
    assert_eq!(single.run(&hold, true, std::time::Duration::from_millis(50)).await, Err(Refused::Timeout));
    let after = single.run(&[statement("SELECT 1 AS one", &[])], false, quick).await.expect("free");
    assert_eq!(after[0].rows[0]["one"], 1);
    // All or none.
    let both = [statement("DELETE FROM t", &[]), statement("INSERT INTO nowhere VALUES (1)", &[])];
    assert!(database.run(&both, true, within).await.is_err());
    assert_eq!(one("SELECT COUNT(*) AS n FROM t", &[]).await.expect("count").rows[0]["n"], 1);
    let columns = database.describe("SELECT id, t, NULL AS x FROM t WHERE t = ?").await.expect("described");
    let shown: Vec<_> = columns.iter().map(|c| (c.name.as_str(), c.type_name.as_str(), c.nullable)).collect();
    assert_eq!(shown[..2], [("id", "INT", false), ("t", "VARBINARY", true)]);
    assert!(
        matches!(database.describe("SELECT nowhere FROM t").await, Err(Refused::Sql(why)) if why.contains("nowhere"))
    );
    let away = Outside::connect("mysql://k:k@127.0.0.1:1/d", 1).expect("pool");
    assert!(matches!(away.describe("SELECT 1").await, Err(Refused::Away(_))));
}
