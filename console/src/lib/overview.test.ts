import { expect, it } from 'vitest';
import type { Overview } from '../api/types';
import { byMinute } from './overview';

it('minutes are on one axis, the current one unless its counts fall', () => {
  const ended = (runs: number, failed: number, p50_us: number | null) => ({ runs, failed, rejected: 0, p50_us, p95_us: p50_us, p99_us: null });
  const minutes = [
    { at: 60, ended: ended(4, 1, 2500) },
    { at: 180, ended: ended(9, 0, 1000) },
  ];
  const drawn = byMinute({ minutes } as Overview, 3, 200_000);
  expect(drawn.times).toEqual([60, 120, 180]);
  expect(drawn.runs[0]?.values).toEqual([4, 0, 9]);
  expect(drawn.failures[0]?.values).toEqual([1, 0, 0]);
  expect(byMinute({ minutes } as Overview, 3, 130_000).runs[0]?.values).toEqual([0, 4, null]);
  expect(drawn.took.map((one) => one.values)).toEqual([
    [2.5, null, 1],
    [2.5, null, 1],
    [null, null, null],
  ]);
});
