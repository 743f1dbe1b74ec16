// Values that keep themselves fresh: read now, and again when the service has news.
import { Failure } from './api';

export interface Live<T> {
  value: T | undefined;
  failure: Failure | undefined;
  again(): Promise<void>;
}

/** Reads with `read` now and after each news of a build. Call it while a component is set up. */
export function live<T>(read: () => Promise<T>, follow = true): Live<T> {
  const out = $state<Live<T>>({ value: undefined, failure: undefined, again });
  let alive = true;
  async function again() {
    try {
      const value = await read();
      if (!alive) return;
      out.value = value;
      out.failure = undefined;
    } catch (e) {
      if (alive) out.failure = e instanceof Failure ? e : new Failure(0, String(e));
    }
  }
  $effect(() => {
    alive = true;
    void again();
    if (!follow) return () => (alive = false);
    const news = new EventSource('/api/v1/news');
    let first = true;
    news.addEventListener('news', () => {
      if (!first) void again();
      first = false;
    });
    return () => {
      alive = false;
      news.close();
    };
  });
  return out;
}
