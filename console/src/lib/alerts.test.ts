import { expect, test } from 'vitest';
import { measures, span, target } from './alerts';

test.each([
  [{ failed: 3, runs: 40, p95: 0.25 }, 'failed > 2 && failed / runs > 0.05', 'failed 3, runs 40'],
  [{ failed: 0, p95: 0.2504 }, 'p95 > 2 || failed > 1', 'failed 0, p95 0.25'],
  [{ failed: 0, runs: 4, p95: 1.5 }, undefined, 'runs 4, p95 1.5'],
  [{}, 'failed > 1', ''],
])('measures %o of %s', (all, when, wanted) => {
  expect(measures(all as Record<string, number>, when)).toBe(wanted);
});

test.each([[300_000_000, '5 min'], [86_400_000_000, '1 d'], [5_400_000_000, '90 min'], [61_000_000, '61 s']])('%i is %s', (micros, wanted) => {
  expect(span(micros)).toBe(wanted);
});

test.each([
  ['workflow', 'a', '/workflows/a'],
  ['lane', 'main', '/jobs?lane=main'],
  ['allowance', 'few', '/keys'],
])('what a %s leads to', (kind, name, wanted) => {
  expect(target(kind, name)).toBe(wanted);
});
