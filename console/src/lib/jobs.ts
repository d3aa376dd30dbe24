/** Jobs in the control API: what is done to them, and how times are shown. */
import type { Job, JobAction, JobChange, JobFilter, JobsChanged, RunState } from '../api/types';
import { session } from './api.svelte';
import { took } from './show';

export const STATES = [
  'scheduled',
  'queued',
  'running',
  'waiting',
  'succeeded',
  'rejected',
  'failed',
  'cancelled',
] as const satisfies readonly RunState[];

/** Which jobs: these, or all that fit a filter. */
export type Which = { ids: string[] } | { select: JobFilter };

/** Changes jobs; a change of many goes on behind the answer, and is polled until it ends. */
export async function act(action: JobAction, which: Which, more: Partial<JobChange> = {}): Promise<JobsChanged> {
  let changed = await session.ask<JobsChanged>('POST', '/jobs/actions', { action, ...which, ...more } satisfies JobChange);
  while (changed.operation && !changed.operation.ended) {
    await new Promise((resolve) => setTimeout(resolve, 500));
    changed = await session.get<JobsChanged>(`/jobs/actions/${changed.operation.id}`);
  }
  return changed;
}

/** What came of an action, in a sentence. */
export function outcome(action: JobAction, done: JobsChanged): string {
  const did = { cancel: 'cancelled or asked to stop', 'run-now': 'due now', postpone: 'postponed', retry: 'retried', undo: 'as before the retry' }[action];
  const count = done.operation?.done ?? done.done.length;
  const refused = done.operation?.refused ?? done.refused.length;
  const good = count === 0 ? '' : `${count} ${count === 1 ? 'job' : 'jobs'} ${did}.`;
  const why = done.refused[0]?.why;
  const bad = why ? ` ${count + refused === 1 ? 'Not done' : `${refused} not`}: ${why}.` : '';
  return (good + bad).trim();
}

/** What a change would do, in a sentence. */
export function previewed(found: JobsChanged): string {
  const preview = found.preview;
  if (!preview || preview.total === 0) return 'No job fits.';
  const jobs = (n: number) => `${n} ${n === 1 ? 'job' : 'jobs'}`;
  const all = preview.examined === preview.total ? `${preview.fit} of ${jobs(preview.total)}` : `${preview.fit} of the first ${preview.examined} of ${jobs(preview.total)}`;
  const last = preview.last_due ? `; the last one ${ahead(preview.last_due)}` : '';
  return `${all} would be retried${last}.`;
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

/** What happened to a job, in order. */
export function timeline(job: Job): { at: string; text: string }[] {
  const out: { at: string; text: string }[] = [{ at: job.queued, text: job.entry.startsWith('enqueued') ? job.entry : `queued by ${job.entry}` }];
  if (job.due && job.due !== job.queued && !job.started) out.push({ at: job.due, text: 'due' });
  if (job.started) out.push({ at: job.started, text: `began${job.delay_us && job.delay_us > 1000 ? `, ${took(job.delay_us)} after it was due` : ''}` });
  out.push(...job.notes.map((note) => ({ at: note.at, text: note.text })));
  out.push(...job.history.map((past) => ({ at: past.at, text: `${past.what} by ${past.by}${past.detail ? `: ${past.detail}` : ''}` })));
  if (job.ended && job.state === 'succeeded') out.push({ at: job.ended, text: `succeeded, ${took(job.duration_us)} after it began` });
  if (job.notice?.delivered) out.push({ at: job.notice.delivered, text: `notice delivered to ${job.notice.url}` });
  return out.sort((a, b) => Date.parse(a.at) - Date.parse(b.at));
}

/** Whether a job has not begun. */
export function waiting(job: { state: string }): boolean {
  return ['scheduled', 'queued'].includes(job.state);
}
