/** Sample values of a draft's names, from a trial or a run: what pickers and previews show. */
import type { At, Part, Step } from '../api/types';
import { grouped, shownStep } from '../lib/sheet';
import { line } from '../lib/show';
import { owner, parent } from './tree';

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

/** Why a step was not performed, as far as the steps around and before it say. */
export function whyNot(part: Part, parts: Part[], byNumber: Map<string, Step[]>): string {
  if (part.off) return 'off';
  // The innermost step around it that was performed decided against it.
  for (let at = owner(parent(part.at)); at; at = owner(parent(at))) {
    const around = parts.find((one) => one.at === at);
    const step = around && shownStep(byNumber.get(around.number));
    if (!around || !step) continue;
    if (step.state === 'skipped') return `${around.number} is skipped`;
    if (around.kind === 'if') return `not taken: ${around.number} is ${step.outcome === true ? 'true' : 'false'}`;
    if (around.kind === 'match') return `not taken: ${around.number} is ${line(step.outcome)}`;
    if (around.kind === 'each' && Array.isArray(step.outcome) && step.outcome.length === 0) return `${around.number} has no items`;
    if (part.at.includes('/catch/')) return `${around.number} did not fail`;
    break;
  }
  const ended = parts.find((one) => ['reply', 'fail'].includes(one.kind) && byNumber.has(one.number));
  const failed = parts.find((one) => byNumber.get(one.number)?.some((step) => step.state === 'failed') && !['if', 'match', 'each', 'together'].includes(one.kind));
  const last = failed ?? ended;
  return last ? `not reached: ended at ${last.number}` : 'not reached';
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
