<script lang="ts">
  // Asks why a certificate ends, and tells what that means.
  import Labelled from './Labelled.svelte';
  import Question from './Question.svelte';
  interface Props {
    element: HTMLDialogElement | undefined;
    title: string;
    meaning: string;
    act: string;
    problem: string;
    onreason: (reason: string) => Promise<unknown>;
  }
  let { element = $bindable(), onreason, ...said }: Props = $props();
  let reason = $state('');
</script>

<Question {...said} bind:element disabled={!reason.trim()} onact={() => onreason(reason)} onclose={() => (reason = '')}>
  <Labelled label="Reason"><input bind:value={reason} maxlength="1000" /></Labelled>
</Question>
