<script lang="ts">
  // What was found, kind by kind, the gravest first: each place a button that goes there.
  import type { Method } from '../lib/api';
  import type { Meanings } from '../lib/methods';
  import { told, type Group } from '../lib/places';
  import BracketMark from './BracketMark.svelte';
  import Explained from './Explained.svelte';
  interface Props {
    groups: Group[];
    meanings?: Meanings;
    onseek: (seconds: number) => void;
  }
  let { groups, meanings, onseek }: Props = $props();
  const FEW = 12;
  let open = $state<Record<string, boolean>>({});
  const method = (group: Group): Method | undefined =>
    group.outside ? meanings?.quantities.get(group.name) : meanings?.findings.get(group.name);
</script>

<ul>
  {#each groups as group (group.key)}
    <li class:outside={group.outside}>
      <div class="what">
        {#if group.outside}<BracketMark position={group.side} silent />{/if}
        <span class="title"><Explained text={group.title} method={method(group)} /></span>
        {#if group.places.length > 1}<span class="count">{group.places.length} places</span>{/if}
      </div>
      <div class="places">
        {#each open[group.key] ? group.places : group.places.slice(0, FEW) as place (place.start_s)}
          {#if place.whole}
            <span class="place"><span class="when">whole file</span> {place.said}</span>
          {:else}
            <button class="place" type="button" onclick={() => onseek(Math.max(0, place.start_s - 0.5))}>
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
    </li>
  {/each}
</ul>

<style>
  ul {
    margin: 0;
    padding: 0;
    list-style: none;
  }
  li {
    padding: 9px 14px 10px;
    border-bottom: 1px solid var(--rule);
  }
  li:last-child {
    border-bottom: 0;
  }
  .what {
    display: flex;
    gap: 8px;
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
    font-size: 12.5px;
  }
  .places {
    display: flex;
    flex-wrap: wrap;
    gap: 2px 18px;
    margin: 3px 0;
  }
  .place {
    font-size: 13px;
    font-family: var(--figures);
    color: var(--soft);
  }
  button {
    border: 0;
    background: none;
    padding: 0;
    cursor: pointer;
  }
  .number {
    color: var(--near);
    font-weight: 600;
    padding-right: 6px;
  }
  .outside .number {
    color: var(--outside);
  }
  .when {
    padding-right: 6px;
    color: var(--soft);
  }
  button .when,
  .more {
    color: var(--act);
    text-decoration: underline;
    text-underline-offset: 3px;
  }
  .more {
    font-size: 13px;
  }
  p {
    color: var(--soft);
    font-size: 13.5px;
  }
</style>
