// Curves of forecasts, on one axis of time.

interface Curve {
  label: string;
  curve: { at: string; waiting: number }[];
}

/** Curves with their values at the times of all of them; a value lasts until the next one, and to the end of its curve. */
export function curves(all: Curve[]): { times: number[]; series: { label: string; values: (number | null)[] }[] } {
  const read = all.map((one) => ({ label: one.label, points: one.curve.map((point): [number, number] => [Date.parse(point.at) / 1000, point.waiting]) }));
  const times = [...new Set(read.flatMap((one) => one.points.map(([at]) => at)))].sort((a, b) => a - b);
  const values = (points: [number, number][]) => {
    let next = 0;
    return times.map((at) => {
      while (next < points.length && (points[next]?.[0] ?? 0) <= at) next += 1;
      const over = at > (points.at(-1)?.[0] ?? 0);
      return next === 0 || over ? null : (points[next - 1]?.[1] ?? null);
    });
  };
  return { times, series: read.map((one) => ({ label: one.label, values: values(one.points) })) };
}
