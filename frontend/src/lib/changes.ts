// What changed on the server: questions whose answers are old by it are asked again, each of them once.
import type { Query } from '@tanstack/svelte-query';
import type { components } from './api-types';
import { client } from './client';

type Notice = components['schemas']['Notice'];

/** The header that names an act, and that of the answer with what it changed; the same are in telling.py. */
export const ACT = 'ispettore-act';
export const CHANGED = 'ispettore-changed';
const MOST_OWN = 500;

/** Acts of this page by their names, each with what the stream said of it before its answer came. */
const own = new Map<string, Notice[]>();
let underWay: Promise<unknown> = Promise.resolve();

/** A name for something that is asked for: what the stream says of it is known from the answer. */
export function newAct(): string {
  const name = crypto.randomUUID();
  own.set(name, []);
  for (const oldest of own.keys()) {
    if (own.size <= MOST_OWN) break;
    own.delete(oldest);
  }
  return name;
}

/** Whether a notice came of something that this page asked for. */
export function isOwn(notice: Notice): boolean {
  const early = own.get(notice.act ?? '');
  early?.push(notice);
  return early !== undefined;
}

/** The answer to an act came: what it says that changed is asked for again. Nothing said means nothing changed. */
export function answered(response: Response): void {
  const told = response.headers.get(CHANGED);
  if (told) show(JSON.parse(told) as Notice[]);
}

/** No answer came. It may have been done all the same: from here on the stream is believed about it. */
export function unanswered(name: string): void {
  const early = own.get(name) ?? [];
  own.delete(name);
  show(early);
}

function show(told: readonly Notice[]): void {
  const before = underWay;
  underWay = askAgain(told).then(() => before);
}

/** When everything that acts changed is shown. */
export async function shown(): Promise<void> {
  let before;
  do await (before = underWay);
  while (before !== underWay);
}

/** Ask who this page is for: what it showed may be worth nothing any more. Nothing else is asked again, or it would go in circles. */
export function askWho(): void {
  void client.invalidateQueries({ queryKey: ['access'] }, { cancelRefetch: false });
}

/** Whether a question's answer is old by a change. */
function isOld({ meta, state }: Query, notice: Notice): boolean {
  if (notice.about === 'everything' || notice.about === 'settings') return true;
  return meta?.shows(notice, state.data) ?? false;
}

/** Ask again for what shows what changed. What is on its way for the first time may be older than the change: ask for it twice. */
export async function askAgain(told: readonly Notice[]): Promise<void> {
  if (!told.length) return;
  const predicate = (query: Query) => told.some((notice) => isOld(query, notice));
  const first = client
    .getQueryCache()
    .findAll({ fetchStatus: 'fetching', predicate: (query) => query.state.data === undefined && predicate(query) });
  await client.invalidateQueries({ predicate });
  if (first.length) await client.invalidateQueries({ predicate: (query) => first.includes(query) });
}
