// What a person asks for on a screen: done, then everything shown is asked for again; a refusal is kept in words.
import type { QueryClient } from '@tanstack/svelte-query';
import { answer, api, type ConformRequest, type RunRequest } from './api';

export class Acting {
  problem = $state('');
  /** What was just removed, and can be brought back. */
  removed = $state<{ id: string; name: string }[]>([]);
  #client: QueryClient;

  constructor(client: QueryClient) {
    this.#client = client;
  }

  async attempt(action: () => Promise<unknown>): Promise<void> {
    this.problem = '';
    try {
      await action();
      await this.#client.invalidateQueries();
    } catch (error) {
      this.problem = (error as Error).message;
    }
  }

  async remove(rows: { id: string; name: string }[]): Promise<void> {
    const body = { recordings: rows.map((row) => row.id) };
    await this.attempt(async () => {
      answer(await api.POST('/api/recordings/remove', { body }));
      this.removed = rows.map(({ id, name }) => ({ id, name }));
    });
  }

  async bringBack(): Promise<void> {
    const body = { recordings: this.removed.map((row) => row.id) };
    await this.attempt(async () => {
      answer(await api.POST('/api/recordings/restore', { body }));
      this.removed = [];
    });
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
