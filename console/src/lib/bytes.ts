/** Places in texts, as the service counts them: in bytes. */
import type { Edit } from '../api/types';

/** Bytes of a text before a position, as the service counts. */
export function bytes(text: string, position: number): number {
  return new TextEncoder().encode(text.slice(0, position)).length;
}

/** The position in a text behind so many bytes. */
export function position(text: string, bytes: number): number {
  let [at, seen] = [0, 0];
  while (at < text.length && seen < bytes) {
    const code = text.codePointAt(at) ?? 0;
    seen += code < 0x80 ? 1 : code < 0x800 ? 2 : code < 0x10000 ? 3 : 4;
    at += code < 0x10000 ? 1 : 2;
  }
  return at;
}

/** A text after edits, whose places are those of the text before. */
export function applied(text: string, edits: Edit[]): string {
  const all = new TextEncoder().encode(text);
  const decoder = new TextDecoder();
  let from = 0;
  let out = '';
  for (const edit of [...edits].sort((a, b) => a.start - b.start)) {
    out += decoder.decode(all.slice(from, edit.start)) + edit.text;
    from = edit.end;
  }
  return out + decoder.decode(all.slice(from));
}
