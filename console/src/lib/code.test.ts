import { describe, expect, it } from 'vitest';
import type { Endpoint } from '../api/types';
import { fetchLines, literal, typedLines } from './code';

const endpoint = (method: string, more: Partial<Endpoint['request']> = {}): Endpoint => ({
  method,
  path: '/harbours/{harbour}/quotes',
  url: 'http://127.0.0.1:7080/harbours/{harbour}/quotes',
  reach: 'http://127.0.0.1:7080/harbours/{harbour}/quotes',
  host: null,
  curl: '',
  request: { method, target: '/harbours/LIN/quotes', path: { harbour: 'LIN' }, query: {}, headers: {}, body: null, ...more },
  proof: null,
});

describe('code lines', () => {
  it.each([
    [{ nights: 2, 'a-b': "it's" }, "{ nights: 2, 'a-b': 'it\\'s' }"],
    [[null, true, {}], '[null, true, {}]'],
  ])('write %o as a literal', (value, text) => {
    expect(literal(value)).toBe(text);
    expect(new Function(`return ${text}`)()).toEqual(value);
  });

  it.each([
    [endpoint('GET'), "await fetch('http://127.0.0.1:7080/harbours/LIN/quotes');", "client.GET('/harbours/{harbour}/quotes', {\n  params: { path: { harbour: 'LIN' } },\n});"],
    [
      endpoint('POST', { body: { nights: 2 }, headers: { Host: 'api.example', 'X-Desk': 'a' } }),
      "  method: 'POST',\n  headers: { 'Content-Type': 'application/json', 'X-Desk': 'a' },\n  body: JSON.stringify({ nights: 2 }),",
      "  params: { path: { harbour: 'LIN' }, header: { 'X-Desk': 'a' } },\n  body: { nights: 2 },",
    ],
  ])('call an endpoint', (asked, plain, typed) => {
    expect(fetchLines(asked)).toContain(plain);
    expect(typedLines(asked)).toContain(typed);
  });

  it('send files as a form, or as the body', () => {
    const form = fetchLines(endpoint('PUT', { body: { nights: 2 }, files: { crew: 'crew.csv' } }));
    expect(form).toContain("form.append('nights', '2');\nform.append('crew', file, 'crew.csv');");
    expect(form).toContain('  body: form,');
    expect(fetchLines(endpoint('PUT', { files: { '': 'crew.csv' } }))).toContain('  body: file,');
  });
});
