<script lang="ts">
  // A secret that is shown this once, to be copied.
  import Button from './Button.svelte';
  import Dialog from './Dialog.svelte';
  interface Props {
    title: string;
    meaning: string;
    secret: string;
    onclose: () => void;
  }
  let { title, meaning, secret, onclose }: Props = $props();
  let element: HTMLDialogElement | undefined = $state();
  let field: HTMLInputElement | undefined = $state();
  let copied = $state('');
  $effect(() => {
    if (secret && !element?.open) element?.showModal();
  });
  async function copy() {
    try {
      await navigator.clipboard.writeText(secret);
      copied = 'Copied.';
    } catch {
      field?.select();
      copied = 'Selected: copy it with your keyboard.';
    }
  }
</script>

<Dialog
  {title}
  bind:element
  onclose={() => {
    copied = '';
    onclose();
  }}
>
  <p class="meaning">{meaning}</p>
  <input
    bind:this={field}
    readonly
    value={secret}
    aria-label={title}
    onfocus={(event) => event.currentTarget.select()}
  />
  <div class="acts">
    <Button strong onclick={copy}>Copy</Button>
    <Button onclick={() => element?.close()}>Close</Button>
    <span role="status">{copied}</span>
  </div>
</Dialog>

<style>
  .meaning {
    margin: var(--space-3) 0 var(--space-5);
  }
  input {
    width: 100%;
    font-family: var(--figures);
    font-size: var(--type-small);
    background: var(--paper);
    border: 1px solid var(--soft);
    border-radius: 3px;
    padding: var(--space-3) var(--space-4);
  }
  .acts {
    display: flex;
    flex-wrap: wrap;
    align-items: center;
    gap: var(--space-4);
    margin-top: var(--space-5);
  }
</style>
