import { describe, expect, it } from 'vitest';
import type { Job } from '../api/types';
import { address, chosenIn, instant, selection, zoned } from './filters';
import { timeline } from './jobs';

function job(more: object): Job {
  const none = { due: null, started: null, ended: null, delay_us: null, duration_us: null, notice: null };
  return { entry: 'POST /bills', queued: '2027-03-04T06:00:00Z', state: 'queued', notes: [], history: [], ...none, ...more } as unknown as Job;
}

describe('the timeline of a job', () => {
  const at = (minute: number) => `2027-03-04T06:${String(minute).padStart(2, '0')}:00Z`;
  it.each([
    [{}, ['queued by POST /bills']],
    [{ entry: 'enqueued by 01a2' }, ['enqueued by 01a2']],
    [{ due: at(9) }, ['queued by POST /bills', 'due']],
    [{ due: at(9), started: at(10), delay_us: 60_000_000 }, ['queued by POST /bills', 'began, 1 min 0 s after it was due']],
    [
      { started: at(0), ended: at(5), state: 'succeeded', duration_us: 300_000_000, notes: [{ at: at(1), text: 'Sent.' }] },
      ['queued by POST /bills', 'began', 'Sent.', 'succeeded, 5 min 0 s after it began'],
    ],
    [
      { history: [{ at: at(7), what: 'postponed', by: 'an operator', detail: at(9) }, { at: at(3), what: 'run now', by: 'an operator', detail: null }] },
      ['queued by POST /bills', 'run now by an operator', `postponed by an operator: ${at(9)}`],
    ],
    [{ notice: { url: 'http://b', delivered: at(8) } }, ['queued by POST /bills', 'notice delivered to http://b']],
  ])('of %j is %j', (more, texts) => {
    expect(timeline(job(more)).map((event) => event.text)).toEqual(texts);
  });
});

describe('filters', () => {
  const chosen = chosenIn(new URLSearchParams('state=failed&text=a%26b&before=01a2&other=1'));

  it('are those of the address, and others are left out', () => {
    expect(address(chosen)).toBe('?state=failed&text=a%26b&before=01a2');
    expect(address(chosen, { before: '', lane: 'berths', state: '' })).toBe('?lane=berths&text=a%26b');
    expect(address(chosenIn(new URLSearchParams()))).toBe('');
  });

  it('select jobs on every page', () => {
    expect(selection(chosen)).toEqual({ state: 'failed', text: 'a&b' });
  });

  it.each(['2027-03-04T06:00:00.000Z', '2027-07-01T23:30:00.000Z'])('keep the instant %s', (text) => {
    expect(instant(zoned(text))).toBe(text);
  });

  it('leave out what is no instant', () => {
    expect([zoned('soon'), instant('')]).toEqual(['', '']);
  });
});
