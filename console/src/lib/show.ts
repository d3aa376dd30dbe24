/** How values, times and spans are written. */
import { zone } from './zone.svelte';

export function took(micros: number | null | undefined): string {
  if (micros === null || micros === undefined) return '';
  if (micros < 1000) return '<1 ms';
  if (micros < 1_000_000) return `${Math.round(micros / 1000)} ms`;
  if (micros < 60_000_000) return `${(micros / 1_000_000).toFixed(1)} s`;
  if (micros < 3_600_000_000) return `${Math.floor(micros / 60_000_000)} min ${Math.floor((micros / 1_000_000) % 60)} s`;
  if (micros < 172_800_000_000) return `${Math.floor(micros / 3_600_000_000)} h ${Math.floor((micros / 60_000_000) % 60)} min`;
  return `${Math.floor(micros / 86_400_000_000)} days ${Math.floor((micros / 3_600_000_000) % 24)} h`;
}

export function ago(instant: string): string {
  const seconds = Math.max(0, (Date.now() - Date.parse(instant)) / 1000);
  if (seconds < 2) return 'just now';
  if (seconds < 90) return `${Math.round(seconds)} s ago`;
  if (seconds < 5400) return `${Math.round(seconds / 60)} min ago`;
  if (seconds < 129_600) return `${Math.round(seconds / 3600)} h ago`;
  return `${Math.round(seconds / 86_400)} days ago`;
}

/** An instant in the zone that the person chose. */
export function time(instant: string): string {
  return zone.text(instant);
}

/** The same with the name of the zone. */
export function clock(instant: string): string {
  return `${zone.text(instant)} ${zone.name}`;
}

export function count(n: number): string {
  return n.toLocaleString('en').replaceAll(',', '\u202f');
}

/** Bytes as people say them: `3.1 MB`. */
export function size(bytes: number): string {
  const units = ['bytes', 'kB', 'MB', 'GB', 'TB'];
  const power = Math.min(units.length - 1, Math.max(0, Math.floor(Math.log10(Math.max(bytes, 1)) / 3)));
  const scaled = bytes / 1000 ** power;
  return `${power > 0 && scaled < 100 ? scaled.toFixed(1) : Math.round(scaled)} ${units[power]}`;
}

/** A value on one line: `{ name: "Havbris", length_m: 132 }`. */
export function line(value: unknown): string {
  if (value === undefined) return '';
  if (Array.isArray(value)) return `[${value.map(line).join(', ')}]`;
  if (value !== null && typeof value === 'object') {
    const cut = (value as { $cut?: { bytes: number; begins: string } }).$cut;
    if (cut) return `${cut.begins}… (cut, ${count(cut.bytes)} bytes)`;
    const members = Object.entries(value).map(([key, member]) => `${key}: ${line(member)}`);
    return members.length ? `{ ${members.join(', ')} }` : '{}';
  }
  return JSON.stringify(value);
}

export function block(value: unknown): string {
  return typeof value === 'string' ? value : JSON.stringify(value, null, 2);
}

const ORDINALS = ['', '1st', '2nd', '3rd'];

export function ordinal(n: number): string {
  return ORDINALS[n] ?? `${n}th`;
}

export function capital(text: string): string {
  return text.charAt(0).toUpperCase() + text.slice(1);
}

/** Bytes in base64 (RFC 4648). */
export function encoded(buffer: ArrayBuffer): string {
  const bytes = new Uint8Array(buffer);
  let text = '';
  for (let at = 0; at < bytes.length; at += 0x8000) text += String.fromCharCode(...bytes.subarray(at, at + 0x8000));
  return btoa(text);
}
