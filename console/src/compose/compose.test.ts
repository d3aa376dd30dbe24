import { describe, expect, it } from 'vitest';
import type { Field, Offer, Part, Step } from '../api/types';
import { missedFunctions, missedOf } from './cases';
import { beginsExpression, written } from './field';
import { retyped, ruled, ruleOf, typeOf } from './inputs';
import { searched } from './offers';
import { at, valuesOf, whyNot } from './samples';
import { between, items, listed, moved, owner, position, target } from './tree';

const part = (number: string, place: string, more: Partial<Part> = {}): Part => ({ number, at: place, kind: 'note', title: '', depth: number.split('.').length - 1, off: false, range: { start: 0, end: 0 }, line: 1, ...more });
const STEPS = [
  part('1', 'steps/0', { kind: 'if' }),
  part('1.1', 'steps/0/then/0'),
  part('1.2', 'steps/0/then/1'),
  part('2', 'steps/1'),
  part('3', 'steps/2', { kind: 'each' }),
  part('4', 'steps/3'),
];

describe('places', () => {
  it.each([
    ['steps/1', 'up', 'steps/0'],
    ['steps/0', 'up', undefined],
    ['steps/1', 'down', 'steps/3'],
    ['steps/3', 'down', undefined],
    ['steps/1', 'in', 'steps/0/then/2'],
    ['steps/3', 'in', 'steps/2/steps/0'],
    ['steps/2', 'in', undefined],
    ['steps/0/then/1', 'out', 'steps/1'],
    ['steps/1', 'out', undefined],
  ] as const)('of %s %s is %s', (from, where, to) => {
    expect(target(STEPS, from, where)).toBe(to);
  });

  it.each([
    ['steps/0', 'steps/2', 'steps/1'],
    ['steps/2', 'steps/0', 'steps/0'],
    ['steps/1', 'steps/2/then/0', 'steps/1/then/0'],
    ['steps/1/then/0', 'steps/2', 'steps/2'],
  ])('%s moved to %s stands at %s', (from, to, after) => {
    expect(moved(from, to)).toBe(after);
  });

  it.each([
    ['steps/0/then', 'steps/0'],
    ['steps/0/arms/ferry', 'steps/0'],
    ['steps/0/together/tide', 'steps/0'],
    ['steps', ''],
  ])('%s belongs to %s', (list, step) => {
    expect(owner(list)).toBe(step);
  });

  it.each([
    ['steps/0', 'steps/2', ['steps/0', 'steps/1', 'steps/2']],
    ['steps/0/then/1', 'steps/0/then/0', ['steps/0/then/0', 'steps/0/then/1']],
    ['steps/1', 'steps/0/then/0', ['steps/0/then/0']],
  ])('from %s to %s are %o', (from, to, all) => {
    expect(between(STEPS, from, to)).toEqual(all);
  });

  it.each([
    ['note: a\nwhen: x\n', ['note: a\nwhen: x']],
    ['- note: a\n  when: x\n- if: b\n  then:\n    - note: c\n', ['note: a\nwhen: x', 'if: b\nthen:\n  - note: c']],
    ['\n  - note: a\n\n    when: x\n  - note: b', ['note: a\n\nwhen: x', 'note: b']],
    ['', []],
  ])('%j is read as steps', (text, steps) => {
    expect(items(text).filter(Boolean)).toEqual(steps);
    expect(items(listed(steps))).toEqual(steps);
  });

  it('are positions in lists, or none', () => {
    expect(position('steps/0/then/3')).toEqual({ list: 'steps/0/then', at: 3 });
    expect(position('steps/0/together/tide')).toBeUndefined();
  });
});

const field = (more: Partial<Field>): Field => ({ at: 'steps/0/x', label: 'x', depth: 0, shape: 'value', required: false, present: false, shown: true, free: false, expression: false, plain: false, ...more });
const set = (value: string) => [{ change: 'set', at: ['steps', 0, 'x'], value }];
const text = (value: string) => [{ change: 'text', at: ['steps', 0, 'x'], text: value }];
const removed = [{ change: 'remove', at: ['steps', 0, 'x'] }];

describe('a field', () => {
  it.each([
    [{}, 'input.imo', true, text('${input.imo}')],
    [{}, '12.5', false, set('12.5')],
    [{ plain: true }, '12.5', false, text('12.5')],
    [{}, '"12.5"', false, text('12.5')],
    [{}, '[1, 2]', false, set('[1, 2]')],
    [{}, '{not json', false, text('{not json')],
    [{}, 'true', false, set('true')],
    [{}, 'Dues: ${dues}', false, text('Dues: ${dues}')],
    [{ present: true }, '', false, removed],
    [{ present: true, free: true }, '', false, text('')],
    [{}, '', false, []],
    [{ shape: 'expression' }, 'a === 1', true, text('a === 1')],
    [{ shape: 'constant' }, '3', false, set('3')],
    [{ shape: 'constant', plain: true }, '3', false, text('3')],
    [{ shape: 'yaml' }, '[200, 404]', false, set('[200, 404]')],
    [{ shape: 'switch', present: true }, 'false', false, removed],
  ] as const)('%j with %s (expression %s) writes %j', (more, value, expression, changes) => {
    expect(written(field(more as Partial<Field>), value, expression)).toEqual(changes);
  });

  it('becomes an expression where a known name is typed', () => {
    const names = new Set(['input', 'vessel']);
    const found = ['input.', 'vessel?.body', 'vessel', 'vessels.x', 'A text. More'].map((one) => beginsExpression(one, names));
    expect(found).toEqual([true, true, false, false, false]);
  });
});

describe('an input', () => {
  it.each([
    [{ type: 'string' }, 'text', ''],
    [{ type: 'string', enum: ['LIN', 'NES'] }, 'one of', 'LIN, NES'],
    [{ type: 'string', format: 'date-time' }, 'date-time', ''],
    [{ type: 'integer', minimum: 1, maximum: 30 }, 'integer', '1 to 30'],
    [{ type: 'array', items: { type: 'string' } }, 'list', 'of text'],
    [{ type: 'string', minLength: 2 }, 'text', 'at least 2 characters'],
    [{ type: ['string', 'null'] }, 'string or null', ''],
  ])('%j is %s with the rule %s', (schema, type, rule) => {
    expect([typeOf(schema), ruleOf(schema)]).toEqual([type, rule]);
  });

  it.each([
    [{ type: 'integer', minimum: 5 }, '1 to 30', { minimum: 1, maximum: 30 }],
    [{ type: 'integer', minimum: 5 }, 'at most 9', { minimum: undefined, maximum: 9 }],
    [{ type: 'string', pattern: 'a' }, '^[0-9]{7}$', { pattern: '^[0-9]{7}$' }],
    [{ type: 'string' }, '3', { minLength: 3 }],
    [{ type: 'string', pattern: 'a' }, '', { pattern: undefined }],
    [{ enum: ['A'] }, 'LIN, NES', { enum: ['LIN', 'NES'] }],
    [{ type: 'array' }, 'of integer', { items: { type: 'integer' } }],
  ])('%j takes the rule %s as %j', (schema, rule, keys) => {
    expect(ruled(schema, rule)).toEqual(keys);
  });

  it('drops what makes no sense with another type', () => {
    expect(retyped({ type: 'string', pattern: 'a', default: 'a', description: 'd' }, 'integer')).toEqual({ pattern: undefined, default: undefined, type: 'integer' });
  });
});

it('steps are found by verb, service and what they do', () => {
  const offer = (label: string, about: string): Offer => ({ label, about, value: '' });
  const all = [offer('if', 'Which branch is taken.'), offer('call tides.nextWindow', 'The next window'), offer('enqueue tides-watch', 'Watches'), offer('call rates.latest', 'What one euro buys')];
  const found = (words: string) => searched(all, words).map((one) => one.label);
  expect(found('if')[0]).toBe('if');
  expect(found('tides next')).toEqual(['call tides.nextWindow']);
  expect(found('tides')).toEqual(['call tides.nextWindow', 'enqueue tides-watch']);
  expect(found('euro')).toEqual(['call rates.latest']);
  expect(found('nothing')).toEqual([]);
});

it('values are those that the last trial knew', () => {
  const step = (number: string, outcome: unknown, state = 'succeeded') => ({ number, state, outcome }) as Step;
  const parts = [part('1', 'steps/0', { name: 'vessel' }), part('2', 'steps/1', { kind: 'let' }), part('3', 'steps/2', { name: 'rate' }), part('4', 'steps/3', { name: 'later' })];
  const values = valuesOf(parts, [step('1', { body: { name: 'Havbris', tags: ['a'] } }), step('2', { dues: 3 }), step('3', null, 'skipped')], { nights: 1 });
  expect(values).toEqual({ input: { nights: 1 }, vessel: { body: { name: 'Havbris', tags: ['a'] } }, dues: 3, rate: null });
  expect([at(values, ['vessel', 'body', 'tags', 0]), at(values, ['rate', 'body']), at(values, ['later'])]).toEqual(['a', undefined, undefined]);
});

describe('a step that was not performed', () => {
  const step = (number: string, more: Partial<Step> = {}): Step => ({ number, state: 'succeeded', outcome: null, ...more }) as Step;
  const parts = [
    part('1', 'steps/0', { kind: 'if' }),
    part('1.1', 'steps/0/then/0', { kind: 'fail' }),
    part('2', 'steps/1', { kind: 'each' }),
    part('2.1', 'steps/1/steps/0'),
    part('3', 'steps/2', { kind: 'match' }),
    part('3.1', 'steps/2/arms/ferry/0'),
    part('4', 'steps/3', { kind: 'call' }),
    part('4.1', 'steps/3/catch/0'),
    part('5', 'steps/4', { kind: 'reply' }),
  ];
  it.each([
    ['1.1', [step('1', { outcome: false })], 'not taken: 1 is false'],
    ['2.1', [step('2', { outcome: [] })], '2 has no items'],
    ['3.1', [step('3', { outcome: 'tanker' })], 'not taken: 3 is "tanker"'],
    ['4.1', [step('4')], '4 did not fail'],
    ['4.1', [step('4', { state: 'skipped' })], '4 is skipped'],
    ['5', [step('1', { outcome: true, state: 'failed' }), step('1.1', { state: 'failed' })], 'not reached: ended at 1.1'],
    ['5', [], 'not reached'],
  ] as [string, Step[], string][])('%s after %j says why', (number, taken, why) => {
    const one = parts.find((found) => found.number === number);
    const byNumber = new Map(taken.map((each) => [each.number, [each]]));
    expect(one && whyNot(one, parts, byNumber)).toBe(why);
  });
});

it('what no case reaches is listed by step and by function', () => {
  const missing = [
    { number: '2.1', branch: 'else' },
    { number: 'fee', branch: 'line 2, column 14' },
    { number: 'fee', branch: 'line 4' },
    { number: 'never', branch: null },
  ];
  const missed = missedOf({ steps: 2, steps_reached: 2, branches: 9, branches_reached: 5, missing });
  expect(missed.get('2.1')).toEqual(['else']);
  expect(missedFunctions(missed)).toEqual([
    ['fee', ['line 2, column 14', 'line 4']],
    ['never', []],
  ]);
});
