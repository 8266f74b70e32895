// What is known of the recording on the bench: itself, what was made of it, the draft, and what the draft is expected to bring.
import { createQuery } from '@tanstack/svelte-query';
import { untrack } from 'svelte';
import { Acting } from './acting.svelte';
import type { Conforming, EditWish, RecordingDetail, SplitAt, Turn } from './api';
import { versionName } from './attempts';
import type { Sound } from './levels';
import type { Place } from './places';
import * as beds from './server/beds';
import * as drafts from './server/drafts';
import * as editing from './server/editing';
import * as recordings from './server/recordings';
import { ofBed, ofDraft, ofFile, type Track } from './sounding';
import { Treating } from './treating.svelte';
import { underWay } from './works';

type Side = 'source' | 'treated';
interface Heard {
  source: Track;
  treated?: Track;
  names?: Record<Side, string>;
}

const named = (places: Place[], kind: string) => places.map(({ start_s, end_s }) => ({ kind, start_s, end_s }));

/** Two versions to be compared, by their numbers; 0 is the recording itself. */
export interface Pair {
  one: number;
  other: number;
}

/** Made while the component that holds it begins, as its queries belong to that. */
export function benchOf(asked: () => string, pair: () => Pair | undefined, bedded: () => boolean) {
  const acting = new Acting();
  const id = $derived(asked()); // the same string while only the sections of the address change
  const treating = $derived(new Treating(id));
  const query = createQuery(() => recordings.one(id));
  // After an edit the recording stays in sight as it was, until it is measured as it is now.
  let measured = $state.raw<RecordingDetail>();
  $effect(() => {
    if (query.data?.inspection) measured = query.data;
  });
  const settling = $derived(
    query.data && !query.data.inspection && measured?.id === id && underWay(query.data.work) ? measured : undefined,
  );
  const recording = $derived(settling ?? query.data);
  const inspected = $derived(Boolean(recording?.inspection) && !settling);

  // What was made or chosen last for the specification of now, else the file that counts; what brought nothing takes nothing away.
  const done = $derived.by(() => {
    const since = (attempt: Conforming) => attempt.chosen_at ?? attempt.created_at;
    const made =
      recording?.conformings.filter((attempt) => attempt.sha256 && !attempt.cleared_at && attempt.as_edited) ?? [];
    const [last] = made.filter((one) => one.current).sort((one, other) => since(other).localeCompare(since(one)));
    return last ?? made.find((one) => one.id === recording?.delivered?.id);
  });
  const compared = $derived(pair());
  /** The version that a side stands for; undefined where that is the recording itself. */
  const versionAt = (side: Side): Conforming | undefined => {
    if (!compared) return side === 'treated' ? done : undefined;
    const number = side === 'treated' ? compared.other : compared.one;
    return recording?.conformings.find((attempt) => attempt.number === number && attempt.sha256);
  };
  // Plans are worked out as soon as a recording that needs them is looked at.
  const unplanned = $derived(inspected && !recording?.planning && !recording?.older_methods && !done ? id : undefined);
  $effect(() => {
    if (unplanned) void acting.plan(unplanned);
  });

  const bed = createQuery(() => ({ ...beds.bed(id), enabled: inspected }));

  const drafted = createQuery(() => ({ ...drafts.draft(id, () => treating.read()), enabled: inspected }));
  $effect(() => {
    const found = drafted.data;
    untrack(() => treating.told(found));
  });
  const offered = createQuery(() => ({ ...drafts.steps(id), enabled: inspected }));

  // What is drafted and not yet what was made is what "treated" means; what it is expected to bring is asked for with every change.
  const drafting = $derived(
    !compared &&
      treating.steps.some((one) => one.on) &&
      done?.draft !== treating.view?.number &&
      (treating.view?.number ?? 0) > 0,
  );
  const ready = $derived(drafting && Boolean(treating.view?.ready));
  const foretold = createQuery(() => ({
    ...drafts.foretold(id, recording?.specification.version, treating.view?.number ?? 0),
    enabled: ready,
  }));
  const expected = $derived(ready ? foretold.data : undefined);
  const expectedLimits = $derived(expected?.lines.at(-1)?.limits);
  let heardUpto = $state<string>();
  const loudness = $derived.by(() => {
    const place = treating.steps.filter((one) => one.on).findIndex((one) => one.id === heardUpto);
    const line = place < 0 ? undefined : expected?.lines.filter(({ kind }) => kind !== 'bed')[place + 1];
    return (line ? line.readings.integrated_loudness_lufs : expected?.loudness_lufs) ?? null;
  });

  const spoken = createQuery(() => ({
    ...recordings.turns(id, recording?.inspection?.methods_version, recording?.known_as),
    enabled: inspected,
  }));
  const tracks = createQuery(() => ({ ...recordings.tracks(id, recording?.known_as), enabled: inspected }));
  const made = (side: Side) => createQuery(() => recordings.version(versionAt(side)?.id));
  const drawn = { source: made('source'), treated: made('treated') };
  /** How much later the same word comes in a version than in the recording, in seconds. */
  const offsetOf = (version: Conforming) => {
    if (!version.steps.some((step) => step.kind === 'head-and-tail')) return 0;
    const before = recording?.inspection?.readings.head_s?.value ?? 0;
    return (version.result?.head_s ?? before) - before;
  };

  /** What is heard of a version, or of the recording itself. */
  const trackOf = (version: Conforming | undefined): Track | undefined => {
    const it = recording?.inspection;
    if (!it) return undefined;
    const { sample_rate_hz: rate, duration_s: duration, frames } = it.facts;
    if (!version) {
      const loudness = it.readings.integrated_loudness_lufs?.value ?? null;
      const as = recording?.known_as;
      return ofFile(`/api/recordings/${id}/sound`, { rate, frames, offset: 0, loudness, duration, as });
    }
    if (!version.result || version.cleared_at) return undefined;
    const of = { rate: version.result.sample_rate_hz, frames: version.result.frames, offset: offsetOf(version) };
    const loudness = version.result.integrated_loudness_lufs;
    return ofFile(`/api/conformings/${version.id}/sound`, { ...of, loudness, duration });
  };
  const heard = $derived.by((): Heard | undefined => {
    const source = trackOf(versionAt('source'));
    if (!source || settling) return undefined;
    if (compared)
      return {
        source,
        treated: trackOf(versionAt('treated')),
        names: { source: versionName(compared.one), treated: versionName(compared.other) },
      };
    const { sample_rate_hz: rate = 44_100, duration_s: duration = 0 } = recording?.inspection?.facts ?? {};
    if (drafting) {
      const number = treating.view?.number ?? 0;
      return {
        source,
        treated: ofDraft(id, number, { rate, duration, loudness, upto: heardUpto, as: recording?.known_as }),
      };
    }
    // While the bed is looked at it is heard, unless a file has it already.
    const under = bed.data;
    if (bedded() && under?.bed.clips?.length && !under.made_by) {
      const alone = recording?.inspection?.readings.integrated_loudness_lufs?.value;
      const louder = under.planned?.mix.difference_lu;
      const mixed = typeof alone === 'number' && typeof louder === 'number' ? alone - louder : null;
      const of = { rate, duration, loudness: mixed, as: recording?.known_as };
      return { source, treated: ofBed(id, under.state, of), names: { source: 'original', treated: 'with the bed' } };
    }
    return { source, treated: done && trackOf(done) };
  });

  const edited = createQuery(() => ({ ...editing.edits(id), enabled: Boolean(recording?.inspection) }));
  const marked = createQuery(() => ({ ...editing.chapters(id, recording?.known_as), enabled: inspected }));
  /** Edit once more what is shown; whether that was done. */
  const edit = async (ask: (follows: number) => Promise<unknown>) => {
    const follows = edited.data?.number;
    return follows !== undefined && Boolean(await acting.attempt(() => ask(follows), { once: `edit ${id}` }));
  };

  return {
    acting,
    query,
    /** What it sounds like now is being measured: what is shown is how it was before the last edit. */
    get settling() {
      return settling && query.data?.work;
    },
    /** The edits, once they are known. */
    get edits() {
      return edited.data;
    },
    /** What lies under the voice, once that is known. */
    get bed() {
      return bed.data;
    },
    edit: (wish: EditWish) => edit((follows) => editing.change(id, follows, wish)),
    /** A retake for a stretch: prepared by a worker, it is an edit then. */
    retake: (file: File, span: { start_s: number; end_s: number }) =>
      acting.attempt(() => editing.retake(id, file, span)),
    splitAt: (at: SplitAt[]) => edit((follows) => editing.split(id, follows, at)),
    joinNext: () => edit((follows) => editing.join(id, follows)),
    undoEdit: () => edit((follows) => editing.undo(id, follows)),
    redoEdit: () => edit((follows) => editing.redo(id, follows)),
    /** Where chapters begin, as far as what is shown is what there is now. */
    get chapters() {
      return settling ? [] : (marked.data ?? []);
    },
    addChapter: (at: number, title: string) =>
      acting.attempt(() => editing.addChapter(id, at, title), { once: `chapter ${id} ${at}` }),
    changeChapter: (chapter: string, to: { at_s?: number; title?: string }) =>
      acting.attempt(() => editing.changeChapter(chapter, to)),
    removeChapter: (chapter: string) => acting.attempt(() => editing.removeChapter(chapter)),
    get treating() {
      return treating;
    },
    get recording() {
      return recording;
    },
    get done() {
      return done;
    },
    /** Whether plans are about to be worked out. */
    get awaitsPlans() {
      return unplanned !== undefined;
    },
    /** The steps that can be added. */
    get groups() {
      return offered.data ?? [];
    },
    get drafting() {
      return drafting;
    },
    /** What the draft is expected to bring, once that is worked out. */
    get expected() {
      return expected;
    },
    get expectedLimits() {
      return expectedLimits;
    },
    /** The step after which the treated sound is heard; the last where none is named. */
    get heardUpto() {
      return heardUpto;
    },
    set heardUpto(step: string | undefined) {
      heardUpto = step;
    },
    /** What is heard: the source, and what is drafted or else was made. */
    get heard() {
      return heard;
    },
    /** Which two versions are compared. */
    get compared() {
      return compared;
    },
    versionAt,
    /** The gain that was moved in the version a side stands for. */
    reductionOf: (side: Side) => versionAt(side) && drawn[side].data?.reduction,
    tracksOf: (side: Side) => (versionAt(side) ? drawn[side].data?.tracks : tracks.data),
    /** What is drawn of a side. */
    soundOf(side: Side): Sound {
      const version = versionAt(side);
      if (version?.result) {
        const { sample_rate_hz: rate, frames } = version.result;
        return { address: `/api/conformings/${version.id}`, rate, duration: frames / rate, offset: offsetOf(version) };
      }
      const facts = recording?.inspection?.facts;
      const [rate, duration] = [facts?.sample_rate_hz ?? 44_100, facts?.duration_s ?? 0];
      return { address: `/api/recordings/${id}`, as: recording?.known_as, rate, duration, offset: 0 };
    },
    accept: (places: Place[], kind: string, reason: string) =>
      acting.attempt(() => recordings.accept(id, named(places, kind), reason)),
    takeBack: (places: Place[], kind: string) => acting.attempt(() => recordings.takeBack(id, named(places, kind))),
    /** Who speaks when, once that is known. */
    get turns() {
      return spoken.data;
    },
    /** Say who speaks when, or leave it to be found again. */
    correctTurns: (turns: Turn[] | null) => acting.attempt(() => recordings.correctTurns(id, turns)),
    /** Say which span is room tone, or leave it to be found again. */
    chooseRoomTone: (span: { start_s: number; end_s: number } | null) =>
      acting.attempt(() => recordings.chooseRoomTone(id, span)),
    useAgain: () => acting.attempt(() => recordings.useAgain(id)),
  };
}
