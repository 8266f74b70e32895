<script lang="ts">
  // What the intake desk answered: each file with its reasons, and its readings beside ours. Where they are apart, that is against us.
  import type { DeskAnswer } from '../lib/api';
  import { number } from '../lib/format';
  import BracketMark from './BracketMark.svelte';
  let { answer }: { answer: DeskAnswer } = $props();
  const figure = (value: number | null) => (value === null ? '–' : number(value, 2));
  const readings = $derived(answer.files.find((file) => file.readings.length)?.readings ?? []);
</script>

<div class="report">
  {#each answer.against as said (said)}<p class="wrong" role="alert">{said}</p>{/each}
  {#each answer.reasons as said (said)}<p class="wrong">{said}</p>{/each}
  <details open={!answer.accepted || answer.against.length > 0}>
    <summary
      >{answer.against.length ? 'The desk measured something else' : 'Its measurements match the certificates'}</summary
    >
    <table>
      <caption class="visually-hidden">Answers of the intake desk, its readings beside ours</caption>
      <thead>
        <tr>
          <th scope="col">File</th>
          {#each readings as one (one.quantity)}<th scope="col" class="figure" title={one.unit}>{one.title}</th>{/each}
          <th scope="col">Answer</th>
        </tr>
      </thead>
      <tbody>
        {#each answer.files as file (file.name)}
          <tr>
            <th scope="row">{file.name}</th>
            {#each readings as { quantity } (quantity)}
              {@const one = file.readings.find((each) => each.quantity === quantity)}
              <td class="figure" class:wrong={one && !one.agree}
                >{#if one}{figure(one.theirs)} <span class="soft">{figure(one.ours)}</span>{/if}</td
              >
            {/each}
            <td class:wrong={!file.accepted}
              ><BracketMark position={file.accepted ? 'inside' : 'over'} size={12} silent />
              {file.accepted ? 'Accepted' : file.reasons.join(' ')}</td
            >
          </tr>
        {/each}
      </tbody>
    </table>
    <p class="soft">The desk’s readings, with ours beside them in grey.</p>
  </details>
</div>

<style>
  .report {
    grid-column: 1 / -1;
  }
  summary {
    cursor: pointer;
    color: var(--soft);
    font-size: var(--type-small);
  }
  table {
    border-collapse: collapse;
    margin: var(--space-2) 0;
    font-size: var(--type-small);
  }
  th,
  td {
    text-align: left;
    font-weight: 400;
    padding: var(--space-2) var(--space-6) var(--space-2) 0;
    border-bottom: 1px solid var(--rule);
  }
  thead th {
    font-size: var(--type-fine);
    color: var(--soft);
  }
  .figure {
    text-align: right;
    white-space: nowrap;
  }
  td.figure {
    font-family: var(--figures);
    font-size: var(--type-small);
  }
  .soft {
    font-size: var(--type-small);
  }
  td .soft {
    margin-left: var(--space-4);
  }
  .wrong {
    color: var(--outside);
  }
</style>
