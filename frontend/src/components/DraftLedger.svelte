<script lang="ts">
  // The step ledger as a tool: what is expected after each step against every limit, where each first comes inside or falls out,
  // and the sound after any step.
  import type { Foretold, ReadStep } from '../lib/api';
  import { reading, tone, unit } from '../lib/format';
  import BracketMark from './BracketMark.svelte';
  import LinkButton from './LinkButton.svelte';
  interface Props {
    expected: Foretold;
    steps: ReadStep[];
    /** The step after which the treated sound is heard; the last where none is named. */
    heard: string | undefined;
    onhear: (id: string | undefined) => void;
  }
  let { expected, steps, heard, onhear }: Props = $props();
  const on = $derived(steps.filter((step) => step.on));
  // Only limits that some step moves: a length or a format is the same in every line.
  const moving = $derived(
    (expected.lines[0]?.limits ?? []).filter((limit, index) =>
      expected.lines.some((line) => line.limits[index]?.reading !== limit.reading),
    ),
  );
  const rows = $derived(
    expected.lines.map((line, index) => {
      // A bed is laid under what comes out of the steps before it, and is none of them.
      const under = expected.lines.slice(0, index).some(({ kind }) => kind === 'bed') ? 1 : 0;
      const step = index && line.kind !== 'bed' ? on[index - 1 - under] : undefined;
      return {
        line,
        step,
        title: index ? (step?.reading.title ?? (line.kind === 'bed' ? 'Bed' : 'Encoded')) : 'As recorded',
      };
    }),
  );
  const at = (index: number, quantity: string) =>
    expected.lines[index]?.limits.find((limit) => limit.quantity === quantity);
  /** Whether a limit is first met or first missed after a line. */
  function turns(index: number, quantity: string): '' | 'in' | 'out' {
    const [before, now] = [at(index - 1, quantity), at(index, quantity)];
    if (!before || !now || before.passes === now.passes) return '';
    return now.passes ? 'in' : 'out';
  }
  const last = $derived(on.at(-1)?.id);
</script>

<div class="ledger">
  <p class="soft">
    Expected after each step{expected.whole ? '' : ', from a typical stretch and the loudest one'}; running it measures
    it.
  </p>
  <table>
    <thead>
      <tr>
        <th scope="col">After step</th>
        {#each moving as limit (limit.quantity)}<th scope="col"
            >{limit.title} <span class="unit">{unit(limit)}</span></th
          >{/each}
        <th scope="col"><span class="visually-hidden">Listen</span></th>
      </tr>
    </thead>
    <tbody>
      {#each rows as { line, step, title }, index (step?.id ?? title)}
        <tr>
          <th scope="row">{step ? `${steps.findIndex((one) => one.id === step.id) + 1}. ` : ''}{title}</th>
          {#each moving as { quantity } (quantity)}
            {@const limit = at(index, quantity)}
            <td class={turns(index, quantity)}>
              {#if limit}
                {#if index === 0 || index === rows.length - 1 || turns(index, quantity)}<BracketMark
                    position={limit.position}
                    tone={tone(limit)}
                    size={12}
                  />{/if}
                <span class="figure">{reading(limit)}</span>
              {/if}
            </td>
          {/each}
          <td class="listen">
            {#if step}
              {@const current = (heard ?? last) === step.id}
              <LinkButton pressed={current} onclick={() => onhear(step.id === last ? undefined : step.id)}
                >{current ? 'Heard' : 'Hear'}<span class="visually-hidden"> the sound after {title}</span></LinkButton
              >
            {/if}
          </td>
        </tr>
        {#each line.warnings ?? [] as said (said)}<tr><td class="warning" colspan={moving.length + 2}>{said}</td></tr
          >{/each}
      {/each}
    </tbody>
  </table>
</div>

<style>
  .ledger {
    padding: var(--space-4) var(--space-5) var(--space-5);
    overflow-x: auto;
  }
  .soft {
    font-size: var(--type-small);
    padding-bottom: var(--space-3);
  }
  table {
    border-collapse: collapse;
    font-size: var(--type-small);
    width: 100%;
  }
  th {
    font-weight: 500;
    text-align: right;
    padding: var(--space-2) 0 var(--space-2) var(--space-4);
    vertical-align: bottom;
  }
  thead th {
    color: var(--soft);
    border-bottom: 1px solid var(--rule);
  }
  th:first-child {
    text-align: left;
    padding-left: 0;
  }
  .unit {
    font-size: var(--type-fine);
    font-weight: 400;
    color: var(--soft);
  }
  td {
    text-align: right;
    padding: var(--space-2) 0 var(--space-2) var(--space-4);
    white-space: nowrap;
  }
  .figure {
    font-family: var(--figures);
    font-size: var(--type-small);
    text-decoration: underline dashed var(--soft) 1px;
    text-underline-offset: 3px;
  }
  .out .figure {
    color: var(--outside);
  }
  .in .figure {
    color: var(--inside);
  }
  .listen {
    padding-left: var(--space-5);
  }
  .warning {
    color: var(--near);
    white-space: normal;
    text-align: left;
  }
</style>
