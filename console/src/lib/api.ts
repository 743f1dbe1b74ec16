// The API's client: types come from the service's own description.
import createClient from 'openapi-fetch';
import type { components, paths } from './api-types';

export type Schemas = components['schemas'];
export type Build = Schemas['Build'];
export type BuildDetail = Schemas['BuildDetail'];
export type StageRun = Schemas['StageRun'];
export type Artifact = Schemas['Artifact'];
export type Ladder = Schemas['Ladder'];
export type Promotion = Schemas['Promotion'];
export type LogLine = Schemas['LogLine'];
export type Problem = Schemas['Problem'];
export type State = Build['state'];

export const api = createClient<paths>({ baseUrl: '' });

/** What went wrong, as the service says it. */
export class Failure extends Error {
  constructor(
    readonly status: number,
    message: string,
    readonly hint = '',
  ) {
    super(message);
  }
}

type Answer<T> = { data?: T; error?: unknown; response: Response };

/** Unwraps an answer, or throws a Failure with the service's own words. */
export async function got<T>(asked: Promise<Answer<T>>): Promise<T> {
  let answer: Answer<T>;
  try {
    answer = await asked;
  } catch {
    throw new Failure(0, 'The service cannot be reached.', 'Is it running? This page tries again when you reload it.');
  }
  if (answer.data !== undefined) return answer.data;
  const p = answer.error as Partial<Problem> | undefined;
  throw new Failure(answer.response.status, p?.detail ?? answer.response.statusText, p?.hint ?? '');
}

export async function signIn(name: string, password: string): Promise<void> {
  const response = await fetch('/api/v1/session', {
    method: 'POST',
    headers: { 'Content-Type': 'application/json' },
    body: JSON.stringify({ name, password }),
  });
  if (response.ok) return;
  const p = (await response.json().catch(() => ({}))) as Partial<Problem>;
  throw new Failure(response.status, p.detail ?? response.statusText, p.hint ?? '');
}

export async function signOut(): Promise<void> {
  await fetch('/api/v1/session', { method: 'DELETE' });
}

/** Who has signed in; null when nobody has. */
export async function whoIsIn(): Promise<Schemas['Status'] | null> {
  let response: Response;
  try {
    response = await fetch('/api/v1/session');
  } catch {
    throw new Failure(0, 'The service cannot be reached.');
  }
  if (!response.ok) throw new Failure(response.status, response.statusText);
  return (await response.json()) as Schemas['Status'] | null;
}
