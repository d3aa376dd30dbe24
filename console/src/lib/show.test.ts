import { afterEach, beforeEach, describe, expect, it, vi } from 'vitest';
import { ahead } from './jobs';
import { ago, block, count, line, ordinal, size, time, took } from './show';

describe('spans', () => {
  it.each([
    [null, ''],
    [0, '<1 ms'],
    [104_000, '104 ms'],
    [2_500_000, '2.5 s'],
    [125_000_000, '2 min 5 s'],
    [7_689_000_000, '2 h 8 min'],
    [648_000_000_000, '7 days 12 h'],
  ])('%s microseconds are %s', (micros, shown) => {
    expect(took(micros)).toBe(shown);
  });
});

describe('instants', () => {
  beforeEach(() => {
    vi.useFakeTimers({ now: new Date('2027-03-04T06:00:00Z') });
  });
  afterEach(() => {
    vi.useRealTimers();
  });

  it.each([
    ['2027-03-04T05:59:59Z', 'just now'],
    ['2027-03-04T05:59:15Z', '45 s ago'],
    ['2027-03-04T05:00:00Z', '60 min ago'],
    ['2027-03-03T06:00:00Z', '24 h ago'],
    ['2027-02-25T06:00:00Z', '7 days ago'],
    ['2027-03-04T07:00:00Z', 'just now'],
  ])('%s was %s', (instant, shown) => {
    expect(ago(instant)).toBe(shown);
  });

  it.each([
    ['2027-03-04T05:00:00Z', 'now'],
    ['2027-03-04T06:00:45Z', 'in 45 s'],
    ['2027-03-04T06:04:00Z', 'in 4 min'],
    ['2027-03-06T06:00:00Z', 'in 2 days'],
  ])('%s is %s', (instant, shown) => {
    expect(ahead(instant)).toBe(shown);
  });

  it('are written to the second', () => {
    expect(time('2027-03-04T06:00:00.123456Z')).toBe('2027-03-04 06:00:00');
  });
});

describe('sizes', () => {
  it.each([
    [0, '0 bytes'],
    [999, '999 bytes'],
    [3_140, '3.1 kB'],
    [250_000, '250 kB'],
    [2_500_000_000, '2.5 GB'],
  ])('%i bytes are %s', (bytes, shown) => {
    expect(size(bytes)).toBe(shown);
  });
});

describe('values', () => {
  it.each([
    [undefined, ''],
    [null, 'null'],
    ['a"b', '"a\\"b"'],
    [{ name: 'Havbris', sizes: [1, 2], none: {} }, '{ name: "Havbris", sizes: [1, 2], none: {} }'],
    [{ $cut: { bytes: 20_000, begins: '{"a":' } }, '{"a":… (cut, 20\u202f000 bytes)'],
  ])('%j is written on one line', (value, shown) => {
    expect(line(value)).toBe(shown);
  });

  it('keep their lines where they are text', () => {
    expect(block('a\nb')).toBe('a\nb');
    expect(block({ a: 1 })).toBe('{\n  "a": 1\n}');
  });

  it('are counted in groups of three digits', () => {
    expect(count(1_234_567)).toBe('1\u202f234\u202f567');
    expect([1, 2, 3, 4, 11].map(ordinal)).toEqual(['1st', '2nd', '3rd', '4th', '11th']);
  });
});
