// Sound of takes that the server has not acknowledged yet, held where a reload or a crash of the page does not reach it.
import { openDB, type DBSchema, type IDBPDatabase } from 'idb';

export interface TakeMark {
  frame: number;
  text: string;
}

/** What this browser knows of a take. */
export interface HeldTake {
  id: string;
  production: string;
  name: string;
  heardFrom: string;
  rate: number;
  begunAt: string;
  marks: TakeMark[];
}

export interface HeldPiece {
  first: number;
  samples: Float32Array<ArrayBuffer>;
}

/** This moment, as it is kept. */
export const atPresent = () => new Date().toISOString();

interface Schema extends DBSchema {
  takes: { key: string; value: HeldTake };
  pieces: { key: [string, number]; value: Float32Array<ArrayBuffer> };
}

const of = (take: string, until = Infinity) => IDBKeyRange.bound([take, -1], [take, until]);

/** The pieces of takes by take and first frame. Where the browser keeps nothing, nothing is held and `works` is false. */
export class HeldPieces {
  works = true;
  #database: Promise<IDBPDatabase<Schema> | undefined>;

  constructor() {
    this.#database = openDB<Schema>('ispettore-takes', 1, {
      upgrade(database) {
        database.createObjectStore('takes', { keyPath: 'id' });
        database.createObjectStore('pieces');
      },
    }).catch(() => {
      this.works = false;
      return undefined;
    });
  }

  async #do<T>(what: (database: IDBPDatabase<Schema>) => Promise<T>): Promise<T | undefined> {
    const database = await this.#database;
    try {
      return database && (await what(database));
    } catch {
      this.works = false;
      return undefined;
    }
  }

  /** Those of a production, whatever is held of them. */
  async takes(production: string): Promise<HeldTake[]> {
    const all = (await this.#do((database) => database.getAll('takes'))) ?? [];
    return all.filter((one) => one.production === production);
  }

  keep = (take: HeldTake) => this.#do((database) => database.put('takes', take));

  add = (take: string, { first, samples }: HeldPiece) =>
    this.#do((database) => database.put('pieces', samples, [take, first]));

  /** All that is held of a take, in order. */
  async pieces(take: string): Promise<HeldPiece[]> {
    const found = await this.#do((database) =>
      Promise.all([database.getAllKeys('pieces', of(take)), database.getAll('pieces', of(take))]),
    );
    const [keys, samples] = found ?? [[], []];
    return keys.flatMap(([, first], at) => (samples[at] ? [{ first, samples: samples[at] }] : []));
  }

  /** Let go of pieces that begin before a frame. */
  drop = (take: string, before: number) => this.#do((database) => database.delete('pieces', of(take, before - 1)));

  async forget(take: string): Promise<void> {
    await this.#do((database) => database.delete('takes', take));
    await this.#do((database) => database.delete('pieces', of(take)));
  }
}
