//! Has the compiler ask a fresh database about every query, and keeps the answers in `.sqlx/`.

use std::process::ExitCode;

use kanzlei_harness::mariadb::Mariadb;
use kanzlei_harness::packages;

use crate::{Done, root, run};

pub fn prepare() -> Done {
    packages::install(&[packages::MARIADB])?;
    let dir = kanzlei_harness::scratch::folder("sqlx");
    let server = Mariadb::start(&dir)?;
    let url = server.fresh("kanzlei_sqlx")?;
    let store = root().join("server/store");
    let mut migrations: Vec<_> =
        std::fs::read_dir(store.join("migrations"))?.filter_map(Result::ok).map(|e| e.path()).collect();
    migrations.sort();
    for migration in &migrations {
        server.sql("kanzlei_sqlx", &std::fs::read_to_string(migration)?)?;
    }
    let answers = root().join(".sqlx");
    let _ = std::fs::remove_dir_all(&answers);
    std::fs::create_dir_all(&answers)?;
    // The macros run again only when the crate is compiled again.
    let library = store.join("src/lib.rs");
    std::fs::File::options().append(true).open(&library)?.set_modified(std::time::SystemTime::now())?;
    let done = run(kanzlei_harness::process::cargo()
        .args(["check", "--package", "kanzlei-store"])
        .env("DATABASE_URL", url)
        .env("SQLX_OFFLINE", "false")
        .env("SQLX_OFFLINE_DIR", &answers));
    drop(server);
    let _ = std::fs::remove_dir_all(&dir);
    done?;
    eprintln!("{} queries in .sqlx/", std::fs::read_dir(&answers)?.count());
    Ok(ExitCode::SUCCESS)
}
