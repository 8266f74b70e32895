<script lang="ts">
  import Across from '../components/Across.svelte';
  import { createQuery } from '@tanstack/svelte-query';
  import { push } from 'svelte-spa-router';
  import Button from '../components/Button.svelte';
  import Choice from '../components/Choice.svelte';
  import Labelled from '../components/Labelled.svelte';
  import FirstRun from '../components/FirstRun.svelte';
  import SortButton from '../components/SortButton.svelte';
  import Imports from '../components/Imports.svelte';
  import { Acting } from '../lib/acting.svelte';
  import type { ProductionSummary } from '../lib/api';
  import { defaults } from '../lib/defaults';
  import { counted, date } from '../lib/format';
  import { newId } from '../lib/ids';
  import { holds, Sorter } from '../lib/sorting.svelte';
  import * as productions from '../lib/server/productions';
  import * as specifications from '../lib/server/specifications';
  import Problem from '../components/Problem.svelte';

  const acting = new Acting();
  const making = new Acting();
  const listed = createQuery(() => productions.all());
  const choices = createQuery(() => specifications.all());
  let name = $state('');
  const set = defaults();
  let picked = $state<string>();
  const offered = $derived((choices.data ?? []).map(({ id, name }) => [id, name] as const));
  // Nothing is chosen, and nothing can be created, before it is known what is offered and what is usual here.
  const known = $derived(!!choices.data && (!!set.data || set.isError));
  const chosen = $derived.by(() => {
    if (!known) return '';
    return (
      [picked, set.data?.specification_id].find((id) => offered.some(([one]) => one === id)) ?? offered[0]?.[0] ?? ''
    );
  });
  let away = $state(false);
  let search = $state('');
  const kept = $derived((listed.data ?? []).filter((production) => !production.archived));
  const archived = $derived((listed.data ?? []).filter((production) => production.archived));

  // The last that something happened in stands first, until another column sorts.
  const sorter = new Sorter();
  const byName = new Intl.Collator('en', { numeric: true, sensitivity: 'base' });
  const left = (one: ProductionSummary) => one.recordings - one.certified;
  const ORDERS: Record<string, (one: ProductionSummary, other: ProductionSummary) => number> = {
    name: (one, other) => byName.compare(one.name, other.name),
    specification: (one, other) => byName.compare(one.specification_name, other.specification_name),
    recordings: (one, other) => one.recordings - other.recordings,
    certified: (one, other) => one.certified - other.certified,
    left: (one, other) => left(one) - left(other),
    active: (one, other) => one.last_activity.localeCompare(other.last_activity),
  };
  const shown = $derived.by(() => {
    const named = holds(search);
    const found = (away ? [...kept, ...archived] : kept).filter((one) => named(one.name));
    const { by, down } = sorter.sorting ?? { by: 'active', down: true };
    const order = ORDERS[by];
    return order ? found.sort((one, other) => (down ? order(other, one) : order(one, other))) : found;
  });
  const COLUMNS = [
    ['name', 'Name'],
    ['specification', 'Specification'],
    ['recordings', 'Recordings'],
    ['certified', 'Certified'],
    ['left', 'Not yet certified'],
    ['active', 'Last activity'],
  ] as const;
  const matching = createQuery(() => ({ ...productions.found(search.trim()), enabled: search.trim().length > 1 }));

  const others = ({ standing }: ProductionSummary) =>
    standing
      .filter(({ status }) => status !== 'certified' && status !== 'delivered')
      .map(({ count, word }) => `${count} ${word}`)
      .join(', ');
  const bringBack = (production_id: string) =>
    acting.attempt(() => productions.change(production_id, { archived: false }));

  // One production for one form that was filled in, however often it is sent.
  const ONCE = { once: 'create a production' };
  let wanted = newId();
  const create = () =>
    making.attempt(async () => {
      const body = { name, specification_id: chosen, id: wanted };
      const made = await productions.create(body);
      wanted = newId();
      await push(`/productions/${made.id}`);
    }, ONCE);
  // Who is quicker than the page is waited for: it is created as soon as it is known what is offered.
  let asked = $state(false);
  $effect(() => {
    if (!asked || !(known || choices.isError)) return;
    asked = false;
    if (chosen) void create();
  });
  const aside = createQuery(() => productions.setAside());
  const discard = (upload_id: string) => acting.attempt(() => productions.discardSetAside(upload_id));
</script>

<svelte:head><title>Productions · Ispettore</title></svelte:head>
<main>
  <h1>Productions</h1>
  <Problem {acting} />
  {#if listed.data}
    {#if kept.length || away}
      {#if (listed.data?.length ?? 0) > 1}
        <label class="find"
          >Find a production or recording <input type="search" bind:value={search} maxlength="120" /></label
        >
      {/if}
      <Across label="Productions, scrolls sideways">
        <table>
          <thead>
            <tr>
              {#each COLUMNS as [by, title] (by)}
                <th scope="col" aria-sort={sorter.direction(by)}
                  >{title}
                  <SortButton
                    title={title.toLowerCase()}
                    direction={sorter.direction(by)}
                    onsort={() => sorter.sort(by)}
                  /></th
                >
              {/each}
              {#if away}<th scope="col"><span class="visually-hidden">Hidden</span></th>{/if}
            </tr>
          </thead>
          <tbody>
            {#each shown as production (production.id)}
              <tr class:away={production.archived}>
                <td><a href={`#/productions/${production.id}`}>{production.name}</a></td>
                <td>{production.specification_name}</td>
                <td class="figure">{production.recordings}</td>
                <td
                  class="figure"
                  class:inside={production.recordings > 0 && production.certified === production.recordings}
                  >{production.certified}</td
                >
                <td class="soft">{others(production)}</td>
                <td class="soft">{date(production.last_activity)}</td>
                {#if away}
                  <td
                    >{#if production.archived}<Button
                        label={`Restore ${production.name}`}
                        onclick={() => bringBack(production.id)}>Restore</Button
                      >{/if}</td
                  >
                {/if}
              </tr>
            {/each}
          </tbody>
        </table>
      </Across>
      {#if search.trim() && !shown.length}<p class="empty">No production has this name.</p>{/if}
      {#if matching.data?.length}
        <section aria-label="Recordings found">
          <h2>{counted(matching.data.length, 'recording')} found</h2>
          <ul>
            {#each matching.data as one (one.id)}
              <li>
                <a href={`#/recordings/${one.id}`}>{one.name}</a>
                <span class="soft">in {one.production}</span>
              </li>
            {/each}
          </ul>
        </section>
      {/if}
    {/if}
    <FirstRun production={listed.data[0]?.id} />
    {#if archived.length}
      <label class="archived"><input type="checkbox" bind:checked={away} /> Show {archived.length} hidden</label>
    {/if}
    <p class="removed"><a href="#/removed">Removed</a></p>
  {:else if listed.isError}
    <Problem query={listed} />
  {/if}

  {#each aside.data ?? [] as upload (upload.id)}
    <p class="aside" role="alert">
      <span><b>{upload.name}</b> was uploaded but could not be added. {upload.problem}</span>
      <Button label={`Discard ${upload.name}`} onclick={() => discard(upload.id)}>Discard</Button>
    </p>
  {/each}

  <form
    onsubmit={(event) => {
      event.preventDefault();
      asked = true;
    }}
  >
    <h2>New production</h2>
    <Labelled label="Name"
      ><input class="name" bind:value={name} required maxlength="120" placeholder="A book, a series" /></Labelled
    >
    <Choice label="Specification" value={chosen} options={offered} onchange={(to) => (picked = to)} />
    <Button strong submit disabled={!name.trim()}>Create production</Button>
    <Problem acting={making} />
    {#if choices.isError}<Problem query={choices} />{/if}
  </form>
  <Imports />
</main>

<style>
  main {
    padding: var(--space-7);
    max-width: 1100px;
  }
  table {
    width: 100%;
    margin-top: var(--space-6);
    border-collapse: collapse;
    background: var(--sheet);
    border: 1px solid var(--rule);
  }
  th {
    text-align: left;
    font-size: var(--type-small);
    font-weight: 500;
    color: var(--soft);
  }
  th,
  td {
    padding: var(--space-4) var(--space-5);
    border-bottom: 1px solid var(--rule);
  }
  .figure {
    font-family: var(--figures);
  }
  .inside {
    color: var(--inside);
  }
  .away td {
    color: var(--soft);
  }
  .archived {
    display: inline-flex;
    gap: var(--space-3);
    align-items: center;
    margin-top: var(--space-4);
    font-size: var(--type-plain);
  }
  .archived input {
    min-width: 0;
  }
  .aside {
    display: flex;
    gap: var(--space-5);
    align-items: center;
    margin-top: var(--space-5);
    color: var(--outside);
  }
  .empty {
    margin: var(--space-6) 0;
    color: var(--soft);
  }
  form {
    display: flex;
    gap: var(--space-6);
    align-items: end;
    flex-wrap: wrap;
    margin-top: var(--space-8);
  }
  form h2 {
    width: 100%;
  }
  .name {
    width: 220px;
  }
  .find {
    display: flex;
    gap: var(--space-4);
    align-items: center;
    margin-top: var(--space-4);
    font-size: var(--type-plain);
    color: var(--soft);
  }
  .find input {
    font-size: var(--type-text);
    color: var(--ink);
    background: var(--sheet);
    border: 1px solid var(--soft);
    border-radius: 3px;
    padding: var(--space-1) var(--space-4);
    width: 220px;
  }
  section {
    margin-top: var(--space-6);
  }
  ul {
    list-style: none;
    margin: var(--space-2) 0 0;
    padding: 0;
  }
  .removed {
    margin-top: var(--space-4);
    font-size: var(--type-plain);
  }
</style>
