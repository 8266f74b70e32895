// What is asked about recordings, and what is done to them.
import {
  acts,
  api,
  got,
  type AskedEach,
  type ConformEach,
  type ConformRequest,
  type NoteKind,
  type RecordingDetail,
  type RunRequest,
  type Turn,
} from '../api';
import { keepPreviousData } from '@tanstack/svelte-query';
import { either, itsProduction, itsRecording, productionItself, question, thing } from '../question';
import { reductionOf } from '../reduction';
import type { Rows } from '../rows';
import { tracksOf } from '../tracks';

const of = (recording_id: string) => ({ params: { path: { recording_id } } });

/** All that is known of one. */
export const one = (id: string) =>
  question(
    ['recording', id],
    either(thing(id), itsProduction),
    () => got(api.GET('/api/recordings/{recording_id}', of(id))) as Promise<RecordingDetail>,
  );

/** Its row on the sheet; null where it is not in its production any more. */
export const row = (id: string, production: string, rows: Rows) =>
  question(['row', id], either(thing(id), productionItself(production)), () => rows.load(production, id));

/** Who speaks when. */
export const turns = (id: string, methods: number | undefined, knownAs: string | undefined) => ({
  ...question(['turns', id, methods, knownAs], thing(id), () =>
    got(api.GET('/api/recordings/{recording_id}/turns', of(id))),
  ),
  retry: false,
});

/** How peaks and loudness run through it. */
export const tracks = (id: string, knownAs: string | undefined) =>
  question(['tracks', id, knownAs], thing(id), () => tracksOf(`/api/recordings/${id}`, knownAs));

/** How peaks and loudness run through a version, and the gain that was moved for it. */
export const version = (id: string | undefined) => ({
  ...question(['treated', id], thing(id), async () => ({
    tracks: await tracksOf(`/api/conformings/${id}`),
    reduction: await reductionOf(id ?? ''),
  })),
  enabled: id !== undefined,
});

/** A span of it, and what is asked of that while it rests. */
interface Resting {
  span: { from: number; to: number } | undefined;
  query: { start_s: number; end_s: number };
}

/** What a span reads. */
export const span = (id: string, { span, query }: Resting) => ({
  ...question(['span', id, span?.from, span?.to], thing(id), () =>
    got(api.GET('/api/recordings/{recording_id}/span', { params: { ...of(id).params, query } })),
  ),
  retry: false,
  placeholderData: keepPreviousData,
});

/** What would change if a span were the room tone. */
export const roomTone = (id: string, byHand: boolean, { span, query }: Resting) => ({
  ...question(['room-tone', id, byHand, span?.from, span?.to], thing(id), () =>
    got(api.GET('/api/recordings/{recording_id}/room-tone', { params: { ...of(id).params, query } })),
  ),
  enabled: span !== undefined,
  retry: false,
});

/** A file to listen through, with its notes. */
export const listening = (of: 'recording' | 'attempt' | 'deliverable', subject: string) => ({
  ...question(['listen', of, subject], either(thing(subject), itsRecording), () =>
    got(api.GET('/api/listen/{of}/{subject}', { params: { path: { of, subject } } })),
  ),
  placeholderData: keepPreviousData,
});

export const rename = (id: string, name: string) =>
  got(acts.PATCH('/api/recordings/{recording_id}', { ...of(id), body: { name } }));
export const remove = (recordings: string[]) => got(acts.POST('/api/recordings/remove', { body: { recordings } }));
export const restore = (recordings: string[]) => got(acts.POST('/api/recordings/restore', { body: { recordings } }));

export const measure = (id: string) => got(acts.POST('/api/recordings/{recording_id}/inspect', of(id)));
export const conform = (id: string, body: ConformRequest) =>
  got(acts.POST('/api/recordings/{recording_id}/conform', { ...of(id), body }));
export const runDraft = (id: string, body: RunRequest) =>
  got(acts.POST('/api/recordings/{recording_id}/draft/run', { ...of(id), body }));
export const plan = (id: string) => got(acts.POST('/api/recordings/{recording_id}/plans', of(id)));
export const planWithKept = (id: string, identifier: string, reference: boolean) =>
  got(
    acts.POST('/api/recordings/{recording_id}/plans/kept/{identifier}', {
      params: { path: { recording_id: id, identifier }, query: { reference } },
    }),
  );

/** Cancel one piece of work. */
export const cancelWork = (work_id: string) =>
  got(acts.POST('/api/works/{work_id}/cancel', { params: { path: { work_id } } }));

// Of several recordings at once: what came of each.
export const conformEach = (body: ConformEach): Promise<AskedEach> =>
  got(acts.POST('/api/recordings/conform', { body }));
export const measureEach = (recordings: string[]): Promise<AskedEach> =>
  got(acts.POST('/api/recordings/inspect', { body: { recordings } }));
export const cancelEach = (recordings: string[]) => got(acts.POST('/api/recordings/cancel', { body: { recordings } }));
export const handOverEach = (recordings: string[], delivered: boolean): Promise<AskedEach> =>
  got(acts.POST('/api/recordings/hand-over', { body: { recordings, delivered } }));

interface Accepted {
  kind: string;
  start_s: number;
  end_s: number;
}
/** Say why findings may stand. */
export const accept = (id: string, findings: Accepted[], reason: string) =>
  got(acts.PUT('/api/recordings/{recording_id}/accepted', { ...of(id), body: { findings, reason } }));
export const takeBack = (id: string, findings: Accepted[]) =>
  got(acts.POST('/api/recordings/{recording_id}/accepted/take-back', { ...of(id), body: { findings } }));

/** Say who speaks when, or leave it to be found again. */
export const correctTurns = (id: string, turns: Turn[] | null) =>
  turns
    ? got(acts.PUT('/api/recordings/{recording_id}/turns', { ...of(id), body: { turns } }))
    : got(acts.DELETE('/api/recordings/{recording_id}/turns', of(id)));

/** Say which span is room tone, or leave it to be found again. */
export const chooseRoomTone = (id: string, span: { start_s: number; end_s: number } | null) =>
  span
    ? got(acts.PUT('/api/recordings/{recording_id}/room-tone', { ...of(id), body: span }))
    : got(acts.DELETE('/api/recordings/{recording_id}/room-tone', of(id)));

/** Have the recording itself count again, and no version. */
export const useAgain = (id: string) => got(acts.POST('/api/recordings/{recording_id}/use-again', of(id)));
export const makeCurrent = (conforming_id: string) =>
  got(acts.POST('/api/conformings/{conforming_id}/current', { params: { path: { conforming_id } } }));

/** Cut the sample that shops play. */
export const cutSample = (
  id: string,
  body: { start_s: number; end_s: number; fade_in_s: number; fade_out_s: number },
) => got(acts.POST('/api/recordings/{recording_id}/sample', { ...of(id), body }));

export const addNote = (
  of: 'recording' | 'attempt' | 'deliverable',
  subject: string,
  body: { at_s: number; kind: NoteKind; text: string; who: string },
) => got(acts.POST('/api/listen/{of}/{subject}/notes', { params: { path: { of, subject } }, body }));
export const changeNote = (
  note_id: string,
  body: { kind?: NoteKind; text?: string; done?: boolean; removed?: boolean },
) => got(acts.PATCH('/api/notes/{note_id}', { params: { path: { note_id } }, body }));

/** Which of two is heard first in each round of a blind comparison. */
export const drawRounds = (rounds: number) => got(api.POST('/api/blind/draw', { params: { query: { rounds } } }));
/** What the preferences of all rounds say. */
export const judgeRounds = (query: { rounds: number; treated: number; first?: string; second?: string }) =>
  got(api.POST('/api/blind/outcome', { params: { query } }));
