// What of files is heard on the bench, told like any other listening; what is rehearsed is no file.
import { Sitting, type Of } from './proof.svelte';
import type { Track } from './sounding';

/** A recording with other edits is another sound, and heard in another sitting. */
const FILE = /^\/api\/(recordings|conformings)\/([0-9a-f-]+)\/sound(\?as=[0-9a-f]+)?$/;

export class Sittings {
  readonly #by = new Map<string, Sitting>();

  heard(track: Track, from: number, to: number): void {
    const [, kind, id] = FILE.exec(track.name) ?? [];
    if (!id) return;
    const of: Of = kind === 'recordings' ? 'recording' : 'attempt';
    let sitting = this.#by.get(track.name);
    if (!sitting) this.#by.set(track.name, (sitting = new Sitting(of, id)));
    const later = track.offset ?? 0;
    sitting.heard(Math.max(0, from + later), Math.max(0, to + later), 1);
    void sitting.tell();
  }

  end(): void {
    for (const sitting of this.#by.values()) sitting.end();
    this.#by.clear();
  }
}
