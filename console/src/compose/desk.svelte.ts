/** What the parts of the composing page share beside the draft: the field that is edited, samples, where something is added. */
import type { Change, Document, Draft, Edit, Field, Offer, Part, RenameEdits, Run, RunPage, Statistics, StepStatistics, Trial, Values, Workflow } from '../api/types';
import { Refused, session } from '../lib/api.svelte';
import { copyText } from '../lib/copy';
import { applied, bytes } from '../lib/bytes';
import type { Composer } from './composer.svelte';
import { valuesOf } from './samples';
import { between, insert, items, listed, moved, parts, position } from './tree';

/** Where copied steps are kept for other workflows and tabs. */
const CLIPBOARD = 'kanzlei-step';

export interface Focused {
  at: string;
  label: string;
  put: (expression: string) => void;
  focus: () => void;
}

export class Desk {
  focused: Focused | undefined = $state.raw(undefined);
  values: Values | undefined = $state.raw(undefined);
  /** Where a step is being added, by its place. */
  adding: string | undefined = $state(undefined);
  /** The paragraph whose menu is open. */
  menu: string | undefined = $state(undefined);
  trial: Trial | undefined = $state.raw(undefined);
  /** What the margin shows. */
  margin: 'trial' | 'day' = $state('trial');
  /** What the steps of the live revision did in the last day. */
  day: Statistics | undefined = $state.raw(undefined);
  /** The text that was tried. */
  tried = $state('');
  /** Paragraphs that were copied, as YAML. */
  copied = $state('');
  said = $state('');
  /** The field that wants the cursor, by its place. */
  wanted: string | undefined = $state(undefined);
  /** Steps of one list that are picked together, in order; none for the one with the keyboard alone. */
  picked: string[] = $state.raw([]);
  /** The paragraph that has or wants the keyboard. */
  selected: string | undefined = $state(undefined);
  /** Tries the draft. */
  trying: ((how: { until?: string; only?: string; stepwise?: boolean }) => Promise<void>) | undefined;
  private picking: (() => void) | undefined;

  constructor(readonly composer: Composer) {}

  /** The names in scope of the field that is edited. */
  get names(): Set<string> {
    return new Set(this.values?.values.filter((one) => one.path.length === 1).map((one) => String(one.path[0])) ?? ['input']);
  }

  /** The last run that succeeded: what its steps did stands for a trial until there is one. */
  private lastRun: Run | undefined = $state.raw(undefined);
  private looked = false;

  /** Where samples come from, for people. */
  get sampled(): string {
    return this.trial ? 'of the last trial' : this.lastRun ? 'of the last run' : 'made from the schemas';
  }

  get samples(): Record<string, unknown> {
    const from = this.trial ?? this.lastRun;
    return from ? valuesOf(this.composer.steps, from.steps, from.input) : {};
  }

  private async loadLastRun() {
    this.looked = true;
    try {
      const { runs } = await session.get<RunPage>(`/runs?workflow=${encodeURIComponent(this.composer.name)}&state=succeeded&limit=1`);
      const run = runs[0] && (await session.get<Run>(`/runs/${runs[0].id}`));
      // Of another revision its numbers mean other steps.
      if (run && run.revision === this.composer.liveRevision) this.lastRun = run;
    } catch {
      // Samples of the schemas serve.
    }
  }

  focus(field: Focused) {
    const again = this.focused?.at === field.at;
    this.focused = field;
    if (!this.looked && !this.trial && this.composer.live !== undefined) void this.loadLastRun();
    if (!again || !this.values) void this.look();
  }

  unfocus() {
    this.focused = undefined;
    this.values = undefined;
  }

  /** Asks for the values that fit the field. */
  async look() {
    const at = this.focused?.at;
    if (!at) return;
    if (this.values) this.values = { ...this.values };
    await this.composer.settled();
    try {
      const found = await this.composer.ask<Values>('values', { at });
      if (this.focused?.at === at) this.values = found;
    } catch {
      this.values = undefined;
    }
  }

  /** What the picker does when a field asks for it by a key. */
  onpick(act: () => void) {
    this.picking = act;
  }

  pick() {
    this.picking?.();
  }

  /** Loads what the steps of the live revision did. */
  async loadDay() {
    const { name, liveRevision } = this.composer;
    if (liveRevision === undefined) return;
    this.day = await session.get<Statistics>(`/workflows/${encodeURIComponent(name)}/statistics?since=24h&revision=${liveRevision}`);
  }

  /** What a step did in the last day: the one of its number, or the only one that does the same. */
  dayOf(part: Part): StepStatistics | undefined {
    const same = (this.day?.steps ?? []).filter((step) => step.kind === part.kind && step.title.startsWith(part.title));
    return same.find((step) => step.number === part.number) ?? (same.length === 1 ? same[0] : undefined);
  }

  /** Gives a paragraph the keyboard. */
  select(at: string) {
    this.selected = at;
  }

  /** The steps that are meant by one of them: all that are picked with it. */
  together(at: string): string[] {
    return this.picked.includes(at) ? this.picked : [at];
  }

  /** Picks the steps from one to another of the same list. */
  pickTo(from: string, to: string) {
    if (!this.picked.includes(from)) this.anchor = from;
    const found = between(this.composer.steps, this.anchor, to);
    this.picked = found.length > 1 ? found : [];
  }

  private anchor = '';

  async copy(steps: string[]) {
    this.copied = listed(await Promise.all(steps.map((at) => this.source(at))));
    localStorage.setItem(CLIPBOARD, this.copied);
    await copyText(this.copied);
    this.said = `${steps.length === 1 ? 'The step is' : `${steps.length} steps are`} copied; paste here or in another workflow.`;
  }

  /** Pastes steps that were copied here, in another workflow, or as YAML from elsewhere. */
  async paste(at: string) {
    const found = items(this.copied || localStorage.getItem(CLIPBOARD) || '');
    const here = position(at);
    if (!found.length || !here) {
      this.said = 'No step is copied yet.';
      return;
    }
    await this.composer.change(found.map((step, index) => insert(`${here.list}/${here.at + index}`, step)), found.length === 1 ? at : undefined);
  }

  /** Adds a step. */
  async add(at: string, value: string) {
    this.adding = undefined;
    if (await this.composer.change([insert(at, value)], at)) this.wanted = at;
  }

  private draftOf(kind: string, name: string): Promise<Draft | undefined> {
    return session.get<Draft>(`/drafts/${kind}/${encodeURIComponent(name)}`).catch(() => undefined);
  }

  /** Makes edits in other documents: in their drafts, or in drafts of what is live. Answers their names. */
  private async alsoIn(edits: Record<string, Edit[]>): Promise<string[]> {
    const changed: string[] = [];
    for (const [path, own] of Object.entries(edits)) {
      const [, kind, file] = /^(?:live|drafts)\/([^/]+)\/([^/]+)/.exec(path) ?? [];
      const name = file?.replace(/\.yaml$/, '');
      if (!kind || !name) continue;
      const draft = await this.draftOf(kind, name);
      const text = draft?.text ?? (kind === 'workflow' ? (await session.get<Workflow>(`/workflows/${encodeURIComponent(name)}`)).source : undefined);
      if (text === undefined) continue;
      const precondition: Record<string, string> = draft ? { 'if-match': `"${draft.line.version}"` } : { 'if-none-match': '*' };
      await session.ask('PUT', `/drafts/${kind}/${encodeURIComponent(name)}`, { path: draft?.path ?? `workflows/${name}.yaml`, text: applied(text, own), file: draft?.file ?? null }, precondition);
      changed.push(kind === 'workflow' ? name : `${kind} ${name}`);
    }
    return changed;
  }

  offers(at: string): Promise<Offer[]> {
    return this.composer.ask<{ offers: Offer[] }>('offers', { at }).then((answer) => answer.offers);
  }

  /** Moves a step; it stays open where it was. */
  async moveStep(from: string, to: string) {
    const open = this.composer.open;
    const after = moved(from, to);
    const opened = open === undefined ? undefined : open === from ? after : undefined;
    await this.composer.change([{ change: 'move', from: parts(from), to: parts(to) }], opened);
    return after;
  }

  /** Renames a field: what is named by it elsewhere is renamed too, where the service knows it. */
  async rename(field: Field, name: string, otherwise: Change) {
    await this.composer.settled();
    await this.renamed(keyPosition(this.composer.text, field), name, otherwise);
  }

  /** Gives the result of a step another name, also where it is used. */
  async renameResult(field: Field, name: string, otherwise: Change) {
    await this.composer.settled();
    await this.renamed(field.range?.start, name, otherwise);
  }

  private async renamed(position: number | undefined, name: string, otherwise: Change) {
    const { composer } = this;
    const open = composer.open;
    if (position !== undefined) {
      try {
        const cases = await this.draftOf('cases', composer.name);
        const question = composer.question({ position, name });
        const documents = [...(question.documents as Document[]), ...(cases ? [{ path: `drafts/cases/${composer.name}.yaml`, text: cases.text }] : [])];
        const { edits } = await session.ask<RenameEdits>('POST', '/language/rename', { ...question, documents });
        const { [String(question.path)]: own, ...others } = edits;
        if (own) {
          await composer.edit(own);
          const also = await this.alsoIn(others);
          if (also.length) this.said = `Also renamed in the drafts of ${also.join(', ')}.`;
          return;
        }
      } catch (error) {
        if (error instanceof Refused && error.status !== 409 && error.status !== 404) throw error;
      }
    }
    await composer.change([otherwise], open);
  }

  /** The YAML of a step, as it can be added elsewhere. */
  async source(at: string): Promise<string> {
    const answer = await this.composer.ask<{ form: { source: string } | null }>('sheet', { at });
    return answer.form?.source ?? '';
  }

  async duplicate(steps: string[]) {
    const [first, last] = [steps[0] ?? '', position(steps.at(-1) ?? '')];
    if (!last) return;
    if (steps.length === 1) {
      await this.composer.change([{ change: 'duplicate', at: parts(first) }], `${last.list}/${last.at + 1}`);
      return;
    }
    const sources = await Promise.all(steps.map((at) => this.source(at)));
    await this.composer.change(sources.map((source, index) => insert(`${last.list}/${last.at + 1 + index}`, source)), undefined);
  }

  async extract(steps: string[], name: string) {
    const { document, edits } = await this.composer.ask<{ document: string; edits: Edit[] }>('extract', { at: steps[0], count: steps.length, name });
    await session.ask('PUT', `/drafts/workflow/${encodeURIComponent(name)}`, { path: `workflows/${name}.yaml`, text: document }, { 'if-none-match': '*' });
    this.composer.others = [...this.composer.others, { path: `drafts/workflow/${name}.yaml`, text: document }];
    await this.composer.edit(edits);
    this.said = `The draft ${name} has the steps now; deploy both.`;
  }
}


/** The position of a field's key in the text, in bytes: the last place of its name before its value. */
function keyPosition(text: string, field: Field): number | undefined {
  if (!field.range) return undefined;
  const all = new TextEncoder().encode(text);
  const before = new TextDecoder().decode(all.slice(0, field.range.start));
  const found = before.lastIndexOf(field.label);
  return found < 0 ? undefined : bytes(before, found) + 1;
}
