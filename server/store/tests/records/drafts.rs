//! Drafts, and deploys of them.

use kanzlei_store::documents::{Deploy, NewDocument};
use kanzlei_store::drafts::Draft;

use super::{time, with};

fn draft(version: u64, source: &str) -> Draft {
    Draft {
        kind: "workflow".into(),
        name: "a".into(),
        version,
        base: None,
        path: "a.yaml".into(),
        source: source.into(),
        file: None,
        changed: time(10),
        operator: "berit".into(),
    }
}

#[test]
fn a_draft_is_saved_over_the_version_that_was_read() {
    with("drafts", async |bed| {
        let store = &bed.store;
        for (version, source, saved) in [
            (1, "one", true),
            (1, "another first", false),
            (2, "two", true),
            (2, "too late", false),
            (9, "ahead", false),
        ] {
            assert_eq!(store.save_draft(&draft(version, source)).await.expect("saves"), saved, "{version} {source}");
        }
        let kept = store.draft("workflow", "a").await.expect("reads").expect("a draft");
        assert_eq!((kept.version, kept.source.as_str(), kept.operator.as_str()), (2, "two", "berit"));
        assert_eq!(store.drafts_behind("", "").await.expect("lists"), [kept]);
        for (version, discarded) in [(Some(1), false), (Some(2), true), (None, false)] {
            assert_eq!(
                store.discard_draft("workflow", "a", version).await.expect("discards"),
                discarded,
                "{version:?}"
            );
        }
    });
}

#[test]
fn a_deploy_takes_drafts_with_it_or_none() {
    with("draft_deploys", async |bed| {
        let store = &bed.store;
        assert!(store.save_draft(&draft(1, "one")).await.expect("saves"));
        let documents = [NewDocument {
            kind: "workflow".into(),
            name: "a".into(),
            path: "a.yaml".into(),
            source: "one".into(),
            file: None,
            digest: format!("{:0>64}", 1),
        }];
        for (version, deploys) in [(2, false), (1, true)] {
            let drafts = [("workflow".to_owned(), "a".to_owned(), version)];
            let deploy = Deploy {
                documents: &documents,
                drafts: &drafts,
                gradual: None,
                rename: None,
                operator: "berit",
                now: time(20),
            };
            assert_eq!(store.deploy(&deploy).await.is_ok(), deploys, "version {version}");
            assert_eq!(store.live().await.expect("live").len(), usize::from(deploys), "version {version}");
        }
        assert_eq!(store.drafts_behind("", "").await.expect("lists"), []);
        assert_eq!(store.revisions("workflow", "a").await.expect("revisions")[0].operator, "berit");
    });
}
