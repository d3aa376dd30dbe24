/** What the margin of a sheet says of the steps of a run. */
import type { Input, Step } from '../api/types';
import { line, ordinal, took } from './show';

/** Steps by number: several for one in a loop. */
export function grouped(steps: Step[]): Map<string, Step[]> {
  const all = new Map<string, Step[]>();
  for (const step of steps) {
    const known = all.get(step.number);
    if (known) known.push(step);
    else all.set(step.number, [step]);
  }
  return all;
}

/** The step of a paragraph that is shown: of a loop's steps the one that failed, else the last. */
export function shownStep(taken: Step[] | undefined): Step | undefined {
  return taken?.find((step) => step.state === 'failed') ?? taken?.at(-1);
}

/** An input as the sheet names it: `imo`, `nights = 1`, `pin? (confidential)`. */
export function inputText(input: Input): string {
  const fallback = (input.schema as { default?: unknown }).default;
  const confidential = input.secret ? ' (confidential)' : '';
  if (fallback !== undefined) {
    return `${input.name} = ${typeof fallback === 'string' ? fallback : line(fallback)}${confidential}`;
  }
  return `${input.name}${input.required ? '' : '?'}${confidential}`;
}

function counted(n: number, what: string): string {
  return `${n} ${what}${n === 1 ? '' : 's'}`;
}

/** A step of a sheet, as far as its margin depends on it. */
interface Kind {
  kind: string;
}

/** The first line in the margin: status or truth, time, attempts. */
export function summary(paragraph: Kind, step: Step): string {
  const parts: string[] = [];
  const outcome = step.outcome as { status?: number } | null;
  if (step.state === 'skipped') return 'skipped';
  if (['call', 'invoke'].includes(paragraph.kind) && outcome?.status) parts.push(String(outcome.status));
  if (paragraph.kind === 'sql' && outcome && 'count' in outcome) parts.push(counted(Number(outcome.count), 'row'));
  if (paragraph.kind === 'file' && Array.isArray(step.outcome)) parts.push(counted(step.outcome.length, 'file'));
  if (paragraph.kind === 'each' && Array.isArray(step.outcome)) parts.push(counted(step.outcome.length, 'item'));
  if (['if', 'match', 'reply'].includes(paragraph.kind) && step.outcome !== null) parts.push(line(step.outcome));
  if (paragraph.kind === 'fail') parts.push(String(outcome?.status ?? ''));
  if (step.failure && paragraph.kind === 'call' && !outcome?.status) parts.push(step.failure.kind);
  if (!['if', 'match'].includes(paragraph.kind) || step.duration_us >= 1000) parts.push(took(step.duration_us));
  if (step.attempts > 1) {
    const before = step.earlier_attempts?.length ? `, before: ${step.earlier_attempts.join(', ')}` : '';
    parts.push(`${ordinal(step.attempts)} attempt${before}`);
  }
  return parts.filter(Boolean).join(' · ');
}

/** The second line in the margin: what came of it. */
export function result(paragraph: Kind, step: Step): string {
  if (step.failure && step.state !== 'succeeded') return step.failure.detail;
  const outcome = step.outcome as { body?: unknown } | null;
  if (step.state === 'skipped' || outcome === null) return '';
  switch (paragraph.kind) {
    case 'call':
    case 'invoke':
      return line(outcome.body);
    case 'sql': {
      const rows = (outcome as { rows?: unknown[] }).rows;
      return rows?.length === 0 ? '' : line(rows ?? outcome);
    }
    case 'each':
    case 'file':
    case 'together':
    case 'note':
    case 'script':
      return line(outcome);
    case 'let':
    case 'keep':
      return Object.entries(outcome).map(([name, value]) => `${name} = ${line(value)}`).join(', ');
    case 'fail':
      return String((outcome as { title?: string }).title ?? '');
    default:
      return '';
  }
}

/** The values of a step, with their labels. */
export function details(step: Step): [string, unknown][] {
  const names = (step.sent as { names?: unknown } | null)?.names;
  const all: [string, unknown][] = [
    names === undefined ? ['Sent', step.sent] : ['Names where it failed', names],
    ['Came back', step.outcome],
    ['Failure', step.failure],
  ];
  return all.filter(([, value]) => value !== null);
}
