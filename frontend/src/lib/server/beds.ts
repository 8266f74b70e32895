// What is asked about the bed under a voice, and how it is changed.
import { keepPreviousData } from '@tanstack/svelte-query';
import { acts, api, got, send } from '../api';
import { either, itsBeds, question, thing } from '../question';
import { gainAt } from '../reduction';

const of = (recording_id: string) => ({ params: { path: { recording_id } } });
type Settings = Record<string, unknown>;

/** What lies under a recording, and what can be laid. */
export const bed = (id: string) =>
  question(['bed', id], either(thing(id), itsBeds), () => got(api.GET('/api/recordings/{recording_id}/bed', of(id))));

/** How far the voice will lower the bed at one of its states, and how far it did in the file that was made with it. */
export const lowering = (
  id: string,
  knownAs: string | undefined,
  state: string,
  madeBy: string | null | undefined,
) => ({
  ...question(['lowering', id, knownAs, state, madeBy], thing(id), async () => ({
    will: await gainAt(`/api/recordings/${id}/bed/lowering`),
    did: madeBy ? await gainAt(`/api/conformings/${madeBy}/lowering`) : null,
  })),
  placeholderData: keepPreviousData,
});

export const lay = (id: string, follows: string, bed: Settings) =>
  got(acts.PUT('/api/recordings/{recording_id}/bed', { ...of(id), body: { bed, follows } }));
/** What lies under the production lies under it again. */
export const share = (id: string, follows: string) =>
  got(acts.POST('/api/recordings/{recording_id}/bed/shared', { ...of(id), body: { follows } }));
export const layUnderAll = (production_id: string, follows: string, bed: Settings) =>
  got(
    acts.PUT('/api/productions/{production_id}/bed', { params: { path: { production_id } }, body: { bed, follows } }),
  );
export const bring = (production: string, file: File) =>
  send(`/api/productions/${production}/bed-sounds?${new URLSearchParams({ name: file.name }).toString()}`, {
    method: 'PUT',
    body: file,
  });
export const removeSound = (sound_id: string) =>
  got(acts.DELETE('/api/bed-sounds/{sound_id}', { params: { path: { sound_id } } }));
