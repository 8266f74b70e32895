<script lang="ts">
  // Every limit by what it is about; a group with a limit that is not met comes first, and in it that limit.
  import type { Inspection, LimitVerdict } from '../lib/api';
  import { takenHere, type Meanings } from '../lib/methods';
  import ToleranceRule from './ToleranceRule.svelte';

  interface Props {
    limits: LimitVerdict[];
    /** The same limits held against the treated version, where there is one. */
    after: LimitVerdict[];
    /** Whether that is only expected of it, as it was not run yet. */
    expected?: boolean;
    inspection: Inspection;
    meanings: Meanings | undefined;
    onmark: (span: { from: number; to: number } | undefined) => void;
    ongo: (span: { from: number; to: number }) => void;
  }
  let { limits, after, expected = false, inspection, meanings, onmark, ongo }: Props = $props();

  const TITLES = {
    level: 'Level',
    between: 'Between the words',
    health: 'Recording faults',
    file: 'File',
    package: 'The package',
  };
  const groups = $derived.by(() => {
    const rank = (limit: LimitVerdict) => (limit.passes ? (limit.position === 'near' ? 1 : 2) : 0);
    const sorted = [...limits].sort((one, other) => rank(one) - rank(other));
    const of = (limit: LimitVerdict) => meanings?.quantities.get(limit.quantity)?.group ?? 'level';
    const found = Object.entries(TITLES).map(
      ([group, title]) => [title, sorted.filter((limit) => of(limit) === group)] as const,
    );
    const misses = (some: readonly LimitVerdict[]) => Number(some.some((limit) => !limit.passes));
    return found.filter(([, some]) => some.length).sort(([, one], [, other]) => misses(other) - misses(one));
  });

  /** Where a reading was taken, unless that is the whole recording. */
  function takenIn(quantity: string) {
    const reading = inspection.readings[quantity];
    const [from, to] = [reading?.start_s ?? 0, reading?.end_s ?? 0];
    return to > 0 && to - from < inspection.facts.duration_s - 0.02 ? { from, to } : undefined;
  }
</script>

{#each groups as [title, some] (title)}
  <h3>{title}</h3>
  {#each some as limit (limit.quantity)}<ToleranceRule
      {limit}
      {expected}
      after={after.find((found) => found.quantity === limit.quantity)}
      method={meanings?.quantities.get(limit.quantity)}
      here={takenHere(inspection.readings[limit.quantity], inspection.facts)}
      taken={takenIn(limit.quantity)}
      {onmark}
      {ongo}
    />{/each}
{/each}

<style>
  h3 {
    font-size: var(--type-small);
    font-weight: 500;
    color: var(--soft);
    padding: var(--space-4) var(--space-5) 0;
  }
</style>
