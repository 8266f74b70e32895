// Which screen an address shows. Each is loaded when it is first looked at, and all of them once the first stands still.
import type { Component } from 'svelte';
import { wrap } from 'svelte-spa-router/wrap';
import NotLoaded from '../screens/NotLoaded.svelte';

// eslint-disable-next-line @typescript-eslint/no-explicit-any -- each screen takes what stands in its own address
type Screen = { default: Component<any> };

const screens: Record<string, () => Promise<Screen>> = {
  '/': () => import('../screens/Productions.svelte'),
  '/productions/:id': () => import('../screens/Sheet.svelte'),
  '/productions/:id/whole': () => import('../screens/Whole.svelte'),
  '/productions/:id/consistency': () => import('../screens/Consistency.svelte'),
  '/productions/:id/deliver': () => import('../screens/Deliver.svelte'),
  '/productions/:id/take-check': () => import('../screens/TakeCheck.svelte'),
  '/productions/:id/record': () => import('../screens/Record.svelte'),
  '/recordings/:id/:left?/:right?': () => import('../screens/Recording.svelte'),
  '/listen/:of/:id': () => import('../screens/Listen.svelte'),
  '/specifications': () => import('../screens/Specifications.svelte'),
  '/specifications/:id': () => import('../screens/Specification.svelte'),
  '/treatments': () => import('../screens/Treatments.svelte'),
  '/treatments/:id': () => import('../screens/Treatment.svelte'),
  '/certificates': () => import('../screens/Certificates.svelte'),
  '/certificates/keys': () => import('../screens/Keys.svelte'),
  '/certificates/:id': () => import('../screens/Certificate.svelte'),
  '/verify': () => import('../screens/Verify.svelte'),
  '/verify/:id': () => import('../screens/Verify.svelte'),
  '/removed': () => import('../screens/Removed.svelte'),
  '/settings': () => import('../screens/Settings.svelte'),
  '/account': () => import('../screens/Account.svelte'),
  '/people': () => import('../screens/People.svelte'),
  '/operation': () => import('../screens/Operation.svelte'),
  '/outside': () => import('../screens/Outside.svelte'),
  '/trail': () => import('../screens/Trail.svelte'),
  '*': () => import('../screens/Nowhere.svelte'),
};

export const routes = Object.fromEntries(
  Object.entries(screens).map(([address, load]) => [
    address,
    wrap({ asyncComponent: () => load().catch(() => ({ default: NotLoaded })) }),
  ]),
);

/** Load the screens that were not looked at yet, so that turning to one never waits. */
export async function loadAll(): Promise<void> {
  for (const load of Object.values(screens)) await load().catch(() => undefined);
}
