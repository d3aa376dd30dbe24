use super::{Class, judge};

#[test]
fn statements_have_a_class() {
    use Class::{Calls, Defines, Reads, Writes};
    for (text, class) in [
        ("SELECT 1", Reads),
        ("  select * from `update`", Reads),
        ("SELECT a FROM t WHERE b = ? FOR UPDATE", Reads),
        ("WITH a AS (SELECT 1) SELECT * FROM a", Reads),
        ("WITH RECURSIVE n (i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 9) SELECT i FROM n", Reads),
        ("(SELECT 1) UNION ALL (SELECT 2) ORDER BY 1 LIMIT 3", Reads),
        (
            "SELECT a, GROUP_CONCAT(DISTINCT b ORDER BY c DESC SEPARATOR ', ') FROM t GROUP BY a HAVING COUNT(*) > 1",
            Reads,
        ),
        (
            "SELECT DATE_ADD(a, INTERVAL ? DAY), CAST(b AS UNSIGNED), c COLLATE utf8mb4_bin, d <=> e, f DIV 2 FROM t",
            Reads,
        ),
        ("SELECT ROW_NUMBER() OVER (PARTITION BY a ORDER BY b) FROM t LEFT JOIN u USING (id)", Reads),
        ("SELECT j.a FROM t, JSON_TABLE(t.doc, '$[*]' COLUMNS (a INT PATH '$.a')) AS j", Reads),
        (
            "SELECT CURRENT_TIMESTAMP, NOW(3), UTC_TIMESTAMP(6), CONVERT(a USING utf8mb4), TRIM(BOTH ' ' FROM b) FROM t",
            Reads,
        ),
        (
            "SELECT CASE WHEN a REGEXP '^x' THEN 1 ELSE IF(b, 2, 3) END FROM t WHERE MATCH (a) AGAINST (? IN BOOLEAN MODE)",
            Reads,
        ),
        (
            "SELECT EXTRACT(YEAR FROM a), TIMESTAMPDIFF(MINUTE, a, b), a IS NOT NULL, NOT b, a BETWEEN 1 AND 2 FROM t",
            Reads,
        ),
        ("VALUES (1), (2)", Reads),
        ("INSERT INTO a SELECT 1", Writes),
        ("INSERT IGNORE INTO a (b, c) VALUES (?, ?), (DEFAULT, 2) RETURNING id", Writes),
        ("INSERT INTO a SET b = ?, c = UUID()", Writes),
        ("INSERT INTO a (b) VALUES (?) ON DUPLICATE KEY UPDATE b = VALUES(b), n = n + 1", Writes),
        ("REPLACE INTO a (b) VALUES (?)", Writes),
        ("UPDATE a SET b = b + 1 WHERE c IN (?, ?) ORDER BY d LIMIT 10", Writes),
        ("UPDATE a JOIN b ON a.id = b.a SET a.c = b.c", Writes),
        ("DELETE FROM a WHERE b < NOW() - INTERVAL 1 DAY ORDER BY b LIMIT 100", Writes),
        ("DELETE a FROM a JOIN b ON a.id = b.a", Writes),
        ("CALL work(?)", Calls),
        ("TRUNCATE TABLE a", Defines),
        ("CREATE TABLE a (b INT PRIMARY KEY, c VARCHAR(40) NOT NULL DEFAULT '', INDEX (c))", Defines),
        ("ALTER TABLE a ADD COLUMN d DATETIME(3)", Defines),
        ("DROP TABLE IF EXISTS a", Defines),
        ("CREATE INDEX i ON a (b)", Defines),
        ("RENAME TABLE a TO b", Defines),
        ("CREATE VIEW v AS SELECT a FROM t", Defines),
    ] {
        let judged =
            judge(text, text.matches('?').count(), false).unwrap_or_else(|refused| panic!("{text}: {refused:?}"));
        assert_eq!(judged.class, class, "{text}");
        assert!(judged.functions.is_empty() || class == Calls, "{text}: {:?}", judged.functions);
    }
}

#[test]
fn statements_that_leave_something_behind_are_refused() {
    for (text, says) in [
        ("SET autocommit = 0", "`SET` is not sent"),
        ("SET SESSION sql_mode = ''", "`SET` is not sent"),
        ("SET NAMES latin1", "`SET` is not sent"),
        ("USE other", "`USE` is not sent"),
        ("LOCK TABLES a WRITE", "`LOCK` is not sent"),
        ("UNLOCK TABLES", "`UNLOCK` is not sent"),
        ("START TRANSACTION", "`START` is not sent"),
        ("BEGIN", "is not sent"),
        ("COMMIT", "`COMMIT` is not sent"),
        ("ROLLBACK", "`ROLLBACK` is not sent"),
        ("SAVEPOINT a", "`SAVEPOINT` is not sent"),
        ("PREPARE a FROM 'SELECT 1'", "cannot be parsed"),
        ("EXECUTE a", "`EXECUTE` is not sent"),
        ("EXECUTE IMMEDIATE 'SELECT 1'", "`EXECUTE` is not sent"),
        ("DO GET_LOCK('a', 1)", "cannot be parsed"),
        ("HANDLER a OPEN", "cannot be parsed"),
        ("FLUSH TABLES", "is not sent"),
        ("KILL 1", "`KILL` is not sent"),
        ("SHOW TABLES", "`SHOW` is not sent"),
        ("EXPLAIN SELECT 1", "`EXPLAIN` is not sent"),
        ("GRANT ALL ON a TO b", "`GRANT` is not sent"),
        ("CREATE DATABASE a", "`CREATE` is not sent"),
        ("CREATE USER a", "`CREATE` is not sent"),
        ("CREATE FUNCTION f() RETURNS INT RETURN 1", "cannot be parsed"),
        ("CREATE PROCEDURE p() BEGIN END", "cannot be parsed"),
        ("DROP DATABASE a", "`DROP` is not sent"),
        ("LOAD DATA INFILE 'a' INTO TABLE b", "into no file"),
        ("SELECT 1 INTO OUTFILE '/tmp/a'", "into no file"),
        ("SELECT 1 INTO a", "into no file"),
        ("INSERT INTO a SELECT 1 INTO b", "into no file"),
        ("SELECT @a", "variables of the connection"),
        ("SELECT @@global.sql_mode", "variables of the connection"),
        ("UPDATE a SET b = (@c := 1)", "variables of the connection"),
        ("SELECT 1 /*! , GET_LOCK('a', 1) */", "would run this comment"),
        ("SELECT 1 /*M! , GET_LOCK('a', 1) */", "would run this comment"),
        ("SELECT 1 /*!50000 , 2 */", "would run this comment"),
        ("SELECT 1 /* ", "has no end"),
        ("SELECT 1 --GET_LOCK('a', 1)", "begins no comment"),
        ("SELECT 1; SELECT 2", "one statement"),
        ("", "one statement"),
        ("SELECT ?", "`?` stands for no value"),
        ("SELECT 'a", "cannot be parsed"),
        ("SELEC 1", "cannot be parsed"),
        ("SELECT * FROM f(1)", "rows come from tables"),
        ("MERGE INTO a USING b ON 1 = 1 WHEN MATCHED THEN DELETE", "into no file"),
    ] {
        match judge(text, 0, false) {
            Err(refused) => assert!(refused.message.contains(says), "{text}: {}", refused.message),
            Ok(judged) => panic!("{text}: {judged:?}"),
        }
    }
}

#[test]
fn functions_beyond_the_usual_ones_are_found_wherever_they_stand() {
    for (text, wanted) in [
        ("SELECT GET_LOCK('a', 1)", "get_lock"),
        ("SELECT get_lock ('a', 1)", "get_lock"),
        ("SELECT `get_lock`('a', 1)", "`get_lock`"),
        ("SELECT a FROM t ORDER BY SLEEP(1)", "sleep"),
        ("SELECT a FROM t GROUP BY SLEEP(1) HAVING BENCHMARK(9, 1)", "benchmark"),
        ("SELECT GROUP_CONCAT(a ORDER BY SLEEP(1)) FROM t", "sleep"),
        ("SELECT SUM(a) OVER (PARTITION BY SLEEP(1) ORDER BY b) FROM t", "sleep"),
        ("SELECT a FROM t JOIN u ON LOAD_FILE(t.b) = u.b", "load_file"),
        ("SELECT a FROM t WHERE EXISTS (SELECT 1 FROM u WHERE RELEASE_ALL_LOCKS())", "release_all_locks"),
        ("WITH w AS (SELECT SLEEP(1)) SELECT * FROM w", "sleep"),
        ("SELECT a FROM t LIMIT 1 OFFSET 2 FOR UPDATE", ""),
        ("SELECT CASE SLEEP(1) WHEN 1 THEN 2 END", "sleep"),
        ("SELECT CAST(SLEEP(1) AS CHAR), TRIM(SLEEP(2)), SUBSTRING(SLEEP(3) FROM 1)", "sleep"),
        ("SELECT INTERVAL SLEEP(1) DAY + NOW()", "sleep"),
        ("SELECT (SELECT SLEEP(1))", "sleep"),
        ("INSERT INTO a VALUES (1) ON DUPLICATE KEY UPDATE b = SLEEP(1)", "sleep"),
        ("INSERT INTO a VALUES (1) RETURNING SLEEP(1)", "sleep"),
        ("INSERT INTO a SET b = SLEEP(1)", "sleep"),
        ("DELETE FROM a ORDER BY SLEEP(1) LIMIT 1", "sleep"),
        ("UPDATE a SET b = 1 ORDER BY SLEEP(1) LIMIT 1", "sleep"),
        ("UPDATE a JOIN (SELECT SLEEP(1)) b SET a.c = 1", "sleep"),
        ("CREATE TABLE a AS SELECT SLEEP(1)", "sleep"),
        ("CREATE TABLE a (b INT DEFAULT (SLEEP(1)))", "sleep"),
        ("SELECT other.f(1)", "other.f"),
        ("SELECT LAST_INSERT_ID()", "last_insert_id"),
    ] {
        let judged = judge(text, 0, false).unwrap_or_else(|refused| panic!("{text}: {refused:?}"));
        let found: Vec<&str> = judged.functions.iter().map(String::as_str).collect();
        assert!(found.contains(&wanted) || wanted.is_empty() && found.is_empty(), "{text}: {found:?}");
    }
    let made = |text| judge(text, 0, true).expect("a statement").functions.len();
    assert_eq!((made("SELECT LAST_INSERT_ID()"), made("SELECT LAST_INSERT_ID(5)")), (0, 1));
}

/// However a statement is built, it is judged on a small stack, and in time that grows with its length.
#[test]
fn hostile_statements_are_judged_on_a_small_stack() {
    let texts = [
        format!("SELECT {}1", "1+".repeat(3_900)),
        format!("SELECT {}1{}", "(".repeat(3_000), ")".repeat(3_000)),
        format!("SELECT {}1", "NOT ".repeat(3_900)),
        format!("SELECT {}1", "- ".repeat(3_900)),
        format!("SELECT 1{}", " UNION SELECT 1".repeat(1_000)),
        format!("SELECT {}1{}", "(SELECT ".repeat(1_500), ")".repeat(1_500)),
        format!("SELECT a FROM {}t{}", "(".repeat(2_000), ")".repeat(2_000)),
        format!("SELECT {}", "CASE WHEN ".repeat(1_500)),
        format!("SELECT {}1{}", "f(".repeat(2_000), ")".repeat(2_000)),
        format!("SELECT a{}", "[1]".repeat(1_500)),
        format!("SELECT 1 FROM t{}", " JOIN u ON 1".repeat(700)),
        "(".repeat(7_000),
        "SELECT ".repeat(3_000),
        "'".repeat(60_000),
    ];
    let small = std::thread::Builder::new().stack_size(1 << 20);
    let judged = small.spawn(move || texts.iter().filter(|text| judge(text, 0, false).is_ok()).count());
    assert!(judged.expect("a thread").join().is_ok());
}
