// What a person asks for on a screen: done, then everything shown is asked for again; a refusal is kept in words.
import type { QueryClient } from '@tanstack/svelte-query';
import { answer, api, type Act, type ConformRequest, type Refused, type RunRequest } from './api';

export class Acting {
  problem = $state('');
  /** What can be done about the problem. */
  act = $state<Act>();
  /** What was just done and can be undone: the sentence, and the way back. */
  done = $state.raw<{ said: string; undo: () => Promise<unknown> }>();
  #client: QueryClient;
  #last: () => Promise<unknown> = async () => undefined;

  constructor(client: QueryClient) {
    this.#client = client;
  }

  async attempt(action: () => Promise<unknown>): Promise<void> {
    this.problem = '';
    this.#last = action;
    try {
      await action();
      await this.#client.invalidateQueries();
    } catch (error) {
      this.problem = (error as Error).message;
      this.act = (error as Refused).act;
    }
  }

  /** Do what failed once more. */
  again(): Promise<void> {
    return this.attempt(this.#last);
  }

  /** Show what is there now. */
  async reload(): Promise<void> {
    this.problem = '';
    await this.#client.invalidateQueries();
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
    const body = { recordings: rows.map((row) => row.id) };
    await this.undoably(
      `Removed ${rows.length === 1 ? rows[0]?.name : `${rows.length} recordings`}. Files and measurements are kept.`,
      async () => answer(await api.POST('/api/recordings/remove', { body })),
      async () => answer(await api.POST('/api/recordings/restore', { body })),
    );
  }

  rename(recording_id: string, name: string) {
    return this.attempt(async () =>
      answer(await api.PATCH('/api/recordings/{recording_id}', { params: { path: { recording_id } }, body: { name } })),
    );
  }

  conform(recording_id: string, body: ConformRequest) {
    return this.attempt(async () =>
      answer(await api.POST('/api/recordings/{recording_id}/conform', { params: { path: { recording_id } }, body })),
    );
  }

  runDraft(recording_id: string, body: RunRequest) {
    return this.attempt(async () =>
      answer(await api.POST('/api/recordings/{recording_id}/draft/run', { params: { path: { recording_id } }, body })),
    );
  }

  plan(recording_id: string) {
    return this.attempt(async () =>
      answer(await api.POST('/api/recordings/{recording_id}/plans', { params: { path: { recording_id } } })),
    );
  }

  planWithKept(recording_id: string, identifier: string, reference: boolean) {
    return this.attempt(async () =>
      answer(
        await api.POST('/api/recordings/{recording_id}/plans/kept/{identifier}', {
          params: { path: { recording_id, identifier }, query: { reference } },
        }),
      ),
    );
  }

  measure(recording_id: string) {
    return this.attempt(async () =>
      answer(await api.POST('/api/recordings/{recording_id}/inspect', { params: { path: { recording_id } } })),
    );
  }

  cancel(work_id: string) {
    return this.attempt(async () =>
      answer(await api.POST('/api/works/{work_id}/cancel', { params: { path: { work_id } } })),
    );
  }
}
