// What is done to a production from its sheet: its names, its specification, and the order of its recordings.
import { Acting } from './acting.svelte';
import type { SheetEntry } from './api';
import * as productions from './server/productions';

export class SheetActs extends Acting {
  constructor(readonly production: string) {
    super();
  }

  change = (body: productions.Changed) => this.attempt(() => productions.change(this.production, body));
  removeProduction = () => this.attempt(() => productions.remove(this.production));
  restoreProduction = () => this.attempt(() => productions.restore(this.production));
  cancelAll = () => this.attempt(() => productions.cancel(this.production));

  /** Hold it against another specification; the way back is to the version it was held against. */
  changeSpecification(to: { id: string; name: string }, from: { id: string; version: number }) {
    return this.undoably(
      `Specification changed to ${to.name}.`,
      () => productions.change(this.production, { specification_id: to.id }),
      () => productions.change(this.production, { specification_id: from.id, specification_version: from.version }),
    );
  }

  async orderByName(): Promise<void> {
    const before = await productions.orderNow(this.production);
    await this.undoably(
      'Reordered by name.',
      () => productions.orderByName(this.production),
      () => productions.order(this.production, before),
    );
  }

  /** Put a recording at another place of the production's order. */
  async move(entries: SheetEntry[], id: string, to: number): Promise<void> {
    const before = entries.map((entry) => entry.id);
    const from = before.indexOf(id);
    if (from < 0 || to < 0 || to >= before.length || to === from) return;
    await this.undoably(
      `Moved ${entries[from]?.name ?? ''}.`,
      () => productions.order(this.production, moved(before, from, to)),
      () => productions.order(this.production, before),
    );
  }
}

/** A list with one of its entries at another place. */
export function moved<T>(list: readonly T[], from: number, to: number): T[] {
  const rest = list.filter((_, at) => at !== from);
  return [...rest.slice(0, to), ...list.slice(from, from + 1), ...rest.slice(to)];
}
