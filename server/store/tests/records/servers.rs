//! Records on several servers: whichever answers is used, and the next when it is gone.

use kanzlei_harness::mariadb::Mariadb;
use kanzlei_store::Store;

#[test]
fn the_next_server_is_used_when_one_is_gone() {
    let dir = kanzlei_harness::scratch::folder("servers");
    let mut first = Mariadb::start(&dir.join("first")).expect("MariaDB starts");
    let mut second = Mariadb::start(&dir.join("second")).expect("MariaDB starts");
    let urls = format!("{} {}", first.url("kanzlei"), second.url("kanzlei"));
    let name = |server: &Mariadb| Some(format!("127.0.0.1:{}", server.port()));
    let runtime = tokio::runtime::Runtime::new().expect("runtime");
    runtime.block_on(async {
        // Each holds the records: what a cluster sees to.
        for server in [&first, &second] {
            Store::open(&server.url("kanzlei"), 1).await.expect("opens").close().await;
        }
        // The server that says which one it is.
        let port = async |store: &Store| store.fail_over().await.expect("asked");
        let store = Store::open(&urls, 3).await.expect("opens");
        assert_eq!(port(&store).await, None, "the first is there");
        first.stop();
        assert!(store.generation().await.expect_err("the server is stopped").is_unreachable());
        assert_eq!(port(&store).await, name(&second));
        assert_eq!(port(&store).await, None, "it stays there");
        assert_eq!(store.generation().await.expect("answers"), 0);
        // One that is unavailable when a process starts is passed over.
        let fresh = Store::open(&urls, 3).await.expect("opens at the second");
        assert_eq!(fresh.generation().await.expect("answers"), 0);
        second.stop();
        assert!(store.fail_over().await.expect_err("none answers").is_unreachable());
        assert!(Store::open(&urls, 1).await.expect_err("none answers").is_unreachable());
        first.run().expect("starts again");
        for store in [&store, &fresh] {
            assert_eq!(port(store).await, name(&first));
            assert_eq!(store.generation().await.expect("answers"), 0);
        }
    });
    drop((first, second));
    let _ = std::fs::remove_dir_all(dir);
}
