// A specification while it is changed: what it was made from, what it is now, undo and redo, and what speaks against it.
import type { LimitSentence, Objection, Specification, SpecificationView } from './api';
import * as specifications from './server/specifications';

type Bound = number | string | null;
/** A limit as it stands in a draft: what was written for a bound need not be a number yet. */
export type DraftLimit = Omit<Specification['limits'][number], 'low' | 'high' | 'guard' | 'guard_percent'> & {
  low?: Bound;
  high?: Bound;
  guard: number | string;
  guard_percent: number | string;
};
export type DraftContent = Omit<Specification, 'limits'> & { limits: DraftLimit[] };

const named = (limit: DraftLimit) => `${limit.quantity} ${limit.applies_to}`;
const EXAMINE_AFTER_MS = 120;
const copyOf = <T>(value: T): T => JSON.parse(JSON.stringify(value)) as T;

export class Draft {
  content: DraftContent;
  objections = $state<Objection[]>([]);
  #sentences = $state<Record<string, LimitSentence>>({});
  /** Whether it became a version; the next draft starts from that. */
  kept = $state(false);
  #past = $state<string[]>([]);
  #coming = $state<string[]>([]);
  #kept: string;
  #last = '';
  #timer: ReturnType<typeof setTimeout> | undefined;
  #asked = 0;

  constructor(
    readonly view: SpecificationView,
    start?: DraftContent,
  ) {
    this.#kept = JSON.stringify(view.specification);
    this.content = $state(copyOf(start ?? view.specification));
    if (!start) this.#told(view.sentences);
    void this.examine();
  }

  get changed(): boolean {
    return JSON.stringify(this.content) !== this.#kept;
  }
  get blocked(): boolean {
    return this.objections.some((objection) => objection.blocks);
  }
  get undoable(): boolean {
    return this.#past.length > 0;
  }
  get redoable(): boolean {
    return this.#coming.length > 0;
  }

  /** Change something. Changes with the same key, one after the other, are undone as one: the letters of a number. */
  change(what: (content: DraftContent) => void, key = ''): void {
    if (!key || key !== this.#last) this.#past.push(JSON.stringify(this.content));
    this.#last = key;
    this.#coming = [];
    what(this.content);
    this.#changed();
  }

  undo(): void {
    this.#swap(this.#past, this.#coming);
  }

  redo(): void {
    this.#swap(this.#coming, this.#past);
  }

  #swap(from: string[], to: string[]): void {
    const other = from.pop();
    if (other === undefined) return;
    to.push(JSON.stringify(this.content));
    this.content = JSON.parse(other) as DraftContent;
    this.#last = '';
    this.#changed();
  }

  #changed(): void {
    keepAside(this);
    clearTimeout(this.#timer);
    this.#timer = setTimeout(() => void this.examine(), EXAMINE_AFTER_MS);
  }

  /** Ask what speaks against it; an answer to an older state is dropped. */
  async examine(): Promise<void> {
    clearTimeout(this.#timer);
    const asked = ++this.#asked;
    const body = copyOf(this.content) as unknown as Record<string, unknown>;
    const found = await specifications.examine(body);
    if (asked !== this.#asked) return;
    this.objections = found.objections;
    this.#told(found.sentences);
  }

  /** A limit that can't be read just now keeps the words it had. */
  #told(sentences: (LimitSentence | null)[]): void {
    sentences.forEach((sentence, index) => {
      const limit = this.content.limits[index];
      if (sentence && limit) this.#sentences[named(limit)] = sentence;
    });
  }

  sentenceOf(limit: DraftLimit): LimitSentence | undefined {
    return this.#sentences[named(limit)];
  }

  async keep(): Promise<void> {
    const { id, version } = this.view.specification;
    const draft = copyOf(this.content) as unknown as Record<string, unknown>;
    await specifications.keep(id, draft, version);
    this.kept = true;
    forget(id);
  }
}

const place = (id: string) => `ispettore-draft-${id}`;

/** What was changed and not yet kept survives a reload. */
function keepAside(draft: Draft): void {
  const { id, version } = draft.view.specification;
  if (draft.changed) localStorage.setItem(place(id), JSON.stringify({ version, content: draft.content }));
  else forget(id);
}

export function forget(id: string): void {
  localStorage.removeItem(place(id));
}

export function draftOf(view: SpecificationView): Draft {
  const aside = localStorage.getItem(place(view.specification.id));
  if (aside) {
    const found = JSON.parse(aside) as { version: number; content: DraftContent };
    if (found.version === view.specification.version) return new Draft(view, found.content);
    forget(view.specification.id);
  }
  return new Draft(view);
}
