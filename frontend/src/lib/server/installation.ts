// What is asked about this installation as a whole, and what is set in it.
import { acts, api, got, type Defaults } from '../api';
import { about, fixed, question } from '../question';

export const settings = () => question(['settings'], fixed, () => got(api.GET('/api/settings')));
/** What new work begins with. */
export const defaults = () => question(['defaults'], fixed, () => got(api.GET('/api/settings/defaults')));
/** What every figure and finding means. */
export const methods = () => question(['methods'], fixed, () => got(api.GET('/api/methods')));
/** What the intake desk holds packages against. */
export const desk = () => ({
  ...question(['desk'], fixed, () => got(api.GET('/api/desk'))),
  retry: false,
  staleTime: 0,
});
/** Whether the demo is here, or on its way. */
export const demo = () => question(['demo'], about('demo'), () => got(api.GET('/api/demo')));
export const imports = () => question(['imports'], about('import'), () => got(api.GET('/api/imports')));

export const changeDefaults = (body: Partial<Defaults>) => got(acts.PATCH('/api/settings/defaults', { body }));
export const askForDemo = () => got(acts.POST('/api/demo'));

const of = (importing_id: string) => ({ params: { path: { importing_id } } });
/** Trust the keys that an archive's certificates are sealed with, and go on. */
export const trustAndImport = (id: string, keys: string[]) =>
  got(acts.POST('/api/imports/{importing_id}/trust', { ...of(id), body: { keys } }));
export const importAgain = (id: string) => got(acts.POST('/api/imports/{importing_id}/again', of(id)));
export const discardImport = (id: string) => got(acts.DELETE('/api/imports/{importing_id}', of(id)));
