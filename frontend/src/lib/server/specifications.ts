// What is asked about specifications, and what is done to them.
import { acts, api, got } from '../api';
import { asItIs } from '../json-file';
import { about, question } from '../question';

const of = (identifier: string) => ({ params: { path: { identifier } } });
/** Those that are held against it are told with it. */
const used = about('specification', 'production', 'conform');
/** What somebody wrote, which need not be right yet. */
type Written = Record<string, unknown>;

export const all = () => question(['specifications'], used, () => got(api.GET('/api/specifications')));
export const one = (id: string) =>
  question(['specification', id], used, () => got(api.GET('/api/specifications/{identifier}', of(id))));
/** What a version changed. */
export const changes = (id: string, query: { before: number; after: number }) => ({
  ...question(['changes', 'specification', id, query.before, query.after], about('specification'), () =>
    got(api.GET('/api/specifications/{identifier}/changes', { params: { ...of(id).params, query } })),
  ),
  enabled: query.before !== query.after,
});
export const version = (identifier: string, version: number) =>
  got(api.GET('/api/specifications/{identifier}/{version}', { params: { path: { identifier, version } } }));

/** What speaks against it as it is written. */
export const examine = (body: Written) => got(api.POST('/api/specifications/examine', { body }));

export const keep = (id: string, draft: Written, follows: number) =>
  got(acts.PUT('/api/specifications/{identifier}', { ...of(id), body: { draft, follows } }));
export const copy = (id: string, name: string) =>
  got(acts.POST('/api/specifications/{identifier}/copy', { ...of(id), body: { name } }));
export const remove = (id: string) => got(acts.POST('/api/specifications/{identifier}/remove', of(id)));
export const restore = (id: string) => got(acts.POST('/api/specifications/{identifier}/restore', of(id)));
export const bringIn = async (file: File) => got(acts.PUT('/api/specifications/file', await asItIs(file)));
