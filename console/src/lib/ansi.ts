// Colours of terminals (SGR) as classes: text nodes only, since inline styles and markup from a log
// must never reach the page.
export interface Piece {
  text: string;
  tone: string;
}

const tones: Record<number, string> = {
  30: 'text-quiet',
  31: 'text-madder',
  32: 'text-moss',
  33: 'text-ochre',
  34: 'text-plum',
  35: 'text-plum',
  36: 'text-moss',
  90: 'text-quiet',
  91: 'text-madder',
  92: 'text-moss',
  93: 'text-ochre',
  94: 'text-plum',
  95: 'text-plum',
  96: 'text-moss',
};

const sequence = /\x1b\[([0-9;]*)m|\x1b\[[0-9;?]*[A-Za-z]|[\x00-\x08\x0b-\x1f\x7f]/g;

/** The last state of a progress bar, split into pieces of one tone. */
export function pieces(line: string): Piece[] {
  const at = line.lastIndexOf('\r');
  const text = at >= 0 ? line.slice(at + 1) : line;
  if (!sequence.test(text)) return [{ text, tone: '' }];
  sequence.lastIndex = 0;
  const out: Piece[] = [];
  let tone = '';
  let from = 0;
  for (const m of text.matchAll(sequence)) {
    if (m.index > from) out.push({ text: text.slice(from, m.index), tone });
    from = m.index + m[0].length;
    if (m[1] === undefined) continue;
    for (const code of m[1].split(';').map(Number)) {
      if (code === 0) tone = '';
      else if (code === 1) tone += ' font-bold';
      else if (tones[code]) tone = tones[code];
    }
  }
  if (from < text.length) out.push({ text: text.slice(from), tone });
  return out;
}
