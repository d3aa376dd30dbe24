import { afterEach, beforeEach, describe, expect, it, vi } from 'vitest';
import { Refused, session } from './api.svelte';
import { act, outcome } from './jobs';

/** Answers of the service, in turn. */
function answers(...all: [number, unknown][]) {
  const fetch = vi.fn();
  for (const [status, body] of all) {
    const text = body === undefined ? null : JSON.stringify(body);
    fetch.mockResolvedValueOnce(new Response(text, { status }));
  }
  vi.stubGlobal('fetch', fetch);
  return fetch;
}

beforeEach(async () => {
  answers([200, { csrf: 'c1', role: 'operator' }]);
  await session.signIn('kzo_token');
});
afterEach(() => {
  vi.unstubAllGlobals();
});

describe('the session', () => {
  it('shows its CSRF token with each request', async () => {
    const fetch = answers([200, { jobs: [] }]);
    await session.get('/jobs');
    expect(fetch).toHaveBeenCalledWith(
      '/api/v1/jobs',
      expect.objectContaining({ headers: expect.objectContaining({ 'x-csrf-token': 'c1' }) }),
    );
    expect(session.signedIn).toBe(true);
  });

  it('ends when the service says so', async () => {
    answers([401, { title: 'Unauthorized', detail: 'the session has ended; sign in again' }]);
    await expect(session.get('/jobs')).rejects.toThrow('the session has ended');
    expect(session.signedIn).toBe(false);
  });

  it('is not known to have ended when the service is unavailable', async () => {
    vi.stubGlobal('fetch', vi.fn().mockRejectedValue(new TypeError('failed')));
    const failure = await session.get('/jobs').catch((error: Refused) => error);
    expect(failure).toBeInstanceOf(Refused);
    expect((failure as Refused).status).toBe(0);
    expect(session.signedIn).toBe(true);
  });

  it('has no body to read in an answer without one', async () => {
    answers([204, undefined]);
    expect(await session.ask('DELETE', '/workflows/x')).toBeNull();
  });

  it('passes on the title of a problem without details', async () => {
    answers([500, { title: 'Internal server error' }]);
    await expect(session.get('/jobs')).rejects.toThrow('Internal server error');
  });
});

describe('jobs', () => {
  it('are changed by id or by what they have in common', async () => {
    const done = { done: ['a'], refused: [] };
    const fetch = answers([200, done], [200, done]);
    await act('cancel', { ids: ['a'] });
    await act('postpone', { select: { lane: 'reminders' } }, { due: '2h' });
    const bodies = fetch.mock.calls.map(([, request]) => JSON.parse(request.body));
    expect(bodies).toEqual([
      { action: 'cancel', ids: ['a'] },
      { action: 'postpone', select: { lane: 'reminders' }, due: '2h' },
    ]);
  });

  const ended = { id: 'b', why: 'it has ended' };
  const many = {
    id: 'o',
    action: 'cancel' as const,
    begun: '2027-03-04T06:00:00Z',
    total: 1204,
    done: 1203,
    refused: 1,
    ended: true,
    failure: null,
  };
  it.each([
    [{ done: ['a'], refused: [], operation: null }, '1 job cancelled or asked to stop.'],
    [{ done: ['a', 'c'], refused: [ended], operation: null }, '2 jobs cancelled or asked to stop. 1 not: it has ended.'],
    [{ done: [], refused: [ended], operation: null }, 'Not done: it has ended.'],
    [{ done: [], refused: [], operation: null }, ''],
    [{ done: [], refused: [ended], operation: many }, '1203 jobs cancelled or asked to stop. 1 not: it has ended.'],
  ])('%j reads %s', (done, shown) => {
    expect(outcome('cancel', { ...done, change: null, preview: null })).toBe(shown);
  });
});
