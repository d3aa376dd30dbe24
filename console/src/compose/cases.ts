/** Where on the sheet stands what a case did not find as expected, and what no case reaches. */
import type { CaseDifference, Covered, Part, RehearsedCase, Step } from '../api/types';

/** Differences by the number of the paragraph they belong to; those that belong to none are under an empty number. */
export function marksOf(looked: Pick<RehearsedCase, 'differences' | 'steps'>, steps: Part[]): Map<string, CaseDifference[]> {
  const out = new Map<string, CaseDifference[]>();
  for (const difference of looked.differences) {
    const number = placeOf(difference.what, steps, looked.steps) ?? '';
    out.set(number, [...(out.get(number) ?? []), difference]);
  }
  return out;
}

function placeOf(what: string, steps: Part[], taken: Step[]): string | undefined {
  const named = /^step (\S+)/.exec(what)?.[1];
  if (named) return steps.find((part) => part.number === named || part.name === named)?.number;
  const called = /^calls of ([^[]+?)(?:\[|$)/.exec(what)?.[1] ?? /^([\w-]+[. ][^[]+)\[\d+\]/.exec(what)?.[1];
  if (called) return steps.find((part) => part.kind === 'call' && part.title === called)?.number;
  if (/^(reply|failure|state)\b/.test(what)) {
    // The step that answered last, or failed.
    const ends = new Set(steps.filter((part) => ['reply', 'fail'].includes(part.kind)).map((part) => part.number));
    const last = [...taken].reverse().find((step) => ends.has(step.number) || step.state === 'failed');
    return last?.number;
  }
  return undefined;
}

/** What no case reaches, by number: nothing for a whole step, otherwise the branches. */
export function missedOf(covered: Covered | null | undefined): Map<string, string[]> {
  const out = new Map<string, string[]>();
  for (const missing of covered?.missing ?? []) {
    const known = out.get(missing.number) ?? [];
    out.set(missing.number, missing.branch === null || missing.branch === undefined ? known : [...known, missing.branch]);
  }
  return out;
}

/** The functions of the document that cases do not reach as a whole, with the lines that are missing; nothing for one never called. */
export const missedFunctions = (missed: Map<string, string[]>): [string, string[]][] => [...missed].filter(([name]) => !/^\d/.test(name));
