// What a person asks for on a screen: done, then everything shown is asked for again; a refusal is kept in words.
import type { QueryClient } from '@tanstack/svelte-query';
import { answer, api } from './api';

export class Acting {
  problem = $state('');
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

  conform(
    recording_id: string,
    body: { preference: 'light' | 'balanced' | 'even'; container?: 'wav' | 'flac' | 'mp3' | null },
  ) {
    return this.attempt(async () =>
      answer(await api.POST('/api/recordings/{recording_id}/conform', { params: { path: { recording_id } }, body })),
    );
  }

  cancel(work_id: string) {
    return this.attempt(async () =>
      answer(await api.POST('/api/works/{work_id}/cancel', { params: { path: { work_id } } })),
    );
  }
}
