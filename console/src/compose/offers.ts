/** Searching what could be added. */
import type { Offer } from '../api/types';

/** Those that have all words, the ones whose name begins with the first word first. */
export function searched(offers: Offer[], text: string): Offer[] {
  const words = text.toLowerCase().split(/[\s.]+/).filter(Boolean);
  if (!words.length) return [...offers].sort((a, b) => Number(a.label.includes(' ')) - Number(b.label.includes(' ')));
  const rank = (offer: Offer): number => {
    const label = offer.label.toLowerCase();
    const all = `${label} ${offer.about.toLowerCase()}`;
    if (!words.every((word) => all.includes(word))) return -1;
    const first = words[0] ?? '';
    if (label === words.join(' ')) return 5;
    if (label.split(' ')[0] === first) return words.length > 1 ? 4 : label.includes(' ') ? 3 : 4;
    // A job of its own is asked for by its verb.
    if (label.startsWith('enqueue ')) return 0;
    if (label.split(/[ .]/).some((part) => part.startsWith(first))) return 2;
    return words.every((word) => label.includes(word)) ? 1 : 0;
  };
  return offers
    .map((offer) => ({ offer, rank: rank(offer) }))
    .filter((one) => one.rank >= 0)
    .sort((a, b) => b.rank - a.rank)
    .map((one) => one.offer);
}
