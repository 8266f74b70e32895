// What is changed on the deliver screen: what all files say, and number and title of each.
import type { Acting } from './acting.svelte';
import { answer, api, said, type Entry, type FormatChoice } from './api';

type Label = 'album' | 'author' | 'narrator' | 'publisher' | 'year' | 'language';
type Form = FormatChoice['qualities'][number]['form'];
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
  /** Changes are sent one after the other: the last one made is the one that stays. */
  #last: Promise<void> = Promise.resolve();

  constructor(acting: Acting, production: string) {
    this.#acting = acting;
    this.#production = production;
  }

  get #path() {
    return { params: { path: { production_id: this.#production } } };
  }

  change(body: { form?: Form | 'asked'; naming?: string; certified_by?: string } & Partial<Record<Label, string>>) {
    return this.#inTurn(async () => {
      answer(await api.PATCH('/api/productions/{production_id}/delivery', { ...this.#path, body }));
      if (body.naming !== undefined) this.typed = undefined;
    });
  }

  #inTurn(action: () => Promise<unknown>): Promise<void> {
    this.#last = this.#last.then(() => this.#acting.attempt(action));
    return this.#last;
  }

  /** Shows what a template makes of every name while it is typed: the newest answer counts. */
  async preview(naming: string) {
    const mine = ++this.#asked;
    const found = await api.POST('/api/productions/{production_id}/delivery/names', {
      ...this.#path,
      body: { naming },
    });
    if (mine !== this.#asked || !found.data) return;
    this.typed = {
      problem: found.data.problem,
      names: Object.fromEntries(found.data.names.map((one) => [one.recording, one])),
    };
  }

  keep(naming: string) {
    this.#asked += 1;
    return this.change({ naming });
  }

  /** Changes what is given of some entries; null has the file name say it again. */
  set(entries: { recording: string; entry: Partial<Entry> | null }[]) {
    return this.#inTurn(async () =>
      answer(await api.PUT('/api/productions/{production_id}/entries', { ...this.#path, body: { entries } })),
    );
  }

  /** Takes a table in, and keeps what was there. Whether it was taken. */
  async paste(text: string, before: { recording: string; entry: Entry | null }[]): Promise<boolean> {
    let taken = false;
    await this.#acting.attempt(async () => {
      const found = await api.POST('/api/productions/{production_id}/entries/paste', {
        ...this.#path,
        body: { text },
      });
      this.pasted = answer(found).count;
      this.before = before;
      taken = true;
    });
    return taken;
  }

  async undo() {
    const entries = this.before ?? [];
    this.before = undefined;
    await this.set(entries);
  }

  putCover(file: File) {
    return this.#acting.attempt(async () => {
      const address = `/api/productions/${this.#production}/delivery/cover?name=${encodeURIComponent(file.name)}`;
      const found = await fetch(address, { method: 'PUT', body: file });
      if (!found.ok) throw new Error(said(await found.text()));
    });
  }

  removeCover() {
    return this.#acting.attempt(async () =>
      answer(await api.DELETE('/api/productions/{production_id}/delivery/cover', this.#path)),
    );
  }

  make(recordings: string[]) {
    return this.#acting.attempt(async () => {
      const found = await api.POST('/api/productions/{production_id}/delivery/make', {
        ...this.#path,
        body: { recordings },
      });
      const { refused } = answer(found);
      if (refused.length) throw new Error(refused.map((one) => one.reason).join(' '));
    });
  }

  toFolder(recordings: string[] | null) {
    return this.#acting.attempt(async () =>
      answer(
        await api.POST('/api/productions/{production_id}/deliver-to-folder', { ...this.#path, body: { recordings } }),
      ),
    );
  }

  handIn(recordings: string[] | null, requirements: string) {
    return this.#acting.attempt(async () =>
      answer(
        await api.POST('/api/productions/{production_id}/hand-in', {
          ...this.#path,
          body: { recordings, requirements },
        }),
      ),
    );
  }

  cancel() {
    return this.#acting.attempt(async () =>
      answer(await api.POST('/api/productions/{production_id}/cancel', this.#path)),
    );
  }
}
