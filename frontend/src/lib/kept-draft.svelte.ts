// A saved treatment while somebody changes it on its own page: nothing is kept until it is saved as the next version.
import type { DraftStep, Finish, ReadStep, TreatmentView } from './api';
import { withValue } from './settings';
import * as treatments from './server/treatments';

export interface KeptContent {
  name: string;
  description: string;
  finish: Finish;
}

export class KeptDraft {
  content = $state<KeptContent>({ name: '', description: '', finish: 'given' });
  steps = $state<ReadStep[]>([]);
  ready = $state(true);
  reference = $state<number | null>(null);
  changed = $state(false);
  #asked = 0;

  constructor(readonly view: TreatmentView) {
    const { name, description, finish } = view.treatment;
    this.content = { name: name ?? '', description: description ?? '', finish: finish ?? 'given' };
    this.#told(view as unknown as { steps: ReadStep[]; ready: boolean; reference: number | null });
  }

  write(change: Partial<KeptContent>): void {
    Object.assign(this.content, change);
    this.changed = true;
  }

  async set(id: string, path: string, value: unknown): Promise<void> {
    await this.#change((steps) =>
      steps.map((step) => (step.id === id ? { ...step, settings: withValue(step.settings ?? {}, path, value) } : step)),
    );
  }

  turn = (id: string) =>
    this.#change((steps) => steps.map((step) => (step.id === id ? { ...step, on: !step.on } : step)));
  remove = (id: string) => this.#change((steps) => steps.filter((step) => step.id !== id));

  /** Put a reference level in front of the first step that means one. */
  putReference(): Promise<void> {
    const place = this.reference ?? 0;
    const target_db = this.view.treatment.voice_dbfs ?? -24;
    const settings = { quantity: 'active_speech_level_dbfs', target_db };
    const added = { kind: 'reference-level', settings, on: true, reason: '' };
    return this.#change((steps) => [...steps.slice(0, place), added, ...steps.slice(place)]);
  }

  async save(): Promise<void> {
    const { treatment } = this.view;
    const body = {
      ...this.content,
      steps: this.#plain(),
      voice_dbfs: treatment.voice_dbfs,
      follows: treatment.revision ?? 1,
    };
    await treatments.keep(treatment.id ?? '', body);
    this.changed = false;
  }

  #plain(): DraftStep[] {
    return this.steps.map(({ id, kind, settings, on, reason }) => ({ id, kind, settings, on, reason }));
  }

  async #change(what: (steps: DraftStep[]) => Omit<DraftStep, 'id'>[]): Promise<void> {
    const turn = ++this.#asked;
    const found = await treatments.examine(what(this.#plain()) as DraftStep[]);
    if (turn !== this.#asked) return;
    this.#told(found as unknown as { steps: ReadStep[]; ready: boolean; reference: number | null });
    this.changed = true;
  }

  #told(found: { steps: ReadStep[]; ready: boolean; reference: number | null }): void {
    this.steps = found.steps;
    this.ready = found.ready;
    this.reference = found.reference;
  }
}
