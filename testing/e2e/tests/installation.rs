//! What an installation has beside documents, in the terminal: settings, descriptions of databases, names, addresses of drafts,
//! statistics.

use kanzlei_e2e::calls::get;
use kanzlei_e2e::*;

const FEES: &str =
    "settings: fees\nvalues:\n  per_metre: {type: number, minimum: 0}\n  greeting: {type: string, default: hei}\n";
const QUOTE: &str = "workflow: quote\ninput: {metres: {type: integer}}\nentries: [{endpoint: GET /quote, access: open}]\nsteps:\n  - id: seen\n    sql: harbour\n    statement: SELECT COUNT(*) AS n FROM bill\n  - reply: 200\n    body: ${settings.greeting} ${input.metres * settings.per_metre}\n";

#[test]
fn an_installation_has_values_names_and_addresses_of_its_own() {
    let office = office("installation", &[]);
    let folder = Folder::new("installation", &[("fees.yaml", FEES), ("quote.yaml", QUOTE)]);
    let own = |args: &[&str], code: i32| said(&client_in(Some(&office), &folder.0, args), code);
    let fails = |args: &[&str]| {
        let output = client_in(Some(&office), &folder.0, args);
        assert!(!output.status.success(), "{args:?}");
        String::from_utf8_lossy(&[output.stdout, output.stderr].concat()).into_owned()
    };

    // What has no default is set with the first deploy; a digit is a text where the schema says so.
    assert!(own(&["settings"], 0).contains("No settings"));
    assert!(fails(&["deploy", "."]).contains("`per_metre` is not set here and has no default"));
    assert!(own(&["deploy", ".", "--set", "per_metre=3"], 0).contains("workflow quote"));
    assert_eq!(get(&office, "/quote?metres=10", &[]).body, "hei 30");
    assert!(own(&["settings", "set", "greeting", "7"], 0).contains("greeting is \"7\""));
    assert_eq!(get(&office, "/quote?metres=10", &[]).body, "7 30");
    for (args, says) in [
        (&["settings", "set", "per_metre", "-1"][..], "less than the minimum of 0"),
        (&["settings", "unset", "per_metre"], "is not set here"),
        (&["settings", "set", "per_meter", "2"], "did you mean `per_metre`?"),
    ] {
        let shown = fails(args);
        assert!(shown.contains(says), "{args:?}: {shown}");
    }
    let listed = own(&["settings"], 0);
    assert!(listed.contains("set; default \"hei\"") && listed.contains("workflow/quote"), "{listed}");
    assert!(own(&["diff", "settings/fees@1", "settings/fees"], 0).contains("+  \"greeting\": \"7\""));
    assert!(own(&["settings", "unset", "greeting"], 0).contains("\"hei\" again"));

    // The database describes itself; then its columns are known without it.
    let described = client_in(Some(&office), &folder.0, &["databases", "describe", "harbour"]).stdout;
    std::fs::write(folder.0.join("harbour.database.yaml"), &described).expect("written");
    assert!(own(&["check", "."], 0).contains("3 documents: no errors"));
    std::fs::write(folder.0.join("quote.yaml"), QUOTE.replace("FROM bill", "FROM bils")).expect("written");
    let found = fails(&["check", "."]);
    assert!(found.contains("unknown-table") && found.contains("did you mean `bill`?"), "{found}");

    // A draft is called at its address, apart from live traffic.
    std::fs::write(folder.0.join("quote.yaml"), QUOTE.replace("${settings.greeting}", "draft")).expect("written");
    own(&["draft", "push", "quote.yaml"], 0);
    let opened = own(&["preview", "quote"], 0);
    let url = opened.lines().map(str::trim).find(|line| line.starts_with("http")).expect("an address").to_owned();
    assert_eq!(http("GET", &format!("{url}/quote?metres=10"), &[], b"").body, "draft 30");
    assert!(own(&["preview"], 0).contains(&url) && own(&["trials"], 0).contains("GET /quote"));

    // The name changes; address, runs, revisions, draft and the preview follow.
    assert!(
        own(&["rename", "quote", "offer", "--dry-run"], 0).contains("workflow offer             revision 2 · would be")
    );
    assert!(own(&["rename", "quote", "offer"], 0).contains("quote is offer now"));
    assert_eq!(get(&office, "/quote?metres=10", &[]).body, "hei 30");
    assert_eq!(own(&["runs", "offer", "--json"], 0).matches("\"workflow\":\"offer\"").count(), 3);
    assert!(fails(&["show", "quote"]).contains("it is called `offer` now"));
    assert_eq!(http("GET", &format!("{url}/quote?metres=10"), &[], b"").body, "draft 30");
    assert!(own(&["preview", "--off", "offer"], 0).contains("closed"));
    assert_eq!(http("GET", &format!("{url}/quote?metres=10"), &[], b"").status, 404);
    own(&["draft", "discard", "offer"], 0);
    assert!(own(&["restore", "offer@1", "--deploy"], 0).contains("is what is live, as revision 2"));

    let stats = own(&["show", "offer", "--stats", "--revision", "1"], 0);
    assert!(stats.contains("sql harbour") && stats.contains("revision 2"), "{stats}");
}
