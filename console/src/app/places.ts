/** Where one can go, and which of it a few letters mean. */

export interface Place {
  id: string;
  word: string;
  kind: string;
  to: '/' | '/survey' | '/model' | '/access' | '/ask';
  search: Record<string, string>;
}

const MOST = 60;

/** The places whose words contain the letters in their order: those that begin with them first, shorter words before longer ones. */
export function found(places: Place[], letters: string): Place[] {
  const wanted = letters.trim().toLowerCase();
  if (wanted === '') return places.slice(0, MOST);
  const ranked = places.flatMap((place) => {
    const rank = rankOf(place.word.toLowerCase(), wanted);
    return rank === null ? [] : [{ place, rank }];
  });
  ranked.sort((a, b) => a.rank - b.rank || a.place.word.length - b.place.word.length);
  return ranked.slice(0, MOST).map(({ place }) => place);
}

function rankOf(word: string, wanted: string): number | null {
  if (word.startsWith(wanted)) return 0;
  const own = word.slice(word.indexOf('.') + 1);
  if (own.startsWith(wanted)) return 1;
  if (word.includes(wanted)) return 2;
  let from = 0;
  for (const letter of wanted) {
    const at = word.indexOf(letter, from);
    if (at < 0) return null;
    from = at + 1;
  }
  return 3;
}
