//! The tables of keys of workflow documents: what each mapping may hold, for reading and for editors.

use super::library::{TYPES, USES};
use super::reader::KeySpec;

const ANY: &str = "{}";
pub(super) const TEXT: &str = r#"{"type":"string"}"#;
const STEPS: &str = r##"{"$ref":"#/$defs/steps"}"##;
pub(super) const VALUES: &str = r#"{"type":"object"}"#;
const DURATION: &str = r#"{"type":"string","examples":["200ms","2s","PT48H"]}"#;
const TAGS: &str = r#"{"oneOf":[{"type":"string"},{"type":"array","items":{"type":"string"},"maxItems":8}]}"#;
const CONDITION: &str = r#"{"type":["string","boolean","number"],"description":"an expression"}"#;

/// A table of keys: name, schema, what it is.
macro_rules! keys {
    ($($name:literal, $schema:expr, $about:literal;)*) => { &[$(KeySpec { name: $name, about: $about, schema: $schema }),*] };
}

pub(super) use keys;

/// Keys of a workflow.
pub const WORKFLOW: &[KeySpec] = keys! {
    "workflow", r#"{"type":"string","pattern":"^[a-z][a-z0-9-]*$"}"#, "The name of the workflow.";
    "about", TEXT, "What it is for, in a sentence.";
    "tags", r#"{"type":"array","items":{"type":"string","pattern":"^[a-z][a-z0-9-]*$"},"maxItems":20}"#, "What it belongs to, for lists, for keys that are made for a tag, and for the OpenAPI document: `[partners]`.";
    "input", r##"{"type":"object","additionalProperties":{"type":"object","if":{"properties":{"type":{"const":"file"}},"required":["type"]},"then":{"$ref":"#/$defs/file"}}}"##, "Its input: JSON Schema by name. Required unless it has a `default` or `optional: true`.";
    "extra", r#"{"enum":["refuse","allow"]}"#, "Whether members that are not declared are let in; default: `refuse`.";
    "use", USES, "Libraries whose functions, types and groups of steps it uses: `[stays, dates@1.2]`.";
    "types", TYPES, "JSON Schemas by name, for `as` in expressions, for annotations of scripts and for `$ref: \"#/types/NAME\"`.";
    "entries", r##"{"type":"array","items":{"$ref":"#/$defs/entry"}}"##, "The ways in.";
    "functions", r#"{"type":"object","additionalProperties":{"type":"string"}}"#, "Named functions for expressions: `total: \"(a, b) => a + b\"`.";
    "queue", r##"{"$ref":"#/$defs/queue"}"##, "How it runs as a job: `lane`, `priority`, `tag`, `retry`, `results`, `notify`.";
    "replies", r#"{"type":"object","additionalProperties":{"type":["object","boolean"]}}"#, "What the bodies of its replies look like: JSON Schema by status. The steps are checked against it.";
    "steps", STEPS, "What it does, top to bottom.";
    "on_failure", STEPS, "Steps that run when a step fails and nothing catches it; `failure` describes how. The run ends as failed behind them.";
};

/// Keys of an endpoint.
pub const ENDPOINT: &[KeySpec] = keys! {
    "endpoint", r#"{"type":"string","pattern":"^(GET|HEAD|POST|PUT|PATCH|DELETE) /"}"#, "Method and path template: `POST /harbours/{harbour}/quotes`.";
    "access", r##"{"oneOf":[{"enum":["open","key"]},{"$ref":"#/$defs/access"}]}"##, "Who may call: `open` for anybody, `key` for callers with a key, `{jwt: ISSUER}` for callers with a token of an issuer.";
    "host", TEXT, "The address in front of its path: a host name, a path prefix, or both: `api.lindvik.example/v1`. Only requests to that host reach it; default: every host.";
    "needs", CONDITION, "What must hold of the caller, over `caller`: `caller.claims.scope.split(' ').includes('quotes')`; others are answered 403.";
    "allowance", TEXT, "How much one caller may ask for, by the name of an allowance: each key, or each address where access is open.";
    "from", r#"{"type":"object","additionalProperties":{"type":"string"}}"#, "Where an input comes from, when not by convention: `header.X-Trace-Id`, `query.q`, `body`.";
    "answer", r#"{"enum":["now","later","either"]}"#, "`now`: the reply of the run; `later`: 202 and the address of a job; `either`: as the client prefers (RFC 7240). Default: `now`.";
    "limits", r##"{"$ref":"#/$defs/limits"}"##, "The longest a request may take and the largest body.";
    "cors", r##"{"oneOf":[{"enum":["any"]},{"$ref":"#/$defs/cors"}]}"##, "Which pages of other origins may call it: `any`, or `{origins: [https://app.example]}` (Fetch standard).";
    "cache", r##"{"$ref":"#/$defs/cache"}"##, "How long answers to GET may be kept (RFC 9111): `{for: 1min, vary: [Accept-Language], etag: true}`.";
    "formats", r#"{"type":"array","items":{"enum":["json","csv","ndjson"]}}"#, "The formats of its answers, of which a client chooses one by `Accept`; the first one is the default: `[json, csv]`.";
    "csv", r##"{"$ref":"#/$defs/csv"}"##, "What a CSV answer holds: `{columns: [imo, vessel], file: bills.csv}`.";
    "deprecated", TEXT, "Since when it is deprecated: a date or an instant; answers carry `Deprecation` (RFC 9745).";
    "sunset", TEXT, "When it ends: a date or an instant; answers carry `Sunset` (RFC 8594).";
};
/// Keys of `csv`.
pub const CSV: &[KeySpec] = keys! {
    "columns", r#"{"type":"array","items":{"type":"string"}}"#, "The columns, in order; default: the members of the rows as they occur.";
    "file", TEXT, "The name under which browsers save it; default: `rows.csv`.";
    "formulas", r#"{"enum":["guard","keep"]}"#, "`guard` puts an apostrophe before texts that a spreadsheet would compute; `keep` leaves them. Default: `guard`.";
};
/// Keys of `access`, of which it has one.
pub const ACCESS: &[KeySpec] = keys! {
    "key", r##"{"$ref":"#/$defs/key_place"}"##, "Callers with a key, and where it stands: `{header: X-Office-Key}`.";
    "jwt", TEXT, "Callers with a token, by the name of its issuer.";
};
/// Keys of `access.key`.
pub const KEY_PLACE: &[KeySpec] = keys! {
    "header", TEXT, "The header field with the key, in place of `X-Api-Key`.";
    "query", TEXT, "A parameter of the query with the key, for callers that can do nothing else.";
};
/// Keys of `cors`.
pub const CORS: &[KeySpec] = keys! {
    "origins", r#"{"type":"array","items":{"type":"string"}}"#, "The origins of the pages: `https://app.example`, without a path.";
    "headers", r#"{"type":"array","items":{"type":"string"}}"#, "Header fields that pages may send beside the usual ones; default: `[Authorization, Content-Type]`.";
    "credentials", r#"{"type":"boolean"}"#, "Whether cookies and HTTP authentication may come along; default: false.";
    "max_age", DURATION, "How long a browser may remember what is allowed; default: 10min.";
};
/// Keys of `cache`.
pub const CACHE: &[KeySpec] = keys! {
    "for", DURATION, "How long an answer is fresh.";
    "vary", r#"{"type":"array","items":{"type":"string"}}"#, "Header fields of the request that choose between answers.";
    "etag", r#"{"type":"boolean"}"#, "Whether answers carry a validator of their bytes, so that what did not change is answered 304; default: true.";
};

const SECRETS: &str = r#"{"type":["string","array"],"items":{"type":"string"},"maxItems":3}"#;

/// Keys of a webhook.
pub const WEBHOOK: &[KeySpec] = keys! {
    "webhook", r#"{"type":"string","pattern":"^/"}"#, "The path at which messages of a sender arrive: `/from/customs`.";
    "host", TEXT, "The address in front of its path: a host name, a path prefix, or both: `api.lindvik.example/v1`. Only requests to that host reach it; default: every host.";
    "proof", r##"{"oneOf":[{"enum":["none"]},{"$ref":"#/$defs/proof"}]}"##, "How a sender proves that a message is its own: `{standard: SECRET}` (Standard Webhooks), `{hmac: {…}}` for other signatures, `{bearer: SECRET}`, `{basic: SECRET}`, `{query: {name, secret}}`, or `none`.";
    "from", r#"{"type":"array","items":{"type":"string"}}"#, "The networks that messages may come from, in CIDR notation: `[192.0.2.0/24]`; default: any.";
    "methods", r#"{"type":"array","items":{"enum":["POST","PUT","PATCH"]}}"#, "The methods that messages arrive by; default: `[POST]`.";
    "send", VALUES, "The input, from the message: `{decision: \"${delivery.body.data.decision}\"}`; `delivery` has `id`, `at`, `method`, `query`, `headers`, `body`. By default members of the body are the input.";
    "once_per", r##"{"oneOf":[{"type":"string"},{"$ref":"#/$defs/once_per"}]}"##, "What tells messages apart: `${delivery.headers['webhook-id']}`. One that comes again within 7 days, or `{key: …, for: 2 days}`, is answered like the first and not processed again. Default with `standard`: the `webhook-id`.";
    "echo", TEXT, "A value of the message that the sender wants back when it verifies the address: `${delivery.query.challenge}`. GET is allowed then.";
    "answer", r#"{"enum":["later","now"]}"#, "`later`: 202 when the message is kept, and a job processes it; `now`: the reply of the run. Default: `later`.";
    "limits", r##"{"$ref":"#/$defs/limits"}"##, "The longest a message may take and the largest body.";
};
/// Keys of `proof`, of which it has one.
pub const PROOF: &[KeySpec] = keys! {
    "standard", SECRETS, "The secret of signatures by Standard Webhooks; a list of two while one replaces the other.";
    "hmac", r##"{"$ref":"#/$defs/hmac"}"##, "Another scheme of signatures by keyed hash: what is signed, how, and where the signature stands.";
    "bearer", SECRETS, "The secret that stands in `Authorization: Bearer`.";
    "basic", SECRETS, "The secret `user:password` of `Authorization: Basic`.";
    "query", r##"{"$ref":"#/$defs/in_query"}"##, "A secret in the query, for senders that can do nothing else.";
    "jwt", TEXT, "A token in `Authorization: Bearer`, by the name of its issuer.";
};
/// Keys of `sign`, of which it has one.
pub const SIGN: &[KeySpec] = keys! {
    "standard", TEXT, "The secret that signs by Standard Webhooks.";
    "hmac", r##"{"$ref":"#/$defs/hmac"}"##, "Another scheme of signatures by keyed hash, as for a webhook.";
};
/// Keys of `proof.hmac`.
pub const HMAC: &[KeySpec] = keys! {
    "secret", SECRETS, "The secret that signs; a list of two while one replaces the other.";
    "header", TEXT, "The header field with the signature: `X-Signature`.";
    "algorithm", r#"{"enum":["sha256","sha512","sha1"]}"#, "The hash; default: `sha256`.";
    "encoding", r#"{"enum":["hex","base64"]}"#, "How the signature is written; default: `hex`.";
    "prefix", TEXT, "What stands before the signature: `sha256=`.";
    "part", TEXT, "The part of the field that is the signature, where it holds several: `v1` of `t=1804140000,v1=5d41…`.";
    "over", TEXT, "What is signed: `${header.X-Time}.${body}`; parts are `body`, `header.Name`, `part.name`, `method`, `path`, `query`, `url`. Default: `${body}`.";
    "key", r#"{"enum":["text","hex","base64"]}"#, "How the text of the secret becomes bytes; default: `text`.";
    "time", TEXT, "Where the time of the message stands, as `header.X-Time` or `part.t`: older ones are refused.";
    "within", DURATION, "How far that time may be from now; default: `5min`.";
};
/// Keys of `proof.query`.
pub const IN_QUERY: &[KeySpec] = keys! {
    "name", TEXT, "The name of the parameter.";
    "secret", SECRETS, "The secret that it holds.";
};
/// Keys of `once_per`.
pub const ONCE_PER: &[KeySpec] = keys! {
    "key", TEXT, "What tells messages apart: `${delivery.headers['webhook-id']}`; one without a value is always processed.";
    "for", DURATION, "How long a message is remembered; default: `7 days`.";
};

/// Keys of a changed row.
pub const CHANGE: &[KeySpec] = keys! {
    "change", TEXT, "The table whose rows are watched: `bill`.";
    "database", TEXT, "Its database, as `sql` steps name it.";
    "of", r#"{"type":"array","items":{"enum":["insert","update","delete"]}}"#, "What must happen to a row; default: any of `[insert, update, delete]`.";
    "when", CONDITION, "What must hold, over `before` and `after`: `after.paid && !before?.paid`; changes for which it does not begin nothing.";
    "send", VALUES, "The input, from the change: `{bill: \"${after.id}\"}`; `change` has `of` and `at`. By default columns of the row are the inputs of the same name.";
};

/// Keys of a timetable by pattern.
pub const TIMETABLE: &[KeySpec] = keys! {
    "timetable", r#"{"type":["string","array"],"items":{"type":"string"}}"#, "When a job is due: a pattern of five fields (minute, hour, day of month, month, weekday), or a list of them.";
    "zone", TEXT, "The time zone of the pattern, as the IANA names it: `Europe/Oslo`; default: `UTC`.";
    "from", TEXT, "Not before this instant.";
    "until", TEXT, "Not after this instant.";
    "missed", r#"{"enum":["skip","once","all"]}"#, "What becomes of times that passed while nothing ran: left out, made up for once, or each. Default: `skip`.";
    "overlap", r#"{"enum":["allow","skip","wait"]}"#, "What happens when the previous job has not ended: run beside it, skip this time, or queue behind it. Default: `allow`.";
    "send", VALUES, "The input of the job; `due` is the instant it is due.";
};
/// Keys of a timetable by interval.
pub const EVERY: &[KeySpec] = keys! {
    "every", DURATION, "When a job is due: at this interval, counted from `from`, else from 1970.";
};

/// Keys of `queue`.
pub const QUEUE: &[KeySpec] = keys! {
    "lane", TEXT, "The lane its jobs wait in; default: `main`. An expression chooses among lanes: `${input.urgent ? 'express' : 'main'}`.";
    "priority", r#"{"type":"integer","minimum":1,"maximum":9}"#, "1 goes first, 9 last; default: 5.";
    "tag", TAGS, "By which its jobs can be found and cancelled, or a list of at most eight: `[\"hold-${input.berth}\", \"vessel-${input.imo}\"]`.";
    "retry", r##"{"$ref":"#/$defs/retry"}"##, "Which failures are retried, when and how often: `{attempts: 6, first: 10s, factor: 2, max: 10min}`.";
    "results", DURATION, "How long a result can be had after the end; default: `24h`.";
    "notify", r##"{"$ref":"#/$defs/notify"}"##, "Notifies an address when the job has ended: `{to: \"${input.notify}\", secret: notify-key}`.";
};
/// Keys of `queue.notify`.
pub const NOTIFY: &[KeySpec] = keys! {
    "to", TEXT, "The address, often one of the input: `${input.notify}`; no notice is sent where it is null.";
    "secret", TEXT, "The name of the secret that signs it (Standard Webhooks).";
    "network", r#"{"enum":["public","private"]}"#, "`private` allows private addresses; default: `public`.";
};

/// Keys of an endpoint's `limits`.
pub const LIMITS: &[KeySpec] = keys! {
    "time", DURATION, "How long a request may take.";
    "body", r#"{"type":["string","integer"]}"#, "The largest body: bytes, or `64 KiB`, `2 MiB`.";
    "at_once", r#"{"type":"integer","minimum":1,"maximum":10000}"#, "The most runs of an endpoint at once, over all processes.";
    "beyond", r#"{"enum":["refuse","wait"]}"#, "What becomes of requests beyond them: `refuse` answers 429, `wait` keeps them within their time. Default: `refuse`.";
};

/// Keys that every step may have.
pub const COMMON: &[KeySpec] = keys! {
    "id", r#"{"type":"string"}"#, "The name of the step's result.";
    "about", TEXT, "What the step is for.";
    "when", CONDITION, "The step is skipped unless this holds.";
    "off", r#"{"type":"boolean"}"#, "Kept but not run.";
    "catch", STEPS, "Steps that run when the step fails; `failure` describes how.";
};

/// Keys of a `call` step.
pub const CALL: &[KeySpec] = keys! {
    "call", TEXT, "`service.operation`, or a method and a URI template.";
    "service", TEXT, "The service of a call by URI template, where several have its base address.";
    "send", VALUES, "Parameters and body members of the operation, or variables of the template.";
    "headers", VALUES, "Request headers.";
    "body", ANY, "The whole request body.";
    "as", r#"{"enum":["json","form","form-brackets","text","multipart"]}"#, "How the body is encoded; default: as the operation declares. Nested values of a `form` are JSON, those of `form-brackets` have names such as `stay[from]`.";
    "accept", r#"{"type":"array","items":{"type":["integer","string"]}}"#, "Statuses that are no failure: `[200, 404]`, `[2xx]`. Default: 2xx.";
    "sign", r##"{"$ref":"#/$defs/sign"}"##, "Signs the message as a receiver of webhooks expects it: `{standard: SECRET}` (Standard Webhooks), or `{hmac: {…}}`.";
    "within", DURATION, "How long one attempt may take; default: 10s.";
    "retry", r##"{"allOf":[{"$ref":"#/$defs/retry"},{"properties":{"attempts":{"maximum":20}}}]}"##, "Which failures are retried, when and how often.";
    "safe", r#"{"type":"boolean"}"#, "`true`: repeating it does no harm, so it may be retried whatever its method.";
    "unless", r##"{"$ref":"#/$defs/unless"}"##, "A call that finds out whether an earlier attempt did the work, before it is repeated: then its answer is the result.";
};
/// Keys of the question of a call.
pub const UNLESS: &[KeySpec] = keys! {
    "call", TEXT, "`service.operation`, or a method and a URI template.";
    "service", TEXT, "The service of a call by URI template, where several have its base address.";
    "id", TEXT, "The name of the answer, for `done`.";
    "about", TEXT, "A note for readers.";
    "send", VALUES, "Parameters and body members of the operation, or variables of the template.";
    "headers", VALUES, "Request headers.";
    "body", ANY, "The whole request body.";
    "as", r#"{"enum":["json","form","form-brackets","text","multipart"]}"#, "How the body is encoded; default: as the operation declares.";
    "accept", r#"{"type":"array","items":{"type":["integer","string"]}}"#, "Statuses that mean the work is done; default: 2xx. Others than 404 and 410, which mean that it is not, are failures.";
    "done", CONDITION, "What must hold of such an answer, where not each means that the work is done: `earlier.body.length > 0`.";
    "within", DURATION, "How long one attempt may take; default: 10s.";
    "retry", r##"{"allOf":[{"$ref":"#/$defs/retry"},{"properties":{"attempts":{"maximum":20}}}]}"##, "Which failures of the question are retried; default: as those of the call.";
    "safe", r#"{"type":"boolean"}"#, "`true`: asking does no harm, although its method is not GET.";
};

/// Keys of `retry`.
pub const RETRY: &[KeySpec] = keys! {
    "attempts", r#"{"type":"integer","minimum":1,"maximum":101}"#, "All attempts, the first one included; calls at most 20. Default: 3 for a call, 4 for a job.";
    "first", DURATION, "Pause before the second attempt. Default: 200ms for a call, 10s for a job.";
    "factor", r#"{"type":"number"}"#, "By how much each further pause is longer; 2 by default.";
    "max", DURATION, "The longest pause. Default: 10s for a call, 1h for a job.";
    "on", r#"{"type":"array"}"#, "What is retried: `unreachable`, `timeout`, `broken`, other failure kinds, statuses.";
};

/// Keys of a `let` step.
pub const LET: &[KeySpec] = keys! { "let", VALUES, "Names values."; };
/// Keys of an `if` step.
pub const IF: &[KeySpec] = keys! {
    "if", CONDITION, "Which branch is taken.";
    "then", STEPS, "Steps when it holds.";
    "else", STEPS, "Steps when it does not.";
};
/// Keys of a `match` step.
pub const MATCH: &[KeySpec] = keys! {
    "match", CONDITION, "What is compared with each arm.";
    "arms", r##"{"oneOf":[{"type":"object","additionalProperties":{"$ref":"#/$defs/steps"}},{"type":"array","items":{"$ref":"#/$defs/arm"}}]}"##, "Steps by value: `{cargo: […]}`; or a list of arms, each with `in`, a list of values, or a range.";
    "else", STEPS, "Steps when no arm fits.";
};
/// Keys of an arm in a list of arms.
pub const ARM: &[KeySpec] = keys! {
    "in", r#"{"type":"array"}"#, "The values it is for: `[cargo, tanker]`.";
    "from", r#"{"type":["number","string"]}"#, "The least value of a range, which belongs to it.";
    "above", r#"{"type":["number","string"]}"#, "The lower bound of a range, which does not belong to it.";
    "to", r#"{"type":["number","string"]}"#, "The greatest value of a range, which belongs to it.";
    "below", r#"{"type":["number","string"]}"#, "The upper bound of a range, which does not belong to it.";
    "steps", STEPS, "Steps for these values.";
};
/// Keys of a `note` step.
pub const NOTE: &[KeySpec] = keys! { "note", ANY, "A line in the journal."; };
/// Keys of a `reply` step.
pub const REPLY: &[KeySpec] = keys! {
    "reply", r#"{"type":["integer","string"]}"#, "The status of the answer.";
    "headers", VALUES, "Its headers.";
    "body", ANY, "Its body: text, or anything else as JSON.";
};
/// Keys of a `fail` step.
pub const FAIL: &[KeySpec] = keys! {
    "fail", r#"{"type":["integer","string"]}"#, "The status of the problem (RFC 9457).";
    "title", TEXT, "What kind of problem this is.";
    "detail", TEXT, "What happened this time.";
    "type", TEXT, "A URI for the kind of problem.";
    "with", VALUES, "Further members of the problem.";
};

/// Keys of an `each` step.
pub const EACH: &[KeySpec] = keys! {
    "each", TEXT, "The name of the item in the steps.";
    "in", CONDITION, "The list, as an expression.";
    "position", TEXT, "The name of the item's position, from 0.";
    "steps", STEPS, "Steps for each item.";
    "at_once", r#"{"type":"integer","minimum":1,"maximum":64}"#, "How many items are worked on at once; default: 1.";
    "collect", ANY, "The value kept of each item; the step's result is their list.";
    "until", CONDITION, "Behind the first item for which this holds no further ones begin: `page.body.items.length === 0`.";
    "settle", r#"{"enum":["all"]}"#, "`all`: a failure ends only its own item.";
};
/// Keys of a `together` step.
pub const TOGETHER: &[KeySpec] = keys! {
    "together", r##"{"type":"object","additionalProperties":{"oneOf":[{"$ref":"#/$defs/step"},{"$ref":"#/$defs/steps"}]}}"##, "Branches that run at the same time, each a step or a list of steps, by the name of its result.";
    "settle", r#"{"enum":["all"]}"#, "`all`: a failure ends only its own branch.";
};
/// Keys of an `invoke` step.
pub const INVOKE: &[KeySpec] = keys! {
    "invoke", TEXT, "The workflow that runs inside this run.";
    "send", VALUES, "Its input.";
};
/// Keys of a `sql` step.
pub const SQL: &[KeySpec] = keys! {
    "sql", TEXT, "The name of the database, as the service is configured.";
    "statement", TEXT, "One statement with named parameters: `SELECT name FROM vessel WHERE imo = :imo`.";
    "bind", VALUES, "Values of the parameters.";
    "statements", r##"{"type":"array","items":{"$ref":"#/$defs/statement"}}"##, "Several statements in one transaction, each with its `bind`.";
    "within", DURATION, "How long it may take; default: 5s.";
    "once", r#"{"type":"boolean"}"#, "`false`: a job may repeat it after a crash; default: true, a writing step is performed once.";
    "from", CONDITION, "Rows for each of which the statement is performed, all in one transaction: what `file: read` returns, or a list. Parameters that are not bound are members of the row.";
    "into", r#"{"enum":["csv","ndjson","json"]}"#, "Writes the rows that a query returns into a file, however many they are; the result is the file.";
    "columns", r#"{"type":"array","items":{"type":"string"}}"#, "The columns of the CSV file, in order; default: those of the query.";
    "formulas", r#"{"enum":["guard","keep"]}"#, "`guard` puts an apostrophe before texts that a spreadsheet would compute; `keep` leaves them. Default: `guard`.";
    "name", TEXT, "The name of the new file: `bills.csv`.";
};
/// Keys of a `file` step.
pub const FILE_WORK: &[KeySpec] = keys! {
    "file", r#"{"enum":["store","fetch","list","remove","link","zip","unzip","read","write"]}"#, "What is done with files: `store` one in places, `fetch`, `list` or `remove` those of a place, `link` for a download, `zip` several, `unzip` one, `read` rows of one or several, `write` rows into a new one.";
    "of", ANY, "The file (`store`, `unzip`, `read`), files (`zip`, `read`) or rows (`write`): `${input.crew}`.";
    "format", r#"{"enum":["json","ndjson","csv","text","xml","yaml"]}"#, "The format of the rows; `write` knows `csv`, `ndjson` and `json`.";
    "row", r#"{"type":"object","additionalProperties":{"type":"object"}}"#, "The members of a row, each a JSON Schema; texts become numbers where it says so, other members are dropped: `{imo: {type: string}, weight: {type: number}}`.";
    "delimiter", TEXT, "What stands between the fields of a CSV file; default: a comma.";
    "encoding", TEXT, "The character encoding, by its label: `windows-1252`; default: UTF-8.";
    "element", TEXT, "The elements of an XML file that are rows; default: those inside the root.";
    "whole", r#"{"type":"boolean"}"#, "`true` makes the rows a list, of at most 16 MiB and 100,000 rows; otherwise they are read where they are used.";
    "columns", r#"{"type":"array","items":{"type":"string"}}"#, "The columns of a CSV file, in order; default: the members of the first row.";
    "formulas", r#"{"enum":["guard","keep"]}"#, "`guard` puts an apostrophe before texts that a spreadsheet would compute; `keep` leaves them. Default: `guard`.";
    "to", VALUES, "The places, and the path in each: `{archive: \"crew/${input.imo}.pdf\"}`.";
    "from", VALUES, "The place and a path in it: `{archive: \"crew/${input.imo}.pdf\"}`; for `remove` also a list of paths.";
    "existing", r#"{"enum":["refuse","replace"]}"#, "What happens when another file has the path: the step fails with `exists`, or the file is replaced. Default: `refuse`; the same bytes are never refused.";
    "most", r#"{"type":"integer","minimum":1,"maximum":10000}"#, "The most entries of a list; default: 1000.";
    "for", TEXT, "How long a link is valid: `1h`; default: `15min`, at most 7 days.";
    "name", TEXT, "The name of the new file (`zip`, `write`): `papers.zip`.";
    "within", DURATION, "How long it may take; default: 60s.";
};
/// Keys of a `render` step.
pub const RENDER: &[KeySpec] = keys! {
    "render", r#"{"enum":["html","text","pdf","csv"]}"#, "What a template makes: `html` or `text` (a text, or a file where it has a `name`), `csv`, `pdf` (a file).";
    "template", TEXT, "The template, a file beside the document: `reports/month.html`.";
    "with", VALUES, "The values that the template knows, by name.";
    "files", VALUES, "Files that a page may show, by the name that the page has for them: `{scan.png: \"${input.scan}\"}`.";
    "name", TEXT, "The name of the new file: `month.pdf`.";
    "pages", r#"{"type":"integer","minimum":1,"maximum":2000}"#, "The most pages of a PDF; default: 200.";
    "within", DURATION, "How long printing may take; default: 60s.";
};
/// Keys of a `mail` step.
pub const MAIL: &[KeySpec] = keys! {
    "mail", r##"{"$ref":"#/$defs/mail"}"##, "A message: `{to, subject, text}`.";
    "within", DURATION, "How long the mail server may take; default: 60s.";
};
/// Keys of `mail`.
pub const MAIL_PARTS: &[KeySpec] = keys! {
    "to", ANY, "The address, or a list of addresses: `Harbour Office <office@lindvik.example>`.";
    "cc", ANY, "Addresses that get a copy.";
    "bcc", ANY, "Addresses that get a copy unseen by the others.";
    "reply_to", TEXT, "Where replies go.";
    "subject", TEXT, "What it is about.";
    "text", TEXT, "Its text; made from `html` where it is missing.";
    "html", TEXT, "The same as a page.";
    "attach", ANY, "A file, or a list of files: `${report}`.";
};
/// Keys of one of several statements.
pub const STATEMENT: &[KeySpec] = keys! {
    "statement", TEXT, "One statement with named parameters.";
    "bind", VALUES, "Values of the parameters.";
};
/// Keys of a `keep` step.
pub const KEEP: &[KeySpec] =
    keys! { "keep", VALUES, "Values remembered for later runs of this workflow, as `kept.name`."; };
/// Keys of a `script` step.
pub const SCRIPT: &[KeySpec] = keys! {
    "script", TEXT, "ECMAScript statements over the names of the workflow; what they `return` is the result.";
};
/// Keys of a `pause` step.
pub const PAUSE: &[KeySpec] = keys! {
    "pause", r#"{"oneOf":[{"type":"string"},{"type":"object","properties":{"until":{}},"required":["until"],"additionalProperties":false}]}"#, "How long to wait: `5s`, `${…}`, or `{until: instant}`.";
};

/// Keys of an `enqueue` step.
pub const ENQUEUE: &[KeySpec] = keys! {
    "enqueue", TEXT, "The workflow that runs as a job of its own.";
    "send", VALUES, "Its input.";
    "after", TEXT, "How long from now it is due: `2 days`.";
    "at", TEXT, "The instant it is due.";
    "lane", TEXT, "The lane it waits in, when not the workflow's own; also an expression that chooses among lanes.";
    "tag", TAGS, "By which it can be found and cancelled, or a list of at most eight.";
    "priority", r#"{"type":"integer","minimum":1,"maximum":9}"#, "1 goes first, 9 last.";
    "each", TEXT, "One job for each item of a list, together a group: the item's name in `send`, `tag`, `after` and `at`.";
    "in", CONDITION, "The list, as an expression.";
    "spacing", TEXT, "How far apart the jobs of a list are due: `2s`.";
};
/// Keys of a `cancel` step.
pub const CANCEL: &[KeySpec] = keys! {
    "cancel", r#"{"oneOf":[{"type":"string"},{"type":"array"},{"type":"object","properties":{"tag":{"type":"string"}},"required":["tag"],"additionalProperties":false}]}"#, "A job's id, a list of them, or `{tag: …}`.";
};
/// Keys of an `await` step.
pub const AWAIT: &[KeySpec] = keys! {
    "await", TEXT, "The name under which its steps know the address: `await: verdict`, then `${verdict.url}`.";
    "steps", STEPS, "Steps that pass the address on.";
    "by", TEXT, "A key, known when the steps are done: `${order.body.number}`. A `wake` step of another workflow finds the run by it, so that no address is needed.";
    "schema", r#"{"type":["object","boolean"]}"#, "The JSON Schema of what may come. Anything else is answered 422, and the run still waits.";
    "until", TEXT, "An instant, or a span from when the step began; then it fails with the kind `timeout`.";
};
/// Keys of a `wake` step.
pub const WAKE: &[KeySpec] = keys! {
    "wake", TEXT, "The workflow whose run waits, by `await` with `by`.";
    "by", TEXT, "The key of the run: `${input.number}`.";
    "body", ANY, "What the step that waits returns.";
    "for", DURATION, "How long it is kept for a run that does not wait yet; default: 1 day, at most 30.";
};
/// Keys of a `progress` step.
pub const PROGRESS: &[KeySpec] = keys! {
    "progress", r#"{"type":["number","string"]}"#, "How far the run is, from 0 to 1; clients that poll see it.";
};

/// The step kinds: the key that names each, and its table.
pub const STEP_KINDS: &[(&str, &[KeySpec])] = &[
    ("call", CALL),
    ("let", LET),
    ("script", SCRIPT),
    ("if", IF),
    ("match", MATCH),
    ("each", EACH),
    ("together", TOGETHER),
    ("invoke", INVOKE),
    ("sql", SQL),
    ("file", FILE_WORK),
    ("render", RENDER),
    ("mail", MAIL),
    ("keep", KEEP),
    ("pause", PAUSE),
    ("enqueue", ENQUEUE),
    ("cancel", CANCEL),
    ("await", AWAIT),
    ("wake", WAKE),
    ("note", NOTE),
    ("progress", PROGRESS),
    ("reply", REPLY),
    ("fail", FAIL),
];
