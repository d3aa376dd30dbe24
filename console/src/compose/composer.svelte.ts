/**
 * One draft being composed: its text, the sheet and findings that the service makes of it, the paragraph that is open, undo,
 * and saving. Every change is made by the service, one after the other, so sheet and text are always of one state.
 */
import type { Change, Composed, Diagnostic, Document, Draft, Drafts, Edit, Form, Part, Sheet } from '../api/types';
import { Refused, session } from '../lib/api.svelte';
import { applied } from '../lib/bytes';

/** Steps of undo that are kept, and their bytes. */
const MOST_UNDO = 200;
const MOST_UNDO_BYTES = 8 << 20;
/** Milliseconds without a change after which the draft is saved. */
const SAVE_AFTER = 600;
/** Milliseconds between two looks at what others save: while they do, and while they do not. */
const LEAST_WAIT = 3000;
const MOST_WAIT = 12_000;

interface Snapshot {
  text: string;
  open: string | undefined;
}

export interface Conflict {
  version: number;
  operator: string;
  current: string;
}

export type Saving = 'none' | 'unsaved' | 'saving' | 'saved' | 'failed';

export class Composer {
  readonly name: string;
  /** `workflow`, or `cases` for the cases of one. */
  readonly kind: 'workflow' | 'cases';
  text = $state('');
  sheet: Sheet | undefined = $state.raw(undefined);
  form: Form | undefined = $state.raw(undefined);
  findings: Diagnostic[] = $state.raw([]);
  /** The next times of its timetables, by the place of each. */
  due: Record<string, string[]> = $state.raw({});
  /** The paragraph that is unfolded, by its place; `head` for name and purpose. */
  open: string | undefined = $state(undefined);
  /** Whether the text cannot be shown as a sheet right now. */
  unreadable = $state(false);
  loaded = $state(false);
  error: Refused | undefined = $state.raw(undefined);
  saving: Saving = $state('none');
  saved: Date | undefined = $state.raw(undefined);
  conflict: Conflict | undefined = $state.raw(undefined);
  /** What another author did, in a sentence. */
  news = $state('');
  /** The live text, where there is one. */
  live: string | undefined = $state.raw(undefined);
  liveRevision: number | undefined = $state(undefined);
  version: number | undefined = $state(undefined);
  base: number | null = $state(null);
  canUndo = $state(false);
  canRedo = $state(false);
  /** Other drafts, which this one sees. */
  others: Document[] = $state.raw([]);
  /** The files that they name, by path. */
  files: Record<string, string> = $state.raw({});
  /** Templates that were changed here, by their names beside the document. */
  templates: Record<string, string> | undefined = $state.raw(undefined);
  private unsavedTemplates = false;
  busy = $state(0);

  private path: string;
  private known = new Map<string, string>();
  private undoes: Snapshot[] = [];
  private redoes: Snapshot[] = [];
  private merging: string | undefined;
  private ancestor: string | undefined;
  private savedText: string | undefined;
  private tail: Promise<unknown> = Promise.resolve();
  private timer: ReturnType<typeof setTimeout> | undefined;
  /** The tag of the list of drafts as it was seen last. */
  private listTag: string | null = null;
  private typing: ReturnType<typeof setTimeout> | undefined;
  private watching: ReturnType<typeof setTimeout> | undefined;
  private waits = LEAST_WAIT;

  constructor(name: string, kind: 'workflow' | 'cases' = 'workflow') {
    this.name = name;
    this.kind = kind;
    this.path = `${kind === 'cases' ? kind : 'workflows'}/${name}.yaml`;
  }

  private get place() {
    return `/drafts/${this.kind}/${encodeURIComponent(this.name)}`;
  }

  /** Loads the draft, or what is live; `live` is its text. */
  async load(live: { text: string; revision: number } | undefined) {
    this.live = live?.text;
    this.liveRevision = live?.revision;
    const text = await this.readDraft(live?.text);
    if (text === undefined) return false;
    this.text = text;
    this.savedText = text;
    await this.loadOthers();
    await this.refresh();
    this.loaded = true;
    this.watch();
    return true;
  }

  /** Begins with a text where nothing is there yet. */
  async begin(text: string) {
    this.text = text;
    this.savedText = undefined;
    this.loaded = true;
    await this.refresh();
    await this.save();
    this.watch();
  }

  /** Looks for what others save: less often while nobody saves anything. */
  private watch() {
    clearTimeout(this.watching);
    this.watching = setTimeout(() => {
      this.waits = Math.min(this.waits * 1.5, MOST_WAIT);
      void this.look().finally(() => this.watching !== undefined && this.watch());
    }, this.waits);
  }

  /** Reads the draft again, where it was discarded or restored elsewhere on the page. */
  async reload() {
    clearTimeout(this.timer);
    this.version = undefined;
    this.base = null;
    this.saving = 'none';
    this.templates = undefined;
    this.unsavedTemplates = false;
    const text = (await this.readDraft(this.live)) ?? this.text;
    this.savedText = text;
    if (text !== this.text) this.remember({ text: this.text, open: this.open }, undefined);
    this.text = text;
    await this.refresh();
  }

  /** The text of the draft, where there is one; otherwise another. */
  private async readDraft(otherwise: string | undefined): Promise<string | undefined> {
    try {
      const draft = await session.get<Draft>(this.place);
      this.adoptDraft(draft);
      this.saving = 'saved';
      this.saved = new Date(draft.line.changed);
      return draft.text;
    } catch (error) {
      if (!(error instanceof Refused) || error.status !== 404) throw error;
      return otherwise;
    }
  }

  private adoptDraft(draft: Draft) {
    this.version = draft.line.version;
    this.base = draft.line.base;
    this.ancestor = draft.text;
    this.savedText = draft.text;
    this.path = draft.path || this.path;
  }

  stop() {
    clearTimeout(this.watching);
    this.watching = undefined;
    clearTimeout(this.timer);
    clearTimeout(this.typing);
    if ((this.text !== this.savedText || this.unsavedTemplates) && this.loaded) void this.save();
  }

  /** The steps alone. */
  get steps(): Part[] {
    return this.sheet?.parts.filter((part) => part.number !== '') ?? [];
  }

  part(at: string): Part | undefined {
    return this.sheet?.parts.find((part) => part.at === at);
  }

  get errors() {
    return this.findings.filter((finding) => finding.severity === 'error').length;
  }

  /** A question of the service about this draft. */
  question(more: Record<string, unknown> = {}): Record<string, unknown> {
    const folder = this.path.replace(/[^/]*$/, '');
    const own = Object.entries(this.templates ?? {}).map(([name, text]) => [folder + name, text]);
    const files = { ...this.files, ...Object.fromEntries(own) };
    return { documents: [{ path: this.path, text: this.text }, ...this.others], files, path: this.path, ...more };
  }

  ask<T>(what: string, more: Record<string, unknown> = {}): Promise<T> {
    return session.ask<T>('POST', `/language/${what}`, this.question(more));
  }

  private enqueue<T>(work: () => Promise<T>): Promise<T> {
    this.busy += 1;
    const next = this.tail.then(work, work).finally(() => (this.busy -= 1));
    this.tail = next.catch(() => undefined);
    return next;
  }

  /** Waits until nothing is under way. */
  async settled() {
    await this.tail;
  }

  private adopt(answer: Composed, open: string | undefined) {
    this.findings = answer.diagnostics;
    this.due = answer.due;
    this.unreadable = answer.sheet === null && this.kind === 'workflow';
    if (answer.sheet) {
      this.sheet = answer.sheet;
      this.open = answer.form ? open : undefined;
      this.form = answer.form ?? undefined;
    }
  }

  /** Asks for sheet and findings of the text as it is. */
  refresh(): Promise<void> {
    return this.enqueue(async () => {
      const text = this.text;
      const answer = await this.ask<Composed>('sheet', { at: this.open ?? '' });
      if (text === this.text) this.adopt(answer, this.open);
    });
  }

  /** Opens a paragraph, or closes the one that is open. */
  async unfold(at: string | undefined) {
    this.merging = undefined;
    if (at === undefined) {
      this.open = undefined;
      this.form = undefined;
      return;
    }
    await this.enqueue(async () => {
      const answer = await this.ask<Composed>('sheet', { at });
      this.adopt(answer, at);
    });
  }

  /**
   * Makes changes; `open` is the paragraph that is open afterwards. Changes of one field that follow each other, named by
   * `merge`, are undone together. Answers whether they were possible.
   */
  change(changes: Change[], open: string | undefined = this.open, merge?: string): Promise<boolean> {
    return this.enqueue(async () => {
      const before = { text: this.text, open: this.open };
      try {
        const answer = await this.ask<Composed>('sheet', { changes, at: open ?? '' });
        this.error = undefined;
        if (answer.text !== before.text) {
          this.remember(before, merge);
          this.text = answer.text;
        }
        this.adopt(answer, open);
        this.later();
        return true;
      } catch (refused) {
        this.error = refused instanceof Refused ? refused : new Refused(0, 'It failed', String(refused));
        return false;
      }
    });
  }

  /** Takes the templates of the workflow, by their names; they are saved with the draft. */
  writeTemplates(templates: Record<string, string>) {
    this.templates = { ...this.templates, ...templates };
    this.unsavedTemplates = true;
    this.later();
  }

  /** Takes a text that was written as text. */
  write(text: string, merge = 'source') {
    if (text === this.text) return;
    this.remember({ text: this.text, open: this.open }, merge);
    this.text = text;
    clearTimeout(this.typing);
    this.typing = setTimeout(() => void this.refresh(), 120);
    this.later();
  }

  /** Makes edits of the text, such as the fix of a finding. */
  edit(edits: Edit[]) {
    this.write(applied(this.text, edits), `edit ${Date.now()}`);
    return this.refresh();
  }

  private remember(before: Snapshot, merge: string | undefined) {
    if (merge === undefined || merge !== this.merging) {
      this.undoes.push(before);
      let bytes = this.undoes.reduce((sum, one) => sum + one.text.length, 0);
      while (this.undoes.length > MOST_UNDO || bytes > MOST_UNDO_BYTES) bytes -= this.undoes.shift()?.text.length ?? 0;
    }
    this.merging = merge;
    this.redoes = [];
    this.canUndo = true;
    this.canRedo = false;
  }

  undo() {
    return this.back(this.undoes, this.redoes);
  }

  redo() {
    return this.back(this.redoes, this.undoes);
  }

  private async back(from: Snapshot[], to: Snapshot[]) {
    await this.settled();
    const snapshot = from.pop();
    if (!snapshot) return;
    to.push({ text: this.text, open: this.open });
    this.merging = undefined;
    this.text = snapshot.text;
    this.open = snapshot.open;
    this.canUndo = this.undoes.length > 0;
    this.canRedo = this.redoes.length > 0;
    await this.refresh();
    this.later();
  }

  private later() {
    if (this.text === this.savedText && !this.unsavedTemplates) {
      if (this.saving === 'unsaved') this.saving = this.version === undefined ? 'none' : 'saved';
      return;
    }
    this.saving = 'unsaved';
    clearTimeout(this.timer);
    this.timer = setTimeout(() => void this.save(), SAVE_AFTER);
  }

  private saves: Promise<void> = Promise.resolve();

  /** Saves the draft over the version that was read. */
  save(): Promise<void> {
    clearTimeout(this.timer);
    this.saves = this.saves.then(() => this.put());
    return this.saves;
  }

  private async put(): Promise<void> {
    const text = this.text;
    if ((text === this.savedText && !this.unsavedTemplates) || this.conflict) return;
    // Without templates of its own a draft keeps those it has.
    const file = this.unsavedTemplates ? JSON.stringify(this.templates) : null;
    this.unsavedTemplates = false;
    this.saving = 'saving';
    const precondition: Record<string, string> =
      this.version === undefined ? { 'if-none-match': '*' } : { 'if-match': `"${this.version}"` };
    try {
      const draft = await session.ask<Draft>('PUT', this.place, { path: this.path, text, file, ancestor: this.ancestor ?? this.live ?? null }, precondition);
      this.version = draft.line.version;
      this.base = draft.line.base;
      this.ancestor = text;
      this.savedText = text;
      this.saved = new Date();
      this.saving = 'saved';
      if (this.text !== text || this.unsavedTemplates) this.later();
    } catch (refused) {
      if (file) this.unsavedTemplates = true;
      if (refused instanceof Refused && refused.status === 412) return this.meet(refused);
      this.saving = 'failed';
      this.timer = setTimeout(() => void this.save(), 3000);
    }
  }

  /** Another author saved in between: both changes are kept where they do not touch. */
  private async meet(refused: Refused): Promise<void> {
    const { version, operator, current, merged } = refused.problem as {
      version?: number; operator?: string; current?: string; merged?: string | null;
    };
    if (version === undefined || current === undefined) {
      // Deployed or discarded meanwhile: it is a first draft again.
      this.version = undefined;
      this.savedText = undefined;
      this.saving = 'unsaved';
      this.timer = setTimeout(() => void this.save(), SAVE_AFTER);
      return;
    }
    if (typeof merged === 'string') {
      this.version = version;
      this.ancestor = current;
      this.savedText = current;
      this.news = `${operator} changed other lines meanwhile; both changes are in this draft now.`;
      this.remember({ text: this.text, open: this.open }, undefined);
      this.text = merged;
      await this.refresh();
      return this.put();
    }
    this.saving = 'failed';
    this.conflict = { version, operator: operator ?? '', current };
  }

  /** Ends a conflict: by this text, by theirs. */
  async resolve(whose: 'mine' | 'theirs') {
    const conflict = this.conflict;
    if (!conflict) return;
    this.conflict = undefined;
    this.version = conflict.version;
    this.ancestor = conflict.current;
    this.savedText = conflict.current;
    if (whose === 'theirs') {
      this.remember({ text: this.text, open: this.open }, undefined);
      this.text = conflict.current;
      this.saving = 'saved';
      await this.refresh();
    } else {
      this.saving = 'unsaved';
      await this.save();
    }
  }

  /** Looks whether others saved this draft or others. */
  private async look() {
    if (document.hidden || this.saving === 'unsaved' || this.saving === 'saving' || this.conflict) return;
    try {
      const known: Record<string, string> = this.listTag ? { 'if-none-match': this.listTag } : {};
      const { value, tag } = await session.exchange<Drafts>('GET', '/drafts', undefined, known);
      this.listTag = tag;
      // Nobody saved anything.
      if (!value) return;
      this.waits = LEAST_WAIT;
      const { drafts } = value;
      const own = drafts.find((draft) => draft.kind === this.kind && draft.name === this.name);
      if (own && own.version !== this.version && this.text === this.savedText) {
        const draft = await session.get<Draft>(this.place);
        if (this.text !== this.savedText) return;
        this.news = `${draft.line.operator} saved this draft just now.`;
        this.adoptDraft(draft);
        if (this.text !== draft.text) {
          this.remember({ text: this.text, open: this.open }, undefined);
          this.text = draft.text;
          await this.refresh();
        }
        this.saving = 'saved';
        this.saved = new Date(draft.line.changed);
      }
      if (await this.loadOthers(drafts)) await this.refresh();
    } catch {
      // The next look tries again.
    }
  }

  /** Loads the other drafts that changed; answers whether any did. */
  private async loadOthers(listed?: Drafts['drafts']): Promise<boolean> {
    const drafts = (listed ?? (await session.get<Drafts>('/drafts')).drafts).filter(
      (draft) => !(draft.kind === this.kind && draft.name === this.name) && draft.kind !== 'cases',
    );
    const texts: Document[] = [];
    let changed = drafts.length !== this.others.length;
    for (const draft of drafts) {
      const key = `${draft.kind}/${draft.name}`;
      const path = `drafts/${key}.yaml`;
      const before = this.others.find((one) => one.path === path);
      if (before && this.known.get(key) === String(draft.version)) {
        texts.push(before);
        continue;
      }
      const found = await session.get<Draft>(`/drafts/${draft.kind}/${encodeURIComponent(draft.name)}`);
      const beside = /^openapi: *["']?([^\s"']+)/m.exec(found.text)?.[1];
      if (found.file && beside) this.files = { ...this.files, [`drafts/${draft.kind}/${beside}`]: found.file };
      this.known.set(key, String(draft.version));
      texts.push({ path, text: found.text });
      changed = true;
    }
    if (changed) this.others = texts;
    return changed;
  }

  /** Begins anew after a deploy: what is live is the text now. */
  deployed(revision: number) {
    this.live = this.text;
    this.liveRevision = revision;
    this.version = undefined;
    this.base = null;
    this.savedText = this.text;
    this.templates = undefined;
    this.unsavedTemplates = false;
    this.ancestor = this.text;
    this.saving = 'none';
    this.saved = undefined;
  }

  async discard() {
    if (this.version === undefined) return;
    clearTimeout(this.timer);
    await this.saves;
    await session.ask('DELETE', this.place, undefined, { 'if-match': `"${this.version}"` });
    this.version = undefined;
    this.remember({ text: this.text, open: this.open }, undefined);
    if (this.live !== undefined) this.text = this.live;
    this.deployed(this.liveRevision ?? 0);
    await this.refresh();
  }
}
