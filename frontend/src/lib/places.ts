// Everything in a recording that has a place in time, numbered as on the ribbon: limits that are passed, and findings.
import type { Breach, Finding } from './api';
import { clock, exact, number } from './format';

export interface Place {
  number: number;
  group: string;
  start_s: number;
  end_s: number;
  outside: boolean;
  whole: boolean;
  said: string;
  /** Why a finding may stand, where somebody accepted it. */
  accepted: string;
}

export interface Group {
  key: string;
  title: string;
  /** The quantity or the kind of finding it is explained by. */
  name: string;
  outside: boolean;
  /** A limit that is advice alone: it warns and fails nothing. */
  mild: boolean;
  side: 'over' | 'under';
  advice: string;
  places: Place[];
}

const RANK = { serious: 1, warning: 2, note: 3 } as const;

function measured(finding: Finding): string {
  const decimals = finding.unit === 's' ? 2 : finding.unit === 'Hz' || finding.unit === 'ms' ? 0 : 1;
  const figure = typeof finding.measure === 'number' ? `${number(finding.measure, decimals)} ${finding.unit}` : '';
  const many = (finding.count ?? 1) > 1 ? `${finding.count} ×` : '';
  return [many, figure, finding.detail].filter(Boolean).join(' ');
}

const sideOf = (breach: Breach) => (breach.reading > breach.bound ? 'over' : 'under');

function passed(breach: Breach): string {
  return `by ${number(breach.excess, breach.decimals)} ${breach.difference_unit}`;
}

/** Groups in order of weight, each with its places in order of time. */
export function grouped(breaches: Breach[], findings: Finding[], duration: number): Group[] {
  const groups = new Map<string, Group & { rank: number }>();
  const places = [
    ...breaches.map((breach) => ({ breach, at: breach })),
    ...findings.map((finding) => ({ finding, at: finding })),
  ].sort((one, other) => one.at.start_s - other.at.start_s);
  let count = 0;
  for (const place of places) {
    const { start_s, end_s } = place.at;
    const whole = end_s - start_s >= duration - 0.02;
    let group: Group & { rank: number };
    if ('breach' in place) {
      const { breach } = place;
      const side = sideOf(breach);
      const key = `${breach.quantity} ${side}`;
      const bound = `${exact(breach.bound)} ${breach.unit}`;
      group = groups.get(key) ?? {
        key,
        title: `${breach.title} ${side === 'over' ? 'above' : 'below'} ${bound}${breach.severity === 'advice' ? ', advice' : ''}`,
        name: breach.quantity,
        outside: true,
        mild: breach.severity === 'advice',
        side,
        advice: '',
        places: [],
        rank: breach.severity === 'must' ? 0 : 1,
      };
    } else {
      const { finding } = place;
      group = groups.get(finding.kind) ?? {
        key: finding.kind,
        title: finding.title,
        name: finding.kind,
        outside: false,
        mild: true,
        side: 'over',
        advice: finding.advice,
        places: [],
        rank: RANK[finding.severity ?? 'warning'],
      };
    }
    groups.set(group.key, group);
    group.places.push({
      number: whole ? 0 : ++count,
      group: group.title,
      start_s,
      end_s,
      outside: group.outside && !group.mild,
      whole,
      accepted: 'finding' in place ? place.finding.accepted : '',
      said: 'breach' in place ? passed(place.breach) : measured(place.finding),
    });
  }
  const settled = (group: Group) => Number(group.places.every((place) => place.accepted !== ''));
  return [...groups.values()].sort(
    (one, other) =>
      settled(one) - settled(other) ||
      one.rank - other.rank ||
      (one.places[0]?.start_s ?? 0) - (other.places[0]?.start_s ?? 0),
  );
}

export const told = (place: Place) => (place.whole ? 'whole file' : clock(place.start_s));
