<script lang="ts">
  // Every reading of a file by what it is about, with what it means and how it was taken behind its name; then what it says of itself.
  import type { Explained as Entry, Inspection, Reading } from '../lib/api';
  import { number } from '../lib/format';
  import { takenHere, type Meanings } from '../lib/methods';
  import Explained from './Explained.svelte';
  interface Props {
    inspection: Inspection;
    meanings: Meanings;
    /** The readings of the written file, where there is one. */
    after?: Record<string, Reading>;
  }
  let { inspection, meanings, after }: Props = $props();
  const GROUPS = [
    ['level', 'Level'],
    ['between', 'Between the words'],
    ['health', 'Recording faults'],
  ] as const;
  const of = (group: string) =>
    [...meanings.quantities.values()].filter((entry) => entry.group === group && inspection.readings[entry.name]);

  const tags = $derived(Object.entries(inspection.facts.tags ?? {}).sort(([one], [other]) => one.localeCompare(other)));

  function figure(reading: Reading, entry: Entry): string {
    if (reading.value === null) return reading.silence ? 'silence' : '–';
    return number(reading.value, entry.decimals);
  }
</script>

<div class="groups">
  {#each GROUPS as [group, title] (group)}
    <section aria-label={title}>
      <h3>{title}</h3>
      <dl>
        {#each of(group) as entry (entry.name)}
          {@const reading = inspection.readings[entry.name]}
          {@const now = after?.[entry.name]}
          {#if reading}
            <div>
              <dt><Explained text={entry.title} method={entry} here={takenHere(reading, inspection.facts)} /></dt>
              <dd>
                {#if now}<span class="was"><span class="visually-hidden">before</span> {figure(reading, entry)}</span
                  ><span class="was" aria-hidden="true">→</span><span class="visually-hidden">after</span>{/if}
                {figure(now ?? reading, entry)}<span class="unit"
                  >{(now ?? reading).value === null ? '' : entry.unit}</span
                >
              </dd>
            </div>
          {/if}
        {/each}
      </dl>
    </section>
  {/each}
  {#if tags.length}
    <section class="tags" aria-label="File tags">
      <h3>File tags</h3>
      <dl>
        {#each tags as [name, values] (name)}<div>
            <dt>{name}</dt>
            {#each values as text, index (index)}<dd>{text}</dd>{/each}
          </div>{/each}
      </dl>
    </section>
  {/if}
</div>

<style>
  .groups {
    display: grid;
    grid-template-columns: repeat(3, minmax(0, 1fr));
    gap: var(--space-2) var(--space-7);
    padding: var(--space-4) var(--space-5) var(--space-5);
  }
  h3 {
    font-size: var(--type-small);
    font-weight: 500;
    color: var(--soft);
    border-bottom: 1px solid var(--rule);
    padding-bottom: var(--space-2);
  }
  dl {
    margin: 0;
  }
  dl div {
    display: flex;
    justify-content: space-between;
    gap: var(--space-4);
    padding: var(--space-1) 0;
    font-size: var(--type-plain);
  }
  dd {
    margin: 0;
    font-family: var(--figures);
    font-size: var(--type-small);
    white-space: nowrap;
  }
  .tags {
    grid-column: 1 / -1;
    margin-top: var(--space-4);
  }
  .tags dl {
    columns: 2;
    column-gap: var(--space-7);
  }
  .tags dl div {
    break-inside: avoid;
  }
  .tags dt {
    color: var(--soft);
  }
  .tags dd {
    white-space: normal;
    overflow-wrap: anywhere;
    text-align: right;
  }
  .was {
    color: var(--soft);
    padding-right: var(--space-2);
  }
  .unit {
    color: var(--soft);
    font-size: var(--type-fine);
    padding-left: var(--space-2);
    display: inline-block;
    min-width: 40px;
  }
</style>
