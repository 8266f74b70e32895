// What is asked about the edits of a recording, and how they are changed.
import { keepPreviousData } from '@tanstack/svelte-query';
import { acts, api, got, send, type EditWish, type SplitAt } from '../api';
import { either, notedOf, question, thing } from '../question';

const of = (recording_id: string) => ({ params: { path: { recording_id } } });

/** All edits as they are. */
export const edits = (id: string) => ({
  ...question(['edits', id], thing(id), () => got(api.GET('/api/recordings/{recording_id}/edits', of(id)))),
  retry: false,
});

/** Where its chapters begin. */
export const chapters = (id: string, knownAs: string | undefined) =>
  question(['chapters', id, knownAs], thing(id), () => got(api.GET('/api/recordings/{recording_id}/chapters', of(id))));
const mark = (chapter_id: string) => ({ params: { path: { chapter_id } } });
export const addChapter = (id: string, at_s: number, title: string) =>
  got(acts.POST('/api/recordings/{recording_id}/chapters', { ...of(id), body: { at_s, title } }));
export const changeChapter = (id: string, body: { at_s?: number; title?: string }) =>
  got(acts.PATCH('/api/chapters/{chapter_id}', { ...mark(id), body }));
export const removeChapter = (id: string) => got(acts.DELETE('/api/chapters/{chapter_id}', mark(id)));

/** What was noted of its files, as something to do in it. */
export const tasks = (id: string) =>
  question(['tasks', id], either(thing(id), notedOf(id)), () =>
    got(api.GET('/api/recordings/{recording_id}/notes', of(id))),
  );

/** What a wish would do to a sound; nothing where there is no wish. */
export const foreseen = (id: string, knownAs: string, wish: EditWish | undefined) => ({
  ...question(['edits-foreseen', id, knownAs, wish], thing(id), () =>
    got(
      api.POST('/api/recordings/{recording_id}/edits/foreseen', {
        ...of(id),
        body: { wish: wish ?? { what: 'take-back', numbers: [] } },
      }),
    ),
  ),
  enabled: wish !== undefined,
  placeholderData: keepPreviousData,
  retry: false,
});

export const change = (id: string, follows: number, wish: EditWish) =>
  got(acts.POST('/api/recordings/{recording_id}/edits', { ...of(id), body: { wish, follows } }));
/** A short recording for a stretch, or for a moment. */
export const retake = (id: string, file: File, { start_s, end_s }: { start_s: number; end_s: number }) => {
  const query = new URLSearchParams({ name: file.name, start_s: String(start_s), end_s: String(end_s) });
  return send(`/api/recordings/${id}/takes?${query.toString()}`, { method: 'PUT', body: file });
};
/** It ends at the first of some moments; others hold the rest, each up to the next. */
export const split = (id: string, follows: number, at: SplitAt[]) =>
  got(acts.POST('/api/recordings/{recording_id}/split', { ...of(id), body: { at, follows } }));
/** The next recording of the production is put behind it. */
export const join = (id: string, follows: number) =>
  got(acts.POST('/api/recordings/{recording_id}/join', { ...of(id), body: { follows } }));
export const undo = (id: string, follows: number) =>
  got(acts.POST('/api/recordings/{recording_id}/edits/undo', { ...of(id), body: { follows } }));
export const redo = (id: string, follows: number) =>
  got(acts.POST('/api/recordings/{recording_id}/edits/redo', { ...of(id), body: { follows } }));
