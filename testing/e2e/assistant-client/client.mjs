// Drives the assistant's server with the protocol's own client library, over standard input and output or over HTTP, and prints
// what it answers as JSON.
// Usage: node client.mjs stdio PROGRAM URL TOKEN [--allow-deploy]
//        node client.mjs http URL TOKEN [deploy]
import { Client } from "@modelcontextprotocol/sdk/client/index.js";
import { StdioClientTransport } from "@modelcontextprotocol/sdk/client/stdio.js";
import { StreamableHTTPClientTransport } from "@modelcontextprotocol/sdk/client/streamableHttp.js";

const [how, ...rest] = process.argv.slice(2);
const client = new Client({ name: "independent-client", version: "1.0.0" });
if (how === "stdio") {
  const [command, url, token, ...more] = rest;
  await client.connect(new StdioClientTransport({ command, args: ["--url", url, "mcp", ...more], env: { ...process.env, KANZLEI_TOKEN: token } }));
} else {
  const [url, token, allow] = rest;
  const headers = { authorization: `Bearer ${token}`, ...(allow ? { "kanzlei-allow": allow } : {}) };
  await client.connect(new StreamableHTTPClientTransport(new URL(`${url}/api/v1/mcp`), { requestInit: { headers } }));
}

const answers = { server: client.getServerVersion(), instructions: client.getInstructions() };
answers.tools = (await client.listTools()).tools.map((tool) => tool.name);
answers.resources = (await client.listResources()).resources.map((resource) => resource.uri);
answers.templates = (await client.listResourceTemplates()).resourceTemplates.length;
answers.prompts = (await client.listPrompts()).prompts.map((prompt) => `${prompt.name}(${prompt.arguments.map((one) => one.name)})`);

async function read(uri) {
  try {
    return (await client.readResource({ uri })).contents[0].text;
  } catch (error) {
    return `error: ${error.message}`;
  }
}
answers.read = {};
for (const uri of ["kanzlei://handbook/language", "kanzlei://schema/workflow", "kanzlei://example/iban-check", "kanzlei://finding/maybe-missing", "kanzlei://workflow/berth-quote", "kanzlei://service/tides", "kanzlei://workflow/nothing", "file:///etc/passwd"]) {
  answers.read[uri] = (await read(uri)).slice(0, 300);
}

/** The text of a tool's result; `error: …` where it is one. */
async function call(name, args) {
  try {
    const result = await client.callTool({ name, arguments: args });
    const text = result.content[0].text;
    return result.isError ? `error: ${text}` : text;
  } catch (error) {
    return `error: ${error.message}`;
  }
}
const json = async (name, args) => {
  const text = await call(name, args);
  return text.startsWith("error: ") ? text : JSON.parse(text);
};

const workflow = (reply) => `workflow: assisted\ninput: {imo: {type: string}}\nentries: [{endpoint: GET /assisted, access: open}]\nsteps:\n  - {id: vessel, call: registry.getVessel, send: {imo: "\${input.imo}"}, accept: [200, 404]}\n  - if: vessel.status === 404\n    then: [{fail: 404}]\n  - reply: 200\n    body: ${reply}\n`;
const cases = "cases: assisted\nexamples:\n  - name: known\n    request: GET /assisted?imo=9074720\n    stubs: {registry.getVessel: {body: {imo: '9074720', name: Havbris, kind: cargo, length_m: 100, draught_m: 6.2, flag: LIN}}}\n    expect: {reply: {status: 200, body: Havbris}}\n";
const documents = (text) => [{ path: "workflows/assisted.yaml", text }];
answers.search = (await json("search_examples", { need: "check an IBAN" }))[0].name;
answers.wrong = (await json("check", { documents: documents(workflow("${vessel.body.nmae}")) })).diagnostics.map((one) => one.code);
answers.right = (await json("check", { documents: documents(workflow("${vessel.body.name}")) })).diagnostics;
answers.complete = (await json("complete", { text: workflow("${vessel.body.}"), line: 9, column: 25 })).suggestions.slice(0, 8).map((one) => one.label);
answers.explained = (await call("explain_finding", { code: "maybe-missing" })).slice(0, 60);
answers.tried = await json("try", { workflow: "assisted", input: { imo: "9074720" }, documents: documents(workflow("${vessel.body.name}")) });
answers.saved = await json("save_draft", { text: workflow("${vessel.body.name}") });
answers.conflict = await call("save_draft", { text: workflow("other") });
answers.again = await json("save_draft", { text: workflow("${vessel.body.name}").replace("accept", "about: mine, accept"), version: answers.saved.version });
answers.cases = await json("save_draft", { text: cases });
const drafts = [{ kind: "workflow", name: "assisted" }, { kind: "cases", name: "assisted" }];
answers.rehearsed = await json("rehearse", { workflow: "assisted", drafts });
const prompt = async (name, args) => (await client.getPrompt({ name, arguments: args })).messages[0].content.text;
answers.draft = await prompt("draft_workflow", { wish: "Check an IBAN and say why it is not valid" });
answers.cover = await prompt("write_cases", { workflow: "assisted" });
answers.runs = await json("list_runs", { limit: 3 });
const run = answers.runs.runs?.[0]?.id;
answers.run = run ? Object.keys(await json("read_run", { id: run })) : [];
answers.failure = run ? (await prompt("explain_failure", { run })).slice(0, 80) : "";
answers.long = await call("read_run", { id: "å".repeat(70_000) });
answers.deployed = await call("deploy", { drafts });
if (!answers.deployed.startsWith("error: ")) {
  await json("save_draft", { text: workflow("${vessel.body.name}").replace("accept", "about: for few, accept") });
  answers.shared = await json("deploy", { drafts, gradual: { share: 10, margin: 2 } });
}
answers.discarded = await call("discard_draft", { kind: "cases", name: "assisted", version: answers.cases.version });
await client.close();
console.log(JSON.stringify(answers));
