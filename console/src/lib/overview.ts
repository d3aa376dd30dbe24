/** The minutes of an overview as series on one axis. */
import type { Overview } from '../api/types';

/** Minutes without runs count as zero; they have no times. The minute that is not over is left out of counts while it would show as a fall. */
export function byMinute(overview: Overview, minutes: number, now: number) {
  const last = Math.floor(now / 60_000) * 60;
  const times = Array.from({ length: minutes }, (_, index) => last - (minutes - 1 - index) * 60);
  const known = new Map(overview.minutes.map((minute) => [minute.at, minute.ended]));
  const counts = (pick: 'runs' | 'rejected' | 'failed') => {
    const count = (at: number) => known.get(at)?.[pick] ?? 0;
    return times.map((at) => (at === last && count(at) < count(at - 60) ? null : count(at)));
  };
  const took = (pick: 'p50_us' | 'p95_us' | 'p99_us') =>
    times.map((at) => {
      const us = known.get(at)?.[pick];
      return us === null || us === undefined ? null : us / 1000;
    });
  return {
    times,
    runs: [{ label: 'all', values: counts('runs') }],
    failures: [
      { label: 'failed', values: counts('failed') },
      { label: 'rejected', values: counts('rejected') },
    ],
    took: [
      { label: 'p50', values: took('p50_us') },
      { label: 'p95', values: took('p95_us') },
      { label: 'p99', values: took('p99_us') },
    ],
  };
}
