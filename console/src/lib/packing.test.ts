import { zipSync, strToU8 } from 'fflate';
import { describe, expect, it } from 'vitest';
import type { Export } from '../api/types';
import { kindOf, packed, readFiles, sort, unpacked } from './packing';

describe('documents in files', () => {
  it.each([
    ['workflow: berth-quote\nsteps: []\n', { kind: 'workflow', name: 'berth-quote' }],
    ['# a comment\n---\n\ncases: "berth-quote"\n', { kind: 'cases', name: 'berth-quote' }],
    ['openapi: 3.1.0\n', undefined],
    ['', undefined],
  ])('know the kind of %j', (text, kind) => {
    expect(kindOf(text)).toEqual(kind);
  });

  it('are sorted by what they are', () => {
    const found = sort(new Map([['w.yaml', 'workflow: w\n'], ['c.yaml', 'cases: w\n'], ['s.openapi.yaml', 'openapi: 3.1.0\n'], ['export.json', '{"secrets": [{"name": "k"}]}']]));
    expect([found.documents.map((one) => one.path), found.cases.map((one) => one.workflow), Object.keys(found.files), found.secrets.map((one) => one.name)]).toEqual([
      ['w.yaml'], ['w'], ['s.openapi.yaml'], ['k'],
    ]);
  });

  it('of one name are all read', async () => {
    const file = (text: string) => ({ path: 'w.yaml', file: new File([text], 'w.yaml') });
    const found = await readFiles([file('workflow: w\n'), file('cases: w\n')]);
    expect([found.documents.length, found.cases.length]).toEqual([1, 1]);
  });

  it('come back out of an archive as they went in', () => {
    const exported: Export = { documents: [{ kind: 'workflow', name: 'w', path: 'workflows/w.yaml', text: 'workflow: w\nabout: ø\n' }], files: { 'a.json': '{}' }, kept: { w: { n: 1 } }, secrets: [] };
    const files = unpacked(packed(exported));
    expect(files.get('workflows/w.yaml')).toBe('workflow: w\nabout: ø\n');
    expect(sort(files).documents).toHaveLength(1);
  });

  it.each([
    [strToU8('no archive'), /./],
    [zipSync({ '../w.yaml': strToU8('workflow: w') }), /outside/],
  ])('are refused where they cannot be read', (bytes, why) => {
    expect(() => unpacked(bytes)).toThrow(why);
  });
});
