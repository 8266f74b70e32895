<script lang="ts">
  // Handing a package to the intake desk: as what it is to be held against.
  import { createQuery } from '@tanstack/svelte-query';
  import { counted } from '../lib/format';
  import * as installation from '../lib/server/installation';
  import Choice from './Choice.svelte';
  import Question from './Question.svelte';
  interface Props {
    element: HTMLDialogElement | undefined;
    count: number;
    problem: string;
    onchosen: (requirements: string) => Promise<unknown>;
  }
  let { element = $bindable(), count, problem, onchosen }: Props = $props();
  const query = createQuery(() => installation.desk());
  const kinds = $derived(query.data ?? []);
  let picked = $state<string>();
  const chosen = $derived(picked ?? kinds[0]?.id ?? '');
</script>

<Question
  title="Hand in to the intake desk"
  meaning={`${counted(count, 'file')} with certificates and the list of hashes. The desk checks them with a meter of its own and answers for each; its answers are shown here beside what was certified.`}
  act="Hand in"
  bind:element
  disabled={!chosen}
  problem={query.isError ? query.error.message : problem}
  onact={() => onchosen(chosen)}
>
  {#if kinds.length}
    <Choice
      label="Checked as"
      value={chosen}
      options={kinds.map((one) => [one.id, one.title])}
      onchange={(to) => (picked = to)}
    />
  {/if}
</Question>
