// Which column a table is sorted by, and which way; and names found by words of them.

export type Sorting = { by: string; down: boolean };

export class Sorter {
  sorting = $state<Sorting>();

  /** Upwards, then downwards, then as it was. */
  sort(by: string): void {
    const now = this.sorting;
    this.sorting = now?.by !== by ? { by, down: false } : now.down ? undefined : { by, down: true };
  }

  direction(by: string): 'ascending' | 'descending' | 'none' {
    return this.sorting?.by !== by ? 'none' : this.sorting.down ? 'descending' : 'ascending';
  }
}

const plain = (text: string) => text.normalize('NFD').replace(/\p{M}/gu, '').toLowerCase();

/** Whether a name holds every word, in any case and without regard to accents. */
export function holds(search: string): (name: string) => boolean {
  const words = plain(search).split(/\s+/).filter(Boolean);
  return (name) => {
    const found = words.length ? plain(name) : '';
    return words.every((word) => found.includes(word));
  };
}
