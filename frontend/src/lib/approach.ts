// How a whole production is to be conformed, as it stands in the address: what is chosen can be reloaded and shared.
import type { Format, Preference, WantedApproach } from './api';
import { STANDARD, type Usual } from './defaults';

export const PLANS: readonly (readonly [Preference, string])[] = [
  ['balanced', 'A balanced plan for each'],
  ['light', 'A light plan for each'],
  ['even', 'An even plan for each'],
];
const NAMES = Object.keys(STANDARD) as (keyof typeof STANDARD)[];

/** What the address says, with what is usual for the rest. `by` is a preference, or a saved treatment behind a colon. */
export function read(query: string | undefined, usual: Usual) {
  const said = new URLSearchParams(query ?? '');
  const bounds = { ...usual.bounds };
  for (const name of NAMES) {
    const value = Number(said.get(name));
    if (said.has(name) && Number.isFinite(value)) bounds[name] = value;
  }
  return {
    by: said.get('by') ?? usual.preference,
    oneSound: said.get('sound') !== 'own',
    tone: said.get('tone') !== 'own',
    reference: said.get('reference') !== 'none',
    like: said.get('like') ?? '',
    container: (said.get('format') ?? '') as Format['name'],
    bounds,
    without: (said.get('without') ?? '').split(',').filter(Boolean),
  };
}
export type Approach = ReturnType<typeof read>;

/** The other way round: only what is not usual is said. */
export function written(approach: Approach, usual: Usual): string {
  const said = new URLSearchParams();
  if (approach.by !== usual.preference) said.set('by', approach.by);
  if (!approach.oneSound) said.set('sound', 'own');
  if (!approach.tone) said.set('tone', 'own');
  if (!approach.reference) said.set('reference', 'none');
  if (approach.like) said.set('like', approach.like);
  if (approach.container) said.set('format', approach.container);
  for (const name of NAMES)
    if (approach.bounds[name] !== usual.bounds[name]) said.set(name, String(approach.bounds[name]));
  if (approach.without.length) said.set('without', approach.without.join(','));
  return said.toString();
}

/** As it is asked of the server, for these recordings. */
export function asked(approach: Approach, recordings: string[], lacksReference: boolean, usual: Usual): WantedApproach {
  const kept = approach.by.startsWith(':') ? approach.by.slice(1) : null;
  const unchanged = NAMES.every((name) => approach.bounds[name] === usual.bounds[name]);
  return {
    preference: kept ? null : (approach.by as Preference),
    treatment: kept,
    reference: kept !== null && lacksReference && approach.reference,
    one_sound: approach.oneSound,
    tone: approach.tone,
    like: approach.like || null,
    bounds: unchanged ? null : approach.bounds,
    container: approach.container || null,
    recordings,
    again: false,
  };
}
