import Anser from 'anser';

/** A stretch of a line with its looks; colours are the numbers of ECMA-48's eight, plus eight when bright. */
export interface Piece {
  text: string;
  colour?: number;
  bold: boolean;
  faint: boolean;
}

const names = [
  'ansi-black',
  'ansi-red',
  'ansi-green',
  'ansi-yellow',
  'ansi-blue',
  'ansi-magenta',
  'ansi-cyan',
  'ansi-white',
  'ansi-bright-black',
  'ansi-bright-red',
  'ansi-bright-green',
  'ansi-bright-yellow',
  'ansi-bright-blue',
  'ansi-bright-magenta',
  'ansi-bright-cyan',
  'ansi-bright-white',
];

// Control characters that are left over would only confuse; React escapes the rest.
const controls = /[\x00-\x08\x0b-\x1f\x7f]/g;

// Control sequences (ECMA-48) that are no colours: titles, links, sets of characters. Of those that begin with
// a bracket, the library knows which are colours.
const sequences = /\x1b[\]PX^_][^\x07\x1b]*(?:\x07|\x1b\\)|\x1b[ -/]+[0-~]?|\x1b[0-Z\\-~]/g;

export function pieces(raw: string): Piece[] {
  const text = raw.replace(sequences, '');
  if (!text.includes('\x1b')) return [{ text: text.replace(controls, ''), bold: false, faint: false }];
  return Anser.ansiToJson(text, { use_classes: true, remove_empty: true }).map((p) => {
    const colour = names.indexOf(p.fg);
    return {
      text: p.content.replace(controls, ''),
      bold: p.decorations.includes('bold'),
      faint: p.decorations.includes('dim'),
      ...(colour >= 0 && { colour }),
    };
  });
}

/** A line without colours, as it is copied. */
export const plain = (text: string) =>
  pieces(text)
    .map((p) => p.text)
    .join('');
