/** What can be done with a step, by menu and by key. */
import type { Part } from '../api/types';
import type { Composer } from './composer.svelte';
import type { Desk } from './desk.svelte';
import { owner, position, remove, set, target, unwrap, within, wrap } from './tree';

export interface Action {
  id: string;
  label: string;
  keys?: string;
  /** Whether a line stands above it. */
  line?: boolean;
  /** Why it is not possible. */
  off?: string;
}

/** What works on several steps at once. */
const TOGETHER = ['copy', 'cut', 'paste', 'duplicate', 'off', 'if', 'each', 'extract', 'delete'];

export function actionsOf(desk: Desk, part: Part): Action[] {
  const { composer } = desk;
  const count = desk.together(part.at).length;
  const single = position(part.at) === undefined ? 'The only step of its branch' : undefined;
  const can = (where: 'up' | 'down' | 'in' | 'out', why: string) => single ?? (target(composer.steps, part.at, where) === undefined ? why : undefined);
  const holds = composer.steps.some((step) => within(step.at, part.at) && step.at !== part.at);
  const all: Action[] = [
    { id: 'above', label: 'Insert above', keys: 'Shift+Insert', off: single },
    { id: 'below', label: 'Insert below', keys: 'Insert', off: single },
    { id: 'up', label: 'Move up', keys: 'Alt+↑', line: true, off: can('up', 'It is the first') },
    { id: 'down', label: 'Move down', keys: 'Alt+↓', off: can('down', 'It is the last') },
    { id: 'in', label: 'Into the branch above', keys: 'Alt+→', off: can('in', 'No branch stands above it') },
    { id: 'out', label: 'Out of the branch', keys: 'Alt+←', off: can('out', 'It stands in no branch') },
    { id: 'duplicate', label: 'Duplicate', keys: 'Ctrl+D', line: true, off: single },
    { id: 'copy', label: 'Copy', keys: 'Ctrl+C' },
    { id: 'cut', label: 'Cut', keys: 'Ctrl+X', off: single },
    { id: 'paste', label: 'Paste below', keys: 'Ctrl+V', off: single },
    { id: 'off', label: part.off ? 'Switch on' : 'Switch off', keys: 'Ctrl+/', line: true },
    { id: 'note', label: part.about ? 'Edit the note' : 'Add a note', keys: 'N' },
    { id: 'if', label: 'Wrap in if', line: true, off: single },
    { id: 'each', label: 'Wrap in each', off: single },
    { id: 'together', label: 'Wrap in together', off: single },
    { id: 'unwrap', label: 'Unwrap', off: single ?? (holds ? undefined : 'It holds no steps') },
    { id: 'extract', label: 'Extract to a workflow …', off: single },
    { id: 'until', label: 'Try to here', keys: 'Shift+Enter', line: true },
    { id: 'only', label: 'Try this step alone' },
    { id: 'delete', label: 'Delete', keys: 'Del', line: true, off: single },
  ];
  if (count === 1) return all;
  return all.map((action) => (TOGETHER.includes(action.id) ? { ...action, label: `${action.label} (${count} steps)` } : { ...action, off: 'For one step at a time' }));
}

/** The place behind a step. */
export function behind(at: string): string | undefined {
  const here = position(at);
  return here && `${here.list}/${here.at + 1}`;
}

/** The list of a step that is unwrapped: its first one that is there. */
function inner(composer: Composer, part: Part): string | undefined {
  const first = composer.steps.find((step) => within(step.at, part.at) && step.at !== part.at);
  return first && position(first.at)?.list;
}

export async function act(desk: Desk, part: Part, id: string): Promise<void> {
  const { composer } = desk;
  const steps = desk.together(part.at);
  const next = behind(steps.at(-1) ?? part.at);
  if (steps.length > 1 && !TOGETHER.includes(id)) return;
  desk.picked = [];
  switch (id) {
    case 'above':
      desk.adding = part.at;
      return;
    case 'below':
      desk.adding = next;
      return;
    case 'up':
    case 'down':
    case 'in':
    case 'out': {
      const to = target(composer.steps, part.at, id);
      if (to === undefined) return;
      const after = await desk.moveStep(part.at, to);
      desk.select(after);
      return;
    }
    case 'duplicate':
      return desk.duplicate(steps);
    case 'copy':
      return desk.copy(steps);
    case 'cut':
      await desk.copy(steps);
      await composer.change([...steps].reverse().map(remove), undefined);
      return;
    case 'paste':
      if (next) await desk.paste(next);
      return;
    case 'off':
      await composer.change(steps.flatMap((at) => (composer.part(at)?.off === part.off ? [part.off ? remove(`${at}/off`) : set(`${at}/off`, 'true')] : [])));
      return;
    case 'note':
      await composer.unfold(part.at);
      desk.wanted = `${part.at}/about`;
      return;
    case 'if':
      await composer.change([wrap(steps[0] ?? part.at, 'if: ""', 'then', steps.length)], steps[0]);
      return;
    case 'each':
      await composer.change([wrap(steps[0] ?? part.at, 'each: item\nin: ""', 'steps', steps.length)], steps[0]);
      return;
    case 'together': {
      const yaml = await desk.source(part.at);
      const lines = yaml.split('\n').map((line, index) => (index === 0 ? `    - ${line}` : `      ${line}`));
      await composer.change([set(part.at, `together:\n  first:\n${lines.join('\n')}\n  second: []`)], part.at);
      return;
    }
    case 'unwrap': {
      const list = inner(composer, part);
      if (list) await composer.change([unwrap(list)], undefined);
      return;
    }
    case 'until':
      return desk.trying?.({ until: part.number });
    case 'only':
      return desk.trying?.({ only: part.number });
    case 'delete': {
      const list = position(part.at)?.list ?? '';
      const alone = composer.steps.filter((step) => position(step.at)?.list === list).length === steps.length;
      const holder = owner(list);
      // A branch that is optional goes with its last step.
      const optional = alone && /\/(else|catch)$/.test(list);
      await composer.change(optional ? [remove(list)] : [...steps].reverse().map(remove), steps.includes(composer.open ?? '') ? undefined : composer.open);
      desk.select(holder || (steps[0] ?? part.at));
      return;
    }
  }
}
