// The log of one stage run, of which only the lines that somebody looks at are here: a log may have a
// million. Lines come in pages of the service's; those not looked at for long are let go.
import { api, got, type LogLine, type Schemas } from './api';
import { LinePages, page } from './linePages';

const near = 400; // lines: so close to the next page it is asked for, so that who scrolls sees no gap

export class LogWindow {
  total = $state(0);
  changed = $state(0); // counts up when lines have come
  found = $state.raw<LogLine[]>();
  more = $state(false); // lines that hold the text and are not among those found
  private pages = new LinePages();

  constructor(
    private where: { pipeline: string; number: number; run: number },
    readonly fence: number,
    total: number,
    private failed: (e: unknown) => void,
  ) {
    this.total = total;
  }

  /** A line by its number; undefined while it is on its way. */
  line(n: number): LogLine | undefined {
    const l = this.pages.line(n);
    const at = Math.floor((n - 1) / page);
    if (!l) this.ask(at);
    for (const other of [n - near, n + near]) {
      const beside = Math.floor((other - 1) / page);
      if (beside !== at && other > 0 && other <= this.total && !this.pages.has(beside)) this.ask(beside);
    }
    return l;
  }

  /** Lines that were printed just now. */
  append(lines: LogLine[]) {
    this.pages.append(lines);
    this.total = Math.max(this.total, lines.at(-1)?.n ?? 0);
    this.changed++;
  }

  private async ask(at: number) {
    if (!this.pages.ask(at)) return;
    const { pipeline, number, run } = this.where;
    try {
      const part = await got(
        api.GET('/api/v1/builds/{pipeline}/{number}/runs/{run}/lines', {
          params: {
            path: { pipeline, number, run },
            query: { first: at * page + 1, most: page, fence: this.fence || undefined },
          },
        }),
      );
      this.pages.answered(at, part.lines);
      this.changed++;
    } catch (e) {
      this.pages.answered(at, []);
      this.failed(e);
    }
  }

  private looking = 0;

  /** Has the service look for a text, "" for none; later searches replace earlier ones. */
  async find(text: string) {
    const mine = ++this.looking;
    if (!text) {
      this.found = undefined;
      return;
    }
    const { pipeline, number, run } = this.where;
    try {
      const answer: Schemas['LogFound'] = await got(
        api.GET('/api/v1/builds/{pipeline}/{number}/runs/{run}/find', {
          params: { path: { pipeline, number, run }, query: { text, most: 5000, fence: this.fence || undefined } },
        }),
      );
      if (mine !== this.looking) return;
      this.found = answer.lines;
      this.more = answer.next > 0;
    } catch (e) {
      if (mine === this.looking) this.failed(e);
    }
  }
}
