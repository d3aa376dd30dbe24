/** Comparisons of two texts, as they are drawn. */
import type { StepChange } from '../api/types';

const MARKS = { added: '+', removed: '−', changed: '~', moved: '~' } as const;

export function changeMark(step: StepChange): string {
  return MARKS[step.change];
}

/** `2`, or `2 → 3` where a step stands elsewhere now. */
export function changeNumber(step: StepChange): string {
  if (step.before === '' || step.after === '' || step.before === step.after) return step.after || step.before;
  return `${step.before} → ${step.after}`;
}

export interface DiffLine {
  kind: 'added' | 'removed' | 'place' | 'same';
  text: string;
}

/** The lines of a unified diff, without the names of its files. */
export function diffLines(diff: string): DiffLine[] {
  const lines = diff.replace(/\n$/, '').split('\n');
  return lines
    .filter((line) => !line.startsWith('--- ') && !line.startsWith('+++ '))
    .map((text) => {
      const first = text[0];
      const kind = first === '+' ? 'added' : first === '-' ? 'removed' : first === '@' ? 'place' : 'same';
      return { kind, text };
    });
}
