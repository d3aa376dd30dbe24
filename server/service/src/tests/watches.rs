//! Changed rows of a real database: none is missed or seen twice, in the order of each row.

use serde_json::{Value as Json, json};

use super::{Bed, eventually, server, with};

const WORKFLOW: &str = "workflow: seen
input: {bill: {type: integer}, paid: {type: boolean}, of: {type: string}}
queue: {lane: slow}
entries:
  - change: bill
    database: office
    of: [insert, update]
    when: before?.paid !== after?.paid
    send: {bill: \"${after.id}\", paid: \"${after.paid}\", of: \"${change.of}\"}
steps:
  - sql: office
    statement: INSERT INTO seen (bill, paid) VALUES (:bill, :paid)
    bind: {bill: \"${input.bill}\", paid: \"${input.paid}\"}
  - reply: 200
";
const LANE: &str = "lane: slow\nlength: 400\n";

/// A database of authors with a table of bills; returns its name and its address.
fn office(name: &str) -> (String, String) {
    let name = format!("kanzlei_{name}_office");
    let url = server().authors(&name).expect("a database");
    sql(
        &name,
        "DROP TABLE IF EXISTS bill; CREATE TABLE bill (id INT PRIMARY KEY, vessel VARCHAR(40), paid BOOLEAN NOT NULL DEFAULT FALSE)",
    );
    sql(&name, "CREATE TABLE IF NOT EXISTS seen (n INT AUTO_INCREMENT PRIMARY KEY, bill INT, paid BOOLEAN)");
    (name, url)
}

fn sql(name: &str, text: &str) -> String {
    server().sql(name, text).unwrap_or_else(|error| panic!("{text}: {error:?}")).trim().to_owned()
}

async fn watch(bed: &Bed) -> Json {
    bed.control("GET /watches", &Json::Null).await.json()["watches"][0].clone()
}

/// A trial of a changed row that is supposed: the entry makes its input, as if the row had changed.
#[test]
fn a_changed_row_is_tried() {
    let (_, url) = office("watch_try");
    with("watch_try", &[], &[("databases.office.url", url.as_str())], async |bed| {
        assert_eq!(bed.control("POST /databases/office/prepare", &Json::Null).await.status, 200);
        assert_eq!(bed.deploy(&[WORKFLOW, LANE]).await.status, 200);
        let (new, paid) =
            (json!({"id": 7, "vessel": null, "paid": false}), json!({"id": 7, "vessel": null, "paid": true}));
        for (change, status, wanted) in [
            (json!({"before": null, "after": new}), 200, r#""input":{"bill":7,"of":"insert","paid":false}"#),
            (json!({"table": "office.bill", "before": new, "after": paid}), 200, r#""of":"update","paid":true"#),
            (json!({"before": paid, "after": paid}), 422, "begins nothing"),
            (
                json!({"before": paid, "after": null}),
                422,
                "the row is changed by delete; the entry is for insert, update",
            ),
            (json!({"before": null, "after": null}), 422, "one of them is a row"),
            (json!({"table": "office.seen", "after": new}), 422, "does not watch `office.seen`"),
            (json!({"after": {"id": "x", "paid": true}}), 422, "bill"),
        ] {
            let tried = bed.control("POST /trials", &json!({"workflow": "seen", "change": change})).await;
            let body = tried.json();
            let input = json!({"input": body["input"]}).to_string();
            assert_eq!(tried.status, status, "{change}: {}", tried.body);
            assert!(
                tried.body.contains(wanted) || sorted(&input).contains(wanted),
                "{wanted} is not in {}",
                tried.body
            );
        }
        // The page for new workflows begins with the columns of a table.
        let described = bed.control("GET /databases/office/description", &Json::Null).await.json();
        let columns = described["columns"]["bill"].as_array().expect("columns");
        let names: Vec<&str> = columns.iter().filter_map(|column| column["name"].as_str()).collect();
        assert_eq!((names, &columns[0]["nullable"]), (vec!["id", "vessel", "paid"], &json!(false)), "{described}");
    });
}

/// JSON with its members in alphabetical order.
fn sorted(text: &str) -> String {
    fn ordered(value: &Json) -> Json {
        match value {
            Json::Object(members) => {
                let mut names: Vec<&String> = members.keys().collect();
                names.sort();
                names.into_iter().map(|name| (name.clone(), ordered(&members[name]))).collect()
            }
            other => other.clone(),
        }
    }
    serde_json::from_str(text).map_or_else(|_| text.to_owned(), |value| ordered(&value).to_string())
}

#[test]
fn each_change_begins_one_job_in_the_order_of_its_row() {
    let (name, url) = office("watch_rows");
    with("watch_rows", &[], &[("databases.office.url", url.as_str())], async |bed| {
        assert_eq!(bed.control("POST /databases/office/prepare", &Json::Null).await.status, 200);
        let deployed = bed.deploy(&[WORKFLOW, LANE]).await;
        assert_eq!(deployed.status, 200, "{}", deployed.body);
        assert!(deployed.body.contains("makes a trigger on office.bill for insert, update"), "{}", deployed.body);
        // Nothing reads yet: changes behind the deploy wait.
        sql(&name, "INSERT INTO bill (id, vessel) VALUES (1, 'Havbris'), (2, 'Kvikk')");
        sql(&name, "BEGIN; INSERT INTO bill (id) VALUES (3); ROLLBACK");
        let standing = watch(bed).await;
        assert_eq!(
            (&standing["backlog"], &standing["installed"], &standing["of"]),
            (&json!(2), &json!(["insert", "update"]), &json!(["insert", "update"])),
            "{standing}"
        );
        bed.work();
        eventually(async || sql(&name, "SELECT COUNT(*) FROM seen") == "2").await;
        // Each row is paid and opened again many times, several rows in one transaction; a vessel that is renamed is not meant.
        let mut statements = String::from("UPDATE bill SET vessel = 'Morild';");
        for round in 0..60 {
            statements +=
                &format!("BEGIN; UPDATE bill SET paid = {0}; UPDATE bill SET paid = {0}; COMMIT;", round % 2 == 0);
        }
        sql(&name, &statements);
        eventually(async || sql(&name, "SELECT COUNT(*) FROM seen") == "122").await;
        for bill in [1, 2] {
            let seen =
                sql(&name, &format!("SELECT GROUP_CONCAT(paid ORDER BY n SEPARATOR '') FROM seen WHERE bill = {bill}"));
            assert_eq!(seen, format!("0{}", "10".repeat(30)), "in the order of the row {bill}");
        }
        let standing = watch(bed).await;
        assert_eq!((&standing["backlog"], &standing["jobs"], &standing["unfit"]), (&json!(0), &json!(122), &json!(0)));
        assert_eq!((&standing["accepted"], &standing["process"]), (&json!(124), &json!("watch_rows")), "{standing}");
        // Retired: the trigger is gone, and a change is nobody's.
        assert_eq!(bed.control("DELETE /workflows/seen", &Json::Null).await.status, 204);
        let triggers = "SELECT COUNT(*) FROM information_schema.TRIGGERS WHERE TRIGGER_SCHEMA = DATABASE()";
        eventually(async || sql(&name, triggers) == "0").await;
    });
}

#[test]
fn changes_survive_processes_full_lanes_and_unfit_rows() {
    let (name, url) = office("watch_end");
    let settings = [("databases.office.url", url.as_str())];
    let strict = WORKFLOW.replace("bill: {type: integer}", "bill: {type: integer, maximum: 1000}");
    with("watch_end", &[], &settings, async |bed| {
        assert_eq!(bed.control("POST /databases/office/prepare", &Json::Null).await.status, 200);
        assert_eq!(bed.deploy(&[&strict, &LANE.replace("400", "100")]).await.status, 200);
        assert_eq!(bed.control("POST /lanes/slow/hold", &Json::Null).await.status, 200);
        // A process that ended accepted the change of one row, and did not remove it.
        sql(&name, "INSERT INTO bill (id) VALUES (900)");
        let rows: Vec<String> = (1..=300).map(|id| format!("({id})")).collect();
        sql(&name, &format!("INSERT INTO bill (id) VALUES {}, (5000)", rows.join(", ")));
        let mark =
            "UNHEX(CONCAT(LPAD(HEX(id), 16, '0'), LPAD(HEX(TIMESTAMPDIFF(MICROSECOND, '1970-01-01', at)), 16, '0')))";
        let accepted = format!(
            "INSERT INTO kanzlei_watch_end.change_reader SELECT 'office', 7, {mark} FROM kanzlei_change WHERE row_key = '[900]'"
        );
        sql(&name, &accepted);
        bed.work();
        // The lane has room for 100; the others wait in their database.
        eventually(async || watch(bed).await["backlog"] == json!(201)).await;
        let taken = sql(&name, "SELECT COUNT(*) FROM seen");
        assert_eq!(taken, "0", "the lane is held");
        assert_eq!(bed.control("POST /lanes/slow/release", &Json::Null).await.status, 200);
        eventually(async || sql(&name, "SELECT COUNT(*) FROM seen") == "300").await;
        eventually(async || watch(bed).await["backlog"] == json!(0)).await;
        assert_eq!(sql(&name, "SELECT COUNT(DISTINCT bill) FROM seen"), "300");
        let refused = bed.control("GET /refusals", &Json::Null).await.json();
        let unfit = &refused["refusals"][0];
        assert_eq!((&unfit["entry"], &unfit["status"]), (&json!("change office.bill"), &json!(422)), "{refused}");
        assert!(unfit["body"].to_string().contains("5000"), "{unfit}");
    });
}

#[test]
fn what_cannot_be_watched_is_not_deployed() {
    let (name, url) = office("watch_not");
    sql(
        &name,
        "CREATE OR REPLACE TABLE line (id INT PRIMARY KEY, bill INT, FOREIGN KEY (bill) REFERENCES bill (id) ON DELETE CASCADE)",
    );
    with("watch_not", &[], &[("databases.office.url", url.as_str())], async |bed| {
        assert_eq!(bed.control("POST /databases/office/prepare", &Json::Null).await.status, 200);
        for (from, to, wanted) in [
            ("change: bill", "change: line", "cascading foreign key"),
            ("change: bill", "change: bil", "no such table"),
            ("database: office", "database: offce", "the service knows no database `offce`"),
            ("after.id", "after.idd", "idd"),
            ("before?.paid", "before.paid", "before"),
        ] {
            let refused = bed.deploy(&[&WORKFLOW.replacen(from, to, 1), LANE]).await;
            assert_eq!(refused.status, 422, "{from} {}", refused.body);
            assert!(refused.body.contains(wanted), "{wanted}: {}", refused.body);
        }
        assert_eq!(
            sql(&name, "SELECT COUNT(*) FROM information_schema.TRIGGERS WHERE TRIGGER_SCHEMA = DATABASE()"),
            "0"
        );
    });
}
