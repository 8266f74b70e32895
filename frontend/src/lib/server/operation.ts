// How the installation itself is, and failed work once more.
import { acts, api, got } from '../api';
import { question, type Shows } from '../question';

/** Anything that is told may change what waits, runs or failed. */
const anything: Shows = () => true;

export const operation = () => ({
  ...question(['operation'], anything, () => got(api.GET('/api/operation'))),
  staleTime: 0,
  // Workers are heard of without anything being told.
  refetchInterval: 10_000,
});
export const again = (work_id: string) =>
  got(acts.POST('/api/works/{work_id}/again', { params: { path: { work_id } } }));
