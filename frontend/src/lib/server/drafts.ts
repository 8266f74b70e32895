// What is asked about the treatment that is drafted for a recording, and how it is changed.
import { keepPreviousData } from '@tanstack/svelte-query';
import { acts, api, got, type DraftStep, type DraftView, type Finish, type Preference, type Treatment } from '../api';
import { about, draftOf, either, question, thing } from '../question';
import { turnOf } from '../sounding';

const of = (recording_id: string) => ({ recording_id });
/** What is shown of a recording by the specification of its production. */
const held = (id: string) => either(thing(id), about('production'));

/** The draft as `read` takes it. */
export const draft = <T>(id: string, read: () => Promise<T>) =>
  question(['draft', id], either(draftOf(id), held(id)), read);
export const read = (id: string) => got(api.GET('/api/recordings/{recording_id}/draft', { params: { path: of(id) } }));

/** The steps that can be added. A tone match is offered with the tone of the recordings beside it. */
export const steps = (id: string) =>
  question(['steps', id], either(held(id), about('inspect')), () =>
    got(api.GET('/api/recordings/{recording_id}/steps', { params: { path: of(id) } })),
  );

/** What a state of the draft is expected to bring. */
export const foretold = (id: string, version: number | undefined, number: number) => ({
  ...question(['foretold', id, version, number], held(id), (signal) => {
    const params = { path: of(id), query: { number, turn: turnOf(id, number) } };
    return got(api.GET('/api/recordings/{recording_id}/draft/foretold', { params, signal }));
  }),
  retry: false,
  placeholderData: keepPreviousData,
});

/** The pictures of one step in a state of the draft; told apart by the step they are of. */
export const pictures = (id: string, step: string, number: number) => ({
  ...question(['picture', id, step, number], held(id), async (signal) => {
    const params = { path: { ...of(id), step }, query: { number, turn: turnOf(id, number) } };
    const drawn = await got(api.GET('/api/recordings/{recording_id}/draft/pictures/{step}', { params, signal }));
    return { of: step, drawn };
  }),
  retry: false,
  placeholderData: keepPreviousData,
});

/** What can be done to a span alone. */
export const spots = (
  id: string,
  { span, query }: { span: { from: number; to: number } | undefined; query: { start_s: number; end_s: number } },
) => ({
  ...question(['spots', id, span?.from, span?.to], held(id), () =>
    got(api.GET('/api/recordings/{recording_id}/spots', { params: { path: of(id), query } })),
  ),
  retry: false,
});

/** What of the draft is good for other recordings. */
export const general = (id: string, number: number | undefined, finish: Finish) => ({
  ...question(['general', id, number, finish], held(id), () =>
    got(api.GET('/api/recordings/{recording_id}/draft/general', { params: { path: of(id), query: { finish } } })),
  ),
  placeholderData: keepPreviousData,
  retry: false,
});

/** Two versions side by side, by their numbers. */
export const versions = (id: string, one: number, other: number) => ({
  ...question(['versions', id, one, other], held(id), () =>
    got(
      api.GET('/api/recordings/{recording_id}/versions/{one}/{other}', { params: { path: { ...of(id), one, other } } }),
    ),
  ),
  retry: false,
});

// Each change says which state it follows, and is answered with the next one.
type Next = Promise<DraftView>;
export const change = (id: string, follows: number, steps: DraftStep[]): Next =>
  got(acts.PUT('/api/recordings/{recording_id}/draft', { params: { path: of(id) }, body: { steps, follows } }));
export const undo = (id: string, follows: number): Next =>
  got(acts.POST('/api/recordings/{recording_id}/draft/undo', { params: { path: of(id), query: { follows } } }));
export const redo = (id: string, follows: number): Next =>
  got(acts.POST('/api/recordings/{recording_id}/draft/redo', { params: { path: of(id), query: { follows } } }));
export const choosePlan = (id: string, follows: number, preference: Preference): Next => {
  const params = { path: { ...of(id), preference }, query: { follows } };
  return got(acts.POST('/api/recordings/{recording_id}/draft/plan/{preference}', { params }));
};
export const chooseKept = (id: string, follows: number, identifier: string, reference: boolean): Next => {
  const params = { path: { ...of(id), identifier }, query: { follows, reference } };
  return got(acts.POST('/api/recordings/{recording_id}/draft/kept/{identifier}', { params }));
};
/** Bring one voice to the other, or both to another recording. */
export const matchVoices = (
  id: string,
  follows: number,
  wanted: { toward: number; tone: boolean; like: string | null },
): Next => {
  const body = { ...wanted, follows };
  return got(acts.POST('/api/recordings/{recording_id}/turns/match', { params: { path: of(id) }, body }));
};
export const take = (id: string, follows: number, treatment: Treatment): Next => {
  const body = { treatment, follows };
  return got(acts.POST('/api/recordings/{recording_id}/draft/take', { params: { path: of(id) }, body }));
};

interface Saved {
  name: string;
  description: string;
  finish: Finish;
  reference: boolean;
  /** The treatment whose next version it becomes; a new one where none is named. */
  identifier: string | null;
  follows: number;
}
export const save = (id: string, body: Saved) =>
  got(acts.POST('/api/recordings/{recording_id}/draft/save', { params: { path: of(id) }, body }));
