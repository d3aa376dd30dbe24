import { describe, expect, it } from 'vitest';
import type { Description } from '../api/types';
import { rowOf, watchedRow } from './rows';

const column = (name: string, type: string) => ({ name, type, nullable: false });

describe('example rows', () => {
  it.each([
    ['BIGINT UNSIGNED', 1],
    ['TINYINT(1)', true],
    ['BOOLEAN', true],
    ['DECIMAL', 1.5],
    ['DATETIME', '2027-03-04T06:00:00Z'],
    ['DATE', '2027-03-04'],
    ['TIME', '06:00:00'],
    ['JSON', {}],
    ['VARCHAR', 'text'],
  ])('have a value for %s', (type, value) => expect(rowOf([column('c', type)])).toEqual({ c: value }));

  it.each([
    ['workflow: w\nentries:\n  - endpoint: GET /a\n  - change: bill\n    database: harbour\nsteps: []\n', { id: 1 }],
    ['workflow: w\nentries: [{change: bill, database: harbour}]\nsteps: []\n', { id: 1 }],
    ['workflow: w\nentries:\n  - change: gone\n    database: harbour\n', {}],
    ['workflow: w\nsteps: []\n', {}],
  ])('are of the table that is watched', async (text, row) => {
    const answer: Description = { tables: 1, document: '', columns: { bill: [column('id', 'INT')] } };
    expect(await watchedRow(text, async () => answer)).toEqual(row);
  });
});
