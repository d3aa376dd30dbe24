/** Declared inputs as rows of a table: JSON Schema on one side, words on the other. */

type Schema = Record<string, unknown>;

export const TYPES = ['text', 'integer', 'number', 'boolean', 'date', 'date-time', 'one of', 'list', 'object', 'email', 'uri', 'uuid', 'file', 'files'];
const FORMATS = ['date', 'date-time', 'email', 'uri', 'uuid'];
const RULES = ['enum', 'pattern', 'minimum', 'maximum', 'minLength', 'maxLength', 'format', 'items', 'properties', 'media', 'max', 'list'];

export function typeOf(schema: Schema): string {
  if (Array.isArray(schema.enum)) return 'one of';
  const format = String(schema.format ?? '');
  if (FORMATS.includes(format)) return format;
  const type = Array.isArray(schema.type) ? schema.type.join(' or ') : String(schema.type ?? '');
  if (type === 'file') return schema.list ? 'files' : 'file';
  return { string: 'text', array: 'list' }[type] ?? (type || 'anything');
}

/** The keys of another type; those of the old one that make no sense with it are removed. */
export function retyped(schema: Schema, type: string): Schema {
  const out: Schema = {};
  for (const rule of RULES) if (rule in schema) out[rule] = undefined;
  if ('default' in schema) out.default = undefined;
  if ('examples' in schema) out.examples = undefined;
  if (type === 'one of') return { ...out, type: 'string', enum: ['A', 'B'] };
  if (FORMATS.includes(type)) return { ...out, type: 'string', format: type };
  if (type === 'list') return { ...out, type: 'array', items: { type: 'string' } };
  if (type === 'object') return { ...out, type: 'object', properties: {} };
  if (type === 'files') return { ...out, type: 'file', list: true };
  return { ...out, type: type === 'text' ? 'string' : type };
}

/** The rule of a schema in words: values of an enumeration, a span of numbers or lengths, a pattern. */
export function ruleOf(schema: Schema): string {
  if (Array.isArray(schema.enum)) return schema.enum.map(String).join(', ');
  if (schema.type === 'file') {
    const media = Array.isArray(schema.media) ? schema.media.map(String) : [];
    return [...media, ...(schema.max === undefined ? [] : [`at most ${schema.max}`])].join(', ');
  }
  if (typeof schema.pattern === 'string') return schema.pattern;
  const span = (least: unknown, most: unknown, what: string) => {
    if (least !== undefined && most !== undefined) return `${least} to ${most}${what}`;
    if (least !== undefined) return `at least ${least}${what}`;
    return most !== undefined ? `at most ${most}${what}` : '';
  };
  const numbers = span(schema.minimum, schema.maximum, '');
  if (numbers) return numbers;
  const lengths = span(schema.minLength, schema.maxLength, ' characters');
  if (lengths) return lengths;
  const items = schema.items as Schema | undefined;
  if (items) return `of ${typeOf(items)}`;
  const members = schema.properties as Schema | undefined;
  return members ? Object.keys(members).join(', ') : '';
}

/** The keys of a rule that is written in words. */
export function ruled(schema: Schema, text: string): Schema {
  const out: Schema = {};
  for (const rule of ['pattern', 'minimum', 'maximum', 'minLength', 'maxLength', 'media', 'max']) if (rule in schema) out[rule] = undefined;
  const rule = text.trim();
  if (schema.type === 'file') return ofFile(out, rule);
  if (typeOf(schema) === 'one of') return { enum: rule.split(',').map((value) => value.trim()).filter(Boolean) };
  if (typeOf(schema) === 'list') return { items: { type: { text: 'string', list: 'array' }[rule.replace(/^of /, '')] ?? rule.replace(/^of /, '') } };
  if (rule === '') return out;
  const keys = ['integer', 'number'].includes(typeOf(schema)) ? ['minimum', 'maximum'] : ['minLength', 'maxLength'];
  const words = /^(?:(at least|at most) )?(-?[\d.]+)(?:\s*(?:to|–|-|\.\.)\s*(-?[\d.]+))?(?: characters)?$/.exec(rule);
  if (words) {
    const [, bound, first, second] = words;
    if (bound === 'at most') return { ...out, [keys[1] ?? '']: Number(first) };
    return { ...out, [keys[0] ?? '']: Number(first), ...(second ? { [keys[1] ?? '']: Number(second) } : {}) };
  }
  return typeOf(schema) === 'text' ? { ...out, pattern: rule } : out;
}

/** Media types and a size, as a rule names them: `text/csv, image/*, at most 2 MiB`. */
function ofFile(out: Schema, rule: string): Schema {
  const words = rule.split(',').map((word) => word.trim()).filter(Boolean);
  const most = words.find((word) => word.startsWith('at most '))?.slice('at most '.length);
  const media = words.filter((word) => word.includes('/'));
  return { ...out, ...(media.length ? { media } : {}), ...(most ? { max: most } : {}) };
}

export function exampleOf(schema: Schema): unknown {
  return Array.isArray(schema.examples) ? schema.examples[0] : undefined;
}
