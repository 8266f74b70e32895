// What every figure and finding means: the server's one text, asked for once.
import { createQuery } from '@tanstack/svelte-query';
import type { Explained, Inspection, Method, Reading } from './api';
import { clock } from './format';
import * as installation from './server/installation';

export interface Meanings {
  quantities: Map<string, Explained>;
  findings: Map<string, Method>;
}

const byName = <T extends { name: string }>(entries: T[]) => new Map(entries.map((entry) => [entry.name, entry]));

export function meanings() {
  return createQuery(() => ({
    ...installation.methods(),
    select: (found): Meanings => ({ quantities: byName(found.quantities), findings: byName(found.findings) }),
  }));
}

/** How and where one reading was taken, in words. */
export function takenHere(reading: Reading | undefined, facts: Inspection['facts']): string {
  if (!reading) return '';
  const [start, end] = [reading.start_s ?? 0, reading.end_s ?? 0];
  const where = end - start >= facts.duration_s - 0.02 || end === 0 ? '' : `, at ${clock(start)}`;
  const channel = reading.channel && facts.channels > 1 ? `, channel ${reading.channel}` : '';
  const note = reading.note ? ` ${reading.note.charAt(0).toUpperCase()}${reading.note.slice(1)}.` : '';
  return `In this file: ${reading.method}${where}${channel}.${note}`;
}
