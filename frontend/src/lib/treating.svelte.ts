// The treatment that is drafted for a recording. The server keeps every state of it; here is the newest, and what is asked of it.
import type { DraftStep, DraftView, OfferedStep, Preference, ReadStep, SpotOffer, Treatment } from './api';
import { withEntry, withValue } from './settings';
import * as drafts from './server/drafts';

/** A step before it has a name of its own: the server gives it one. */
type NewStep = Omit<DraftStep, 'id'> & { id?: string };
/** A change that follows a state of the draft; the answer is the next one. */
type Send = (id: string, follows: number) => Promise<DraftView>;

export class Treating {
  view = $state<DraftView>();
  problem = $state('');
  /** Newest wins: what is asked while an answer is awaited waits for it, and only the last of it is sent. */
  #busy = false;
  #next: (() => Promise<void>) | undefined;
  #settled: (() => void)[] = [];

  constructor(readonly recordingId: string) {}

  get steps(): ReadStep[] {
    return (this.view?.steps ?? []) as ReadStep[];
  }

  /** How often the server answered a change: what was asked for before the last answer is older than that. */
  answered = 0;

  /** Ask for the draft as it is; with what had been answered by then. */
  async read(): Promise<{ view: DraftView; after: number }> {
    const after = this.answered;
    return { view: await drafts.read(this.recordingId), after };
  }

  /** Take what was read, unless something newer is known or asked for. */
  told(found: { view: DraftView; after: number } | undefined): void {
    if (found && !this.#busy && found.after === this.answered) this.view = found.view;
  }

  find(id: string | undefined): ReadStep | undefined {
    return this.steps.find((step) => step.id === id);
  }

  set(id: string, path: string, value: unknown): Promise<void> {
    return this.setAll(id, { [path]: value });
  }

  /** Several settings of a step in one change. */
  setAll(id: string, values: Record<string, unknown>): Promise<void> {
    const changed = (settings: Record<string, unknown>) =>
      Object.entries(values).reduce((before, [path, value]) => withValue(before, path, value), settings);
    return this.#change((steps) =>
      steps.map((step) => (step.id === id ? { ...step, settings: changed(step.settings ?? {}) } : step)),
    );
  }

  /** Add a step where it belongs, behind the last that it may follow; where it stands then. */
  async add({ kind, settings, behind }: Pick<OfferedStep, 'kind' | 'settings' | 'behind'>): Promise<number> {
    let at = 0;
    await this.#change((steps) => {
      at = steps.findLastIndex((step) => behind?.includes(step.kind)) + 1;
      return [...steps.slice(0, at), { kind, settings: settings ?? {}, on: true, reason: '' }, ...steps.slice(at)];
    });
    return at;
  }

  /** Add an entry to the first step of its kind, or that step with it; where the step stands then. */
  async spot({ kind, list, entry, behind }: SpotOffer): Promise<number> {
    const there = this.steps.findIndex((step) => step.kind === kind && step.on);
    const step = this.steps[there];
    if (!step) return this.add({ kind, settings: { [list]: [entry] }, behind });
    await this.set(step.id, list, withEntry(step.settings ?? {}, list, entry));
    return there;
  }

  remove(id: string): Promise<void> {
    return this.#change((steps) => steps.filter((step) => step.id !== id));
  }

  duplicate(id: string): Promise<void> {
    return this.#change((steps) =>
      steps.flatMap((step) => (step.id === id ? [step, { ...step, id: undefined }] : [step])),
    );
  }

  turn(id: string): Promise<void> {
    return this.#change((steps) => steps.map((step) => (step.id === id ? { ...step, on: !step.on } : step)));
  }

  move(id: string, to: number): Promise<void> {
    return this.#change((steps) => {
      const one = steps.find((step) => step.id === id);
      const rest = steps.filter((step) => step.id !== id);
      return one ? [...rest.slice(0, to), one, ...rest.slice(to)] : steps;
    });
  }

  undo(): Promise<void> {
    return this.#ask(drafts.undo);
  }

  redo(): Promise<void> {
    return this.#ask(drafts.redo);
  }

  choose(preference: Preference): Promise<void> {
    return this.#ask((id, follows) => drafts.choosePlan(id, follows, preference));
  }

  chooseKept(identifier: string, reference: boolean): Promise<void> {
    return this.#ask((id, follows) => drafts.chooseKept(id, follows, identifier, reference));
  }

  /** Bring one voice of the recording to the other, or both to another recording. */
  matchVoices(wanted: { toward: number; tone: boolean; like: string | null }): Promise<void> {
    return this.#ask((id, follows) => drafts.matchVoices(id, follows, wanted));
  }

  take(treatment: Treatment): Promise<void> {
    return this.#ask((id, follows) => drafts.take(id, follows, treatment));
  }

  #change(what: (steps: NewStep[]) => NewStep[]): Promise<void> {
    return this.#ask((id, follows) => {
      const plain = this.steps.map(({ id, kind, settings, on, reason }) => ({ id, kind, settings, on, reason }));
      return drafts.change(id, follows, what(plain) as DraftStep[]);
    });
  }

  /** One after the other. A change is made of what the one before it left. */
  #ask(send: Send): Promise<void> {
    return new Promise((settled) => {
      this.#settled.push(settled);
      const earlier = this.#next;
      const go = () => this.#send(send);
      this.#next = earlier ? async () => (await earlier(), go()) : go;
      if (!this.#busy) void this.#run();
    });
  }

  async #run(): Promise<void> {
    this.#busy = true;
    while (this.#next) {
      const next = this.#next;
      this.#next = undefined;
      await next();
    }
    this.#busy = false;
    for (const settled of this.#settled.splice(0)) settled();
  }

  async #send(send: Send): Promise<void> {
    try {
      this.view = await send(this.recordingId, this.view?.number ?? 0);
      this.answered += 1;
      this.problem = '';
    } catch (error) {
      this.problem = (error as Error).message;
      this.view = await drafts.read(this.recordingId).catch(() => this.view);
    }
  }
}
