import { describe, expect, it } from 'vitest';
import type { StepChange } from '../api/types';
import { changeMark, changeNumber, diffLines } from './compare';

const step = (change: StepChange['change'], before: string, after: string): StepChange => ({ change, before, after, title: 'note a' });

describe('steps that differ', () => {
  it.each([
    [step('added', '', '2'), '+', '2'],
    [step('removed', '3', ''), '−', '3'],
    [step('changed', '2', '2'), '~', '2'],
    [step('changed', '2', '3'), '~', '2 → 3'],
    [step('moved', '1', '4.1'), '~', '1 → 4.1'],
  ])('%o is %s %s', (change, mark, number) => {
    expect([changeMark(change), changeNumber(change)]).toEqual([mark, number]);
  });
});

it('tells the lines of a diff apart', () => {
  const lines = diffLines('--- original\n+++ modified\n@@ -1,2 +1,2 @@\n a\n-b\n+c\n');
  expect(lines.map((line) => `${line.kind}:${line.text}`)).toEqual(['place:@@ -1,2 +1,2 @@', 'same: a', 'removed:-b', 'added:+c']);
});
