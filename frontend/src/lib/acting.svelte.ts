// What a person asks for on a screen: done once, then what it changed is shown; a refusal is kept in words.
import type { Act, ConformRequest, Refused, RunRequest } from './api';
import { shown } from './changes';
import { client } from './client';
import * as recordings from './server/recordings';

interface How {
  /** What it is, where it must not be asked for again while it is under way. */
  once?: string;
  /** Acts that are done one after the other, in the order in which they were asked for. */
  inTurn?: string;
}

export class Acting {
  problem = $state('');
  /** What can be done about the problem. */
  act = $state<Act>();
  /** What was just done and can be undone: the sentence, and the way back. */
  done = $state.raw<{ said: string; undo: () => Promise<unknown> }>();
  #last: () => Promise<unknown> = async () => undefined;

  /** Do something, and wait until all that it changed is shown; what it answered, or nothing where it was refused. */
  async attempt<T>(ask: () => Promise<T>, { once, inTurn }: How = {}): Promise<T | undefined> {
    const mutationKey = once ? [once] : undefined;
    if (mutationKey && client.isMutating({ mutationKey })) return undefined;
    this.problem = '';
    this.#last = () => this.attempt(ask, { once, inTurn });
    const scope = inTurn ? { id: inTurn } : undefined;
    try {
      const act = client.getMutationCache().build(client, { mutationKey, scope, mutationFn: ask });
      const found = await act.execute(undefined);
      await shown();
      return found;
    } catch (error) {
      this.problem = (error as Error).message;
      this.act = (error as Refused).act;
      return undefined;
    }
  }

  /** Do what failed once more. */
  async again(): Promise<void> {
    await this.#last();
  }

  /** Show what is there now. */
  async reload(): Promise<void> {
    this.problem = '';
    await client.invalidateQueries();
  }

  /** Do something that can be undone. */
  async undoably(said: string, action: () => Promise<unknown>, undo: () => Promise<unknown>): Promise<void> {
    await this.attempt(async () => {
      await action();
      this.done = { said, undo };
    });
  }

  async undo(): Promise<void> {
    const way = this.done?.undo;
    await this.attempt(async () => {
      await way?.();
      this.done = undefined;
    });
  }

  async remove(rows: { id: string; name: string }[]): Promise<void> {
    const ids = rows.map((row) => row.id);
    await this.undoably(
      `Removed ${rows.length === 1 ? rows[0]?.name : `${rows.length} recordings`}. Files and measurements are kept.`,
      () => recordings.remove(ids),
      () => recordings.restore(ids),
    );
  }

  // What is asked for from several screens.
  rename = (id: string, name: string) => this.attempt(() => recordings.rename(id, name));
  conform = (id: string, body: ConformRequest) => this.attempt(() => recordings.conform(id, body));
  runDraft = (id: string, body: RunRequest) => this.attempt(() => recordings.runDraft(id, body));
  plan = (id: string) => this.attempt(() => recordings.plan(id));
  planWithKept = (id: string, identifier: string, reference: boolean) =>
    this.attempt(() => recordings.planWithKept(id, identifier, reference));
  measure = (id: string) => this.attempt(() => recordings.measure(id));
  cancel = (work: string) => this.attempt(() => recordings.cancelWork(work));
}
