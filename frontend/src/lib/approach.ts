// How a whole production is to be conformed, as it stands in the address: what is chosen can be reloaded and shared.
import type { Bounds, Format, Preference, WantedApproach } from './api';

export const PLANS: readonly (readonly [Preference, string])[] = [
  ['balanced', 'A balanced plan for each'],
  ['light', 'A light plan for each'],
  ['even', 'An even plan for each'],
];
export const USUAL: Required<Bounds> = {
  limiting_db: 6,
  compression_db: 10,
  ratio: 4,
  riding_db: 6,
  noise_reduction_db: 12,
  pauses_db: 18,
};
type BoundName = keyof typeof USUAL;
const NAMES = Object.keys(USUAL) as BoundName[];

/** What the address says, with what is usual for the rest. `by` is a preference, or a saved treatment behind a colon. */
export function read(query: string | undefined) {
  const said = new URLSearchParams(query ?? '');
  const bounds = { ...USUAL };
  for (const name of NAMES) {
    const value = Number(said.get(name));
    if (said.has(name) && Number.isFinite(value)) bounds[name] = value;
  }
  return {
    by: said.get('by') ?? 'balanced',
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
export function written(approach: Approach): string {
  const said = new URLSearchParams();
  if (approach.by !== 'balanced') said.set('by', approach.by);
  if (!approach.oneSound) said.set('sound', 'own');
  if (!approach.tone) said.set('tone', 'own');
  if (!approach.reference) said.set('reference', 'none');
  if (approach.like) said.set('like', approach.like);
  if (approach.container) said.set('format', approach.container);
  for (const name of NAMES) if (approach.bounds[name] !== USUAL[name]) said.set(name, String(approach.bounds[name]));
  if (approach.without.length) said.set('without', approach.without.join(','));
  return said.toString();
}

/** As it is asked of the server, for these recordings. */
export function asked(approach: Approach, recordings: string[], lacksReference: boolean): WantedApproach {
  const kept = approach.by.startsWith(':') ? approach.by.slice(1) : null;
  const usual = NAMES.every((name) => approach.bounds[name] === USUAL[name]);
  return {
    preference: kept ? 'balanced' : (approach.by as Preference),
    treatment: kept,
    reference: kept !== null && lacksReference && approach.reference,
    one_sound: approach.oneSound,
    tone: approach.tone,
    like: approach.like || null,
    bounds: usual ? null : approach.bounds,
    container: approach.container || null,
    recordings,
    again: false,
  };
}
