// What is asked about saved treatments, and what is done to them.
import { acts, api, got, type DraftStep, type Finish } from '../api';
import { asItIs } from '../json-file';
import { about, question } from '../question';

const of = (identifier: string) => ({ params: { path: { identifier } } });
/** Those that were treated by it are told with it. */
const used = about('treatment', 'production', 'conform');

export const all = () => question(['treatments'], used, () => got(api.GET('/api/treatments')));
export const one = (id: string) =>
  question(['treatment', id], used, () => got(api.GET('/api/treatments/{identifier}', of(id))));
/** What a version changed. */
export const changes = (id: string, query: { before: number; after: number }) => ({
  ...question(['changes', 'treatment', id, query.before, query.after], about('treatment'), () =>
    got(api.GET('/api/treatments/{identifier}/changes', { params: { ...of(id).params, query } })),
  ),
  enabled: query.before !== query.after,
});

/** Steps as the server reads them. */
export const examine = (steps: DraftStep[]) => got(api.POST('/api/treatments/examine', { body: { steps } }));

/** A treatment as a file holds it. */
export interface Filed {
  name: string;
  description?: string;
  finish?: Finish;
  steps?: DraftStep[];
}
export const version = (identifier: string, version: number) =>
  got(
    api.GET('/api/treatments/{identifier}/{version}/file', { params: { path: { identifier, version } } }),
  ) as unknown as Promise<Filed>;

interface NextVersion {
  name: string;
  description: string;
  finish: Finish;
  steps: DraftStep[];
  voice_dbfs: number | null | undefined;
  follows: number;
}
export const keep = (id: string, body: NextVersion) =>
  got(acts.PUT('/api/treatments/{identifier}', { ...of(id), body }));
export const copy = (id: string, name: string) =>
  got(acts.POST('/api/treatments/{identifier}/copy', { ...of(id), body: { name } }));
export const remove = (id: string) => got(acts.POST('/api/treatments/{identifier}/remove', of(id)));
export const restore = (id: string) => got(acts.POST('/api/treatments/{identifier}/restore', of(id)));
export const bringIn = async (file: File) => got(acts.PUT('/api/treatments/file', await asItIs(file)));
