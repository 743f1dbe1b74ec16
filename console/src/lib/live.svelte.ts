// Values that keep themselves fresh: read now, and again when the service has news.
import { Failure } from './api';

export interface Live<T> {
  value: T | undefined;
  failure: Failure | undefined;
  again(): Promise<void>;
}

// One stream of news for the whole page, and none while nobody looks at it: browsers open only six
// connections to a service, over all of its tabs.
let readers: (() => void)[] = [];
let stream: EventSource | undefined;

function listen() {
  const wanted = readers.length > 0 && document.visibilityState === 'visible';
  if (!wanted) {
    stream?.close();
    stream = undefined;
  } else if (!stream) {
    stream = new EventSource('/api/v1/news');
    stream.addEventListener('news', () => readers.forEach((read) => read()));
  }
}
document.addEventListener('visibilitychange', listen);

/** Reads with `read` now and after each news of a build. Call it while a component is set up. */
export function live<T>(read: () => Promise<T>, follow = true): Live<T> {
  const out = $state<Live<T>>({ value: undefined, failure: undefined, again });
  let alive = true;
  let reading = false;
  let stale = false;
  async function again() {
    if (reading) {
      stale = true; // once more, when this answer is there
      return;
    }
    reading = true;
    try {
      const value = await read();
      if (alive) {
        out.value = value;
        out.failure = undefined;
      }
    } catch (e) {
      if (alive) out.failure = e instanceof Failure ? e : new Failure(0, String(e));
    }
    reading = false;
    if (stale && alive) {
      stale = false;
      void again();
    }
  }
  $effect(() => {
    alive = true;
    const news = () => void again();
    news();
    if (follow) readers = [...readers, news];
    listen();
    return () => {
      alive = false;
      readers = readers.filter((r) => r !== news);
      listen();
    };
  });
  return out;
}
