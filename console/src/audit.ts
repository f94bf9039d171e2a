/**
 * What is known of a thing before or after an act, in words: empty values say nothing, ids of commits and the
 * midnight of a day are cut.
 */
function side(v: unknown): string {
  if (v === undefined || v === null || v === '') return '';
  if (Array.isArray(v)) return v.map(side).filter(Boolean).join(', ');
  if (typeof v === 'object') {
    return Object.entries(v)
      .map(([key, of]) => [key, side(of)] as const)
      .filter(([, text]) => text)
      .map(([key, text]) => `${key} ${text}`)
      .join(', ');
  }
  const text = String(v);
  return /^[0-9a-f]{40,64}$/.test(text) ? text.slice(0, 7) : text.replace(/T00:00:00Z$/, '');
}

export function changeText(before: unknown, after: unknown): string {
  const [from, to] = [side(before), side(after)];
  return from ? `${from} → ${to || 'nothing'}` : to;
}
