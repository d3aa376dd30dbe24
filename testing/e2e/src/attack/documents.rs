//! Documents: texts that exhaust a reader, expressions that reach out, statements that leave something behind,
//! addresses that lead inside.

use serde_json::{Value, json};

use super::{Report, Target};

/// The findings of a check of one document and the files beside it.
fn found(target: &Target, text: &str, files: Value) -> (u16, String) {
    let body = json!({"documents": [{"path": "w.yaml", "text": text}], "files": files});
    let answer = target.api("POST", "/check", &body);
    (answer.status, answer.body)
}

fn is_refused((status, body): &(u16, String)) -> bool {
    matches!(status, 400 | 413 | 422) || (*status == 200 && body.contains("\"severity\":\"error\""))
}

/// Runs all attacks of this area.
pub fn run(target: &Target, report: &mut Report) {
    let step = |step: &str| format!("workflow: w\nsteps:\n  - {step}\n");
    let bomb = format!("workflow: w\na: &a [x,x,x,x,x,x,x,x,x]\n{}steps: *i\n", ('b'..='i').map(|c| {
        let before = (c as u8 - 1) as char;
        format!("{c}: &{c} [*{before},*{before},*{before},*{before},*{before},*{before},*{before},*{before},*{before}]\n")
    }).collect::<String>());
    for (name, text) in [
        ("aliases of aliases", bomb),
        ("an alias of itself", "workflow: &a w\nsteps: &b [*b]\n".into()),
        ("100,000 open lists", format!("workflow: w\nsteps: {}", "[".repeat(100_000))),
        ("100,000 open mappings", format!("workflow: w\nsteps: {}", "{a: ".repeat(100_000))),
        ("2 MiB", format!("workflow: w\n# {}\nsteps: []\n", "x".repeat(2 << 20))),
        ("a tag of another language", "workflow: w\nsteps: !!python/object/apply:os.system [id]\n".into()),
        ("a merge key", "workflow: w\n<<: {steps: []}\n".into()),
        ("two documents", "workflow: w\nsteps: []\n---\nworkflow: v\nsteps: []\n".into()),
        ("a duplicate key", "workflow: w\nsteps: []\nsteps: [{reply: 200}]\n".into()),
        ("NUL", "workflow: w\0\nsteps: []\n".into()),
        ("an endpoint of the service's own", "workflow: w\nentries: [{endpoint: GET /~/jobs, access: open}]\nsteps: [{reply: 200}]\n".into()),
        ("an endpoint that climbs", "workflow: w\nentries: [{endpoint: GET /../x, access: open}]\nsteps: [{reply: 200}]\n".into()),
        ("an endpoint without access", "workflow: w\nentries: [{endpoint: GET /x}]\nsteps: [{reply: 200}]\n".into()),
        ("a header name with a line end", step("reply: 200\n    headers: {\"X\\r\\nY\": a}")),
        ("a status beyond all", step("reply: 1000")),
        ("a zone that climbs", "workflow: w\nentries: [{timetable: \"0 6 * * *\", zone: ../../etc/passwd}]\nsteps: [{reply: 200}]\n".into()),
        ("a timetable of every second", "workflow: w\nentries: [{timetable: \"* * * * * *\"}]\nsteps: [{reply: 200}]\n".into()),
        ("a pattern that looks behind", "workflow: w\ninput: {a: {type: string, pattern: '(?<=x)y'}}\nsteps: [{reply: 200, body: \"${input.a}\"}]\n".into()),
        ("a workflow that invokes itself", step("invoke: w")),
    ] {
        let seen = found(target, &text, json!({}));
        report.holds("documents", name, is_refused(&seen) && target.serves(), &seen);
    }
    for expression in [
        "(() => {}).constructor('return process')()",
        "''.constructor.constructor('return this')()",
        "input.constructor",
        "globalThis",
        "this",
        "process.env",
        "require('fs')",
        "import('fs')",
        "eval('1')",
        "new Function('return 1')()",
        "Function('return 1')()",
        "window.location",
        "fetch('http://127.0.0.1')",
        "({}).__proto__.polluted = 1",
        "Object.prototype",
        "Reflect.ownKeys(input)",
        "new Proxy({}, {})",
        "input.a = 1",
        "delete input.a",
        "while (true) {}",
        "secrets['attack-key']",
        "env.PATH",
        "run.constructor",
        "[].__lookupGetter__('x')",
        "`${{`",
        "(function f() { return f() })()",
        "async () => 1",
        "yield 1",
        "Date.now()",
        "Math.random()",
        "crypto.subtle",
        "WebAssembly",
        "Atomics",
        "Symbol.iterator",
        "arguments",
        "import.meta",
    ] {
        let text = format!(
            "workflow: w\ninput: {{a: {{type: string, optional: true}}}}\nsteps:\n  - reply: 200\n    body: {}\n",
            json!(format!("${{{expression}}}"))
        );
        let seen = found(target, &text, json!({}));
        report.holds("expressions", expression, is_refused(&seen), &seen);
    }
    for statement in [
        "SET autocommit = 0",
        "SET GLOBAL max_connections = 1",
        "USE mysql",
        "LOCK TABLES bill WRITE",
        "FLUSH TABLES",
        "KILL 1",
        "START TRANSACTION",
        "COMMIT",
        "BEGIN",
        "SELECT GET_LOCK('a', 1)",
        "SELECT SLEEP(100)",
        "SELECT BENCHMARK(1000000, SHA1('a'))",
        "SELECT LOAD_FILE('/etc/passwd')",
        "SELECT 1 INTO OUTFILE '/tmp/x'",
        "SELECT @a := 1",
        "SELECT @@version",
        "SELECT 1 /*! , SLEEP(9) */",
        "SELECT 1 /*M!100000 , SLEEP(9) */",
        "SELECT 1; DROP TABLE bill",
        "DROP TABLE bill",
        "CREATE USER a",
        "GRANT ALL ON *.* TO a",
        "CALL work()",
        "HANDLER bill OPEN",
        "PREPARE a FROM 'SELECT 1'",
        "EXECUTE IMMEDIATE 'SELECT 1'",
        "LOAD DATA INFILE 'a' INTO TABLE b",
        "SELECT hash FROM kanzlei.session",
        "SELECT * FROM mysql.user",
        "SELECT * FROM kanzlei_done",
        "SHOW GRANTS",
        "DO SLEEP(9)",
        "SELECT RELEASE_ALL_LOCKS()",
        "SELECT SYS_EXEC('id')",
        "SELECT * FROM bill PROCEDURE ANALYSE()",
        "SELECT MASTER_POS_WAIT('a', 1)",
        "INSERT INTO bill (id) VALUES (SLEEP(9))",
    ] {
        let text = format!("workflow: w\nsteps:\n  - {{sql: harbour, once: false, statement: {}}}\n", json!(statement));
        let seen = found(target, &text, json!({}));
        report.holds("statements", statement, is_refused(&seen), &seen);
    }
    for base in [
        "http://127.0.0.1",
        "http://localhost",
        "http://a.localhost",
        "http://0.0.0.0",
        "http://[::1]",
        "http://[::]",
        "http://[::ffff:127.0.0.1]",
        "http://10.0.0.1",
        "http://172.16.0.1",
        "http://192.168.1.1",
        "http://169.254.169.254",
        "http://100.64.0.1",
        "http://198.18.0.1",
        "http://240.0.0.1",
        "http://192.0.0.8",
        "http://[fc00::1]",
        "http://[fe80::1]",
        "http://[fec0::1]",
        "http://[64:ff9b::7f00:1]",
        "http://[2002:7f00:1::]",
        "http://[::7f00:1]",
        "ftp://a.example",
        "file:///etc/passwd",
        "gopher://a.example",
        "http://u:p@a.example",
        "//a.example",
    ] {
        let text = format!("service: attacked\nbase: {base}\n");
        let seen = found(target, &text, json!({}));
        report.holds("addresses", base, is_refused(&seen), &seen);
    }
    // A network that the host does not allow is a warning at a check, and no call.
    let seen = found(target, "service: attacked\nbase: http://10.0.0.1\nnetwork: private\n", json!({}));
    report.holds("addresses", "a private network that is not allowed", seen.1.contains("network.allow"), &seen);
    for (name, text) in [
        (
            "a secret for an address it is not bound to",
            "service: attacked\nbase: https://evil.example\ncredentials: {bearer: attack-key}\n",
        ),
        (
            "a secret that is not there",
            "service: attacked\nbase: https://api.example\ncredentials: {bearer: no-such-key}\n",
        ),
        (
            "a notice signed with a secret for calls",
            "workflow: w\nqueue: {notify: {to: https://evil.example, secret: attack-key}}\nsteps: [{reply: 204}]\n",
        ),
        (
            "a description outside of the folder",
            "service: attacked\nbase: https://a.example\nopenapi: ../../../../etc/passwd\n",
        ),
        ("a description at a URL", "service: attacked\nbase: https://a.example\nopenapi: http://127.0.0.1/x\n"),
    ] {
        let seen = found(target, text, json!({}));
        report.holds("secrets", name, is_refused(&seen), &seen);
    }
    for (name, api) in [
        ("a reference to a file", "{$ref: 'file:///etc/passwd'}"),
        ("a reference to a URL", "{$ref: 'http://127.0.0.1:1/x'}"),
        ("a reference to itself", "{$ref: '#/components/schemas/A'}"),
        ("a reference that climbs", "{$ref: '../../x.yaml'}"),
    ] {
        let api = format!(
            "openapi: 3.1.0\npaths: {{/a: {{get: {{operationId: a, responses: {{'200': {{content: {{application/json: {{schema: {api}}}}}}}}}}}}}}}\ncomponents: {{schemas: {{A: {api}}}}}\n"
        );
        let seen =
            found(target, "service: attacked\nbase: https://a.example\nopenapi: a.yaml\n", json!({"a.yaml": api}));
        report.holds("documents", name, seen.0 < 500 && !seen.1.contains("root:x:0") && target.serves(), &seen);
    }
}
