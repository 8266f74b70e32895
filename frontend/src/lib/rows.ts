// Rows of sheets, asked for together: whatever is wanted in the same moment goes in one question.
import type { Recording } from './api';
import { rows as rowsOf } from './server/productions';

const AT_ONCE = 100;

interface Wanted {
  id: string;
  tell: (row: Recording | null) => void;
  fail: (reason: unknown) => void;
}

export class Rows {
  #wanted = new Map<string, Wanted[]>();

  /** The row of a recording; null where it is not in its production any more. */
  load(production: string, id: string): Promise<Recording | null> {
    return new Promise((tell, fail) => {
      const waiting = this.#wanted.get(production);
      if (waiting) waiting.push({ id, tell, fail });
      else {
        this.#wanted.set(production, [{ id, tell, fail }]);
        setTimeout(() => this.#ask(production));
      }
    });
  }

  #ask(production: string): void {
    const wanted = this.#wanted.get(production) ?? [];
    this.#wanted.delete(production);
    for (let from = 0; from < wanted.length; from += AT_ONCE)
      void this.#some(production, wanted.slice(from, from + AT_ONCE));
  }

  async #some(production: string, wanted: Wanted[]): Promise<void> {
    try {
      const found = await rowsOf(
        production,
        wanted.map(({ id }) => id),
      );
      const rows = new Map(found.map((row) => [row.id, row]));
      for (const { id, tell } of wanted) tell(rows.get(id) ?? null);
    } catch (error) {
      for (const { fail } of wanted) fail(error);
    }
  }
}
