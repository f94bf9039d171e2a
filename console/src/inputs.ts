import type { Input } from './api/client';

/** What a field shows before anybody has typed: the default, as the service would take it. */
export const initialText = (i: Input) =>
  i.default !== undefined
    ? String(i.default)
    : i.kind === 'choice' && !i.required
      ? (i.choices?.[0] ?? '')
      : i.kind === 'flag'
        ? 'false'
        : '';

/** Says at once what the service would refuse; it checks again. */
export function complaint(i: Input, text: string): string {
  if (text === '') return i.required ? 'A value must be given.' : '';
  if (i.kind === 'number' && !Number.isFinite(Number(text))) return 'This is no number.';
  if (i.pattern) {
    try {
      if (!new RegExp(`^(?:${i.pattern})$`).test(text)) return `It must match ${i.pattern}`;
    } catch {
      /* a pattern that only the service knows */
    }
  }
  return '';
}
