// A question to the server: by which key its answer is kept, how it is asked, and which changes make the answer old.
import type { Notice } from './api';

/** Whether a change makes an answer old; `data` is the answer, where there is one. */
export type Shows = (notice: Notice, data: unknown) => boolean;

declare module '@tanstack/svelte-query' {
  interface Register {
    queryMeta: { shows: Shows };
  }
}

export const question = <T>(
  key: readonly unknown[],
  shows: Shows,
  ask: (signal: AbortSignal) => Promise<T>,
): { queryKey: readonly unknown[]; meta: { shows: Shows }; queryFn: (of: { signal: AbortSignal }) => Promise<T> } => ({
  queryKey: key,
  meta: { shows },
  queryFn: ({ signal }) => ask(signal),
});

/** What is told for those alone who show it: a figure that is turned in a draft, a stretch that was listened to, keys. */
const APART: readonly Notice['about'][] = ['draft', 'listening', 'keys'];
const common = ({ about }: Notice) => !APART.includes(about);

export const either =
  (...all: Shows[]): Shows =>
  (notice, data) =>
    all.some((shows) => shows(notice, data));

/** Something by its identifier: a recording and all that is of it, a version, a certificate. */
export const thing =
  (id: string | undefined): Shows =>
  (notice) =>
    Boolean(id) && common(notice) && (notice.id === id || notice.recording === id);

/** A production as a whole: it changes with any of its recordings. */
export const production =
  (id: string): Shows =>
  (notice) =>
    common(notice) && notice.production === id;

/** All productions. */
export const anyProduction: Shows = (notice) => common(notice) && Boolean(notice.production);

/** A production itself: its specification, its names, which recordings are in it. */
export const productionItself =
  (id: string): Shows =>
  (notice) =>
    notice.about === 'production' && notice.id === id;

/** The same for the production that the answer names. */
export const itsProduction: Shows = ({ about, id }, data) =>
  about === 'production' && (data as { production_id?: string } | null)?.production_id === id;

/** What lies under the voices of the production that the answer names, and what can be laid there. */
export const itsBeds: Shows = (notice, data) =>
  itsProduction(notice, data) ||
  (notice.about === 'bed' && notice.production === (data as { production_id?: string } | null)?.production_id);

/** Whatever is told about one of these. */
export const about =
  (...kinds: Notice['about'][]): Shows =>
  (notice) =>
    kinds.includes(notice.about);

/** What was heard and noted of a production's files. */
export const heardOf =
  (id: string): Shows =>
  (notice) =>
    notice.about === 'listening' && notice.production === id;

/** What was heard and noted of a recording's files. */
export const notedOf =
  (id: string): Shows =>
  (notice) =>
    notice.about === 'listening' && notice.recording === id;

/** A recording's draft, as its figures are turned. */
export const draftOf =
  (id: string): Shows =>
  (notice) =>
    notice.about === 'draft' && notice.id === id;

/** What is set for a file, which names its recording in the answer. */
export const itsRecording: Shows = ({ recording }, data) =>
  Boolean(recording) && (data as { recording?: string } | null)?.recording === recording;

/** What no change makes old: a text that ships, a picture of something that never changes. */
export const fixed: Shows = () => false;
