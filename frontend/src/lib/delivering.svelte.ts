// What is changed on the deliver screen: what all files say, and number and title of each.
import type { Acting } from './acting.svelte';
import type { Entry } from './api';
import * as productions from './server/productions';
import type { DeliveryChange, Label } from './server/productions';

export type Named = Record<string, { file_name: string; problem: string }>;

export const LABELS: readonly (readonly [Label, string])[] = [
  ['album', 'Album'],
  ['author', 'Author'],
  ['narrator', 'Narrator'],
  ['publisher', 'Publisher'],
  ['year', 'Year'],
  ['language', 'Language'],
];
export const WORDS = ['number', 'title', 'part', 'production', 'narrator'];

export class Delivering {
  /** What the template being typed would name each file, and what is wrong with it; undefined while none is typed. */
  typed = $state<{ problem: string; names: Named }>();
  /** The entries before the last paste, which can be undone. */
  before = $state<{ recording: string; entry: Entry | null }[]>();
  pasted = $state(0);
  readonly #acting: Acting;
  readonly #production: string;
  #asked = 0;

  constructor(acting: Acting, production: string) {
    this.#acting = acting;
    this.#production = production;
  }

  change(body: DeliveryChange) {
    return this.#inTurn(async () => {
      await productions.changeDelivery(this.#production, body);
      if (body.naming !== undefined) this.typed = undefined;
    });
  }

  #inTurn(action: () => Promise<unknown>) {
    return this.#acting.attempt(action, { inTurn: `delivery of ${this.#production}` });
  }

  /** Shows what a template makes of every name while it is typed: the newest answer counts. */
  async preview(naming: string) {
    const mine = ++this.#asked;
    const found = await productions.names(this.#production, naming).catch(() => undefined);
    if (mine !== this.#asked || !found) return;
    this.typed = {
      problem: found.problem,
      names: Object.fromEntries(found.names.map((one) => [one.recording, one])),
    };
  }

  keep(naming: string) {
    this.#asked += 1;
    return this.change({ naming });
  }

  /** Changes what is given of some entries; null has the file name say it again. */
  set(entries: { recording: string; entry: Partial<Entry> | null }[]) {
    return this.#inTurn(() => productions.setEntries(this.#production, entries));
  }

  /** Takes a table in, and keeps what was there. Whether it was taken. */
  async paste(text: string, before: { recording: string; entry: Entry | null }[]): Promise<boolean> {
    const taken = await this.#acting.attempt(() => productions.pasteEntries(this.#production, text));
    if (!taken) return false;
    this.pasted = taken.count;
    this.before = before;
    return true;
  }

  async undo() {
    const entries = this.before ?? [];
    this.before = undefined;
    await this.set(entries);
  }

  putCover(file: File) {
    return this.#acting.attempt(() => productions.putCover(this.#production, file));
  }

  removeCover() {
    return this.#acting.attempt(() => productions.removeCover(this.#production));
  }

  make(recordings: string[]) {
    return this.#acting.attempt(async () => {
      const { refused } = await productions.makeFiles(this.#production, recordings);
      if (refused.length) throw new Error(refused.map((one) => one.reason).join(' '));
    });
  }

  toFolder(recordings: string[] | null) {
    return this.#acting.attempt(() => productions.toFolder(this.#production, recordings));
  }

  handIn(recordings: string[] | null, requirements: string) {
    return this.#acting.attempt(() => productions.handIn(this.#production, recordings, requirements));
  }

  cancel() {
    return this.#acting.attempt(() => productions.cancel(this.#production));
  }
}
