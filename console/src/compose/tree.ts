/** Places in the tree of a document, as the service writes them: `steps/2/then/0`. */
import type { At, Change, Part } from '../api/types';

export function parts(path: string): At[] {
  return path.split('/').filter(Boolean).map((part) => (/^\d+$/.test(part) ? Number(part) : part));
}

/** The list that a step stands in, and its position there; nothing for the single step of a branch. */
export function position(path: string): { list: string; at: number } | undefined {
  const cut = path.lastIndexOf('/');
  const last = path.slice(cut + 1);
  return cut > 0 && /^\d+$/.test(last) ? { list: path.slice(0, cut), at: Number(last) } : undefined;
}

export function within(path: string, outer: string): boolean {
  return path === outer || path.startsWith(`${outer}/`);
}

export function parent(path: string): string {
  return path.slice(0, Math.max(0, path.lastIndexOf('/')));
}

/** What the sheet calls a branch. */
export function branchName(branch: string | undefined | null): string {
  return ({ catch: 'when it fails', unless: 'before it is repeated: is it done?', on_failure: 'when the run fails' } as Record<string, string>)[branch ?? ''] ?? branch ?? '';
}

/** The step around a list: of `steps/2/then` it is `steps/2`; empty for the steps of the workflow. */
export function owner(list: string): string {
  const all = list.split('/');
  const named = all.at(-2) === 'arms' || all.at(-2) === 'together';
  return all.slice(0, named ? -2 : -1).join('/');
}

export const set = (path: string, value: string): Change => ({ change: 'set', at: parts(path), value });
export const text = (path: string, value: string): Change => ({ change: 'text', at: parts(path), text: value });
export const remove = (path: string): Change => ({ change: 'remove', at: parts(path) });
export const insert = (path: string, value: string): Change => ({ change: 'insert', at: parts(path), value });
export const rename = (path: string, name: string): Change => ({ change: 'rename', at: parts(path), name });
export const move = (from: string, to: string): Change => ({ change: 'move', from: parts(from), to: parts(to) });
export const duplicate = (path: string): Change => ({ change: 'duplicate', at: parts(path) });
export const unwrap = (path: string): Change => ({ change: 'unwrap', at: parts(path) });
export const wrap = (path: string, kind: string, under: string, count = 1): Change => ({
  change: 'wrap',
  at: parts(path),
  count,
  with: kind,
  under,
});

/** Where a step goes by a key: before the one above it, behind the one below it, into a branch, out of one. */
export function target(steps: Part[], path: string, where: 'up' | 'down' | 'in' | 'out'): string | undefined {
  const here = position(path);
  if (!here) return undefined;
  switch (where) {
    case 'up':
      return here.at > 0 ? `${here.list}/${here.at - 1}` : undefined;
    case 'down':
      return steps.some((step) => step.at === `${here.list}/${here.at + 1}`) ? `${here.list}/${here.at + 2}` : undefined;
    case 'in': {
      // Into the last branch of the step above.
      const above = steps.find((step) => step.at === `${here.list}/${here.at - 1}`);
      if (!above) return undefined;
      const inner = steps.filter((step) => within(step.at, above.at) && step.at !== above.at && step.depth === above.depth + 1);
      const last = inner.map((step) => position(step.at)).filter((found) => found !== undefined).at(-1);
      if (last) return `${last.list}/${last.at + 1}`;
      const empty = { if: 'then', each: 'steps', await: 'steps' }[above.kind];
      return empty ? `${above.at}/${empty}/0` : undefined;
    }
    case 'out': {
      const around = position(owner(here.list));
      return around ? `${around.list}/${around.at + 1}` : undefined;
    }
  }
}

/** The steps of one list from one to another, in order; one alone where they stand in different lists. */
export function between(steps: Part[], from: string, to: string): string[] {
  const [first, last] = [position(from), position(to)];
  if (!first || !last || first.list !== last.list) return [to];
  const [least, most] = [Math.min(first.at, last.at), Math.max(first.at, last.at)];
  return steps.map((step) => step.at).filter((at) => {
    const here = position(at);
    return here?.list === first.list && here.at >= least && here.at <= most;
  });
}

/** Steps as one text, as a list of a document has them. */
export function listed(steps: string[]): string {
  return steps.map((step) => step.trimEnd().split('\n').map((line, index) => (index === 0 ? `- ${line}` : line && `  ${line}`)).join('\n')).join('\n');
}

/** The steps of a text: one, or the items of a list. */
export function items(text: string): string[] {
  const lines = text.replace(/\r/g, '').trimEnd().split('\n');
  while (lines[0]?.trim() === '') lines.shift();
  if (!lines[0]?.trimStart().startsWith('- ')) return lines.length ? [lines.join('\n')] : [];
  const indent = lines[0].length - lines[0].trimStart().length;
  const out: string[][] = [];
  for (const line of lines) {
    if (line.startsWith('- ', indent)) out.push([line.slice(indent + 2)]);
    else out.at(-1)?.push(line.slice(Math.min(indent + 2, line.length - line.trimStart().length)));
  }
  return out.map((one) => one.join('\n'));
}

/** Where a step stands after it was moved: positions behind the place that it left count one less. */
export function moved(from: string, to: string): string {
  const left = position(from);
  if (!left) return to;
  const all = to.split('/');
  const depth = left.list.split('/').length;
  const index = Number(all[depth]);
  if (all.slice(0, depth).join('/') === left.list && index > left.at) all[depth] = String(index - 1);
  return all.join('/');
}
