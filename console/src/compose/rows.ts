/** Example rows of tables: what a workflow for changed rows begins with, and is tried with. */
import type { Description } from '../api/types';

type Columns = Description['columns'][string];

const samples: [RegExp, unknown][] = [
  [/^(bool|tinyint\(1\))/i, true],
  [/^(tiny|small|medium|big)?int|^year/i, 1],
  [/^(decimal|numeric|double|float|real)/i, 1.5],
  [/^(datetime|timestamp)/i, '2027-03-04T06:00:00Z'],
  [/^date/i, '2027-03-04'],
  [/^time/i, '06:00:00'],
  [/^json/i, {}],
];

/** A row with a sample for each column, by its type. */
export function rowOf(columns: Columns): Record<string, unknown> {
  return Object.fromEntries(columns.map((column) => [column.name, samples.find(([type]) => type.test(column.type))?.[1] ?? 'text']));
}

/** A row of the table that a document watches; an empty one where the database does not describe it. */
export async function watchedRow(text: string, get: (path: string) => Promise<Description>): Promise<Record<string, unknown>> {
  const entry = text.slice(Math.max(0, text.search(/^\s*(- )?\{?change:/m)));
  const [table, database] = [/change:\s*([\w$]+)/.exec(entry)?.[1], /database:\s*([\w-]+)/.exec(entry)?.[1]];
  if (!table || !database) return {};
  const { columns } = await get(`/databases/${encodeURIComponent(database)}/description`);
  return rowOf(columns[table] ?? []);
}
