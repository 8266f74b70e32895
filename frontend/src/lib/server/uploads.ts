// What is asked about files on their way in. The files themselves go by the open tus protocol (uploads.svelte.ts).
import { api, got, send, type Unfinished } from '../api';
import { about, either, production, question } from '../question';

/** Files of which a part came in, for a production or an archive; none where that can't be said. */
export const parts = (id?: string): Promise<Unfinished[]> =>
  (id
    ? got(api.GET('/api/productions/{production_id}/uploads', { params: { path: { production_id: id } } }))
    : got(api.GET('/api/imports/uploads'))
  ).catch(() => []);

export const unfinished = (id?: string) =>
  question(['unfinished', id ?? 'archive'], either(id ? production(id) : about('import'), about('uploads')), () =>
    parts(id),
  );

/** The most one file may hold, in bytes. */
export const largest = async () => (await got(api.GET('/api/uploads/limits'))).largest_bytes;

/** Forget a part that came in. */
export const forget = (id: string) =>
  send(`/api/uploads/${id}`, { method: 'DELETE', headers: { 'Tus-Resumable': '1.0.0' } });
