import { describe, expect, it } from 'vitest';
import type { Input, Paragraph, Step } from '../api/types';
import { details, grouped, inputText, result, shownStep, summary } from './sheet';

function paragraph(kind: string): Paragraph {
  return { number: '1', depth: 0, kind, title: '', line: 1 } as Paragraph;
}

function step(more: Partial<Step>): Step {
  const none = { number: '1', state: 'succeeded', attempts: 1, started_us: 0, duration_us: 2000 };
  return { ...none, sent: null, outcome: null, failure: null, ...more } as Step;
}

const failure = { kind: 'timeout', detail: 'no answer within 2s' };

describe('the margin', () => {
  it.each([
    ['call', { outcome: { status: 200, body: { n: 1 } } }, '200 · 2 ms', '{ n: 1 }'],
    ['call', { state: 'failed', failure }, 'timeout · 2 ms', 'no answer within 2s'],
    ['call', { attempts: 3, earlier_attempts: ['503', 'timeout'], outcome: { status: 200, body: 'x' } }, '200 · 2 ms · 3rd attempt, before: 503, timeout', '"x"'],
    ['invoke', { outcome: { status: 201, body: null } }, '201 · 2 ms', 'null'],
    ['sql', { outcome: { rows: [], count: 1 } }, '1 row · 2 ms', ''],
    ['sql', { outcome: { rows: [{ n: 1 }], count: 2 } }, '2 rows · 2 ms', '[{ n: 1 }]'],
    ['each', { outcome: [1, 2] }, '2 items · 2 ms', '[1, 2]'],
    ['together', { outcome: { a: 1 } }, '2 ms', '{ a: 1 }'],
    ['if', { outcome: true, duration_us: 10 }, 'true', ''],
    ['match', { outcome: 'ferry', duration_us: 1500 }, '"ferry" · 2 ms', ''],
    ['let', { outcome: { dues: 12.5, name: 'Tare' }, duration_us: 10 }, '<1 ms', 'dues = 12.5, name = "Tare"'],
    ['note', { outcome: 'hei' }, '2 ms', '"hei"'],
    ['reply', { outcome: 200 }, '200 · 2 ms', ''],
    ['fail', { outcome: { status: 422, title: 'Unknown vessel' } }, '422 · 2 ms', 'Unknown vessel'],
    ['call', { state: 'skipped' }, 'skipped', ''],
    ['call', { state: 'caught', failure }, 'timeout · 2 ms', 'no answer within 2s'],
    ['pause', {}, '2 ms', ''],
  ])('of %s with %j reads %s', (kind, more, first, second) => {
    const [of, one] = [paragraph(kind), step(more as Partial<Step>)];
    expect([summary(of, one), result(of, one)]).toEqual([first, second]);
  });
});

describe('steps', () => {
  const steps = [
    step({ number: '1' }),
    step({ number: '2.1', items: '0' }),
    step({ number: '2.1', items: '1', state: 'failed' }),
    step({ number: '2.1', items: '2' }),
  ];

  it('of a loop stand together, the one that failed first', () => {
    const all = grouped(steps);
    expect([...all.keys()]).toEqual(['1', '2.1']);
    expect(shownStep(all.get('2.1'))?.items).toBe('1');
    expect(shownStep(all.get('1'))).toBe(steps[0]);
    expect(shownStep(all.get('3'))).toBeUndefined();
  });

  it('show the values that they have', () => {
    expect(details(step({}))).toEqual([]);
    const values = details(step({ sent: { n: 1 }, outcome: 0, failure: null }));
    expect(values).toEqual([['Sent', { n: 1 }], ['Came back', 0]]);
  });
});

describe('an input', () => {
  it.each([
    [{ name: 'imo', schema: {}, required: true, secret: false }, 'imo'],
    [{ name: 'q', schema: {}, required: false, secret: false }, 'q?'],
    [{ name: 'nights', schema: { default: 1 }, required: false, secret: false }, 'nights = 1'],
    [{ name: 'port', schema: { default: 'LIN' }, required: false, secret: false }, 'port = LIN'],
    [{ name: 'pin', schema: { default: null }, required: false, secret: true }, 'pin = null (confidential)'],
    [{ name: 'pin', schema: {}, required: true, secret: true }, 'pin (confidential)'],
  ])('%j is shown as %s', (input, shown) => {
    expect(inputText(input as Input)).toBe(shown);
  });
});
