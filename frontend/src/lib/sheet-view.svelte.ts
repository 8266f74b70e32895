// How a person looks at a sheet: which rows are shown, in which order, and which are chosen.
import { SvelteSet } from 'svelte/reactivity';
import type { SheetEntry, StatusCount } from './api';
import { holds, Sorter } from './sorting.svelte';

/** What the keys of a sheet do, as the list of shortcuts says. */
export const SHEET_KEYS = [
  { keys: [], shown: '← → ↑ ↓', does: 'move between cells' },
  { keys: [], shown: 'Home, End', does: 'first or last cell of the row' },
  { keys: [], shown: 'Page ↑ ↓', does: 'ten rows up or down' },
  { keys: [], shown: 'Space', does: 'select the recording' },
  { keys: [], shown: 'Enter', does: 'open the recording' },
  { keys: [], shown: 'F2', does: 'into the cell, and Esc out of it' },
  { keys: [], shown: '↑ ↓', does: 'on a row’s handle: move the recording' },
];

export class SheetView extends Sorter {
  /** All, one status, or `unmet:` and the quantity of a limit that is not met. */
  show = $state('all');
  /** What a name is to hold: every word of it. */
  search = $state('');
  readonly chosen = new SvelteSet<string>();
  #last: string | undefined;

  /** What can be shown alone; a sheet that is held against something else may not have it. */
  filters(standing: StatusCount[], limits: { quantity: string; title: string }[]): (readonly [string, string])[] {
    return [
      ['all', 'all recordings'],
      ...standing.map(({ status, word }) => [status, word] as const),
      ...limits.map(({ quantity, title }) => [`unmet:${quantity}`, `outside by ${title}`] as const),
    ];
  }

  filtered(entries: SheetEntry[], show: string): SheetEntry[] {
    const named = holds(this.search);
    const wanted = (entry: SheetEntry) =>
      show === 'all' || entry.status === show || (show.startsWith('unmet:') && entry.unmet.includes(show.slice(6)));
    return entries.filter((entry) => wanted(entry) && named(entry.name));
  }

  /** Choose a row or not; with `span`, all between it and the one before. */
  choose(shown: SheetEntry[], id: string, wanted: boolean, span: boolean): void {
    const ids = shown.map((entry) => entry.id);
    const [from, to] = [span && this.#last ? ids.indexOf(this.#last) : ids.indexOf(id), ids.indexOf(id)];
    for (const one of ids.slice(Math.max(0, Math.min(from, to)), Math.max(from, to) + 1)) {
      if (wanted) this.chosen.add(one);
      else this.chosen.delete(one);
    }
    this.#last = id;
  }

  chooseAll(shown: SheetEntry[], wanted: boolean): void {
    this.chosen.clear();
    if (wanted) for (const entry of shown) this.chosen.add(entry.id);
  }
}
