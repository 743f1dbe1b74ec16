// Pages of a log's lines, of which those looked at last are kept.
import type { LogLine } from './api';

export const page = 1000; // lines
const mostPages = 60;

export class LinePages {
  private pages = new Map<number, LogLine[]>();
  private asked = new Set<number>();

  line(n: number): LogLine | undefined {
    return this.pages.get(Math.floor((n - 1) / page))?.[(n - 1) % page];
  }

  has(at: number): boolean {
    return this.pages.has(at);
  }

  /** Marks a page as asked for; false when it is on its way already. */
  ask(at: number): boolean {
    if (this.asked.has(at)) return false;
    this.asked.add(at);
    return true;
  }

  answered(at: number, lines: LogLine[]) {
    this.asked.delete(at);
    if ((this.pages.get(at)?.length ?? 0) < lines.length) this.pages.set(at, lines);
    for (const old of this.pages.keys()) {
      if (this.pages.size <= mostPages) break;
      if (Math.abs(old - at) > 3) this.pages.delete(old);
    }
  }

  /** Adds lines that were printed just now, where they go on from what is here. */
  append(lines: LogLine[]) {
    for (const l of lines) {
      const at = Math.floor((l.n - 1) / page);
      let into = this.pages.get(at);
      if (!into && (l.n - 1) % page === 0) this.pages.set(at, (into = []));
      if (into?.length === (l.n - 1) % page) into.push(l);
    }
  }
}
