// Drives `kanzlei language-server` with the protocol library of another language, and prints what it answers as JSON.
// Usage: node client.mjs PROGRAM FOLDER
import { spawn } from "node:child_process";
import { readFileSync } from "node:fs";
import { pathToFileURL } from "node:url";
import protocol from "vscode-languageserver-protocol/node";

const [program, folder] = process.argv.slice(2);
const child = spawn(program, ["language-server"], { stdio: ["pipe", "pipe", "inherit"] });
const connection = protocol.createProtocolConnection(
  new protocol.StreamMessageReader(child.stdout),
  new protocol.StreamMessageWriter(child.stdin),
);
const exited = new Promise((resolve) => child.on("exit", resolve));
const published = new Map();
const waiting = [];
connection.onNotification(protocol.PublishDiagnosticsNotification.type, (params) => {
  published.set(params.uri, params.diagnostics);
  waiting.splice(0).forEach((resolve) => resolve());
});
connection.listen();

/** Waits until the findings of a document are what is wanted. */
async function findings(uri, wanted) {
  while (!published.has(uri) || !wanted(published.get(uri))) await new Promise((resolve) => waiting.push(resolve));
  return published.get(uri);
}

const answers = {};
const initialized = await connection.sendRequest(protocol.InitializeRequest.type, {
  processId: process.pid,
  rootUri: pathToFileURL(folder).href,
  capabilities: { textDocument: { completion: { completionItem: { snippetSupport: true } } } },
});
answers.capabilities = Object.keys(initialized.capabilities).sort();
await connection.sendNotification(protocol.InitializedNotification.type, {});

const file = `${folder}/workflows/berth-quote.yaml`;
const uri = pathToFileURL(file).href;
let text = readFileSync(file, "utf8");
const open = { uri, languageId: "yaml", version: 1, text };
await connection.sendNotification(protocol.DidOpenTextDocumentNotification.type, { textDocument: open });
answers.clean = (await findings(uri, () => true)).length;

/** The position in front of a text, or behind so many of its characters. */
function at(piece, behind = 0) {
  const before = text.slice(0, text.indexOf(piece) + behind);
  const lines = before.split("\n");
  return { line: lines.length - 1, character: lines[lines.length - 1].length };
}
const textDocument = { uri };
let version = 1;
/** Replaces a text by another one, as typing does. */
async function type(piece, replacement) {
  const start = at(piece);
  const end = at(piece, piece.length);
  text = text.replace(piece, () => replacement);
  const change = { range: { start, end }, text: replacement };
  const params = { textDocument: { uri, version: ++version }, contentChanges: [change] };
  await connection.sendNotification(protocol.DidChangeTextDocumentNotification.type, params);
}

const hover = await connection.sendRequest(protocol.HoverRequest.type, { textDocument, position: at("tide.body.window", 2) });
answers.hover = hover.contents.value;
const definition = await connection.sendRequest(protocol.DefinitionRequest.type, {
  textDocument,
  position: at("registry.getVessel", 12),
});
answers.definition = definition.map((one) => one.uri.split("/").pop());
const references = await connection.sendRequest(protocol.ReferencesRequest.type, {
  textDocument,
  position: at("id: vessel", 5),
  context: { includeDeclaration: true },
});
answers.references = references.length;
const renamed = await connection.sendRequest(protocol.RenameRequest.type, {
  textDocument,
  position: at("id: tide", 5),
  newName: "window",
});
answers.renamed = Object.fromEntries(Object.entries(renamed.changes).map(([uri, edits]) => [uri.split("/").slice(-2).join("/"), edits.length]));
answers.refused = await connection
  .sendRequest(protocol.RenameRequest.type, { textDocument, position: at("id: tide", 5), newName: "vessel" })
  .then(() => "nothing", (error) => error.message);
const symbols = await connection.sendRequest(protocol.DocumentSymbolRequest.type, { textDocument });
answers.symbols = symbols.map((one) => [one.name, (one.children ?? []).map((child) => child.name)]);
const folds = await connection.sendRequest(protocol.FoldingRangeRequest.type, { textDocument });
answers.folds = folds.length;

// A slip, its finding, its fix, and the same text again.
await type("tide.body.window", "tyde.body.window");
const [found] = await findings(uri, (all) => all.length > 0);
answers.finding = { code: found.code, message: found.message };
const actions = await connection.sendRequest(protocol.CodeActionRequest.type, {
  textDocument,
  range: found.range,
  context: { diagnostics: [found] },
});
answers.fix = actions.map((one) => [one.title, one.edit.changes[uri][0].newText]);
await type("tyde.body.window", "tide.body.");
const members = await connection.sendRequest(protocol.CompletionRequest.type, {
  textDocument,
  position: at("tide.body.}", "tide.body.".length),
});
answers.members = members.items.map((one) => one.label);
await type("  - reply: 201", "  - \n  - reply: 201");
const steps = await connection.sendRequest(protocol.CompletionRequest.type, { textDocument, position: at("  - \n", 4) });
const call = steps.items.find((one) => one.label === "call");
answers.step = { format: call.insertTextFormat, text: call.textEdit.newText };

await connection.sendRequest(protocol.ShutdownRequest.type);
await connection.sendNotification(protocol.ExitNotification.type);
answers.exit = await exited;
connection.dispose();
console.log(JSON.stringify(answers));
