<script lang="ts">
  import { createQuery } from '@tanstack/svelte-query';
  import { setContext } from 'svelte';
  import Router, { router } from 'svelte-spa-router';
  import { focusHead, keepFocus } from './lib/keep-focus';
  import { Live } from './lib/live.svelte';
  import { Rows } from './lib/rows';
  import { Shortcuts } from './lib/shortcuts.svelte';
  import { Uploads } from './lib/uploads.svelte';
  import Brand from './components/Brand.svelte';
  import LinkButton from './components/LinkButton.svelte';
  import ShortcutSheet from './components/ShortcutSheet.svelte';
  import Problem from './components/Problem.svelte';
  import Door from './screens/Door.svelte';
  import * as server from './lib/server/access';
  import { loadAll, routes } from './lib/routes';

  const live = new Live();
  setContext('live', live);
  setContext('rows', new Rows());
  const uploads = new Uploads();
  setContext('uploads', uploads);
  const shortcuts = new Shortcuts();
  setContext('shortcuts', shortcuts);
  let sheet: ShortcutSheet | undefined = $state();
  const show = () => sheet?.show();
  shortcuts.add({ title: 'Every screen', list: [{ keys: ['?'], shown: '?', does: 'this list', act: show }] });
  // Who is not let in sees the way in and nothing else; an invitation is that as well.
  const access = createQuery(() => server.access());
  const me = $derived(access.data?.me);
  const invited = $derived(/^\/join\/(.+)/.exec(router.location)?.[1]);
  const inside = $derived(Boolean(me) && !invited);
  $effect(() => {
    if (!inside) return undefined;
    uploads.open();
    return live.open();
  });
  // The screens behind the first are fetched once that one is there and the browser has nothing else to do.
  let fetched = false;
  function whenIdle() {
    if (fetched) return;
    fetched = true;
    requestIdleCallback(() => void loadAll(), { timeout: 10_000 });
  }

  let screens: HTMLElement | undefined = $state();
  // A new screen says what it is, once it has its title.
  let title = $state('');
  $effect(() => {
    void router.location;
    const soon = setTimeout(() => (title = document.title), 600);
    return () => clearTimeout(soon);
  });

  const PLACES = [
    ['/', 'Productions', /^\/($|productions|recordings|listen|removed)/],
    ['/specifications', 'Specifications', /^\/specifications/],
    ['/treatments', 'Treatments', /^\/treatments/],
    ['/certificates', 'Certificates', /^\/certificates/],
    ['/verify', 'Verify a certificate', /^\/verify/],
  ] as const;

  // A file that is dropped where nothing takes it would make the browser show it in place of this page.
  function spurn(event: DragEvent): void {
    if (event.defaultPrevented || !event.dataTransfer?.types.includes('Files')) return;
    event.preventDefault();
    event.dataTransfer.dropEffect = 'none';
  }
</script>

<svelte:window
  onkeydown={(event) => shortcuts.handle(event)}
  ondragover={spurn}
  ondrop={spurn}
  onbeforeunload={(event) => uploads.busy && event.preventDefault()}
/>

{#if inside}
  <button class="skip" type="button" onclick={() => screens && focusHead(screens)}>Skip to content</button>
  <header>
    <a class="name" href="#/">
      <Brand />
    </a>
    <nav aria-label="Main">
      {#each PLACES as [address, words, starts] (address)}
        <a href={`#${address}`} aria-current={starts.test(router.location) ? 'page' : undefined}>{words}</a>
      {/each}
    </nav>
    <span class="keys">
      {#if me?.name}<a href="#/account" aria-current={router.location === '/account' ? 'page' : undefined}>{me.name}</a
        >{/if}
      <a href="#/settings" aria-current={router.location === '/settings' ? 'page' : undefined}>Settings</a>
      <LinkButton onclick={show}>Keyboard shortcuts</LinkButton></span
    >
    <span class="apart" aria-live="polite">{live.connected ? '' : 'Connection lost. Reconnecting…'}</span>
  </header>
  <p class="visually-hidden" aria-live="polite">{title}</p>
  <div bind:this={screens} {@attach keepFocus}><Router {routes} onRouteLoaded={whenIdle} /></div>
  <ShortcutSheet bind:this={sheet} {shortcuts} />
{:else if access.data}
  <Door access={access.data} {invited} />
{:else if access.isError}
  <main><Problem query={access} /></main>
{/if}

<style>
  main {
    padding: var(--space-7);
  }
  .skip {
    position: absolute;
    left: 12px;
    top: -60px;
    z-index: 10;
    padding: var(--space-4) var(--space-5);
    border: 1px solid var(--act);
    background: var(--sheet);
    color: var(--act);
  }
  .skip:focus {
    top: 8px;
  }
  header {
    display: flex;
    align-items: center;
    gap: var(--space-8);
    height: 54px;
    padding: 0 var(--space-7);
    border-bottom: 1px solid var(--rule);
  }
  .name {
    text-decoration: none;
  }
  nav {
    display: flex;
    gap: var(--space-6);
  }
  nav a {
    color: var(--soft);
    text-decoration: none;
    padding: var(--space-2) 0;
  }
  nav a[aria-current] {
    color: var(--ink);
    box-shadow: 0 2px 0 var(--act);
  }
  @media (max-width: 860px) {
    header {
      flex-wrap: wrap;
      gap: var(--space-2) var(--space-5);
      height: auto;
      padding: var(--space-4) var(--space-5);
    }
    nav {
      flex-wrap: wrap;
      gap: var(--space-2) var(--space-5);
    }
  }
  .keys {
    display: flex;
    align-items: baseline;
    gap: var(--space-6);
    margin-left: auto;
    font-size: var(--type-small);
  }
  .keys a[aria-current] {
    color: var(--ink);
    text-decoration: none;
    box-shadow: 0 2px 0 var(--act);
  }
  @media print {
    header,
    .skip {
      display: none;
    }
  }
  .apart:empty {
    position: absolute;
  }
  .apart {
    color: var(--outside);
    font-size: var(--type-small);
  }
</style>
