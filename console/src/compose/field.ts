/** How what is typed into a field becomes a change of the text. */
import type { Change, Field } from '../api/types';
import { remove, set, text } from './tree';

/** A constant that YAML reads as something else than a text: a number, true, null, a list, a mapping. */
const SCALAR = /^(true|false|null|-?(0|[1-9]\d*)(\.\d+)?([eE][+-]?\d+)?)$/;

/** The changes that write a field; none where nothing is to be written. */
export function written(field: Field, value: string, expression: boolean): Change[] {
  const empty = value.trim() === '';
  if (empty) {
    const keeps = field.free && !field.required;
    if (keeps && field.present) return [text(field.at, '')];
    return field.present ? [remove(field.at)] : [];
  }
  switch (field.shape) {
    case 'switch':
      return value === 'true' ? [set(field.at, 'true')] : field.present ? [remove(field.at)] : [];
    case 'yaml':
    case 'input':
      return [set(field.at, value)];
    case 'expression':
      return [SCALAR.test(value.trim()) ? set(field.at, value.trim()) : text(field.at, value)];
    case 'value':
      if (expression) return [text(field.at, `\${${value}}`)];
      if (field.plain) return [text(field.at, value)];
      return [constant(field.at, value)];
    case 'constant':
      return [!field.plain && SCALAR.test(value.trim()) ? set(field.at, value.trim()) : text(field.at, value)];
    default:
      return [SCALAR.test(value.trim()) && !field.plain ? set(field.at, value.trim()) : text(field.at, value)];
  }
}

/** A constant of any type: what looks like a number is one, quotes make it a text, brackets a list or a mapping. */
function constant(at: string, value: string): Change {
  const trimmed = value.trim();
  if (SCALAR.test(trimmed)) return set(at, trimmed);
  if (trimmed.startsWith('"')) {
    try {
      return text(at, String(JSON.parse(trimmed)));
    } catch {
      return text(at, value);
    }
  }
  if (/^[[{]/.test(trimmed)) {
    try {
      JSON.parse(trimmed);
      return set(at, trimmed);
    } catch {
      return text(at, value);
    }
  }
  return text(at, value);
}

/** Whether a text that is typed as a constant is the beginning of an expression over names that are known. */
export function beginsExpression(value: string, names: Set<string>): boolean {
  const found = /^([A-Za-z_$][\w$]*)(\.|\?\.|\[)/.exec(value);
  return found !== null && names.has(found[1] ?? '');
}
