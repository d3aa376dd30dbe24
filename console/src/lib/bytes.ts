/** Places in texts, as the service counts them: in bytes. */

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
