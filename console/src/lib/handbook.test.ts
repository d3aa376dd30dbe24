import { existsSync, readdirSync, readFileSync } from 'node:fs';
import { describe, expect, it } from 'vitest';
import { chapterOf } from '../../handbook';
import { found, placeOf } from './handbook';

const docs = '../docs/';
const names = readdirSync(docs).filter((name) => name.endsWith('.md')).map((name) => name.slice(0, -3));
const read = names.map((name) => chapterOf(name, readFileSync(`${docs}${name}.md`, 'utf8')));
const chapters = read.map((one) => one.chapter);

/** Whether an address of the handbook leads somewhere. */
function there(href: string): boolean {
  const [, page, id] = /^\/handbook\/([\w-]+)(?:#(.*))?$/.exec(href) ?? [];
  const chapter = chapters.find((one) => one.id === page);
  return chapter !== undefined && (id === undefined || chapter.sections.some((section) => section.id === id));
}

describe('the handbook', () => {
  it('leads somewhere with each link between its chapters', () => {
    const links = chapters.flatMap((chapter) => chapter.sections.flatMap((section) => [...section.html.matchAll(/href="(\/handbook[^"]*)"/g)].map((one) => one[1] ?? '')));
    expect(links.length).toBeGreaterThan(10);
    expect(links.filter((href) => !there(href))).toEqual([]);
  });

  it('has each picture that it shows', () => {
    const pictures = read.flatMap((one) => one.pictures);
    expect(pictures.length).toBeGreaterThan(5);
    expect(pictures.filter((picture) => !existsSync(docs + picture))).toEqual([]);
  });

  it.each(['call', 'each', 'sql', 'enqueue', 'endpoint', 'input', 'timetable', 'anything'])('describes the form of %s', (kind) => {
    expect(there(placeOf(kind))).toBe(true);
  });

  it.each([
    ['unsafe-retry', 'findings', 'unsafe-retry'],
    ['rehearse stubs', 'cases', ''],
    ['zyxwv qqqq', undefined, undefined],
  ])('finds %s', (query, page, id) => {
    const hits = found(chapters, query);
    const hit = hits.find((one) => one.chapter.id === page);
    expect(page === undefined ? hits.length : hit?.chapter.id).toBe(page ?? 0);
    if (id) expect(hit?.section.id).toBe(id);
    if (hit) expect(hit.match.toLowerCase()).toBe(query.split(' ').find((word) => word === hit.match.toLowerCase()));
  });
});
