<script lang="ts">
  // A certificate as its print shows it, line for line.
  import type { CertificateView } from '../lib/api';
  import { asked, date, distance, number, reading, tone, unit } from '../lib/format';
  import BracketMark from './BracketMark.svelte';
  import MiniRibbon from './MiniRibbon.svelte';
  import SmallRule from './SmallRule.svelte';
  let { view }: { view: CertificateView } = $props();
  const MORE = 1;
  const ENDED = { superseded: 'Superseded', withdrawn: 'Withdrawn' };
  const ended = $derived(view.row.stands === 'stands' ? undefined : ENDED[view.row.stands]);
</script>

<article aria-label={view.title} data-stands={view.row.stands}>
  <header>
    <span class="name"><BracketMark position="inside" size={19} silent /> Ispettore</span>
    <span class="soft">{date(view.row.issued_at)}</span>
  </header>
  <h1>{view.title}</h1>
  <p class="met">{view.met}</p>
  {#if ended}
    <p class="ended">
      {ended}{view.row.ended_at ? ` on ${date(view.row.ended_at)}` : ''}: {view.row.reason}
      {#if view.row.successor}<a href={`#/certificates/${view.row.successor}`}>Its replacement</a>{/if}
    </p>
  {/if}
  <p class="statement">{view.statement}</p>
  <dl>
    {#each view.lines as line, at (at)}
      <dt>{line.name}</dt>
      <dd class:exact={line.exact}>{line.text}</dd>
    {/each}
  </dl>
  {#if view.ribbon}<div class="ribbon"><MiniRibbon ribbon={view.ribbon} width={700} height={92} /></div>{/if}
  <table>
    <caption class="visually-hidden">Limits</caption>
    <tbody>
      {#each view.limits as limit (limit.quantity + limit.applies_to)}
        <tr>
          <th scope="row"
            ><span
              ><BracketMark
                position={limit.position}
                tone={tone(limit)}
                high={limit.reading !== limit.low}
                size={13}
              />{limit.title}</span
            ></th
          >
          <td class="soft">{asked(limit)}</td>
          <td><SmallRule {limit} /></td>
          <td class="figure">{reading(limit, MORE)} <span class="soft">{unit(limit)}</span></td>
          <td class="soft figure">{distance(limit)}</td>
        </tr>
      {/each}
    </tbody>
  </table>
  {#if view.files.length}
    <h2>Files</h2>
    <ul class="files">
      {#each view.files as file (file.name)}
        <li>
          <span class="first"
            >{#if file.certificate}<a href={`#/certificates/${file.certificate}`}>{file.name}</a
              >{:else}{file.name}{/if}{#if file.stands && file.stands !== 'stands'}<span class="wrong"
                >its certificate was {file.stands}</span
              >{/if}<span class="soft size">{number(file.size_bytes, 0)} bytes</span></span
          >
          <span class="exact">{file.sha256}</span>
          {#if file.listening}<span class="soft">{file.listening[0]?.toUpperCase()}{file.listening.slice(1)}</span>{/if}
        </li>
      {/each}
    </ul>
  {/if}
  {#if view.steps}
    <h2>What was done</h2>
    {#each view.steps as step (step)}<p class="step">{step}</p>{/each}
  {/if}
  {#if view.accepted.length}
    <h2>Findings in the recording that were accepted</h2>
    {#each view.accepted as one (one)}<p class="step">{one}</p>{/each}
  {/if}
</article>

<style>
  article {
    background: var(--sheet);
    border: 1px solid var(--rule);
    padding: var(--space-8) var(--space-8) var(--space-8);
    max-width: 800px;
  }
  [data-stands='withdrawn'] {
    border-color: var(--outside);
  }
  header {
    display: flex;
    justify-content: space-between;
    margin-bottom: var(--space-6);
  }
  .name {
    display: flex;
    gap: var(--space-4);
    align-items: center;
    font-weight: 650;
  }
  h1 {
    font-size: var(--type-title);
  }
  .met {
    font-size: var(--type-text);
    margin: var(--space-2) 0 var(--space-4);
  }
  .ended {
    color: var(--outside);
    margin-bottom: var(--space-4);
  }
  .statement,
  .statement {
    font-size: var(--type-small);
    margin-bottom: var(--space-5);
  }
  dl {
    display: grid;
    grid-template-columns: 96px 1fr;
    gap: var(--space-2) var(--space-4);
    font-size: var(--type-plain);
    margin: 0 0 var(--space-5);
  }
  dt {
    color: var(--soft);
  }
  dd {
    margin: 0;
    overflow-wrap: anywhere;
  }
  .exact,
  .figure {
    font-family: var(--figures);
    font-size: var(--type-small);
  }
  .exact {
    overflow-wrap: anywhere;
  }
  .ribbon {
    margin-bottom: var(--space-5);
    overflow: hidden;
  }
  .ribbon :global(svg) {
    width: 100%;
  }
  table {
    width: 100%;
    border-collapse: collapse;
    font-size: var(--type-plain);
  }
  th,
  td {
    text-align: left;
    padding: var(--space-2) var(--space-4) var(--space-2) 0;
    border-top: 1px solid var(--rule);
    vertical-align: baseline;
  }
  th {
    font-weight: 600;
  }
  th span {
    display: flex;
    gap: var(--space-4);
    align-items: center;
  }
  td.figure {
    text-align: right;
    white-space: nowrap;
    padding-right: 0;
  }
  td.figure + td.figure {
    padding-left: var(--space-6);
  }
  h2 {
    font-size: var(--type-plain);
    margin: var(--space-6) 0 var(--space-2);
  }
  .step {
    font-size: var(--type-plain);
  }
  .files {
    list-style: none;
    margin: 0;
    padding: 0;
    display: grid;
    gap: var(--space-4);
    font-size: var(--type-plain);
  }
  .files li {
    display: grid;
  }
  .first {
    display: flex;
    gap: var(--space-5);
    align-items: baseline;
  }
  .size {
    margin-left: auto;
  }
  .wrong {
    color: var(--outside);
  }
</style>
