// Who has signed in.
import { api, Failure, got, type Schemas } from './api';

export const session = $state<{ status: Schemas['Status'] | null; known: boolean; away: string }>({
  status: null,
  known: false,
  away: '',
});

export async function learnSession() {
  try {
    session.status = await got(api.GET('/api/v1/status'));
    session.away = '';
  } catch (e) {
    session.status = null;
    session.away = e instanceof Failure && e.status === 401 ? '' : (e as Error).message;
  }
  session.known = true;
}
