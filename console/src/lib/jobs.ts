/** Jobs, lanes and timetables in the control API. Shapes follow `server/service/src/control/jobs.rs`. */
import { type Paragraph, session, type Step } from './api.svelte';

export const STATES = ['scheduled', 'queued', 'running', 'waiting', 'succeeded', 'rejected', 'failed', 'cancelled'] as const;

export interface JobLine {
  id: string;
  url: string;
  curl: string;
  workflow: string;
  revision: number;
  retired: boolean;
  state: (typeof STATES)[number];
  stopping: boolean;
  blocked_by: string | null;
  waits_for: string | null;
  lane: string;
  priority: number;
  tag: string | null;
  group: string | null;
  entry: string;
  queued: string;
  /** When it is due next; nothing while it waits without end. */
  due: string | null;
  started: string | null;
  ended: string | null;
  delay_us: number | null;
  duration_us: number | null;
  tries: number;
  progress: number | null;
  failure: string | null;
}

export interface Jobs {
  jobs: JobLine[];
  counts: Record<string, number>;
  /** Counts stop here. */
  counted_to: number;
  next_before: string | null;
}

export interface Job extends Omit<JobLine, 'failure' | 'blocked_by'> {
  live: boolean;
  held: boolean;
  blocked: boolean;
  ordering_key: string | null;
  until: string | null;
  caller: string | null;
  request_id: string;
  trace_id: string;
  attempt: number;
  remaining_s: number | null;
  note: string | null;
  notes: { at: string; text: string }[];
  input: unknown;
  status: number | null;
  reply: unknown;
  result_until: string | null;
  failure: { kind: string; detail: string } | null;
  history: { at: string; what: string; by: string; detail?: string }[];
  notice: { url: string; tries: number; status: number | null; detail: string | null; told: string | null; next: string | null } | null;
  sheet: Paragraph[] | null;
  steps: Step[] | null;
}

export interface Group {
  id: string;
  workflow: string;
  total: number;
  succeeded: number;
  rejected: number;
  failed: number;
  cancelled: number;
  running: number;
  remaining: number;
  expected_end: string | null;
}

export interface Lane {
  name: string;
  about: string;
  declared: boolean;
  held: boolean;
  at_once: number | null;
  pace: string | null;
  order: string;
  length: number | null;
  scheduled: number;
  queued: number;
  running: number;
  waiting: number;
  oldest_us: number | null;
  last_5min: { begun: number; succeeded: number; rejected: number; failed: number; mean_delay_us: number | null; max_delay_us: number };
}

export interface Sample {
  at: number;
  waiting: number;
  begun: number;
  succeeded: number;
  rejected: number;
  failed: number;
  mean_delay_ms: number;
  max_delay_ms: number;
}

export interface Timetable {
  workflow: string;
  number: number;
  when: string;
  words: string;
  zone: string;
  missed: string;
  overlap: string;
  paused: boolean;
  next: { due: string; zone: string }[];
  last: { due: string; became: string; job: string | null; curl: string | null; state: string | null }[];
}

export type Action = 'cancel' | 'run-now' | 'postpone' | 'retry';

export interface Done {
  done: string[];
  refused: { id: string; why: string }[];
}

/** Which jobs: these, or all that fit a filter. */
export type Which = { ids: string[] } | { meant: Record<string, string> };

export function act(action: Action, which: Which, more: Record<string, unknown> = {}): Promise<Done> {
  return session.ask<Done>('POST', '/jobs/actions', { action, ...which, ...more });
}

/** What came of an action, in a sentence. */
export function told(action: Action, done: Done): string {
  const did = { cancel: 'cancelled or asked to stop', 'run-now': 'due now', postpone: 'postponed', retry: 'retried' }[action];
  const count = done.done.length;
  const good = count === 0 ? '' : `${count} ${count === 1 ? 'job' : 'jobs'} ${did}.`;
  const why = done.refused[0]?.why;
  const bad = why ? ` ${count + done.refused.length === 1 ? 'Not done' : `${done.refused.length} not`}: ${why}.` : '';
  return (good + bad).trim();
}

/** An instant that lies ahead: `in 4 min`. */
export function ahead(instant: string): string {
  const seconds = (Date.parse(instant) - Date.now()) / 1000;
  if (seconds < 1) return 'now';
  if (seconds < 90) return `in ${Math.round(seconds)} s`;
  if (seconds < 5400) return `in ${Math.round(seconds / 60)} min`;
  if (seconds < 129_600) return `in ${Math.round(seconds / 3600)} h`;
  return `in ${Math.round(seconds / 86_400)} days`;
}

/** An instant as the reader's own clock shows it. */
export function local(instant: string): string {
  return new Date(instant).toLocaleString('sv-SE', { dateStyle: 'short', timeStyle: 'medium' });
}
