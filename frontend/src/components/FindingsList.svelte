<script lang="ts">
  // What was found, kind by kind, the gravest first: each place a button that goes there.
  import type { Method } from '../lib/api';
  import type { Meanings } from '../lib/methods';
  import { told, type Group, type Place } from '../lib/places';
  import BracketMark from './BracketMark.svelte';
  import Choice from './Choice.svelte';
  import Explained from './Explained.svelte';
  import LinkButton from './LinkButton.svelte';
  interface Props {
    groups: Group[];
    meanings?: Meanings;
    /** The only group that is shown, on the ribbon too; empty for all. */
    kind: string;
    onkind: (key: string) => void;
    ongo: (place: Place) => void;
    onaccept: (places: Place[], kind: string, reason: string) => void;
    ontakeback: (places: Place[], kind: string) => void;
  }
  let { groups, meanings, kind, onkind, ongo, onaccept, ontakeback }: Props = $props();
  const FEW = 12;
  const kinds = $derived([
    ['', 'all kinds'] as const,
    ...groups.map((group) => [group.key, `${group.title} (${group.places.length})`] as const),
  ]);
  const shown = $derived(groups.filter((group) => !kind || group.key === kind));
  let open = $state<Record<string, boolean>>({});
  let accepting = $state('');
  let reason = $state('');
  const pending = (group: Group) => group.places.filter((place) => !place.accepted);
  const accepted = (group: Group) => group.places.filter((place) => place.accepted);
  function accept(group: Group) {
    if (!reason.trim()) return;
    onaccept(pending(group), group.name, reason);
    accepting = '';
  }
  const method = (group: Group): Method | undefined =>
    group.outside ? meanings?.quantities.get(group.name) : meanings?.findings.get(group.name);
</script>

{#if groups.length > 1}
  <div class="filter"><Choice label="Show" value={kind} options={kinds} onchange={onkind} /></div>
{/if}
<ul>
  {#each shown as group (group.key)}
    <li class:outside={group.outside && !group.mild}>
      <div class="what">
        {#if group.outside}<BracketMark position={group.side} tone={group.mild ? 'near' : group.side} silent />{/if}
        <span class="title"><Explained text={group.title} method={method(group)} /></span>
        {#if group.places.length > 1}<span class="count">{group.places.length} places</span>{/if}
      </div>
      <div class="places">
        {#each open[group.key] ? group.places : group.places.slice(0, FEW) as place (place.start_s)}
          {#if place.whole}
            <span class="place"><span class="when">whole file</span> {place.said}</span>
          {:else}
            <button class="place" type="button" onclick={() => ongo(place)}>
              <span class="visually-hidden">Go to finding</span>
              <span class="number">{place.number}</span><span class="visually-hidden">{place.group} at</span><span
                class="when">{told(place)}</span
              >
              {place.said}
            </button>
          {/if}
        {/each}
        {#if group.places.length > FEW && !open[group.key]}
          <button class="more" type="button" onclick={() => (open[group.key] = true)}
            >{group.places.length - FEW} more</button
          >
        {/if}
      </div>
      {#if group.advice}<p>{group.advice}</p>{/if}
      {#each new Set(accepted(group).map((place) => place.accepted)) as why (why)}
        {@const these = group.places.filter((place) => place.accepted === why)}
        <p class="accepted">
          Accepted{these.length < group.places.length ? `, ${these.length} of ${group.places.length}` : ''}: {why}
          <LinkButton onclick={() => ontakeback(these, group.name)}
            >Undo accept<span class="visually-hidden"> {group.title}</span></LinkButton
          >
        </p>
      {/each}
      {#if !group.outside && pending(group).length}
        {#if accepting === group.key}
          <form
            onsubmit={(event) => {
              event.preventDefault();
              accept(group);
            }}
          >
            <input
              aria-label={`Reason for accepting ${group.title}`}
              placeholder="Reason for accepting"
              maxlength="500"
              bind:value={reason}
              {@attach (field) => field.focus()}
              onkeydown={(event) => event.key === 'Escape' && (accepting = '')}
            />
            <LinkButton onclick={() => accept(group)}>Accept</LinkButton>
          </form>
        {:else}
          <LinkButton
            onclick={() => {
              accepting = group.key;
              reason = '';
            }}>Accept<span class="visually-hidden"> {group.title}</span> …</LinkButton
          >
        {/if}
      {/if}
    </li>
  {/each}
</ul>

<style>
  .filter {
    padding: var(--space-4) var(--space-5) 0;
  }
  ul {
    margin: 0;
    padding: 0;
    list-style: none;
  }
  li {
    padding: var(--space-4) var(--space-5) var(--space-4);
    border-bottom: 1px solid var(--rule);
  }
  li:last-child {
    border-bottom: 0;
  }
  .what {
    display: flex;
    gap: var(--space-4);
    align-items: baseline;
  }
  .title {
    font-weight: 550;
  }
  .outside .title {
    color: var(--outside);
  }
  .count {
    color: var(--soft);
    font-size: var(--type-small);
  }
  .places {
    display: flex;
    flex-wrap: wrap;
    gap: var(--space-1) var(--space-6);
    margin: var(--space-2) 0;
  }
  .place {
    font-size: var(--type-small);
    font-family: var(--figures);
    color: var(--soft);
  }
  .place,
  .more {
    border: 0;
    background: none;
    padding: 0;
    cursor: pointer;
  }
  form {
    display: flex;
    gap: var(--space-4);
    align-items: center;
    margin-top: var(--space-2);
  }
  input {
    flex: 1;
    max-width: 420px;
    font-size: var(--type-plain);
    border: 1px solid var(--soft);
    background: var(--paper);
    padding: var(--space-2) var(--space-3);
  }
  .accepted {
    color: var(--ink);
  }
  .number {
    color: var(--near);
    font-weight: 600;
    padding-right: var(--space-3);
  }
  .outside .number {
    color: var(--outside);
  }
  .when {
    padding-right: var(--space-3);
    color: var(--soft);
  }
  button .when,
  .more {
    color: var(--act);
    text-decoration: underline;
    text-underline-offset: 3px;
  }
  .more {
    font-size: var(--type-small);
  }
  p {
    color: var(--soft);
    font-size: var(--type-plain);
  }
</style>
