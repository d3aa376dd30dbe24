import { expect, test } from 'vitest';
import type { Rules, Side } from '../api/types';
import { answersOf, changed, form, margins, of, serves } from './gradual';

const side = (revision: number, answers: Side['answers']): Side => ({ revision, runs: 0, failed: 0, rejected: 0, p50_us: null, p95_us: null, p99_us: null, answers });

const rules = (of: Partial<Rules>): Rules => ({ share: 0, per: 'request', ...of });

test.each<[Partial<Rules>, string, string]>([
  [{ share: 10 }, '10 %', 'never'],
  [{ share: 2.5, per: 'caller', margin: 2 }, '2.5 % of callers', 'when its share of failures or rejections is 2 points higher'],
  [{ header: { name: 'X-Ring', value: 'new' }, keys: ['a', 'b'], tags: ['t'], slower: 50 }, 'requests with X-Ring: new, the keys a, b, jobs tagged t', 'when its 95 % quantile of times is 50 % higher'],
])('rules are said and survive their form', (given, words, when) => {
  const these = rules(given);
  expect(serves(these)).toBe(words);
  expect(margins(these)).toBe(when);
  const again = changed(these, form(these));
  expect(serves(again)).toBe(words);
  expect(margins(again)).toBe(when);
});

test('what is emptied is gone', () => {
  const before = rules({ share: 10, header: { name: 'X-Ring', value: 'new' }, keys: ['a'], margin: 2 });
  expect(changed(before, { ...form(before), header: ' ', keys: ',', margin: null, share: null })).toEqual({ share: 0, per: 'request', keys: [], tags: [] });
});

test('answers stand side by side', () => {
  const old = side(1, [{ state: 'succeeded', status: 200, count: 9 }, { state: 'succeeded', status: null, count: 1 }]);
  const fresh = side(2, [{ state: 'failed', status: 502, count: 3 }, { state: 'succeeded', status: 200, count: 1 }]);
  expect(answersOf(old, fresh)).toEqual([
    { text: '200 · succeeded', old: 9, fresh: 1 },
    { text: '502 · failed', old: 0, fresh: 3 },
    { text: 'no answer · succeeded', old: 1, fresh: 0 },
  ]);
  expect([of(0, 0), of(3, 4), of(1234, 100000)]).toEqual(['0', '3 (75 %)', '1,234 (1.23 %)']);
});
