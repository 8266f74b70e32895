// The one door to the server, typed from its own description.
import createClient from 'openapi-fetch';
import type { components, paths } from './api-types';
import { ACT, answered, askWho, newAct, unanswered } from './changes';

export type SheetView = components['schemas']['SheetView'];
export type SheetEntry = components['schemas']['SheetEntry'];
export type StatusCount = components['schemas']['StatusCount'];
export type Status = SheetEntry['status'];
export type ProductionSummary = components['schemas']['ProductionSummary'];
export type Recording = components['schemas']['RecordingView'];
export type RecordingDetail = components['schemas']['RecordingDetail'];
export type Conforming = components['schemas']['ConformingView'];
export type LimitVerdict = components['schemas']['LimitVerdict'];
export type Limit = components['schemas']['Limit'];
export type Specification = components['schemas']['Specification'];
export type Spread = components['schemas']['Spread'];
export type UnfinishedTake = components['schemas']['UnfinishedTake'];
export type Unfinished = components['schemas']['UnfinishedUpload'];
export type SpecificationView = components['schemas']['SpecificationView'];
export type LimitSentence = components['schemas']['LimitSentence'];
export type Objection = components['schemas']['Objection'];
export type Verifying = components['schemas']['VerifyingView'];
export type Work = components['schemas']['WorkView'];
export type GainWindow = components['schemas']['GainWindow'];
export type Ribbon = components['schemas']['RibbonView'];
export type Finding = components['schemas']['FindingView'];
export type Breach = components['schemas']['Breach'];
export type Reading = components['schemas']['Reading'];
export type Inspection = components['schemas']['Inspection'];
export type Pause = components['schemas']['Pause'];
export type Method = components['schemas']['Method'];
export type Explained = components['schemas']['Explained'];
export type Format = components['schemas']['FormatView'];
export type Facts = components['schemas']['FileFacts'];
export type ConformRequest = components['schemas']['ConformRequest'];
export type RunRequest = components['schemas']['RunRequest'];
export type Version = components['schemas']['VersionView'];
export type VersionPair = components['schemas']['Pair'];
export type Chapter = components['schemas']['ChapterView'];
export type ChapterMark = components['schemas']['ChapterMark'];
export type Compared = components['schemas']['Compared'];
export type Curve = components['schemas']['Curve'];
/** How the stand-in for a reader sits, and what surrounds it. */
export interface StandInSetting {
  seed?: number;
  distance_cm?: number;
  input_db?: number;
  room_dbfs?: number;
  hum_dbfs?: number | null;
  hum_hz?: number;
  decay_s?: number;
}
export type BedView = components['schemas']['BedView'];
export type BedSound = components['schemas']['BedSoundView'];
export type Mix = components['schemas']['Mix'];
export type SplitAt = components['schemas']['SplitAt'];
export type TakeCheck = components['schemas']['TakeCheckView'];
export type Task = components['schemas']['TaskView'];
export type EditView = components['schemas']['EditView'];
export type EditsView = components['schemas']['EditsView'];
export type Repeat = components['schemas']['Repeat'];
export type EditWish = components['schemas']['EditRequest']['wish'];
export type Turn = components['schemas']['Turn'];
export type TurnsView = components['schemas']['TurnsView'];
export type DiskUse = components['schemas']['DiskUse'];
export type Preference = NonNullable<ConformRequest['preference']>;
export type Defaults = components['schemas']['Defaults'];
export type DraftView = components['schemas']['DraftView'];
export type DraftStep = components['schemas']['DraftStep'];
/** A step as the server tells it: with its name, always. */
export type ReadStep = components['schemas']['ReadStep'] & { id: string };
export type StepSetting = components['schemas']['Setting'];
export type StepPiece = components['schemas']['StepPiece'];
export type StepGroup = components['schemas']['StepGroup'];
export type OfferedStep = components['schemas']['OfferedStep'];
export type Treatment = components['schemas']['Treatment'];
export type Foretold = components['schemas']['Foretold'];
export type SpotOffer = components['schemas']['SpotOffer'];
export type StepPicture = components['schemas']['Picture'];
export type PictureMark = components['schemas']['Mark'];
export type PlanView = components['schemas']['PlanView'];
export type Planning = components['schemas']['PlanningView'];
export type Change = components['schemas']['Change'];
export type TreatmentSummary = components['schemas']['TreatmentSummary'];
export type TreatmentView = components['schemas']['TreatmentView'];
export type KeptTreatment = components['schemas']['KeptTreatment'];
export type Finish = TreatmentSummary['finish'];
export type AskedEach = components['schemas']['AskedEach'];
export type ConformEach = components['schemas']['ConformEach'];
export type Lot = components['schemas']['LotView'];
export type Forecast = components['schemas']['Forecast'];
export type ForecastRow = components['schemas']['ForecastRow'];
export type Bounds = components['schemas']['Bounds'];
export type WantedApproach = components['schemas']['WantedApproach'];
export type Delivery = components['schemas']['DeliveryView'];
export type DeliveryRow = components['schemas']['DeliveryRow'];
export type DeliveryNote = components['schemas']['DeliveryNote'];
export type Entry = components['schemas']['Entry'];
export type FormatChoice = components['schemas']['FormatChoice'];
export type Effect = components['schemas']['Effect'];
export type ListenView = components['schemas']['ListenView'];
export type NoteView = components['schemas']['NoteView'];
export type DeskAnswer = components['schemas']['DeskAnswer'];
export type CertificateRow = components['schemas']['CertificateRow'];
export type CertificateView = components['schemas']['CertificateView'];
export type KeyView = components['schemas']['KeyView'];
export type Deed = components['schemas']['Deed'];
export type Removed = components['schemas']['Removed'];
export type FoundRecording = components['schemas']['FoundRecording'];
export type ImportView = components['schemas']['ImportView'];
export type WorkKind = components['schemas']['WorkKind'];
export type AccessView = components['schemas']['AccessView'];
export type Me = components['schemas']['Me'];
export type Right = Me['rights'][number];
export type Role = Me['roles'][number];
export type PersonView = components['schemas']['PersonView'];
export type WatchedFolder = components['schemas']['WatchedFolderView'];
export type WatchFolder = components['schemas']['WatchFolder'];
export type Webhook = components['schemas']['WebhookView'];
export type Invited = components['schemas']['Invited'];
export type NoteKind = NoteView['kind'];
export type Notice = components['schemas']['Notice'];
type Failed = components['schemas']['Failed'];

/** Asks: nothing that is shown elsewhere changes by it. */
export const api = createClient<paths>({ baseUrl: '/' });
/** Changes something: the answer says what, and whatever shows that is asked for again. */
export const acts = createClient<paths>({ baseUrl: '/' });

const NO_WORDS = 'The server returned an unexpected answer. Try again in a moment.';

/** The server's own sentence in the body of an answer that is none, whatever that body is. */
export function said(body: string): string {
  try {
    const found = JSON.parse(body) as Partial<Failed> | null;
    return typeof found?.error === 'string' ? found.error : NO_WORDS;
  } catch {
    return NO_WORDS;
  }
}

export type Act = Failed['act'];

/** What was refused, in a sentence, and what can be done about it. */
export class Refused extends Error {
  constructor(
    said: string,
    readonly act?: Act,
  ) {
    super(said);
  }
}

const away = (error: unknown) =>
  (error as Error).name === 'AbortError'
    ? undefined
    : new Refused('The server did not answer. Check that Ispettore is running, then try again.', 'again');

api.use({ onError: ({ error }) => away(error) });
acts.use({
  onRequest: ({ request }) => request.headers.set(ACT, newAct()),
  onResponse: ({ response }) => answered(response),
  onError({ request, error }) {
    unanswered(request.headers.get(ACT) ?? '');
    return away(error);
  },
});

/** An act that the description does not list: uploads go by their own open protocol. */
export async function send(address: string, how: RequestInit): Promise<void> {
  const name = newAct();
  const headers = { ...how.headers, [ACT]: name };
  const response = await fetch(address, { ...how, headers }).catch((error: unknown) => {
    unanswered(name);
    throw away(error) ?? error;
  });
  answered(response);
  if (!response.ok) throw new Refused(said(await response.text()));
}

/** What the server answers, or an error with its own sentence. */
export async function got<T>(asked: Promise<{ data?: T; error?: Failed; response: Response }>): Promise<T> {
  const { data, error, response } = await asked;
  if (response.ok) return data as T;
  // A session that ended: the page asks who it is for, and shows the way in.
  if (response.status === 401) askWho();
  throw error?.error ? new Refused(error.error, error.act) : new Refused(NO_WORDS, 'again');
}
