// The rows of a log: a head for each step, and the lines under it unless it is folded. Rows are counted,
// not listed, so that a million lines cost no more than ten.
import type { StageRun } from './api';

export type Row = { step: number } | { line: number };

type Part = { step: number; first: number; lines: number }; // step -1: earlier tries, without a head

/** Where the lines of each step stand among `total` lines. */
function parts(run: StageRun, total: number): Part[] {
  const begun = run.steps.map((s, step) => ({ step, first: s.line })).filter((s) => s.first > 0);
  const out: Part[] = [];
  const before = (begun[0]?.first ?? 1) - 1;
  if (before > 0) out.push({ step: -1, first: 1, lines: Math.min(before, total) });
  run.steps.forEach((_, step) => {
    const at = begun.findIndex((b) => b.step === step);
    const first = begun[at]?.first;
    if (first === undefined) {
      // A step that has not begun, or an old log that does not say: all lines stand under the first.
      out.push({ step, first: 1, lines: begun.length === 0 && step === 0 ? total : 0 });
      return;
    }
    const next = begun[at + 1]?.first ?? total + 1;
    out.push({ step, first, lines: Math.max(0, Math.min(next - 1, total) - first + 1) });
  });
  if (run.steps.length === 0) out.push({ step: -1, first: 1, lines: total });
  return out;
}

export class LogRows {
  readonly count: number;
  private list: Part[];
  private shown: (p: Part) => number;

  constructor(run: StageRun, total: number, folded: Record<number, boolean>) {
    this.list = parts(run, total);
    this.shown = (p) => (p.step >= 0 ? 1 : 0) + (folded[p.step] ? 0 : p.lines);
    this.count = this.list.reduce((sum, p) => sum + this.shown(p), 0);
  }

  at(row: number): Row | undefined {
    for (const p of this.list) {
      const n = this.shown(p);
      if (row < n) {
        const head = p.step >= 0 ? 1 : 0;
        return row < head ? { step: p.step } : { line: p.first + row - head };
      }
      row -= n;
    }
    return undefined;
  }

  /** The row of a line, -1 when it is folded away. */
  of(line: number): number {
    let row = 0;
    for (const p of this.list) {
      const head = p.step >= 0 ? 1 : 0;
      if (line >= p.first && line < p.first + p.lines) {
        const at = row + head + line - p.first;
        return at < row + this.shown(p) ? at : -1;
      }
      row += this.shown(p);
    }
    return -1;
  }
}
