import { describe, expect, it } from 'vitest';
import type { Part, StepChange } from '../api/types';
import { diffLines, inPlace } from './compare';

const step = (change: StepChange['change'], before: string, after: string): StepChange => ({ change, before, after, title: '' });
const part = (number: string, title = '', rows: [string, string][] = []) =>
  ({ number, at: number ? `steps/${number}` : title ? 'entries/0' : 'input', kind: number ? 'call' : 'endpoint', title, depth: 0, rows }) as unknown as Part;

describe('a comparison', () => {
  it('has the lines of a patch with their kinds', () => {
    const kinds = diffLines('--- a\n+++ b\n@@ -1 +1 @@\n-a\n+b\n c\n').map((line) => line.kind);
    expect(kinds).toEqual(['place', 'removed', 'added', 'same']);
  });

  it.each([
    ['a step that is new', ['1', '2'], ['1', '2', '3'], [step('added', '', '2'), step('moved', '2', '3')], ['same 1', 'added 2', 'moved 3']],
    ['a step that is gone, where it stood', ['1', '2', '10'], ['1', '2'], [step('removed', '2', ''), step('moved', '10', '2')], ['same 1', 'removed 2', 'moved 2']],
    ['the last one gone', ['1', '2', '2.1'], ['1', '2'], [step('removed', '2.1', '')], ['same 1', 'same 2', 'removed 2.1']],
  ])('draws %s', (_, before, after, changes, wanted) => {
    const lines = inPlace(before.map((one) => part(one)), after.map((one) => part(one)), changes);
    expect(lines.map((line) => `${line.mark} ${line.part.number}`)).toEqual(wanted);
  });

  it('compares what stands above the steps row by row', () => {
    const [line] = inPlace([part('', 'GET /a', [['access', 'open']])], [part('', 'GET /b', [['access', 'open']])], []);
    expect(line).toMatchObject({ mark: 'changed', rows: [{ key: 'endpoint', before: 'GET /a', after: 'GET /b' }] });
    expect(inPlace([part('', 'GET /a')], [part('1')], []).map((one) => one.mark)).toEqual(['removed', 'same']);
  });
});
