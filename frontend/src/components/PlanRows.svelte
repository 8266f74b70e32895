<script lang="ts">
  // The plans beside one another: how much each does, its steps in a line, what the file is expected to read; reasons on opening.
  import type { PlanView, Planning, Preference } from '../lib/api';
  import { distance, number, reading, tone, unit } from '../lib/format';
  import BracketMark from './BracketMark.svelte';
  import LinkButton from './LinkButton.svelte';
  interface Props {
    planning: Planning;
    /** The plan that the draft began with, and whether it is still just that. */
    chosen: Preference | null;
    changed: boolean;
    onchoose: (preference: Preference) => void;
  }
  let { planning, chosen, changed, onchoose }: Props = $props();
  const NAMES: Record<Preference, string> = { light: 'Light', balanced: 'Balanced', even: 'Even' };
  const FOR: Record<Preference, string> = {
    light: 'least processing',
    balanced: 'some evening where it helps',
    even: 'steady level throughout',
  };
  let open = $state<Preference>();
  const inLine = (plan: PlanView) =>
    plan.steps.map((step) => step.reading.title.toLowerCase()).join(', ') || 'no processing, only conversion';
</script>

<ul aria-label="Plans">
  {#each planning.plans as plan (plan.preference)}
    {@const current = chosen === plan.preference}
    <li class:current data-plan={plan.preference}>
      <div class="row">
        <button
          type="button"
          class="name"
          aria-expanded={open === plan.preference}
          onclick={() => (open = open === plan.preference ? undefined : plan.preference)}
          ><b>{NAMES[plan.preference]}</b> <span class="soft">{FOR[plan.preference]}</span></button
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
        {:else}<LinkButton onclick={() => onchoose(plan.preference)}
            >{current ? 'Use again' : 'Use'}<span class="visually-hidden"> the {plan.preference} plan</span></LinkButton
          >{/if}
      </div>
      <p class="steps">{inLine(plan)}</p>
      {#if open === plan.preference}
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
    padding: 6px 14px 7px 11px;
    border-left: 3px solid transparent;
    border-bottom: 1px solid var(--rule);
  }
  .current {
    border-left-color: var(--act);
  }
  .row {
    display: flex;
    gap: 12px;
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
    font-size: 11px;
    color: var(--soft);
  }
  .name[aria-expanded='true']::before {
    content: '▾';
  }
  b {
    font-weight: 600;
  }
  .soft {
    color: var(--soft);
    font-size: 13.5px;
  }
  .touch {
    font-size: 13px;
    color: var(--soft);
  }
  .touch b {
    font-family: var(--figures);
    font-weight: 500;
    color: var(--ink);
  }
  .marks {
    display: flex;
    gap: 3px;
  }
  .steps {
    padding-left: 14px;
    font-size: 13px;
    color: var(--soft);
  }
  ol {
    padding: 6px 0 2px 34px;
    font-size: 13.5px;
  }
  ol li {
    margin-bottom: 4px;
  }
  table {
    border-collapse: collapse;
    margin: 6px 0 4px 14px;
    font-size: 13px;
  }
  th {
    font-weight: 400;
    text-align: left;
  }
  th,
  td {
    padding: 1px 14px 1px 0;
  }
  .expected {
    font-family: var(--figures);
    font-size: 12.5px;
    text-decoration: underline dashed var(--soft) 1px;
    text-underline-offset: 3px;
  }
  .expected .soft {
    font-size: inherit;
  }
</style>
