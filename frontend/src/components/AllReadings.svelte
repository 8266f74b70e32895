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
    gap: 4px 26px;
    padding: 10px 14px 14px;
  }
  h3 {
    font-size: 12.5px;
    font-weight: 500;
    color: var(--soft);
    border-bottom: 1px solid var(--rule);
    padding-bottom: 3px;
  }
  dl {
    margin: 0;
  }
  dl div {
    display: flex;
    justify-content: space-between;
    gap: 8px;
    padding: 2.5px 0;
    font-size: 13.5px;
  }
  dd {
    margin: 0;
    font-family: var(--figures);
    font-size: 13px;
    white-space: nowrap;
  }
  .tags {
    grid-column: 1 / -1;
    margin-top: 10px;
  }
  .tags dl {
    columns: 2;
    column-gap: 26px;
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
    padding-right: 4px;
  }
  .unit {
    color: var(--soft);
    font-size: 11.5px;
    padding-left: 4px;
    display: inline-block;
    min-width: 40px;
  }
</style>
