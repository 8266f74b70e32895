<script lang="ts">
  // A button that opens the file dialogue; its input is what a screen reader and a test find.
  import type { Snippet } from 'svelte';
  import { chosen, type Dropped } from '../lib/dropped';
  import Button from './Button.svelte';
  interface Props {
    children: Snippet;
    /** What the input is called. */
    label: string;
    onchosen: (files: Dropped) => void;
    strong?: boolean;
    multiple?: boolean;
    folder?: boolean;
    accept?: string;
  }
  let { children, label, onchosen, strong = false, multiple = false, folder = false, accept }: Props = $props();
  let input: HTMLInputElement | undefined = $state();
</script>

<input
  class="visually-hidden"
  type="file"
  {multiple}
  {accept}
  webkitdirectory={folder}
  aria-label={label}
  tabindex="-1"
  bind:this={input}
  onchange={(event) => {
    onchosen(chosen(event.currentTarget.files));
    event.currentTarget.value = '';
  }}
/>
<Button {strong} onclick={() => input?.click()}>{@render children()}</Button>
