/** Gradual deploys in words and as a form. */
import type { Rules, Side } from '../api/types';

/** What a form asks for; empty where nothing is said. */
export interface Asked {
  share: number | null;
  per: 'request' | 'caller';
  header: string;
  keys: string;
  tags: string;
  margin: number | null;
  slower: number | null;
  least: number | null;
}

/** The form of rules. */
export function form(rules?: Rules): Asked {
  return {
    share: rules?.share ?? 10,
    per: rules?.per ?? 'request',
    header: rules?.header ? `${rules.header.name}: ${rules.header.value}` : '',
    keys: rules?.keys?.join(', ') ?? '',
    tags: rules?.tags?.join(', ') ?? '',
    margin: rules?.margin ?? null,
    slower: rules?.slower ?? null,
    least: rules?.least ?? null,
  };
}

function list(text: string): string[] {
  return text.split(',').map((one) => one.trim()).filter(Boolean);
}

/** The rules of a form; what it does not ask for is as before. */
export function changed(before: Rules | undefined, asked: Asked): Rules {
  const at = asked.header.indexOf(':');
  const name = (at < 0 ? asked.header : asked.header.slice(0, at)).trim();
  return {
    ...before,
    share: asked.share ?? 0,
    per: asked.per,
    header: name ? { name, value: at < 0 ? '' : asked.header.slice(at + 1).trim() } : undefined,
    keys: list(asked.keys),
    tags: list(asked.tags),
    margin: asked.margin ?? undefined,
    slower: asked.slower ?? undefined,
    least: asked.least ?? undefined,
  };
}

/** A percentage with at most two digits behind the point. */
export function percent(value: number): string {
  return `${Math.round(value * 100) / 100} %`;
}

/** A count with its share. */
export function of(count: number, all: number): string {
  return count ? `${count.toLocaleString('en')} (${percent((count * 100) / Math.max(all, 1))})` : '0';
}

/** What a new revision serves, in words. */
export function serves(rules: Rules): string {
  const parts: string[] = [];
  if (rules.share) parts.push(percent(rules.share) + (rules.per === 'caller' ? ' of callers' : ''));
  if (rules.header) parts.push(`requests with ${rules.header.name}: ${rules.header.value}`);
  if (rules.keys?.length) parts.push(`the key${rules.keys.length > 1 ? 's' : ''} ${rules.keys.join(', ')}`);
  if (rules.tags?.length) parts.push(`jobs tagged ${rules.tags.join(', ')}`);
  return parts.join(', ');
}

/** When a new revision is taken back by itself, in words. */
export function margins(rules: Rules): string {
  const parts: string[] = [];
  if (rules.margin != null) parts.push(`its share of failures or rejections is ${Math.round(rules.margin * 100) / 100} points higher`);
  if (rules.slower != null) parts.push(`its 95 % quantile of times is ${percent(rules.slower)} higher`);
  return parts.length ? `when ${parts.join(', or when ')}` : 'never';
}

/** The answers of both revisions side by side, the most frequent first. */
export function answersOf(old: Side, fresh: Side): { text: string; old: number; fresh: number }[] {
  const all = new Map<string, { text: string; old: number; fresh: number }>();
  for (const [side, key] of [[old, 'old'], [fresh, 'fresh']] as const) {
    for (const one of side.answers) {
      const text = `${one.status ?? 'no answer'} · ${one.state}`;
      const known = all.get(text) ?? { text, old: 0, fresh: 0 };
      known[key] += one.count;
      all.set(text, known);
    }
  }
  return [...all.values()].sort((a, b) => b.old + b.fresh - a.old - a.fresh);
}
