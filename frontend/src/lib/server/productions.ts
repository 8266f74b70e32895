// What is asked about productions, and what is done to them.
import { keepPreviousData } from '@tanstack/svelte-query';
import {
  acts,
  api,
  got,
  type Deed,
  type Entry,
  type Forecast,
  type FormatChoice,
  type Recording,
  type SheetView,
  type WantedApproach,
} from '../api';
import { about, anyProduction, either, heardOf, production, productionItself, question } from '../question';

const of = (production_id: string) => ({ params: { path: { production_id } } });

export const all = () =>
  question(['productions'], either(anyProduction, about('import', 'demo')), () => got(api.GET('/api/productions')));

/** The inspection sheet, in the production's own order or sorted by a column. */
export const sheet = (id: string, by = '', down = false) => ({
  ...question(['sheet', id, by, down], production(id), () =>
    got(api.GET('/api/productions/{production_id}/sheet', { params: { ...of(id).params, query: { by, down } } })),
  ),
  placeholderData: (before: SheetView | undefined) => (before?.id === id ? before : undefined),
});

/** Rows of a sheet in full. */
export const rows = (id: string, recordings: string[]) =>
  got(api.POST('/api/productions/{production_id}/rows', { ...of(id), body: { recordings } })) as Promise<Recording[]>;

export const forecast = (id: string, body: WantedApproach) => ({
  ...question(
    ['forecast', id, body],
    either(production(id), about('treatment')),
    () => got(api.POST('/api/productions/{production_id}/forecast', { ...of(id), body })) as Promise<Forecast>,
  ),
  placeholderData: keepPreviousData,
  retry: false,
});

export const disk = (id: string) =>
  question(['disk', id], production(id), () => got(api.GET('/api/productions/{production_id}/disk', of(id))));

/** What its take checks came to, the newest first. */
export const takeChecks = (id: string) =>
  question(['take-checks', id], productionItself(id), () =>
    got(api.GET('/api/productions/{production_id}/take-checks', of(id))),
  );

/** How alike the recordings are, or what was made of them. */
export const consistency = (id: string, made: boolean) => ({
  ...question(['consistency', id, made], production(id), () =>
    got(api.GET('/api/productions/{production_id}/consistency', { params: { ...of(id).params, query: { made } } })),
  ),
  placeholderData: keepPreviousData,
});

export const delivery = (id: string) =>
  question(['delivery', id], either(production(id), heardOf(id)), () =>
    got(api.GET('/api/productions/{production_id}/delivery', of(id))),
  );

/** The production's certificate, or what is missing for it. */
export const certified = (id: string) =>
  question(['certified', id], either(production(id), heardOf(id)), () =>
    got(api.GET('/api/productions/{production_id}/certificate', of(id))),
  );

/** What was done when, the newest first. */
export const record = (id: string, { recording, topic, count }: RecordAsked) => ({
  ...question(['record', id, recording, topic, count], either(production(id), heardOf(id)), () => {
    const query = { ...(recording ? { recording } : {}), ...(topic ? { topic } : {}), count };
    return got(api.GET('/api/productions/{production_id}/record', { params: { ...of(id).params, query } }));
  }),
  placeholderData: keepPreviousData,
});
interface RecordAsked {
  recording: string;
  topic: Deed['topic'] | '';
  count: number;
}

export const archive = (id: string) =>
  question(['archive', id], either(production(id), heardOf(id)), () =>
    got(api.GET('/api/productions/{production_id}/archive', of(id))),
  );

/** Recordings of all productions whose names hold all of these words. */
export const found = (words: string) =>
  question(['found', words], anyProduction, () =>
    got(api.GET('/api/recordings', { params: { query: { words: words.slice(0, 200) } } })),
  );

/** What was removed and can be restored. */
export const removed = () =>
  question(['removed'], either(anyProduction, about('specification', 'treatment')), () => got(api.GET('/api/removed')));

/** Erase what was removed; how much came free. */
export const erase = (items: { kind: 'production' | 'recording'; id: string }[]) =>
  got(acts.POST('/api/removed/erase', { body: { items } }));

/** Uploads that could not be taken in. */
export const setAside = () =>
  question(['set-aside'], either(anyProduction, about('uploads')), () => got(api.GET('/api/uploads/set-aside')));

export const discardSetAside = (upload_id: string) =>
  got(acts.DELETE('/api/uploads/set-aside/{upload_id}', { params: { path: { upload_id } } }));

export const create = (body: { name: string; specification_id: string; id: string }) =>
  got(acts.POST('/api/productions', { body }));

/** Name, notes, specification, whether it is hidden, the recording that the others are brought to. */
export interface Changed {
  specification_id?: string;
  specification_version?: number;
  name?: string;
  notes?: string;
  archived?: boolean;
  reference?: string;
}
export const change = (id: string, body: Changed) =>
  got(acts.PATCH('/api/productions/{production_id}', { ...of(id), body }));

export const remove = (id: string) => got(acts.POST('/api/productions/{production_id}/remove', of(id)));
export const restore = (id: string) => got(acts.POST('/api/productions/{production_id}/restore', of(id)));

/** Cancel all that waits or runs for it. */
export const cancel = (id: string) => got(acts.POST('/api/productions/{production_id}/cancel', of(id)));

export const order = (id: string, recordings: string[]) =>
  got(acts.PUT('/api/productions/{production_id}/order', { ...of(id), body: { recordings } }));
export const orderByName = (id: string) => got(acts.POST('/api/productions/{production_id}/order-by-name', of(id)));
/** The recordings in the production's own order. */
export const orderNow = async (id: string) =>
  (await got(api.GET('/api/productions/{production_id}/sheet', of(id)))).entries.map((entry) => entry.id);

export const conform = (id: string, body: WantedApproach) =>
  got(acts.POST('/api/productions/{production_id}/conform', { ...of(id), body }));
/** Plan once more what could not be planned. */
export const planAgain = (id: string, body: WantedApproach) =>
  got(acts.POST('/api/productions/{production_id}/forecast', { ...of(id), body: { ...body, again: true } }));

/** Remove masters that no certificate rests on. */
export const clear = (id: string) => got(acts.POST('/api/productions/{production_id}/clear', of(id)));

export const certify = (id: string) =>
  got(acts.POST('/api/productions/{production_id}/certificate', { ...of(id), body: { reason: '' } }));

export const makeArchive = (id: string) => got(acts.POST('/api/productions/{production_id}/archive', of(id)));

export type Label = 'album' | 'author' | 'narrator' | 'publisher' | 'year' | 'language';
type Form = FormatChoice['qualities'][number]['form'];
/** As what files are written, how they are named, and what all of them say. */
export type DeliveryChange = { form?: Form | 'asked'; naming?: string; certified_by?: string } & Partial<
  Record<Label, string>
>;
export const changeDelivery = (id: string, body: DeliveryChange) =>
  got(acts.PATCH('/api/productions/{production_id}/delivery', { ...of(id), body }));

/** What a template would name each file. */
export const names = (id: string, naming: string) =>
  got(api.POST('/api/productions/{production_id}/delivery/names', { ...of(id), body: { naming } }));

/** Change what is given of some entries; null has the file name say it again. */
export const setEntries = (id: string, entries: { recording: string; entry: Partial<Entry> | null }[]) =>
  got(acts.PUT('/api/productions/{production_id}/entries', { ...of(id), body: { entries } }));
/** Take numbers and titles from a table. */
export const pasteEntries = (id: string, text: string) =>
  got(acts.POST('/api/productions/{production_id}/entries/paste', { ...of(id), body: { text } }));

export const putCover = (id: string, file: File) =>
  got(
    acts.PUT('/api/productions/{production_id}/delivery/cover', {
      params: { ...of(id).params, query: { name: file.name } },
      body: file as unknown as string,
      bodySerializer: (body: unknown) => body as Blob,
    }),
  );
export const removeCover = (id: string) => got(acts.DELETE('/api/productions/{production_id}/delivery/cover', of(id)));

export const makeFiles = (id: string, recordings: string[]) =>
  got(acts.POST('/api/productions/{production_id}/delivery/make', { ...of(id), body: { recordings } }));
export const toFolder = (id: string, recordings: string[] | null) =>
  got(acts.POST('/api/productions/{production_id}/deliver-to-folder', { ...of(id), body: { recordings } }));
export const handIn = (id: string, recordings: string[] | null, requirements: string) =>
  got(acts.POST('/api/productions/{production_id}/hand-in', { ...of(id), body: { recordings, requirements } }));

/** What a next take would be called, those that are not finished, and what can be heard while recording one. */
export const takes = (id: string) =>
  question(['takes', id], either(productionItself(id), about('uploads')), () =>
    got(api.GET('/api/productions/{production_id}/takes', of(id))),
  );

export const discardTake = (id: string, take_id: string) =>
  got(
    acts.DELETE('/api/productions/{production_id}/takes/{take_id}', {
      params: { path: { production_id: id, take_id } },
    }),
  );
