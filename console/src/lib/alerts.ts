// What alerts show: their measures in words, and where what they look at is.

/** The measures that a condition names, or all that are not 0. */
export function measures(all: Record<string, number>, when?: string): string {
  const words = new Set(when?.split(/[^A-Za-z0-9_]+/));
  const named = Object.entries(all).filter(([name, value]) => (when === undefined ? value !== 0 : words.has(name)));
  const number = (value: number) => (Number.isInteger(value) ? String(value) : value.toFixed(3).replace(/0+$/, ''));
  return named.map(([name, value]) => `${name} ${number(value)}`).join(', ');
}

/** A span of whole minutes, hours or days, as documents write it. */
export function span(micros: number): string {
  const units: [number, string][] = [[86_400_000_000, 'd'], [3_600_000_000, 'h'], [60_000_000, 'min'], [1_000_000, 's']];
  const [size, unit] = units.find(([size]) => micros % size === 0) ?? [1_000_000, 's'];
  return `${micros / size} ${unit}`;
}

/** The page of what an alert looks at. */
export function target(kind: string, name: string): string {
  const encoded = encodeURIComponent(name);
  switch (kind) {
    case 'workflow':
      return `/workflows/${encoded}`;
    case 'lane':
      return `/jobs?lane=${encoded}`;
    case 'service':
      return '/services';
    case 'timetable':
      return '/timetables';
    default:
      return '/keys';
  }
}
