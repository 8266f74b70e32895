// Folders that are watched, and addresses that are told how recordings stand.
import { acts, api, got, type WatchFolder } from '../api';
import { about, either, anyProduction, question } from '../question';

export const outside = () =>
  question(['outside'], either(about('outside'), anyProduction), () => got(api.GET('/api/outside')));

export const watch = (body: WatchFolder) => got(acts.POST('/api/outside/folders', { body }));
export const stopWatching = (folder_id: string) =>
  got(acts.DELETE('/api/outside/folders/{folder_id}', { params: { path: { folder_id } } }));

const of = (hook_id: string) => ({ params: { path: { hook_id } } });
export const addWebhook = (url: string, production_id: string | null) =>
  got(acts.POST('/api/outside/webhooks', { body: { url, production_id } }));
export const removeWebhook = (id: string) => got(acts.DELETE('/api/outside/webhooks/{hook_id}', of(id)));
export const tryWebhook = (id: string) => got(acts.POST('/api/outside/webhooks/{hook_id}/again', of(id)));
