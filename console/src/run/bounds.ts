/**
 * Tells whether a note may be read as Markdown. It is a stranger's, and a reader of Markdown takes time that grows with
 * the square of the markers in one paragraph, and a stack as deep as quotes are nested: what is beyond what a person
 * writes is shown as it stands.
 */
export function plainEnough(text: string): boolean {
  if (count(text, /@/g) > 500) return false;
  return text.split(/\n[ \t]*\n/).every((block) => {
    const lines = block.split('\n');
    if (lines.some((l) => count(l, nests, leading) > 40 || count(l, markers) > 500)) return false;
    // The cells of a table are read one by one.
    return count(lines.filter((l) => !l.trimStart().startsWith('|')).join('\n'), markers) <= 1500;
  });
}

/** What begins a quote or a list in another, and all of it that a line begins with. */
const nests = />|[-+*][ \t]|\d+[.)][ \t]/g;
const leading = /^(?:[ \t]|>|[-+*][ \t]|\d+[.)][ \t])*/;

const markers = /[*_~`[\]!<]/g;

/** How often a pattern is in a text, or only in how it begins. */
const count = (text: string, of: RegExp, at?: RegExp) =>
  ((at ? at.exec(text)?.[0] : text) ?? '').match(of)?.length ?? 0;
