//! Requests become input, or the whole list of what is wrong with them.

use kanzlei_compiler::check::{Bundle, check};
use kanzlei_compiler::input::{Body, Parts, form_pairs};
use kanzlei_compiler::plan::Plan;
use kanzlei_model::value::Value;

fn plan(endpoint: &str, more: &str) -> std::sync::Arc<Plan> {
    let text = format!(
        "workflow: w\ninput:\n  id: {{type: integer}}\n  tags: {{type: array, items: {{type: integer}}, optional: true}}\n  flag: {{type: [boolean, 'null'], default: false}}\n  ratio: {{type: number, maximum: 1, optional: true}}\n  who: {{type: object, optional: true, properties: {{name: {{type: string, minLength: 2}}}}}}\n  pin: {{type: string, secret: true, default: x}}\nentries: [{{{endpoint}, access: open}}]\n{more}steps: [{{reply: 200, body: \"${{reveal(input)}}\"}}]\n"
    );
    let mut bundle = Bundle::default();
    bundle.add("w.yaml", &text);
    let mut checked = check(&bundle);
    assert_eq!(checked.errors(), 0, "{:?}", checked.diagnostics);
    checked.workflows.remove(0).1
}

/// The input as JSON, or the errors as `in pointer`.
fn gather(plan: &Plan, path: &str, query: &str, media: &str, body: &str) -> Result<String, Vec<String>> {
    let body = Body::read(media, body.as_bytes()).map_err(|problem| vec![problem.status.to_string()])?;
    let parts = Parts { path: vec![("id", path.into())], query: form_pairs(query.as_bytes()), body, files: Vec::new() };
    let header = |name: &str| (name == "X-Id").then(|| "77".to_owned());
    match plan.input.gather(&plan.endpoints[0].input, parts, &header) {
        Ok(input) => Ok(input.to_json()),
        Err(problem) => Err(problem.errors.iter().map(|e| format!("{} {}", e.within, e.pointer)).collect()),
    }
}

#[test]
fn text_becomes_the_type_its_schema_asks_for() {
    let get = plan("endpoint: 'GET /x/{id}'", "");
    for (query, wanted) in [
        ("", r#"{"id":5,"flag":false,"pin":"x"}"#),
        ("flag=true&ratio=0.5&tags=1&tags=2", r#"{"id":5,"tags":[1,2],"flag":true,"ratio":0.5,"pin":"x"}"#),
        ("flag=&who=%7B%22name%22%3A%22%C3%85se%22%7D", r#"{"id":5,"flag":null,"who":{"name":"Åse"},"pin":"x"}"#),
        ("pin=12+3", r#"{"id":5,"flag":false,"pin":"12 3"}"#),
    ] {
        assert_eq!(gather(&get, "5", query, "", ""), Ok(wanted.to_owned()), "{query}");
    }
}

#[test]
fn all_faults_are_reported_with_their_places() {
    let get = plan("endpoint: 'GET /x/{id}'", "");
    let post = plan("endpoint: 'POST /x/{id}'", "");
    for (plan, path, query, media, body, wanted) in [
        (
            &get,
            "five",
            "ratio=2&tags=a&bogus=1",
            "",
            "",
            vec!["query /bogus", "path /id", "query /ratio", "query /tags/0"],
        ),
        (
            &post,
            "5",
            "q=1",
            "application/json",
            r#"{"who":{"name":"x"},"extra":1,"flag":"yes"}"#,
            vec!["query /q", "body /extra", "body /flag", "body /who/name"],
        ),
        (&post, "5", "", "application/json", "[1]", vec!["body "]),
        (&post, "5", "", "application/json", "{oops", vec!["400"]),
        (&post, "5", "", "text/csv", "a,b", vec!["415"]),
        (&post, "5", "", "", "{}", vec!["415"]),
    ] {
        let mut got = gather(plan, path, query, media, body).expect_err(body);
        let mut wanted: Vec<String> = wanted.into_iter().map(str::to_owned).collect();
        got.sort();
        wanted.sort();
        assert_eq!(got, wanted, "{path} {query} {body}");
    }
}

#[test]
fn bodies_forms_headers_and_extras_find_their_place() {
    let post = plan("endpoint: 'POST /x/{id}'", "");
    assert_eq!(
        gather(&post, "5", "", "application/json; charset=utf-8", r#"{"tags":[3],"flag":null}"#),
        Ok(r#"{"id":5,"tags":[3],"flag":null,"pin":"x"}"#.into())
    );
    assert_eq!(
        gather(&post, "5", "", "application/x-www-form-urlencoded", "tags=3&tags=4&flag=true"),
        Ok(r#"{"id":5,"tags":[3,4],"flag":true,"pin":"x"}"#.into())
    );
    let from = plan(
        "endpoint: 'POST /x', from: {id: header.X-Id, who: body, tags: query.t, flag: query.f, ratio: query.r, pin: query.p}",
        "",
    );
    assert_eq!(
        gather(&from, "", "t=1", "application/json", r#"{"name":"Tare"}"#),
        Ok(r#"{"id":77,"tags":[1],"flag":false,"who":{"name":"Tare"},"pin":"x"}"#.into())
    );
    assert_eq!(gather(&from, "", "", "application/json", r#"{"name":"T"}"#), Err(vec!["body /name".into()]));
    let open = plan("endpoint: 'POST /x/{id}'", "extra: allow\n");
    assert_eq!(
        gather(&open, "5", "q=1", "application/json", r#"{"more":[1]}"#),
        Ok(r#"{"id":5,"flag":false,"pin":"x","q":"1","more":[1]}"#.into())
    );
}

#[test]
fn names_of_a_form_are_members_and_positions() {
    let text = "workflow: w\ninput:\n  stay: {type: object, optional: true, properties: {nights: {type: integer}, at: {type: object, properties: {berth: {type: string}}}}}\n  crew: {type: array, optional: true, items: {type: object, properties: {name: {type: string}, age: {type: integer}}}}\n  ports: {type: array, optional: true, items: {type: string}}\n  days: {type: array, optional: true, items: {type: integer}}\n  any: {optional: true}\nentries: [{endpoint: POST /x, access: open}]\nsteps: [{reply: 200, body: \"${input}\"}]\n";
    let mut bundle = Bundle::default();
    bundle.add("w.yaml", text);
    let mut checked = check(&bundle);
    assert_eq!(checked.errors(), 0, "{:?}", checked.diagnostics);
    let plan = checked.workflows.remove(0).1;
    for (form, wanted) in [
        ("stay[nights]=3&stay[at][berth]=K2", Ok(r#"{"stay":{"nights":3,"at":{"berth":"K2"}}}"#)),
        (r#"stay={"nights":3}"#, Ok(r#"{"stay":{"nights":3}}"#)),
        ("crew[0][name]=Alda&crew[1][age]=30&crew[0][age]=41", Ok(r#"{"crew":[{"name":"Alda","age":41},{"age":30}]}"#)),
        // Positions say the order and nothing else.
        ("crew[9][age]=2&crew[4000000000][age]=3&crew[1][age]=1", Ok(r#"{"crew":[{"age":1},{"age":2},{"age":3}]}"#)),
        (r#"crew=[{"age":1},{"age":2}]"#, Ok(r#"{"crew":[{"age":1},{"age":2}]}"#)),
        (r#"crew={"age":1}&crew={"age":2}"#, Ok(r#"{"crew":[{"age":1},{"age":2}]}"#)),
        ("ports[]=LIN&ports[]=NES", Ok(r#"{"ports":["LIN","NES"]}"#)),
        ("ports[0]=LIN&ports[1]=NES&ports[10]=A&ports[2]=B", Ok(r#"{"ports":["LIN","NES","B","A"]}"#)),
        ("ports=[1]", Ok(r#"{"ports":["[1]"]}"#)),
        ("days=[1,2]", Ok(r#"{"days":[1,2]}"#)),
        ("days=1&days[]=2", Ok(r#"{"days":[1,2]}"#)),
        ("any[a][b]=1&any[c]=x", Ok(r#"{"any":{"a":{"b":"1"},"c":"x"}}"#)),
        ("stay[nights]=many", Err("body /stay/nights")),
        ("stay[nights]=3&stay=x", Err("body /stay")),
        ("crew[][name]=Alda", Err("body /crew/~/name")),
        ("stay[nights=3", Err("body /stay[nights")),
        ("[a]=3", Err("body /[a]")),
        ("any[a][b][c][d][e][f][g][h]=1", Err("body /any[a][b][c][d][e][f][g][h]")),
    ] {
        let body = Body::read("application/x-www-form-urlencoded", form.as_bytes()).expect("a form");
        let got = plan.input.gather(&plan.endpoints[0].input, Parts { body, ..Parts::default() }, &|_| None);
        let got = got.map(|input| input.to_json());
        let got = got.map_err(|problem| {
            problem.errors.first().map(|e| format!("{} {}", e.within, e.pointer)).unwrap_or_default()
        });
        assert_eq!(
            got.as_deref().map_err(|e| e.replace("/crew//", "/crew/~/")),
            wanted.map_err(str::to_owned),
            "{form}"
        );
    }
}

#[test]
fn secrets_are_masked_for_the_journal() {
    let get = plan("endpoint: 'GET /x/{id}'", "");
    let input = serde_json::from_str(r#"{"id":5,"pin":"1234"}"#).expect("json");
    assert_eq!(get.input.masked(&input).to_json(), r#"{"id":5,"pin":"•••"}"#);
}

#[test]
fn an_input_gives_the_request_it_came_from() {
    let get = plan("endpoint: 'GET /x/{id}', from: {who: header.X-Who}", "");
    let post = plan("endpoint: 'POST /x/{id}', from: {tags: query.tag}", "");
    let whole = plan(
        "endpoint: 'PUT /x/{id}', from: {who: body, tags: query.tags, flag: query.flag, ratio: query.ratio, pin: query.pin}",
        "",
    );
    for (plan, input, wanted) in [
        (&get, r#"{"id":5,"flag":false,"pin":"x y"}"#, Some(r#"/x/5?flag=false&pin=x%20y [] none"#)),
        (
            &get,
            r#"{"id":5,"tags":[1,2],"flag":true,"pin":"å&="}"#,
            Some("/x/5?tags=1&tags=2&flag=true&pin=%C3%A5%26%3D [] none"),
        ),
        (
            &get,
            r#"{"id":5,"who":{"name":"Tare"},"flag":true,"pin":"x"}"#,
            Some(r#"/x/5?flag=true&pin=x [("X-Who", "{\"name\":\"Tare\"}")] none"#),
        ),
        (&post, r#"{"id":5,"tags":[7],"flag":null,"pin":"x"}"#, Some(r#"/x/5?tag=7 [] {"flag":null,"pin":"x"}"#)),
        (
            &whole,
            r#"{"id":5,"who":{"name":"Tare"},"flag":true,"pin":"x"}"#,
            Some(r#"/x/5?flag=true&pin=x [] {"name":"Tare"}"#),
        ),
        // An empty list leaves no trace in a query; neither does what no request of the endpoint leads to.
        (&get, r#"{"id":5,"tags":[],"flag":true,"pin":"x"}"#, None),
        (&get, r#"{"id":5,"flag":true,"pin":"x","other":1}"#, None),
        (&get, r#"{"id":"•••","flag":true,"pin":"x"}"#, None),
    ] {
        let given = Value::from_json(&serde_json::from_str::<serde_json::Value>(input).expect("json"));
        let endpoint = &plan.endpoints[0];
        let request =
            plan.input.request(&endpoint.address.path, &endpoint.input, &given).map(|(target, headers, body)| {
                format!("{target} {headers:?} {}", body.map_or("none".to_owned(), |body| body.to_string()))
            });
        assert_eq!(request.as_deref(), wanted, "{input}");
    }
}
