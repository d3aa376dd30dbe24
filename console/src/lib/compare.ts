/** Comparisons of two texts, as they are drawn. */
import type { Part, Row, StepChange } from '../api/types';

export interface DiffLine {
  kind: 'added' | 'removed' | 'place' | 'same';
  text: string;
}

/** The lines of a unified diff, without the names of its files. */
export function diffLines(diff: string): DiffLine[] {
  const lines = diff.replace(/\n$/, '').split('\n');
  return lines
    .filter((line) => !line.startsWith('--- ') && !line.startsWith('+++ '))
    .map((text) => {
      const first = text[0];
      const kind = first === '+' ? 'added' : first === '-' ? 'removed' : first === '@' ? 'place' : 'same';
      return { kind, text };
    });
}

/** A paragraph of a comparison: as it is now, or as it was where it is gone. */
export interface ComparedLine {
  mark: StepChange['change'] | 'same';
  part: Part;
  /** The paragraph before, where it was there. */
  old: Part | undefined;
  rows: Row[];
}

/** The paragraphs of two texts in one order: those that are gone stand where they stood. */
export function inPlace(before: Part[], after: Part[], changes: StepChange[]): ComparedLine[] {
  const byAfter = new Map(changes.filter((one) => one.after !== '').map((one) => [one.after, one]));
  const lines: ComparedLine[] = after.map((part) => {
    const change = part.number ? byAfter.get(part.number) : undefined;
    if (change) return { mark: change.change, part, old: before.find((one) => one.number === change.before && change.before !== ''), rows: change.rows ?? [] };
    if (part.number) return { mark: 'same', part, old: undefined, rows: [] };
    // What stands above the steps is compared paragraph by paragraph.
    const old = before.find((one) => one.at === part.at);
    if (!old) return { mark: 'added', part, old, rows: [] };
    const rows = rowsThatDiffer(old, part);
    return { mark: rows.length ? 'changed' : 'same', part, old, rows };
  });
  const gone = [
    ...before.filter((part) => !part.number && !after.some((one) => one.at === part.at)),
    ...changes.filter((one) => one.change === 'removed').flatMap((one) => before.filter((part) => part.number === one.before)),
  ];
  for (const part of gone) {
    const behind = lines.findIndex((line) => line.mark !== 'removed' && order(line.part.number, part.number) >= 0 && line.part.number !== '');
    const at = part.number === '' ? lines.findIndex((line) => line.part.number !== '') : behind;
    lines.splice(at < 0 ? lines.length : at, 0, { mark: 'removed', part, old: part, rows: [] });
  }
  return lines;
}

/** Compares numbers such as `2.1` and `10`. */
function order(a: string, b: string): number {
  const [left, right] = [a.split('.').map(Number), b.split('.').map(Number)];
  for (let at = 0; at < Math.max(left.length, right.length); at += 1) {
    const difference = (left[at] ?? -1) - (right[at] ?? -1);
    if (difference !== 0) return difference;
  }
  return 0;
}

function rowsThatDiffer(before: Part, after: Part): Row[] {
  const all = (part: Part) => new Map([...(part.title ? [[part.kind, part.title] as [string, string]] : []), ...(part.rows ?? [])]);
  const [old, now] = [all(before), all(after)];
  const keys = [...new Set([...old.keys(), ...now.keys()])];
  return keys
    .map((key) => ({ key, before: old.get(key) ?? '', after: now.get(key) ?? '' }))
    .filter((row) => row.before !== row.after);
}
