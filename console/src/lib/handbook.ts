/** The search of the handbook, and where in it forms and findings are described. */
import type { Chapter, Section } from '../../handbook';

export interface Hit {
  chapter: Chapter;
  section: Section;
  before: string;
  match: string;
  after: string;
}

const MOST = 40;
const AROUND = 70;

/** The sections that have all words of a query, those with one in the title first. */
export function found(chapters: Chapter[], query: string): Hit[] {
  const words = query.toLowerCase().split(/\s+/).filter(Boolean);
  const hits: (Hit & { weight: number })[] = [];
  for (const chapter of chapters) {
    for (const section of chapter.sections) {
      const text = section.text.toLowerCase();
      if (!words.every((word) => text.includes(word))) continue;
      const title = section.title.toLowerCase();
      const weight = words.filter((word) => title.includes(word)).length;
      const word = words.find((one) => text.indexOf(one, section.title.length) >= 0) ?? words[0] ?? '';
      const at = Math.max(text.indexOf(word, section.title.length), 0);
      hits.push({
        chapter,
        section,
        weight,
        before: (at > AROUND ? '…' : '') + section.text.slice(Math.max(0, at - AROUND), at),
        match: section.text.slice(at, at + word.length),
        after: section.text.slice(at + word.length, at + word.length + AROUND),
      });
    }
  }
  return hits.sort((a, b) => b.weight - a.weight).slice(0, MOST);
}

/** Where paragraphs of the sheet are described, by their kind. */
const KINDS: Record<string, string> = {
  call: 'language#call',
  each: 'language#each-together',
  together: 'language#each-together',
  invoke: 'language#invoke',
  sql: 'language#sql',
  keep: 'language#keep-pause',
  pause: 'language#keep-pause',
  let: 'language#let-if-match-note-reply-fail',
  if: 'language#let-if-match-note-reply-fail',
  match: 'language#let-if-match-note-reply-fail',
  note: 'language#let-if-match-note-reply-fail',
  reply: 'language#let-if-match-note-reply-fail',
  fail: 'language#let-if-match-note-reply-fail',
  enqueue: 'jobs#steps',
  cancel: 'jobs#steps',
  await: 'jobs#steps',
  wake: 'jobs#steps',
  progress: 'jobs#steps',
  queue: 'jobs',
  timetable: 'timetables',
  change: 'changes',
  every: 'timetables',
  endpoint: 'http',
  webhook: 'webhooks',
  replies: 'http',
  functions: 'expressions',
  input: 'language#a-workflow',
};

export function placeOf(kind: string): string {
  return `/handbook/${KINDS[kind] ?? 'language'}`;
}
