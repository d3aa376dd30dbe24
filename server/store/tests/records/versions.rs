//! Records of a later version: used as they are, unless that version says that this one cannot.

use kanzlei_store::{Error, Store};

use super::with;

#[test]
fn records_of_a_later_version_are_used_where_they_may_be() {
    with("versions", async |bed| {
        let own: i64 = bed.sql("SELECT MAX(version) FROM _sqlx_migrations").parse().expect("a number");
        // A later version has added something.
        bed.sql(&format!(
            "INSERT INTO _sqlx_migrations (version, description, success, checksum, execution_time) VALUES ({}, 'later', 1, '', 0)",
            own + 1
        ));
        for (least, opens) in [(1, true), (own, true), (own + 1, false)] {
            bed.sql(&format!("UPDATE installation SET least = {least}"));
            match (Store::open(&bed.url, 1).await, opens) {
                (Ok(store), true) => {
                    assert_eq!(store.generation().await.expect("answers"), 0);
                    store.close().await;
                }
                (Err(Error::LaterVersion(named)), false) => assert_eq!(named, own + 1),
                (other, _) => panic!("{least}: {:?}", other.map(|_| ())),
            }
        }
    });
}
