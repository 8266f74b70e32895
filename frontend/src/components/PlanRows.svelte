<script lang="ts">
  // The plans beside one another: how much each does, its steps in a line, what the file is expected to read; reasons on opening.
  import type { PlanView } from '../lib/api';
  import { distance, number, reading, tone, unit } from '../lib/format';
  import BracketMark from './BracketMark.svelte';
  import LinkButton from './LinkButton.svelte';
  interface Row {
    key: string;
    name: string;
    /** What it is called in a sentence. */
    called: string;
    about: string;
    plan: PlanView;
    /** Whether the draft began with it. */
    current: boolean;
    onuse: () => void;
  }
  interface Props {
    rows: Row[];
    /** Whether the draft is still just what it began with. */
    changed: boolean;
  }
  let { rows, changed }: Props = $props();
  let open = $state<string>();
  const inLine = (plan: PlanView) =>
    plan.steps.map((step) => step.reading.title.toLowerCase()).join(', ') || 'no processing, only conversion';
</script>

<ul aria-label="Plans">
  {#each rows as { key, name, called, about, plan, current, onuse } (key)}
    <li class:current data-plan={key}>
      <div class="row">
        <button
          type="button"
          class="name"
          aria-expanded={open === key}
          onclick={() => (open = open === key ? undefined : key)}
          ><b>{name}</b> <span class="soft">{about}</span></button
        >
        <span class="touch">touch <b>{number(plan.touch.touch ?? 0, 0)}</b></span>
        <span class="marks" aria-hidden="true">
          {#each plan.limits as limit (limit.quantity)}<BracketMark
              position={limit.position}
              tone={tone(limit)}
              size={12}
              silent
            />{/each}
        </span>
        {#if current && !changed}<span class="soft">in use</span>
        {:else}<LinkButton onclick={onuse}
            >{current ? 'Use again' : 'Use'}<span class="visually-hidden"> {called}</span></LinkButton
          >{/if}
      </div>
      <p class="steps">{inLine(plan)}</p>
      {#if plan.under?.said}<p class="steps" class:near={plan.under.reason === 'bed'}>{plan.under.said}</p>{/if}
      {#if open === key}
        <ol>
          {#each plan.steps as step (step.id)}
            <li><b>{step.reading.title}.</b> {step.reason}</li>
          {/each}
        </ol>
        <table>
          <caption class="visually-hidden">What the file is expected to read</caption>
          <tbody>
            {#each plan.limits as limit (limit.quantity)}
              <tr>
                <th scope="row">{limit.title}</th>
                <td><BracketMark position={limit.position} tone={tone(limit)} size={13} /></td>
                <td class="expected">{reading(limit)} <span class="soft">{unit(limit)}</span></td>
                <td class="soft">{distance(limit)}</td>
              </tr>
            {/each}
          </tbody>
        </table>
        {#each plan.leaves ?? [] as left (left.kind)}
          <p class="soft">Left as found: {left.kind.replaceAll('-', ' ')} ({left.count}). {left.advice}</p>
        {/each}
      {/if}
    </li>
  {/each}
</ul>

<style>
  ul,
  ol {
    margin: 0;
    padding: 0;
  }
  ul > li {
    list-style: none;
    padding: var(--space-3) var(--space-5) var(--space-3) var(--space-5);
    border-left: 3px solid transparent;
    border-bottom: 1px solid var(--rule);
  }
  .current {
    border-left-color: var(--act);
  }
  .row {
    display: flex;
    gap: var(--space-5);
    align-items: baseline;
  }
  .name {
    flex: 1;
    min-width: 0;
    text-align: left;
    border: 0;
    background: none;
    padding: 0;
    cursor: pointer;
  }
  .name::before {
    content: '▸';
    display: inline-block;
    width: 14px;
    font-size: var(--type-axis);
    color: var(--soft);
  }
  .name[aria-expanded='true']::before {
    content: '▾';
  }
  b {
    font-weight: 600;
  }
  .soft {
    font-size: var(--type-plain);
  }
  .touch {
    font-size: var(--type-small);
    color: var(--soft);
  }
  .touch b {
    font-family: var(--figures);
    font-weight: 500;
    color: var(--ink);
  }
  .marks {
    display: flex;
    gap: var(--space-2);
  }
  @media (max-width: 480px) {
    .marks {
      display: none;
    }
  }
  .steps {
    padding-left: var(--space-5);
    font-size: var(--type-small);
    color: var(--soft);
  }
  .near {
    color: var(--near);
  }
  ol {
    padding: var(--space-3) 0 var(--space-1) var(--space-8);
    font-size: var(--type-plain);
  }
  ol li {
    margin-bottom: var(--space-2);
  }
  table {
    border-collapse: collapse;
    margin: var(--space-3) 0 var(--space-2) var(--space-5);
    font-size: var(--type-small);
  }
  th {
    font-weight: 400;
    text-align: left;
  }
  th,
  td {
    padding: 1px var(--space-5) 1px 0;
  }
  .expected {
    font-family: var(--figures);
    font-size: var(--type-small);
    text-decoration: underline dashed var(--soft) 1px;
    text-underline-offset: 3px;
  }
  .expected .soft {
    font-size: inherit;
  }
</style>
