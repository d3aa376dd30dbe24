/** Documents in files and ZIP archives: read from what is dropped on a page, and packed for a download. */
import { strFromU8, strToU8, unzipSync, zipSync } from 'fflate';
import type { Document, Export, ExportedSecret } from '../api/types';

/** The most files and bytes that are read. */
const MOST_FILES = 5000;
const MOST_BYTES = 128 << 20;
/** Beside the documents: what is no document. */
const MANIFEST = 'export.json';

/** What was read, by what it is. */
export interface Packed {
  documents: Document[];
  /** Cases by the workflow they are for; they stay drafts. */
  cases: { workflow: string; text: string }[];
  /** Other files by path. */
  files: Record<string, string>;
  secrets: ExportedSecret[];
}

/** Kind and name of a document: its first key. */
export function kindOf(text: string): { kind: string; name: string } | undefined {
  const first = text.split('\n').find((line) => line.trim() && !/^\s*(#|---)/.test(line)) ?? '';
  const found = /^(workflow|service|cases|lane|settings|database):\s*["']?([\w-]+)/.exec(first);
  return found ? { kind: found[1] ?? '', name: found[2] ?? '' } : undefined;
}

export function sort(texts: Map<string, string>): Packed {
  const out: Packed = { documents: [], cases: [], files: {}, secrets: [] };
  for (const [path, text] of texts) {
    const found = /\.ya?ml$/.test(path) ? kindOf(text) : undefined;
    if (path === MANIFEST || path.endsWith(`/${MANIFEST}`)) out.secrets = (JSON.parse(text) as { secrets?: ExportedSecret[] }).secrets ?? [];
    else if (found?.kind === 'cases') out.cases.push({ workflow: found.name, text });
    else if (found) out.documents.push({ path, text });
    else out.files[path] = text;
  }
  return out;
}

/** The files of an archive. Throws where it is none, or too large. */
export function unpacked(bytes: Uint8Array): Map<string, string> {
  const out = new Map<string, string>();
  let [files, size] = [0, 0];
  const all = unzipSync(bytes, {
    filter: (file) => {
      files += 1;
      size += file.originalSize;
      if (files > MOST_FILES || size > MOST_BYTES) throw new Error(`The archive has more than ${MOST_FILES} files or ${MOST_BYTES >> 20} MiB.`);
      return !file.name.endsWith('/');
    },
  });
  for (const [path, content] of Object.entries(all)) {
    if (path.startsWith('/') || path.split('/').includes('..')) throw new Error(`The archive has a file outside of its folder: ${path}`);
    out.set(path, strFromU8(content));
  }
  return out;
}

/** A path that is not used yet: files of several folders may have one name. */
function free(taken: Map<string, string>, path: string): string {
  let free = path;
  for (let number = 2; taken.has(free); number += 1) free = `${number}/${path}`;
  return free;
}

/** Reads files, folders and archives that were dropped or chosen. */
export async function readFiles(files: { path: string; file: File }[]): Promise<Packed> {
  const out = new Map<string, string>();
  let size = 0;
  for (const { path, file } of files) {
    size += file.size;
    if (out.size > MOST_FILES || size > MOST_BYTES) throw new Error(`More than ${MOST_FILES} files or ${MOST_BYTES >> 20} MiB.`);
    if (path.endsWith('.zip')) for (const [inner, text] of unpacked(new Uint8Array(await file.arrayBuffer()))) out.set(inner, text);
    else out.set(free(out, path), await file.text());
  }
  return sort(out);
}

/** The files below what was dropped, folders included. */
export async function dropped(drop: DataTransfer): Promise<{ path: string; file: File }[]> {
  const out: { path: string; file: File }[] = [];
  const walk = async (entry: FileSystemEntry, path: string): Promise<void> => {
    if (entry.isFile) {
      const file = await new Promise<File>((resolve, reject) => (entry as FileSystemFileEntry).file(resolve, reject));
      out.push({ path: path + entry.name, file });
      return;
    }
    const reader = (entry as FileSystemDirectoryEntry).createReader();
    for (;;) {
      const some = await new Promise<FileSystemEntry[]>((resolve, reject) => reader.readEntries(resolve, reject));
      if (!some.length || out.length > MOST_FILES) return;
      for (const inner of some) await walk(inner, `${path}${entry.name}/`);
    }
  };
  // Entries are gone after the first wait.
  const entries = [...drop.items].map((item) => item.webkitGetAsEntry()).filter((entry) => entry !== null);
  // What comes from a page and not from a disk has none.
  if (!entries.length) return [...drop.files].map((file) => ({ path: file.name, file }));
  for (const entry of entries) await walk(entry, '');
  return out;
}

/** An export as a ZIP archive. */
export function packed(exported: Export): Uint8Array<ArrayBuffer> {
  const files: Record<string, Uint8Array> = {};
  for (const document of exported.documents) files[document.path] = strToU8(document.text);
  for (const [path, text] of Object.entries(exported.files)) files[path] = strToU8(text);
  files[MANIFEST] = strToU8(`${JSON.stringify({ kept: exported.kept, secrets: exported.secrets }, null, 2)}\n`);
  return zipSync(files) as Uint8Array<ArrayBuffer>;
}
