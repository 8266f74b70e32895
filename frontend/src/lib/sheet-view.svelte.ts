// How a person looks at a sheet: which rows are shown, in which order, and which are chosen.
import { SvelteSet } from 'svelte/reactivity';
import type { Recording } from './api';

export type Sorting = { by: string; down: boolean };

const FIRST_ROWS = 40;

const passes = (row: Recording, quantity: string) =>
  row.verdict?.limits.every((limit) => limit.quantity !== quantity || limit.passes) ?? true;

const byName = new Intl.Collator('en', { numeric: true, sensitivity: 'base' });

function keyOf(row: Recording, by: string): number | string | undefined {
  if (by === 'name') return row.name;
  if (by === 'verdict') return row.verdict ? Number(row.verdict.passes) : undefined;
  return row.verdict?.limits.find((limit) => limit.quantity === by)?.reading ?? undefined;
}

export class SheetView {
  show = $state('all');
  sorting = $state<Sorting>();
  readonly chosen = new SvelteSet<string>();
  /** How many rows are drawn: a screenful at once, the rest as soon as that is seen. */
  drawn = $state(FIRST_ROWS);
  #last: string | undefined;

  filtered(rows: Recording[], show: string): Recording[] {
    const wanted = rows.filter(
      (row) => show === 'all' || (show === 'outside' ? row.verdict?.passes === false : !passes(row, show)),
    );
    return this.sorting ? this.#sorted(wanted, this.sorting) : wanted;
  }

  /** Rows without a reading come last, whichever way. */
  #sorted(rows: Recording[], { by, down }: Sorting): Recording[] {
    const keyed = rows.map((row) => ({ row, key: keyOf(row, by) }));
    return keyed
      .sort(({ key: one }, { key: other }) => {
        if (one === undefined || other === undefined) return Number(one === undefined) - Number(other === undefined);
        const way =
          typeof one === 'number' && typeof other === 'number'
            ? one - other
            : byName.compare(String(one), String(other));
        return down ? -way : way;
      })
      .map(({ row }) => row);
  }

  /** Upwards, then downwards, then as the production has them. */
  sort(by: string): void {
    const now = this.sorting;
    this.sorting = now?.by !== by ? { by, down: false } : now.down ? undefined : { by, down: true };
  }

  direction(by: string): 'ascending' | 'descending' | 'none' {
    return this.sorting?.by !== by ? 'none' : this.sorting.down ? 'descending' : 'ascending';
  }

  /** Choose a row or not; with `span`, all between it and the one before. */
  choose(shown: Recording[], id: string, wanted: boolean, span: boolean): void {
    const ids = shown.map((row) => row.id);
    const [from, to] = [span && this.#last ? ids.indexOf(this.#last) : ids.indexOf(id), ids.indexOf(id)];
    for (const one of ids.slice(Math.min(from, to), Math.max(from, to) + 1)) {
      if (wanted) this.chosen.add(one);
      else this.chosen.delete(one);
    }
    this.#last = id;
  }

  chooseAll(shown: Recording[], wanted: boolean): void {
    this.chosen.clear();
    if (wanted) for (const row of shown) this.chosen.add(row.id);
  }

  /** Draw every row once the first are on the screen. */
  drawRest(): void {
    requestAnimationFrame(() => requestAnimationFrame(() => (this.drawn = Infinity)));
  }
}
