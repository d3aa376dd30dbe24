//! What an examination reads of the database: its version and settings, the rights of the user, and how the schema stands.
//! Nothing is written, and nothing is brought up to date.

use std::collections::{BTreeMap, BTreeSet};

use crate::{Doing, Result, Store};

/// What was found.
#[derive(Clone, Debug, Default)]
pub struct Examined {
    /// The version of the server.
    pub version: String,
    /// Settings by name.
    pub settings: BTreeMap<String, String>,
    /// The rights of the user in the schema, as the server names them: `SELECT`, `ALL PRIVILEGES`.
    pub rights: BTreeSet<String>,
    /// How the schema stands.
    pub schema: Schema,
}

/// How the schema stands beside what this version needs.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Schema {
    /// There is none yet; the first start makes it.
    #[default]
    Empty,
    /// It is what this version needs.
    Current,
    /// So many changes are missing; the next start makes them.
    Behind(usize),
    /// It has changes that this version does not know.
    Ahead(usize),
}

impl Store {
    /// Examines the database.
    ///
    /// # Errors
    /// When it does not answer.
    pub async fn examine(&self) -> Result<Examined> {
        let doing = "examining the database";
        // Not through the pool, which would only say that it waited in vain.
        let mut connection = self.servers.connect(&self.pool).await?;
        let version: String = sqlx::query_scalar("SELECT VERSION()").fetch_one(&mut connection).await.doing(doing)?;
        let settings: Vec<(String, String)> = sqlx::query_as(
            "SHOW GLOBAL VARIABLES WHERE Variable_name IN ('innodb_flush_log_at_trx_commit', 'sync_binlog',
                 'max_allowed_packet', 'max_connections', 'wsrep_on', 'read_only', 'log_bin')",
        )
        .fetch_all(&mut connection)
        .await
        .doing(doing)?;
        let name: Option<String> =
            sqlx::query_scalar("SELECT DATABASE()").fetch_one(&mut connection).await.doing(doing)?;
        let grants: Vec<String> = sqlx::query_scalar("SHOW GRANTS").fetch_all(&mut connection).await.doing(doing)?;
        let there: Option<i32> = sqlx::query_scalar(
            "SELECT 1 FROM information_schema.tables WHERE table_schema = DATABASE() AND table_name = '_sqlx_migrations'",
        )
        .fetch_optional(&mut connection)
        .await
        .doing(doing)?;
        let schema = match there {
            None => Schema::Empty,
            Some(_) => {
                let done: Vec<i64> = sqlx::query_scalar("SELECT version FROM _sqlx_migrations WHERE success")
                    .fetch_all(&mut connection)
                    .await
                    .doing(doing)?;
                stands(&done)
            }
        };
        let rights = rights(&grants, &name.unwrap_or_default());
        Ok(Examined { version, settings: settings.into_iter().collect(), rights, schema })
    }
}

fn stands(done: &[i64]) -> Schema {
    let known: BTreeSet<i64> = sqlx::migrate!().iter().map(|one| one.version).collect();
    let done: BTreeSet<i64> = done.iter().copied().collect();
    match (done.difference(&known).count(), known.difference(&done).count()) {
        (0, 0) => Schema::Current,
        (0, missing) => Schema::Behind(missing),
        (more, _) => Schema::Ahead(more),
    }
}

/// The rights that grants give in a schema: those on it or on all schemas.
fn rights(grants: &[String], schema: &str) -> BTreeSet<String> {
    let within = |grant: &str| {
        let (rights, on) = grant.strip_prefix("GRANT ")?.split_once(" ON ")?;
        let (on, _) = on.split_once(" TO ")?;
        let on = on.strip_suffix(".*")?.trim_matches('`').replace('\\', "");
        (on == "*" || on == schema).then(|| rights.split(", ").map(str::to_owned).collect::<Vec<_>>())
    };
    grants.iter().filter_map(|grant| within(grant)).flatten().collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn rights_count_where_they_are_granted() {
        for (grant, wanted) in [
            ("GRANT ALL PRIVILEGES ON `kanzlei`.* TO `k`@`%`", "ALL PRIVILEGES"),
            ("GRANT ALL PRIVILEGES ON *.* TO `root`@`localhost` WITH GRANT OPTION", "ALL PRIVILEGES"),
            ("GRANT ALL PRIVILEGES ON `harbour`.* TO `k`@`%`", ""),
            ("GRANT SELECT, CREATE VIEW ON `kanzlei`.* TO `k`@`%`", "CREATE VIEW SELECT"),
            ("GRANT USAGE ON *.* TO `k`@`%` IDENTIFIED BY PASSWORD '*x'", "USAGE"),
            ("GRANT SELECT ON `kanzlei`.`bill` TO `k`@`%`", ""),
        ] {
            let found: Vec<String> = rights(&[grant.to_owned()], "kanzlei").into_iter().collect();
            assert_eq!(found.join(" "), wanted, "{grant}");
        }
        assert_eq!(rights(&["GRANT SELECT ON `a\\_b`.* TO `k`@`%`".to_owned()], "a_b").len(), 1);
    }
}
