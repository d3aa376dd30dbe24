/** Sample values of a draft's names, from a trial or a run: what pickers and previews show. */
import type { At, Part, Step } from '../api/types';
import { grouped, shownStep } from '../lib/sheet';

/** The values of names after some steps: input, results, what `let` named. */
export function valuesOf(parts: Part[], steps: Step[], input: unknown): Record<string, unknown> {
  const values: Record<string, unknown> = {};
  if (input !== null && typeof input === 'object') values.input = input;
  const byNumber = grouped(steps);
  for (const part of parts) {
    const step = shownStep(byNumber.get(part.number));
    if (!step) continue;
    // What was skipped is missing, and not to be made up.
    if (step.state === 'skipped' && part.name) values[part.name] = null;
    if (step.outcome === null || step.state === 'skipped') continue;
    if (part.kind === 'let' && typeof step.outcome === 'object') Object.assign(values, step.outcome);
    else if (part.name) values[part.name] = step.outcome;
  }
  return values;
}

/** What lies at a path of the values; nothing where something on the way is missing. */
export function at(values: Record<string, unknown>, path: At[]): unknown {
  let found: unknown = values;
  for (const part of path) {
    if (found === null || typeof found !== 'object') return undefined;
    found = (found as Record<string, unknown>)[String(part)];
  }
  return found;
}
