//! Values that a process keeps: tokens, sessions, values of workflows, secrets.

use super::{time, with};

#[test]
fn a_session_ends_at_its_time_or_by_hand() {
    with("sessions", async |bed| {
        let store = &bed.store;
        store.add_session("s1", time(10), time(20)).await.expect("adds");
        assert!(store.has_session("s1", time(15)).await.expect("reads"));
        assert!(!store.has_session("s1", time(20)).await.expect("reads"), "it has ended");
        store.end_session("s1").await.expect("ends");
        assert!(!store.has_session("s1", time(15)).await.expect("reads"));
    });
}

#[test]
fn a_value_is_kept_only_by_who_knows_its_version() {
    with("kept", async |bed| {
        let store = &bed.store;
        assert_eq!(store.kept("w").await.expect("kept").version, 0);
        assert!(store.keep("w", 0, r#"{"a":1}"#, time(1)).await.expect("kept"));
        for version in [0, 7] {
            assert!(!store.keep("w", version, r#"{"a":2}"#, time(2)).await.expect("asked"), "version {version}");
        }
        assert!(store.keep("w", 1, r#"{"a":3}"#, time(3)).await.expect("kept"));
        let now = store.kept("w").await.expect("kept");
        assert_eq!((now.version, now.value.as_str()), (2, r#"{"a":3}"#));
    });
}

#[test]
fn a_secret_keeps_when_it_was_created() {
    with("secrets", async |bed| {
        let store = &bed.store;
        store.set_secret("s", &[1; 24], b"sealed", "signing", time(5)).await.expect("set");
        store.set_secret("s", &[2; 24], b"again", "https://h", time(6)).await.expect("set");
        let secrets = store.secrets().await.expect("secrets");
        assert_eq!(
            (secrets.len(), secrets[0].sealed.as_slice(), secrets[0].purposes.as_str(), secrets[0].created),
            (1, b"again".as_slice(), "https://h", time(5))
        );
        assert!(store.remove_secret("s").await.expect("removed") && !store.remove_secret("s").await.expect("asked"));
        assert_eq!(store.key_print().await.expect("asked"), None);
        for (print, replace, wanted) in [([1; 32], false, [1; 32]), ([2; 32], false, [1; 32]), ([3; 32], true, [3; 32])]
        {
            store.set_key_print(&print, replace).await.expect("recorded");
            assert_eq!(store.key_print().await.expect("asked"), Some(wanted.to_vec()));
        }
    });
}

#[test]
fn tokens_are_kept_as_hashes() {
    with("tokens", async |bed| {
        for (hash, shown) in [("h1", "kzo_1234"), ("h2", "kzo_5678")] {
            bed.store.add_token(hash, shown, time(1)).await.expect("adds");
        }
        let mut hashes = bed.store.token_hashes().await.expect("reads");
        hashes.sort();
        assert_eq!(hashes, ["h1", "h2"]);
    });
}
