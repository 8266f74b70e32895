// Which of the questions on screen a change on the server is an answer to: those that name what changed, and no others.
import type { Query } from '@tanstack/svelte-query';
import type { Notice } from './api';

/** What shows a production as a whole, and so changes with any of its recordings. The second part of their keys names it. */
const OF_PRODUCTION = [
  'sheet',
  'forecast',
  'unfinished',
  'disk',
  'consistency',
  'delivery',
  'certified',
  'record',
  'archive',
];
/** What shows all productions. */
const OF_ALL = ['productions', 'set-aside', 'certificates', 'certificate', 'removed', 'found'];
/** What tells of productions, or of what was made, without naming them: where a specification or a treatment is used. */
const OF_USE = ['specifications', 'specification', 'treatments', 'treatment'];
/** What the bench shows of a recording by the specification of its production, without naming that. */
const ON_BENCH = ['draft', 'steps', 'foretold', 'picture', 'spots', 'general', 'versions'];
/** Lists that show everything of a kind. */
const LISTS: Record<string, string[]> = {
  specification: ['specifications', 'specification', 'changes', 'removed'],
  treatment: ['treatments', 'treatment', 'changes', 'forecast', 'removed'],
  import: ['imports', 'productions'],
  demo: ['demo', 'productions'],
};

/** Whether a question should be asked again after a change. */
export function names(query: Query, notice: Notice): boolean {
  const [about, ...named] = query.queryKey as [string, ...unknown[]];
  const { id, production, recording } = notice;
  if (notice.about === 'everything' || notice.about === 'settings') return true;
  // A file to listen to is named by itself, and tells of which recording it is.
  const of = (query.state.data as { recording?: string } | null)?.recording;
  if (about === 'listen' && recording && of === recording) return true;
  if (notice.about === 'listening')
    return ['delivery', 'certified', 'record', 'archive'].includes(about) && named[0] === production;
  if (notice.about === 'draft') return about === 'draft' && named[0] === id;
  if (notice.about === 'keys') return about === 'keys' || about === 'certificate';
  if (LISTS[notice.about]?.includes(about)) return true;
  if (production && (OF_ALL.includes(about) || (OF_PRODUCTION.includes(about) && named[0] === production))) return true;
  if ((notice.about === 'production' || notice.about === 'conform') && OF_USE.includes(about)) return true;
  if (notice.about === 'production' && ON_BENCH.includes(about)) return true;
  // A tone match is offered with the tone of the recordings beside it.
  if (notice.about === 'inspect' && about === 'steps') return true;
  if (named.includes(id) || (recording && named.includes(recording))) return true;
  return notice.about === 'production' && (query.state.data as { production_id?: string } | null)?.production_id === id;
}
