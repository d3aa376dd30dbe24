/** What a trial of a draft asks of others, and how that is answered; values of an input form. */
import type { Part, Wanted } from '../api/types';

/** How the calls of one service are answered in a trial. */
export type Answering = 'usual' | 'real' | 'simulated' | 'recorded';

/** Something outside that a draft asks: a service, a database, or what the service itself keeps and queues. */
export interface Asked {
  /** The service, `sql.NAME`, `keep`, `enqueue`, `cancel`. */
  name: string;
  /** The names by which a trial knows its calls. */
  effects: string[];
  /** Whether a past run can answer for it. */
  recorded: boolean;
}

export function askedBy(steps: Part[]): Asked[] {
  const out = new Map<string, Asked>();
  const add = (name: string, effect: string, recorded: boolean) => {
    const known = out.get(name) ?? { name, effects: [], recorded };
    if (!known.effects.includes(effect)) known.effects.push(effect);
    out.set(name, known);
  };
  for (const step of steps) {
    const word = step.title.split(' ')[0] ?? '';
    if (step.kind === 'call' && /^[\w-]+\.\w+$/.test(word)) add(word.split('.')[0] ?? word, word, true);
    else if (step.kind === 'call') add(step.title, step.title, false);
    else if (step.kind === 'sql') add(`sql.${word}`, `sql.${word}`, true);
    else if (step.kind === 'file') {
      const of = step.rows?.[0]?.[0] ?? word;
      add(`file.${of}`, `file.${of}`, false);
    } else if (['keep', 'enqueue', 'cancel', 'wake', 'recall'].includes(step.kind)) add(step.kind, step.kind, false);
  }
  return [...out.values()];
}

/** The members of a request for a trial that say how what it asks is answered. */
export function answeredBy(asked: Asked[], how: Record<string, Answering>): { real: string[]; simulated: string[]; recorded: string[] } {
  const out = { real: [] as string[], simulated: [] as string[], recorded: [] as string[] };
  for (const one of asked) {
    const chosen = how[one.name] ?? 'usual';
    if (chosen === 'real') out.real.push(...one.effects);
    // What a run did not ask is simulated, never performed by surprise.
    if (chosen === 'simulated' || chosen === 'recorded') out.simulated.push(...one.effects);
    if (chosen === 'recorded') out.recorded.push(one.name);
  }
  return out;
}

/** The control that an input is given with. */
export function controlOf(wanted: Wanted): 'choice' | 'truth' | 'number' | 'text' | 'file' | 'json' {
  const schema = wanted.schema as { type?: unknown; enum?: unknown[]; 'x-file'?: unknown };
  if (schema['x-file']) return 'file';
  if (Array.isArray(schema.enum)) return 'choice';
  switch (schema.type) {
    case 'boolean':
      return 'truth';
    case 'integer':
    case 'number':
      return 'number';
    case 'string':
      return 'text';
    default:
      return 'json';
  }
}

/** A value as it stands in its control. */
export function written(wanted: Wanted, value: unknown): string {
  if (value === undefined) return '';
  const control = controlOf(wanted);
  return typeof value === 'string' && control !== 'json' ? value : JSON.stringify(value);
}

/** The value of what stands in a control; nothing for an empty one. Throws where it is no JSON. */
export function read(wanted: Wanted, text: string): unknown {
  const control = controlOf(wanted);
  if (text === '') return undefined;
  if (control === 'text') return text;
  if (control === 'choice') {
    const choices = (wanted.schema as { enum: unknown[] }).enum;
    return choices.find((one) => written(wanted, one) === text);
  }
  if (control === 'number' && Number.isFinite(Number(text))) return Number(text);
  try {
    return JSON.parse(text);
  } catch {
    throw new Error(`${wanted.name} is no JSON: ${text}`);
  }
}
