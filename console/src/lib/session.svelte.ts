// Who has signed in.
import { whoIsIn, type Schemas } from './api';

export const session = $state<{ status: Schemas['Status'] | null; known: boolean; away: string }>({
  status: null,
  known: false,
  away: '',
});

export async function learnSession() {
  session.away = '';
  try {
    session.status = await whoIsIn();
  } catch (e) {
    session.status = null;
    session.away = (e as Error).message;
  }
  session.known = true;
}
