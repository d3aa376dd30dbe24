import { describe, expect, it } from 'vitest';
import { curves } from './forecast';

describe('curves of forecasts', () => {
  const at = (second: number) => new Date(second * 1000).toISOString();
  const curve = (label: string, points: [number, number][]) => ({ label, curve: points.map(([second, waiting]) => ({ at: at(second), waiting })) });

  it('have the times of all', () => {
    const drawn = curves([curve('a', [[0, 9], [10, 5], [20, 0]]), curve('b', [[0, 9], [5, 0]])]);
    expect(drawn.times).toEqual([0, 5, 10, 20]);
    expect(drawn.series.map((one) => one.values)).toEqual([
      [9, 9, 5, 0],
      [9, 0, null, null],
    ]);
    expect(curves([]).times).toEqual([]);
  });
});
