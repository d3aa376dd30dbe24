//! Values that a process keeps: tokens, sessions, values of workflows, secrets.

use kanzlei_model::role::Role;
use kanzlei_store::Store;
use kanzlei_store::access::{Session, Token};

use super::{time, with};

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

/// A token of somebody, made at a time.
fn token(hash: &str, name: &str, at: i64, expires: Option<i64>) -> Token {
    Token {
        hash: hash.into(),
        name: name.into(),
        prefix: hash[..2].into(),
        created: time(at),
        expires: expires.map(time),
        used: None,
        role: Role::Author,
    }
}

async fn begin(store: &Store, hash: &str, token: &str, at: i64, expires: i64) {
    let session = Session {
        hash: hash.into(),
        token: Some(token.into()),
        name: "berit".into(),
        role: Role::Viewer,
        address: None,
        agent: "a browser".into(),
        created: time(at),
        expires: time(expires),
    };
    store.add_session(&session).await.expect("adds");
}

#[test]
fn a_session_ends_at_its_time_by_hand_and_with_its_token() {
    with("sessions", async |bed| {
        let store = &bed.store;
        let whose = async |hash: &str, at: i64| {
            let found = store.sessions(Some(hash), time(at)).await.expect("reads");
            found.first().map(|session| (session.name.clone(), session.role))
        };
        store.add_token(&token("h1", "berit", 1, Some(40))).await.expect("adds");
        for session in ["s1", "s2"] {
            begin(store, session, "h1", 10, 20).await;
        }
        assert_eq!(whose("s1", 15).await, Some(("berit".into(), Role::Author)), "the role is that of its token");
        assert_eq!(whose("s1", 20).await, None, "it has ended");
        store.end_session("s1").await.expect("ends");
        assert_eq!((whose("s1", 15).await, whose("s2", 15).await.is_some()), (None, true));
        begin(store, "s3", "h1", 10, 50).await;
        assert_eq!((whose("s3", 39).await.is_some(), whose("s3", 40).await), (true, None), "its token has expired");
        assert!(store.replace_token(&token("h2", "berit", 16, None)).await.expect("replaces"));
        assert_eq!((whose("s2", 15).await, whose("s3", 15).await), (None, None), "the new token began neither");
        begin(store, "s4", "h2", 16, 50).await;
        assert!(store.remove_token("berit").await.expect("removes"));
        assert_eq!(whose("s4", 17).await, None);
    });
}

#[test]
fn tokens_have_names_and_are_kept_as_hashes() {
    with("tokens", async |bed| {
        let store = &bed.store;
        for (hash, name, added) in [("h1", "berit", true), ("h2", "anders", true), ("h3", "berit", false)] {
            assert_eq!(store.add_token(&token(hash, name, 1, None)).await.expect("adds"), added, "{name}");
        }
        store.token_used("h2", time(7)).await.expect("used");
        let tokens = store.tokens().await.expect("reads");
        let shown: Vec<_> = tokens.iter().map(|t| (t.name.as_str(), t.hash.as_str(), t.used)).collect();
        assert_eq!(shown, [("anders", "h2", Some(time(7))), ("berit", "h1", None)]);
        assert!(!store.replace_token(&token("h9", "nobody", 1, None)).await.expect("asked"));
        assert!(
            store.remove_token("berit").await.expect("removes") && !store.remove_token("berit").await.expect("asked")
        );
    });
}
