//! Deploys of documents.

use kanzlei_store::Store;
use kanzlei_store::documents::{Deploy, NewDocument};
use kanzlei_store::gradual::{End, Outcome};

use super::{server, time, with};

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

/// Deploys at a time and returns the revisions with whether each is unchanged.
async fn deploy(store: &Store, documents: &[NewDocument], at: i64) -> Vec<(u32, bool)> {
    let deploy = Deploy { documents, drafts: &[], gradual: None, rename: None, operator: "berit", now: time(at) };
    let deployed = store.deploy(&deploy).await.expect("deploys");
    deployed.iter().map(|document| (document.number, document.unchanged)).collect()
}

async fn live(store: &Store) -> Vec<(String, u32)> {
    store.live().await.expect("live").into_iter().map(|document| (document.name, document.number)).collect()
}

#[test]
fn a_deploy_makes_a_revision_of_what_changed() {
    with("revisions", async |bed| {
        let store = &bed.store;
        assert_eq!(deploy(store, &[document("a", "1"), document("b", "1")], 10).await, [(1, false), (1, false)]);
        assert_eq!(deploy(store, &[document("a", "2"), document("b", "1")], 20).await, [(2, false), (1, true)]);
        assert_eq!(live(store).await, [("a".to_owned(), 2), ("b".to_owned(), 1)]);
        assert_eq!(store.source("workflow", "a", 1).await.expect("source").expect("kept").0, "1");
        assert_eq!(store.source("workflow", "a", 9).await.expect("source"), None);
    });
}

#[test]
fn a_retired_document_is_not_live_and_its_revisions_are_not_reused() {
    with("retired", async |bed| {
        let store = &bed.store;
        deploy(store, &[document("a", "1")], 10).await;
        assert!(store.retire("workflow", "a", "berit", time(30)).await.expect("retires"));
        assert!(!store.retire("workflow", "a", "berit", time(30)).await.expect("is retired already"));
        assert!(!store.retire("service", "a", "berit", time(30)).await.expect("another kind"));
        assert_eq!(live(store).await, []);
        assert_eq!(deploy(store, &[document("a", "1")], 30).await, [(2, false)]);
        let revisions = store.revisions("workflow", "a").await.expect("revisions");
        assert_eq!(revisions.iter().map(|r| (r.number, r.live)).collect::<Vec<_>>(), [(2, true), (1, false)]);
    });
}

#[test]
fn a_gradual_revision_stays_beside_the_live_one_until_it_ends() {
    with("gradual", async |bed| {
        let store = &bed.store;
        let begin = async |text: &str, rules: &str, at: i64| {
            let documents = [document("a", text)];
            let deploy = Deploy {
                documents: &documents,
                drafts: &[],
                gradual: Some(rules),
                rename: None,
                operator: "berit",
                now: time(at),
            };
            store.deploy(&deploy).await.expect("deploys").remove(0).number
        };
        let under_way = async || {
            let all = store.graduals().await.expect("reads");
            all.into_iter().map(|one| (one.number, one.since, one.rules)).collect::<Vec<_>>()
        };
        let end = |outcome, at| End { at: time(at), outcome, by: "berit".into(), reason: "slower".into() };
        let outcome = async || store.gradual("a").await.expect("reads").expect("one").end.map(|end| end.outcome);
        deploy(store, &[document("a", "1")], 10).await;
        let before = store.generation().await.expect("generation");
        assert_eq!(begin("2", "10", 20).await, 2);
        let during = store.generation().await.expect("generation");
        assert_eq!(live(store).await, [("a".to_owned(), 1)]);
        // The same text again: other rules, the same revision since the same time.
        assert_eq!(begin("2", "20", 25).await, 2);
        assert_eq!(under_way().await, [(2, time(20), "20".to_owned())]);
        assert!(store.change_gradual("a", 2, "30").await.expect("changes"));
        assert!(!store.change_gradual("a", 1, "30").await.expect("another revision"));
        assert!(!store.end_gradual("a", 1, &end(Outcome::Finished, 30)).await.expect("another revision"));
        assert!(store.end_gradual("a", 2, &end(Outcome::TakenBack, 30)).await.expect("ends"));
        assert!(!store.end_gradual("a", 2, &end(Outcome::Finished, 31)).await.expect("has ended"));
        assert_eq!((under_way().await.len(), outcome().await), (0, Some(Outcome::TakenBack)));
        // Jobs of that time find the revision that they had.
        for (generation, wanted) in [(before, vec![]), (during, vec![2]), (u64::MAX, vec![])] {
            let found = store.gradual_at(generation).await.expect("reads");
            assert_eq!(found.iter().map(|found| found.number).collect::<Vec<_>>(), wanted, "{generation}");
        }
        assert_eq!(begin("3", "1", 40).await, 3);
        assert!(store.end_gradual("a", 3, &end(Outcome::Finished, 50)).await.expect("raises"));
        assert_eq!(live(store).await, [("a".to_owned(), 3)]);
        // Another text ends it; its own text raises it; a retired workflow has none.
        for (whole, number, wanted) in [("5", 5, Outcome::Replaced), ("6", 6, Outcome::Finished)] {
            begin(if whole == "5" { "4" } else { "6" }, "1", 60).await;
            assert_eq!(deploy(store, &[document("a", whole)], 61).await, [(number, false)]);
            assert_eq!((under_way().await.len(), outcome().await), (0, Some(wanted)));
            assert_eq!(live(store).await, [("a".to_owned(), number)]);
        }
        begin("7", "1", 70).await;
        assert!(store.retire("workflow", "a", "berit", time(71)).await.expect("retires"));
        assert_eq!((under_way().await.len(), outcome().await), (0, Some(Outcome::Replaced)));
    });
}

#[test]
fn a_deploy_that_fails_changes_nothing() {
    with("all_or_none", async |bed| {
        let store = &bed.store;
        deploy(store, &[document("a", "1")], 10).await;
        let generation = store.generation().await.expect("generation");
        let too_long = document(&"x".repeat(100), "1");
        let documents = [document("c", "1"), too_long];
        let both = Deploy {
            documents: &documents,
            drafts: &[],
            gradual: None,
            rename: None,
            operator: "berit",
            now: time(40),
        };
        assert!(store.deploy(&both).await.is_err());
        assert_eq!(live(store).await, [("a".to_owned(), 1)]);
        assert_eq!(store.generation().await.expect("generation"), generation);
    });
}

#[test]
fn concurrent_deploys_follow_each_other() {
    with("concurrent", async |bed| {
        let each = (0..8).map(|i| {
            let store = bed.store.clone();
            tokio::spawn(async move { deploy(&store, &[document("b", &format!("n{i}"))], 50 + i).await })
        });
        let mut numbers = Vec::new();
        for deploying in each.collect::<Vec<_>>() {
            numbers.push(deploying.await.expect("ends")[0].0);
        }
        numbers.sort_unstable();
        assert_eq!(numbers, (1..=8).collect::<Vec<_>>());
    });
}

#[test]
fn records_survive_a_restart_of_the_server() {
    let dir = kanzlei_harness::scratch::folder("restarted");
    let mut own = kanzlei_harness::mariadb::Mariadb::start(&dir).expect("MariaDB starts");
    assert_ne!(own.port(), server().port(), "a server of its own");
    let url = own.fresh("kanzlei_restarted").expect("a database");
    let runtime = tokio::runtime::Runtime::new().expect("runtime");
    runtime.block_on(async {
        let store = Store::open(&url, 4).await.expect("opens");
        deploy(&store, &[document("a", "1")], 10).await;
        own.stop();
        assert!(store.live().await.expect_err("the server is stopped").is_unreachable());
        own.run().expect("starts again");
        assert_eq!(live(&store).await, [("a".to_owned(), 1)], "an open store continues");
        Store::open(&url, 1).await.expect("opens again without migrating twice");
    });
    drop(own);
    let _ = std::fs::remove_dir_all(dir);
}
