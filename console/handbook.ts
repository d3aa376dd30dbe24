/** The handbook in `docs/`, rendered while the console is built: chapters with their sections, and the pictures they show. */
import { existsSync, readdirSync, readFileSync } from 'node:fs';
import { basename } from 'node:path';
import { fileURLToPath } from 'node:url';
import { marked, type Token, type Tokens } from 'marked';
import type { Plugin } from 'vite';

export interface Section {
  /** The anchor of its heading; empty for what stands above the first. */
  id: string;
  title: string;
  depth: number;
  html: string;
  /** Its words, for the search. */
  text: string;
}

export interface Chapter {
  id: string;
  title: string;
  sections: Section[];
}

/** The chapters in the order of reading; others stand behind them. */
const ORDER = [
  'console', 'language', 'expressions', 'scripts', 'dates', 'pages', 'types', 'libraries', 'services', 'settings', 'files', 'reports', 'mail', 'jobs', 'lanes', 'timetables', 'changes', 'cases', 'trials', 'drafts', 'gradual', 'assistants',
  'transfer', 'http', 'webhooks', 'access', 'operators', 'findings', 'installing', 'upgrading', 'configuration', 'operating', 'alerts', 'repair', 'backup', 'security', 'asvs', 'scaling', 'capacity', 'performance', 'editors',
];
const DOCS = fileURLToPath(new URL('../docs/', import.meta.url));
const PICTURES = 'handbook-pictures';

/** The anchor of a heading, as repositories show it. */
export function anchor(title: string): string {
  return title.toLowerCase().replace(/[^\w\- ]/g, '').trim().replace(/ /g, '-');
}

/** Where a link of a chapter leads in the console. */
function linked(href: string, chapter: string): string {
  if (href.startsWith('#')) return `/handbook/${chapter}${href}`;
  const page = /^([\w-]+)\.md(#.*)?$/.exec(href);
  return page ? `/handbook/${page[1]}${page[2] ?? ''}` : href;
}

function words(tokens: Token[]): string {
  return tokens.map((token) => ('raw' in token ? token.raw : '')).join(' ').replace(/[`*|#[\]()]/g, ' ').replace(/\s+/g, ' ').trim();
}

/** Lines that scroll are reached by keyboard, headings of columns are not empty, and pictures wait until they are seen. */
function accessible(html: string): string {
  return html.replaceAll('<pre>', '<pre tabindex="0">').replaceAll('<th></th>', '<td></td>').replaceAll('<img ', '<img loading="lazy" ');
}

export function chapterOf(id: string, text: string): { chapter: Chapter; pictures: string[] } {
  const tokens = marked.lexer(text);
  const pictures: string[] = [];
  marked.walkTokens(tokens, (token) => {
    if (token.type === 'link') token.href = linked(token.href, id);
    if (token.type === 'image') {
      pictures.push(token.href);
      token.href = `/${PICTURES}/${basename(token.href)}`;
    }
  });
  const chapter: Chapter = { id, title: id, sections: [] };
  let section: { heading: Tokens.Heading | undefined; tokens: Token[] } = { heading: undefined, tokens: [] };
  const close = () => {
    if (!section.heading && !section.tokens.length) return;
    const title = section.heading?.text.replace(/`/g, '') ?? chapter.title;
    chapter.sections.push({
      id: section.heading ? anchor(title) : '',
      title,
      depth: section.heading?.depth ?? 1,
      html: accessible(marked.parser(section.tokens)),
      text: `${title} ${words(section.tokens)}`,
    });
  };
  for (const token of tokens) {
    if (token.type !== 'heading') {
      section.tokens.push(token);
    } else if (token.depth === 1) {
      chapter.title = token.text;
    } else {
      close();
      section = { heading: token as Tokens.Heading, tokens: [] };
    }
  }
  close();
  return { chapter, pictures };
}

/** Provides `virtual:handbook`, and the pictures beside the assets. */
export function handbook(): Plugin {
  const id = 'virtual:handbook';
  return {
    name: 'handbook',
    resolveId: (wanted) => (wanted === id ? `\0${id}` : undefined),
    load(wanted) {
      if (wanted !== `\0${id}`) return undefined;
      const names = readdirSync(DOCS).filter((name) => name.endsWith('.md')).map((name) => name.slice(0, -3));
      const place = (name: string) => (ORDER.includes(name) ? ORDER.indexOf(name) : ORDER.length);
      names.sort((a, b) => place(a) - place(b) || a.localeCompare(b));
      const chapters = names.map((name) => {
        const file = `${DOCS}${name}.md`;
        this.addWatchFile(file);
        const { chapter, pictures } = chapterOf(name, readFileSync(file, 'utf8'));
        for (const picture of pictures) {
          // A new picture is taken of the built console.
          if (!existsSync(DOCS + picture)) this.warn(`docs/${picture} is missing; take it with cargo xtask shots`);
          else this.emitFile({ type: 'asset', fileName: `${PICTURES}/${basename(picture)}`, source: readFileSync(DOCS + picture) });
        }
        return chapter;
      });
      return `export default ${JSON.stringify(chapters)};`;
    },
  };
}
