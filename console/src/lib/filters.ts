/** Which jobs the page shows: chosen in its address, so that a link leads to the same list. */

const KEYS = ['state', 'lane', 'workflow', 'tag', 'tag_prefix', 'group', 'text', 'due_from', 'due_until', 'ended_from', 'ended_until', 'caller', 'failure', 'step', 'before'] as const;

/** Each filter with its text; empty where nothing is chosen. */
export type Chosen = Record<(typeof KEYS)[number], string>;

export function chosenIn(query: URLSearchParams): Chosen {
  return Object.fromEntries(KEYS.map((key) => [key, query.get(key) ?? ''])) as Chosen;
}

/** The query of what is chosen, changed; without one where nothing is. */
export function address(chosen: Chosen, change: Partial<Chosen> = {}): string {
  const query = new URLSearchParams(Object.entries({ ...chosen, ...change }).filter(([, value]) => value));
  return query.size > 0 ? `?${query}` : '';
}

/** What is chosen, whatever page of the list is shown. */
export function selection(chosen: Chosen): Partial<Chosen> {
  return Object.fromEntries(Object.entries(chosen).filter(([key, value]) => value && key !== 'before'));
}

/** An instant as `datetime-local` shows it, in the browser's zone; empty where it is none. */
export function zoned(instant: string): string {
  const at = new Date(instant);
  return Number.isNaN(at.getTime()) ? '' : new Date(at.getTime() - at.getTimezoneOffset() * 60_000).toISOString().slice(0, 16);
}

/** The instant of a `datetime-local`. */
export function instant(local: string): string {
  const at = new Date(local);
  return Number.isNaN(at.getTime()) ? '' : at.toISOString();
}
